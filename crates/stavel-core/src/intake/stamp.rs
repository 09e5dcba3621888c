//! Whether bars are stamped at their open or at their close.

use super::scan::Scanned;
use crate::Result;
use crate::model::Stamp;
use crate::model::time::{DAY, HOUR, civil_from_days, day_of, weekday};
use crate::model::{Cells, Clock, Columns, Field, Frame, Micros, SeriesName, Span, Unit};
use crate::store::Shelf;

/// The stamp of bars and how it was found; none where nothing tells.
///
/// Against ticks or shorter bars of the instrument on the shelf: whose highs and lows the bars have.
/// Else by the calendar, for months and weeks. Else by the session: a session opens on a full hour or half hour, so the first bars after its gaps
/// are stamped there, or one bar later.
pub fn find(
    shelf: &Shelf,
    series: &SeriesName,
    clock: Option<&Clock>,
    rows: &Columns,
    scanned: &Scanned,
) -> Result<Option<(Stamp, String)>> {
    match against_finer(shelf, series, clock, rows)? {
        Some(found) => Ok(Some(found)),
        None => Ok(by_calendar(series.frame, &rows.time).or_else(|| by_session(series.frame, &scanned.gaps))),
    }
}

/// The stamp of months and weeks that are written as days near their ends. Those written as days near their
/// beginnings may also be the days after their ends.
fn by_calendar(frame: Frame, written: &[Micros]) -> Option<(Stamp, String)> {
    let Frame::Bars { count: 1, unit } = frame else { return None };
    let (is_late, words): (fn(i64) -> bool, _) = match unit {
        Unit::Month => (|day| civil_from_days(day).2 >= 25, "the last days of months"),
        Unit::Week => (|day| matches!(weekday(day), 4 | 5), "Fridays and Saturdays"),
        _ => return None,
    };
    let last = written.iter().max()?;
    let is_end = |t: &Micros| t.rem_euclid(DAY) == 0 && is_late(day_of(*t));
    // The month or week that still runs may be written as the day on which the file was made.
    let fits = written.len() > ENOUGH as usize && written.iter().all(|t| is_end(t) || t == last);
    fits.then(|| (Stamp::Close, format!("all times are {words}")))
}

/// The stamp that the edges of sessions tell; `gaps` are steps between neighbouring times, as (before, after).
pub fn by_session(frame: Frame, gaps: &[(Micros, Micros)]) -> Option<(Stamp, String)> {
    let length = frame.length();
    // Longer bars begin on full hours whichever end they are stamped at.
    if !(1..HOUR / 2).contains(&length) {
        return None;
    }
    let half = HOUR / 2;
    // The beginnings of sessions, then their ends: how many say open, and how many say close.
    let (mut begins, mut ends) = ([0u32; 2], [0u32; 2]);
    for (before, after) in gaps.iter().filter(|(b, a)| a - b > (half).max(3 * length)) {
        begins[0] += u32::from(after.rem_euclid(half) == 0);
        begins[1] += u32::from(after.rem_euclid(half) == length);
        ends[0] += u32::from(before.rem_euclid(half) == half - length);
        ends[1] += u32::from(before.rem_euclid(half) == 0);
    }
    // A market may open a minute late by its rules: both kinds of edges have to say the same.
    let says = |which: usize| {
        let (b, e) = (begins[which], ends[which]);
        b.min(e) >= ENOUGH && b >= 4 * begins[1 - which] && e >= 4 * ends[1 - which]
    };
    let told = |which: usize| {
        let (yes, no) = (begins[which] + ends[which], begins[1 - which] + ends[1 - which]);
        format!("{yes} of {} session edges say so", yes + no)
    };
    match (says(0), says(1)) {
        (true, _) => Some((Stamp::Open, told(0))),
        (_, true) => Some((Stamp::Close, told(1))),
        _ => None,
    }
}

/// Edges of either kind that are wanted before they tell the stamp.
const ENOUGH: u32 = 3;

