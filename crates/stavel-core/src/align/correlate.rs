//! Correlation of returns and of ranges over all offsets, a week at a time, by fast Fourier transform.
//!
//! Returns say most. Ranges, each less the mean of its neighbours so that the common rhythm of the day does
//! not speak, are the same whichever side or way round a price is quoted.

use rayon::prelude::*;
use realfft::RealFftPlanner;
use realfft::num_complex::Complex;

use crate::job::Job;
use crate::model::time::{DAY, HOUR, MINUTE, Micros, WEEK};
use crate::model::{Columns, Field};
use crate::{Error, Result};

/// The farthest a wall is taken to be from UTC.
pub(super) const REACH: Micros = 14 * HOUR;
/// 1970-01-03 15:00, a Saturday: in whatever clock, currency markets rest then and clocks change after.
const WEEK_START: Micros = 2 * DAY + 15 * HOUR;
/// A return counts at most this many times the mean return, so that one jump does not speak for a week.
const CLIP: f32 = 8.0;
/// Fewest returns on both sides for a week to be looked at.
const FEWEST: usize = 100;

/// What returns weigh beside ranges.
const OF_RETURNS: f32 = 0.65;
/// Bars on each side that a range is compared with.
const NEIGHBOURS: usize = 6;

/// The offsets looked at: written time minus UTC, from about -14 h to +14 h in steps of `step`, each `phase`
/// beyond a whole number of steps.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Offsets {
    /// From one offset to the next, in microseconds.
    pub step: Micros,
    /// What all offsets are moved by from whole steps, in microseconds.
    pub phase: Micros,
}

impl Offsets {
    /// How many there are.
    pub fn count(&self) -> usize {
        2 * self.around() + 1
    }
    fn around(&self) -> usize {
        (REACH / self.step).max(1) as usize
    }
    /// The offset at a place in the list.
    pub fn at(&self, place: usize) -> Micros {
        (place as Micros - self.around() as Micros) * self.step + self.phase
    }
    /// The place of the offset nearest to `offset`, if it is within reach.
    pub fn place(&self, offset: Micros) -> Option<usize> {
        let from = offset - self.phase + self.around() as Micros * self.step;
        let place = (from + self.step / 2).div_euclid(self.step);
        usize::try_from(place).ok().filter(|&p| p < self.count())
    }
}

/// One week's correlation at every offset.
#[derive(Debug, Clone)]
pub struct WeekFit {
    /// When the week (of bars of many hours: the fortnight) begins, as written, and how long it is.
    pub start: Micros,
    /// Its length in microseconds.
    pub length: Micros,
    /// The offsets that were tried.
    pub offsets: Offsets,
    /// From -1 to 1, for each offset.
    pub correlation: Vec<f32>,
    /// Place of the highest.
    pub best: usize,
    /// True where the highest stands out far enough from the others to mean something.
    pub is_clear: bool,
}

impl WeekFit {
    /// Correlation at an offset; 0 out of reach.
    pub fn at(&self, offset: Micros) -> f32 {
        self.offsets.place(offset).map_or(0.0, |p| self.correlation[p])
    }
    /// The best offset.
    pub fn best_offset(&self) -> Micros {
        self.offsets.at(self.best)
    }
    /// The highest correlation.
    pub fn peak(&self) -> f32 {
        self.correlation[self.best]
    }
}

/// Compares bars whose times are `subject` as written with bars whose times are `reference` in UTC. Both hold high,
/// low and close, sorted by time, in bars of `step`. `inverse` takes the second for a quote the other way
/// round.
///
/// # Errors
/// Where there is no week in which both have enough bars, or the person stops it.
pub fn correlate(
    subject: &Columns,
    reference: &Columns,
    step: Micros,
    inverse: bool,
    job: &Job,
) -> Result<Vec<WeekFit>> {
    let step = step.max(MINUTE);
    let (phase_here, phase_there) = (phase_of(subject, step), phase_of(reference, step));
    let offsets = Offsets { step, phase: phase_here - phase_there };
    let weeks = weeks_of(subject, WEEK)?;
    let (subject, reference) =
        (Bars::of(subject, step, phase_here, false), Bars::of(reference, step, phase_there, inverse));
    job.begin("align", weeks.len() as u64);
    let plan = CorrelationSizes::new(offsets);
    let fits: Vec<Option<WeekFit>> = weeks
        .par_iter()
        .map(|&start| {
            job.advance(1)?;
            Ok(plan.week(&subject, &reference, start))
        })
        .collect::<Result<_>>()?;
    some(fits.into_iter().flatten().collect())
}

