//! Pictures of two sources beside each other: how their weeks agree at each offset, and how far their prices lie apart.

use stavel_core::align::{AlignWishes, ClockStudy, Fit, WeekFit, study};
use stavel_core::job::Job;
use stavel_core::model::SeriesName;
use stavel_core::model::time::{HOUR, MINUTE, Micros, date, day_of};
use stavel_core::splice::{Overlap, SpliceRule, SpliceWishes, prepare};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_draw::{CellGrid, GridCell, GridRow};

use crate::report::counted;

/// Offsets in a picture of weeks, by hours.
const OFFSETS: usize = 29;

/// Offsets that are shown, an hour apart from above to below: about the best of the weeks, as many as there are lines.
pub fn offsets_shown(found: &ClockStudy, fit: &Fit, lines: usize) -> Vec<Micros> {
    let mut best: Vec<Micros> = found.weeks.iter().filter(|w| w.is_clear).map(WeekFit::best_offset).collect();
    best.extend(fit.weeks.first().map(|w| w.expected));
    best.sort_unstable();
    let (low, high) = (best.first().copied().unwrap_or(-4 * HOUR), best.last().copied().unwrap_or(4 * HOUR));
    let spare = (lines as Micros - ((high - low) / HOUR + 1)).max(0);
    let top = (high + HOUR / 2).div_euclid(HOUR) * HOUR + (spare / 2) * HOUR;
    (0..lines as Micros).map(|i| (top - i * HOUR).clamp(-14 * HOUR, 14 * HOUR)).collect()
}

/// How alike a week is at an offset, as a share of its peak: the best within half an hour.
pub fn likeness_near(week: &WeekFit, offset: Micros) -> f32 {
    let near = (-30..30).map(|m| week.at(offset + m * MINUTE)).fold(0.0f32, f32::max);
    near / week.peak().max(0.01)
}

/// How alike two series are in each week at each offset of an hour, and whether a clock follows from it.
///
/// # Errors
/// Where they cannot be compared.
pub fn alignment(shelf: &Shelf, series: &SeriesName, to: &SeriesName, job: &Job) -> Result<(CellGrid, bool)> {
    let found = study(shelf, series, to, &AlignWishes::default(), job)?;
    let mut offsets = offsets_shown(&found, &found.fit, OFFSETS);
    offsets.dedup();
    let rows = offsets.into_iter().map(|offset| {
        let cell = |(week, verdict): (&WeekFit, _)| cell_of(week, verdict, offset);
        let verdicts = found.fit.weeks.iter().map(|week| week.agrees);
        let cells: Vec<GridCell> = found.weeks.iter().zip(verdicts).map(cell).collect();
        let best = found.weeks.iter().filter(|week| is_best(week, offset)).count() as u64;
        let told = if best > 0 { format!("best of {}", counted(best, "week")) } else { String::new() };
        let sign = if offset < 0 { '-' } else { '+' };
        GridRow { name: format!("{sign}{} h", offset.abs() / HOUR), told, cells }
    });
    let (mut heads, mut before) = (Vec::new(), String::new());
    for (column, week) in found.weeks.iter().enumerate() {
        // The middle of the week, so that its month is the one that most of it lies in.
        let month = date(day_of(week.start) + 2)[..7].to_owned();
        if month != before {
            heads.push((column, month.clone()));
            before = month;
        }
    }
    let is_sure = found.is_sure();
    let agree = found.fit.weeks.iter().filter(|week| week.agrees).count();
    let clock = match is_sure {
        true => format!("{}, {agree} of {} weeks agree", found.fit.clock, found.weeks.len()),
        false => "no clock: they are not alike at one offset in enough weeks".to_owned(),
    };
    let grid = CellGrid {
        title: format!("{series} as written against {to} in UTC  agreement of weeks by offset"),
        told: format!("{clock}; red is a week whose best offset is another"),
        heads,
        rows: rows.collect(),
        ends: Some(("nothing alike".into(), "the week's best".into())),
    };
    Ok((grid, is_sure))
}