/// Compares the first bars with ticks or shorter bars of the same instrument, where the shelf has them
/// for the same time.
fn against_finer(
    shelf: &Shelf,
    series: &SeriesName,
    clock: Option<&Clock>,
    rows: &Columns,
) -> Result<Option<(Stamp, String)>> {
    let length = series.frame.length();
    let Some((first, _)) = rows.ends().filter(|_| length > 0 && rows.has(Field::High)) else {
        return Ok(None);
    };
    let rows = &rows.clone().with_whole_bars();
    let to_utc = |t: Micros| clock.map_or(t, |c| c.from_wall(t).settle());
    let end = rows.time.iter().copied().take_while(|t| *t < first + 2 * DAY).last().unwrap_or(first);
    let span = Span::new(to_utc(first) - length, to_utc(end) + 2 * length);
    for finer in shelf.series_of(&series.instrument)? {
        let shorter = finer.name.frame.length() < length && finer.name.frame != Frame::Depth;
        if !shorter || finer.is_afloat() != clock.is_none() || finer.name.side != series.side {
            continue;
        }
        let ticks = shelf.read(&finer.edition, span)?.with_whole_bars();
        let high = [Field::High, Field::Bid, Field::Last].into_iter().find(|f| ticks.has(*f));
        let low = [Field::Low, Field::Bid, Field::Last].into_iter().find(|f| ticks.has(*f));
        let (Some(high), Some(low)) = (high, low) else { continue };
        let agrees = |from: Micros, i: usize| {
            let range = ticks.range_of(Span::new(from, from + length));
            let scale = |v: i64, s: u8| v as f64 / 10f64.powi(s as i32);
            let prices = |f: Field| Cells::new(&ticks.column(f)[range.clone()]);
            let (top, bottom) = (prices(high).present().max()?, prices(low).present().min()?);
            let (mine, theirs) = (rows.scale.price, ticks.scale.price);
            let near =
                |a: i64, b: i64| (scale(a, mine) - scale(b, theirs)).abs() < scale(3, mine.min(theirs));
            Some(near(rows.column(Field::High)[i], top) && near(rows.column(Field::Low)[i], bottom))
        };
        let count = |shift: Micros| {
            (0..rows.len()).filter(|&i| agrees(to_utc(rows.time[i]) - shift, i) == Some(true)).count()
        };
        let (open, close) = (count(0), count(length));
        if open.max(close) >= 5 && open.max(close) > 3 * open.min(close) {
            let stamp = if open > close { Stamp::Open } else { Stamp::Close };
            let words = format!(
                "{} bars have the range of {} so, {} the other way",
                open.max(close),
                finer.name,
                open.min(close)
            );
            return Ok(Some((stamp, words)));
        }
    }
    Ok(None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::MINUTE;

    #[test]
    fn the_last_days_of_months_and_weeks_are_closes() {
        let stamp = |frame: &str, days: &[&str]| {
            let times: Vec<Micros> = days.iter().map(|d| crate::model::time::parse(d).unwrap()).collect();
            by_calendar(frame.parse().unwrap(), &times).map(|f| f.0)
        };
        let ends = ["2023-10-31", "2023-11-30", "2023-12-29", "2024-01-31", "2024-02-07"];
        assert_eq!(stamp("1mo", &ends), Some(Stamp::Close));
        assert_eq!(
            stamp("1mo", &["2024-02-07", "2024-01-31", "2023-12-29", "2023-11-30"]),
            Some(Stamp::Close)
        );
        assert_eq!(stamp("1mo", &["2023-10-01", "2023-11-01", "2023-12-01", "2024-01-01"]), None);
        // A month opens at this moment where the clock is two hours before UTC.
        let opens = ["2023-10-31 22:00", "2023-11-30 22:00", "2023-12-31 22:00", "2024-01-31 22:00"];
        assert_eq!(stamp("1mo", &opens), None);
        assert_eq!(
            stamp("1w", &["2024-03-01", "2024-03-08", "2024-03-15", "2024-03-22"]),
            Some(Stamp::Close)
        );
        assert_eq!(stamp("1w", &["2024-03-03", "2024-03-10", "2024-03-17", "2024-03-24"]), None);
    }

    #[test]
    fn session_edges_tell() {
        let gaps = |open: Micros| -> Vec<(Micros, Micros)> {
            (1..5).map(|d| (d * DAY - HOUR + open - MINUTE, d * DAY + open)).collect()
        };
        let stamp = |open, frame: &str| by_session(frame.parse().unwrap(), &gaps(open)).map(|f| f.0);
        assert_eq!(stamp(0, "1m"), Some(Stamp::Open));
        assert_eq!(stamp(MINUTE, "1m"), Some(Stamp::Close));
        assert_eq!(stamp(17 * MINUTE, "1m"), None);
        assert_eq!(stamp(0, "1h"), None);
        // A market that opens at 01:01 and closes at midnight is not stamped at the close.
        let late: Vec<(Micros, Micros)> =
            (1..9).map(|d| (d * DAY - MINUTE, d * DAY + HOUR + MINUTE)).collect();
        assert_eq!(by_session(Frame::M1, &late), None);
    }
}