/// The weeks (or stretches of `length`) that hold the rows of a series.
pub(super) fn weeks_of(subject: &Columns, length: Micros) -> Result<Vec<Micros>> {
    let Some((first, last)) = subject.ends() else {
        return Err(Error::input("One of the two series is empty; there is nothing to compare."));
    };
    let start = WEEK_START + (first - WEEK_START).div_euclid(WEEK) * WEEK;
    Ok((0..).map(|i| start + i * length).take_while(|w| *w <= last).collect())
}

/// The place of the highest value; 0 where there is none.
pub(super) fn highest(values: &[f32]) -> usize {
    (0..values.len()).max_by(|&a, &b| values[a].total_cmp(&values[b])).unwrap_or(0)
}

/// The fits, if there are any.
pub(super) fn some(fits: Vec<WeekFit>) -> Result<Vec<WeekFit>> {
    if fits.is_empty() {
        return Err(Error::input(
            "The two series share no week with enough bars to compare; take in history that overlaps.",
        ));
    }
    Ok(fits)
}

/// How far beyond whole steps most bars begin.
fn phase_of(rows: &Columns, step: Micros) -> Micros {
    let mut counts = std::collections::HashMap::new();
    // A few thousand rows say it as well as millions.
    for t in rows.time.iter().step_by((rows.len() / 4096).max(1)) {
        *counts.entry(t.rem_euclid(step)).or_insert(0u32) += 1;
    }
    counts.into_iter().max_by_key(|(phase, n)| (*n, -phase)).map_or(0, |(phase, _)| phase)
}

/// Bars on a grid of whole steps.
struct Bars<'a> {
    time: std::borrow::Cow<'a, [Micros]>,
    high: &'a [i64],
    low: &'a [i64],
    close: &'a [i64],
    /// -1 for quotes the other way round.
    sign: i64,
}