fn is_best(week: &WeekFit, offset: Micros) -> bool {
    week.is_clear && (week.best_offset() - offset).abs() <= HOUR / 2
}

fn cell_of(week: &WeekFit, agrees: bool, offset: Micros) -> GridCell {
    match likeness_near(week, offset) {
        _ if is_best(week, offset) && !agrees => GridCell::Wrong,
        _ if is_best(week, offset) => GridCell::Shade(1.0),
        // Below a quarter of the peak there is only noise.
        near if near < 0.25 => GridCell::Empty,
        near => GridCell::Shade(f64::from(near) * 0.7),
    }
}

/// Cells of the longest bar of a histogram.
const BAR: u64 = 60;

/// The differences of closes at times that both series have, from -3 points or less to 3 or more.
///
/// # Errors
/// Where they cannot be joined, or share no time.
pub fn agreement(shelf: &Shelf, series: &SeriesName, with: &SeriesName, job: &Job) -> Result<CellGrid> {
    let names = [series.clone(), with.clone()];
    let overlap = prepare(shelf, &names, &series.source, &SpliceWishes::by(SpliceRule::Span), job)?.overlap;
    if overlap.rows == 0 {
        return Err(Error::input(format!("{series} and {with} share no time, so nothing can be compared.")));
    }
    Ok(histogram(series, with, &overlap))
}

/// The name of a step of a histogram of differences.
pub fn step_in_words(step: usize) -> String {
    match step as i64 - 3 {
        -3 => "-3 or less".to_owned(),
        3 => "+3 or more".to_owned(),
        0 => "equal".to_owned(),
        n @ (1 | -1) => format!("{n:+} point"),
        n => format!("{n:+} points"),
    }
}

fn histogram(series: &SeriesName, with: &SeriesName, overlap: &Overlap) -> CellGrid {
    let most = overlap.histogram.iter().copied().max().unwrap_or(1).max(1);
    let rows = overlap.histogram.iter().enumerate().map(|(step, rows)| {
        // What is there is seen, however little it is.
        let filled = (rows * BAR).div_ceil(most) as usize;
        let mut cells = vec![GridCell::Shade(1.0); filled];
        cells.resize(BAR as usize, GridCell::Empty);
        let share = *rows as f64 * 100.0 / overlap.rows as f64;
        GridRow { name: step_in_words(step), told: format!("{share:.2} %, {}", counted(*rows, "row")), cells }
    });
    CellGrid {
        title: format!("{with} less {series}  differences of closes"),
        told: format!(
            "{} in common, {:.1} % equal, median {} and p95 {} points apart, changes correlate {:.2}",
            counted(overlap.rows, "row"),
            overlap.equal as f64 * 100.0 / overlap.rows as f64,
            overlap.median_diff,
            overlap.p95_diff,
            overlap.correlation
        ),
        heads: Vec::new(),
        rows: rows.collect(),
        ends: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_histogram_shows_what_is_there_however_little_it_is() {
        let names: [SeriesName; 2] = ["NOKSEK@quill:1m", "NOKSEK@tarn:1m"].map(|name| name.parse().unwrap());
        let overlap =
            Overlap { rows: 1000, equal: 899, histogram: [0, 0, 100, 899, 1, 0, 0], ..Overlap::default() };
        let grid = histogram(&names[0], &names[1], &overlap);
        let filled = |row: &GridRow| row.cells.iter().filter(|cell| **cell != GridCell::Empty).count();
        let told: Vec<(&str, usize)> = grid.rows.iter().map(|row| (row.name.as_str(), filled(row))).collect();
        assert_eq!(told[2..5], [("-1 point", 7), ("equal", 60), ("+1 point", 1)]);
        assert_eq!((told[0], told[6]), (("-3 or less", 0), ("+3 or more", 0)));
        assert!(grid.rows[4].told.starts_with("0.10 %") && grid.told.contains("89.9 % equal"));
    }
}
