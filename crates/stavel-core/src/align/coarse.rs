//! Long bars against shorter ones: hours against minutes in quarters of an hour, days by their prices.

use rayon::prelude::*;

use super::correlate::{Offsets, REACH, WeekFit, correlate, highest, some, weeks_of};
use crate::job::Job;
use crate::model::time::{HOUR, MINUTE, Micros, WEEK};
use crate::model::{Columns, Field, Span};
use crate::stats::median;
use crate::{Error, Result};

/// Offsets are looked at in steps of this, where the shorter bars allow it.
const FINE: Micros = 15 * MINUTE;
/// From this length on bars are too few in a week to correlate, and are compared by their prices.
const LONG: Micros = 4 * HOUR;
/// Prices within this share of the usual range of a bar are the same price.
const SAME: f64 = 0.04;

/// The step at which the shorter side is read, for long bars of `step` against bars of `theirs`.
pub fn fine_step(step: Micros, theirs: Micros) -> Micros {
    let fine = FINE.max(theirs);
    if step > fine && step % fine == 0 { fine } else { step }
}

/// Compares bars of `step` as written with shorter ones of `fine` in UTC, over offsets in steps of `fine`.
///
/// # Errors
/// As [`correlate`]; also where both sides have bars of many hours, which cannot tell hours apart.
pub fn correlate_finely(
    subject: &Columns,
    reference: &Columns,
    (step, fine): (Micros, Micros),
    inverse: bool,
    job: &Job,
) -> Result<Vec<WeekFit>> {
    if step >= LONG {
        if fine * 4 > step {
            return Err(Error::input(
                "Bars of many hours on both sides cannot tell at which hour a day begins; compare with minutes or hours.",
            ));
        }
        return by_prices(subject, reference, (step, fine), inverse, job);
    }
    let phases: Vec<Vec<WeekFit>> = (0..step / fine)
        .map(|p| correlate(subject, &regrouped(reference, step, p * fine), step, inverse, job))
        .collect::<Result<_>>()?;
    let mut out = Vec::new();
    for week in &phases[0] {
        let others: Vec<&WeekFit> =
            phases.iter().filter_map(|f| f.iter().find(|w| w.start == week.start)).collect();
        let offsets = Offsets { step: fine, phase: 0 };
        let exact = |offset: Micros| {
            let hit = others.iter().find(|w| (offset - w.offsets.phase).rem_euclid(step) == 0);
            hit.map_or(0.0, |w| w.at(offset))
        };
        let correlation: Vec<f32> = (0..offsets.count()).map(|p| exact(offsets.at(p))).collect();
        let best = highest(&correlation);
        let is_clear = others.iter().any(|w| w.is_clear && (w.best_offset() - offsets.at(best)).abs() < step);
        out.push(WeekFit { offsets, correlation, best, is_clear, ..week.clone() });
    }
    some(out)
}

/// Adds high, low and close to the bar that begins at `start`: the last one, or a new one.
pub(crate) fn gather(out: &mut Columns, start: Micros, [high, low, close]: [i64; 3]) {
    if out.time.last() == Some(&start) {
        let at = out.len() - 1;
        out.data[0][at] = out.data[0][at].max(high);
        out.data[1][at] = out.data[1][at].min(low);
        out.data[2][at] = close;
    } else {
        out.time.push(start);
        out.data.iter_mut().zip([high, low, close]).for_each(|(c, v)| c.push(v));
    }
}

/// Bars of `step`, begun `phase` beyond whole steps, out of shorter ones with high, low and close.
fn regrouped(rows: &Columns, step: Micros, phase: Micros) -> Columns {
    let mut out = Columns::empty(&rows.fields, rows.scale);
    let [high, low, close] = [Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
    for i in 0..rows.len() {
        let start = (rows.time[i] - phase).div_euclid(step) * step + phase;
        gather(&mut out, start, [high[i], low[i], close[i]]);
    }
    out
}

/// The share of highs, lows and closes that are the same at each offset, a fortnight at a time. Where bars are
/// cut an hour off, most closes differ.
fn by_prices(
    subject: &Columns,
    reference: &Columns,
    (step, fine): (Micros, Micros),
    inverse: bool,
    job: &Job,
) -> Result<Vec<WeekFit>> {
    if inverse {
        return Err(Error::input("Long bars quoted the other way round cannot be compared by their prices."));
    }
    let stretches = weeks_of(subject, 2 * WEEK)?;
    job.begin("align", stretches.len() as u64);
    let offsets = Offsets { step: fine, phase: 0 };
    let fits: Vec<Option<WeekFit>> = stretches
        .par_iter()
        .map(|&start| {
            job.advance(1)?;
            let range = subject.range_of(Span::new(start, start + 2 * WEEK));
            if range.len() < 6 {
                return Ok(None);
            }
            let shares: Vec<f32> = (0..offsets.count())
                .map(|p| same_share(subject, range.clone(), reference, offsets.at(p), step))
                .collect();
            let best = highest(&shares);
            let far = |p: usize| (offsets.at(p) - offsets.at(best)).abs() > HOUR;
            let next = (0..shares.len()).filter(|p| far(*p)).map(|p| shares[p]).fold(0.0, f32::max);
            let is_clear = shares[best] > 0.6 && shares[best] - next > 0.15;
            Ok(Some(WeekFit { start, length: 2 * WEEK, offsets, correlation: shares, best, is_clear }))
        })
        .collect::<Result<_>>()?;
    some(fits.into_iter().flatten().collect())
}

fn same_share(
    subject: &Columns,
    range: std::ops::Range<usize>,
    reference: &Columns,
    offset: Micros,
    step: Micros,
) -> f32 {
    debug_assert!(offset.abs() <= REACH + step);
    let [high, low, close] = [Field::High, Field::Low, Field::Close].map(|f| subject.column(f));
    let mut differences: Vec<[i64; 3]> = Vec::new();
    let mut usual = 0;
    for i in range.clone() {
        let from = subject.time[i] - offset;
        let part = reference.range_of(Span::new(from, from + step));
        if part.is_empty() {
            continue;
        }
        let top = reference.column(Field::High)[part.clone()].iter().max().copied().unwrap_or_default();
        let bottom = reference.column(Field::Low)[part.clone()].iter().min().copied().unwrap_or_default();
        let last = reference.column(Field::Close)[part.end - 1];
        differences.push([top - high[i], bottom - low[i], last - close[i]]);
        usual += high[i] - low[i];
    }
    if differences.len() * 2 < range.len() {
        return 0.0;
    }
    let tolerance = (usual as f64 / differences.len() as f64 * SAME).max(2.0) as i64;
    // Another side of the market is a level apart.
    let mut levels: Vec<i64> = differences.iter().map(|d| d[2]).collect();
    let level = median(&mut levels).unwrap_or_default();
    let same = differences.iter().flatten().filter(|d| (**d - level).abs() <= tolerance).count();
    same as f32 / (differences.len() * 3) as f32
}