impl<'a> Bars<'a> {
    fn of(rows: &'a Columns, step: Micros, phase: Micros, inverse: bool) -> Bars<'a> {
        let time = if phase == 0 && step > 0 {
            std::borrow::Cow::Borrowed(rows.time.as_slice())
        } else {
            rows.time.iter().map(|t| t - phase).collect::<Vec<_>>().into()
        };
        let [high, low, close] = [Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
        Bars { time, high, low, close, sign: if inverse { -1 } else { 1 } }
    }

    fn range_of(&self, from: Micros, to: Micros) -> std::ops::Range<usize> {
        self.time.partition_point(|&t| t < from)..self.time.partition_point(|&t| t < to)
    }
}

struct CorrelationSizes {
    offsets: Offsets,
    /// Bars in a week and before and after it on the other side.
    bars: usize,
    size: usize,
    forward: std::sync::Arc<dyn realfft::RealToComplex<f32>>,
    back: std::sync::Arc<dyn realfft::ComplexToReal<f32>>,
}

impl CorrelationSizes {
    fn new(offsets: Offsets) -> CorrelationSizes {
        let bars = (WEEK / offsets.step) as usize;
        // Room for every offset without wrapping round, in a size made of small primes.
        let least = bars + offsets.count();
        let power = least.next_power_of_two();
        let size = if power / 4 * 3 >= least { power / 4 * 3 } else { power };
        let mut planner = RealFftPlanner::new();
        let (forward, back) = (planner.plan_fft_forward(size), planner.plan_fft_inverse(size));
        CorrelationSizes { offsets, bars, size, forward, back }
    }

    fn week(&self, subject: &Bars<'_>, reference: &Bars<'_>, start: Micros) -> Option<WeekFit> {
        let step = self.offsets.step;
        let reach = self.offsets.around() as Micros * step;
        let (more, count) = (self.bars + self.offsets.count() - 1, self.bars);
        let x = returns(subject, start, step, count)?;
        let y = returns(reference, start - reach, step, more)?;
        let mut correlation = self.over_offsets(&x, &y);
        if let (Some(x), Some(y)) =
            (ranges(subject, start, step, count), ranges(reference, start - reach, step, more))
        {
            let of_ranges = self.over_offsets(&x, &y);
            for (c, r) in correlation.iter_mut().zip(of_ranges) {
                *c = *c * OF_RETURNS + r * (1.0 - OF_RETURNS);
            }
        }
        let best = highest(&correlation);
        let is_clear = stands_out(&correlation, best);
        Some(WeekFit { start, length: WEEK, offsets: self.offsets, correlation, best, is_clear })
    }

    /// The correlation of one week's values with the other side's, at every offset.
    fn over_offsets(&self, x: &[f32], y: &[f32]) -> Vec<f32> {
        let products = self.products(x, y);
        let energy_x: f64 = x.iter().map(|v| (v * v) as f64).sum();
        let mut energy_y: f64 = y[..self.bars].iter().map(|v| (v * v) as f64).sum();
        // Product k pairs written bar t with the bar at y[t + k], which is UTC t - reach + k: the
        // offset (written minus UTC) falls as k grows.
        let mut correlation = vec![0.0; self.offsets.count()];
        for k in 0..self.offsets.count() {
            let norm = (energy_x * energy_y).sqrt();
            let value = if norm > 0.0 { (products[k] as f64 / norm) as f32 } else { 0.0 };
            correlation[self.offsets.count() - 1 - k] = value;
            if k + self.bars < y.len() {
                energy_y += (y[k + self.bars] as f64).powi(2) - (y[k] as f64).powi(2);
            }
        }
        correlation
    }

    /// Sums over t of x[t] * y[t + k], for every k.
    fn products(&self, x: &[f32], y: &[f32]) -> Vec<f32> {
        let spectrum = |values: &[f32]| {
            let mut input = self.forward.make_input_vec();
            input[..values.len()].copy_from_slice(values);
            let mut out = self.forward.make_output_vec();
            // Sizes come from the plan itself, so this cannot fail.
            let _ = self.forward.process(&mut input, &mut out);
            out
        };
        let (sx, sy) = (spectrum(x), spectrum(y));
        let mut product: Vec<Complex<f32>> = sx.iter().zip(&sy).map(|(a, b)| a.conj() * b).collect();
        for end in [0, product.len() - 1] {
            product[end].im = 0.0;
        }
        let mut out = self.back.make_output_vec();
        let _ = self.back.process(&mut product, &mut out);
        let scale = 1.0 / self.size as f32;
        out.iter_mut().for_each(|v| *v *= scale);
        out
    }
}

/// Returns on a grid of `count` steps from `start`: the change of the close where the bar before is
/// there, else 0; clipped. None where there are too few.
fn returns(rows: &Bars<'_>, start: Micros, step: Micros, count: usize) -> Option<Vec<f32>> {
    let range = rows.range_of(start - step, start + count as Micros * step);
    let mut out = vec![0.0f32; count];
    let (mut sum, mut seen) = (0.0f64, 0usize);
    for i in range.start.max(1)..range.end {
        if rows.time[i] - rows.time[i - 1] != step || rows.time[i] < start {
            continue;
        }
        let change = ((rows.close[i] - rows.close[i - 1]) * rows.sign) as f32;
        if change != 0.0 {
            out[((rows.time[i] - start) / step) as usize] = change;
            sum += change.abs() as f64;
            seen += 1;
        }
    }
    // Long bars are few in a week, short ones many.
    if seen < FEWEST.min(count / 4) {
        return None;
    }
    clip(&mut out, (sum / seen as f64) as f32 * CLIP);
    Some(out)
}

fn clip(values: &mut [f32], most: f32) {
    values.iter_mut().for_each(|v| *v = v.clamp(-most, most));
}

/// High less low on the same grid, each less the mean of its neighbours; clipped. None where bars have no
/// range.
fn ranges(rows: &Bars<'_>, start: Micros, step: Micros, count: usize) -> Option<Vec<f32>> {
    let range = rows.range_of(start, start + count as Micros * step);
    let own: Vec<f32> = range.clone().map(|i| (rows.high[i] - rows.low[i]) as f32).collect();
    let mut sums = vec![0.0f64; own.len() + 1];
    for (i, v) in own.iter().enumerate() {
        sums[i + 1] = sums[i] + *v as f64;
    }
    let mut out = vec![0.0f32; count];
    let mut total = 0.0f64;
    for (i, v) in own.iter().enumerate() {
        let (from, to) = (i.saturating_sub(NEIGHBOURS), (i + NEIGHBOURS + 1).min(own.len()));
        let mean = (sums[to] - sums[from]) / (to - from) as f64;
        let off = *v - mean as f32;
        total += off.abs() as f64;
        out[((rows.time[range.start + i] - start) / step) as usize] = off;
    }
    if total == 0.0 || own.len() < FEWEST.min(count / 4) {
        return None;
    }
    clip(&mut out, (total / own.len() as f64) as f32 * CLIP);
    Some(out)
}

/// True where the peak is far above what unlike series give: eight times the spread of the others.
fn stands_out(correlation: &[f32], best: usize) -> bool {
    let others = correlation.iter().enumerate().filter(|(i, _)| i.abs_diff(best) > 2).map(|(_, v)| *v as f64);
    let (n, sum, squares) = others.fold((0.0, 0.0, 0.0), |(n, s, q), v| (n + 1.0, s + v, q + v * v));
    let mean: f64 = if n > 0.0 { sum / n } else { 0.0 };
    let spread = if n > 0.0 { (squares / n - mean * mean).max(0.0).sqrt() } else { 0.0 };
    let peak = correlation[best] as f64;
    // Few offsets (hourly bars) make a poor estimate of the spread, so the peak must also be high itself.
    peak > 0.15 && peak - mean > 8.0 * spread || n < 120.0 && peak > 0.6 && peak - mean > 3.5 * spread
}
