//! The evidence people look for: the longest bars of one series in the other, when the week opens and closes,
//! stub days, daily bars.

use std::collections::BTreeMap;

use crate::model::time::{DAY, HOUR, MINUTE, WEEK, day_of, monday_of, weekday};
use crate::model::{Clock, Columns, Field, Micros, Span};
use crate::stats::median;

/// A long bar of the series and the bar of the reference at the same moment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Evidence {
    /// When the bar of the reference begins, UTC.
    pub utc: Micros,
    /// When the bar of the series begins, as written.
    pub written: Micros,
    /// High minus low of the bar of the series, in points.
    pub range_here: i64,
    /// High minus low of the bar of the reference, in points; none where it has no bar then.
    pub range_there: Option<i64>,
    /// The range of the reference at the written time taken for UTC: what one would have compared without a
    /// clock. None where it has no bar then.
    pub range_before: Option<i64>,
}

fn range(rows: &Columns, i: usize) -> i64 {
    rows.column(Field::High)[i] - rows.column(Field::Low)[i]
}

/// The longest bars of a series whose times are as written (at most one an hour), with the bars of
/// an anchored series at the moments a clock gives them. Bars outside the other series are passed over.
/// `back` is what bars stamped at their close are moved back by.
pub fn longest_bars(
    subject: &Columns,
    reference: &Columns,
    clock: &Clock,
    back: Micros,
    count: usize,
) -> Vec<Evidence> {
    let Some((first, last)) = reference.ends() else { return Vec::new() };
    // The longest of each hour: what lies beside a longer bar is passed over anyway.
    let mut order: Vec<usize> = Vec::new();
    let hour = |i: usize| subject.time[i].div_euclid(HOUR);
    for i in 0..subject.len() {
        match order.last_mut() {
            Some(last) if hour(*last) == hour(i) => {
                if range(subject, i) > range(subject, *last) {
                    *last = i;
                }
            }
            _ => order.push(i),
        }
    }
    order.sort_by_key(|&i| std::cmp::Reverse(range(subject, i)));
    let at = |t: Micros| reference.time.binary_search(&t).ok().map(|j| range(reference, j));
    let mut out: Vec<Evidence> = Vec::new();
    for i in order {
        let written = subject.time[i];
        let utc = clock.from_wall(written).settle() - back;
        let near = out.iter().any(|e| (e.written - written).abs() < HOUR);
        if near || utc < first || utc > last {
            continue;
        }
        let (range_there, range_before) = (at(utc), at(written));
        out.push(Evidence { utc, written, range_here: range(subject, i), range_there, range_before });
        if out.len() == count {
            break;
        }
    }
    out
}

/// When most weeks begin and end, and how many do: minutes since Monday 00:00 on a wall.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct WeekEdges {
    /// When most weeks open.
    pub opens: i64,
    /// When most weeks close.
    pub closes: i64,
    /// Weeks that open, and close, within a quarter of an hour of that.
    pub keep_open: usize,
    /// Weeks that close then.
    pub keep_close: usize,
    /// Weeks that were read.
    pub weeks: usize,
    /// Weeks with a Saturday or Sunday of six hours or less.
    pub stubs: usize,
}

/// From the first row to the end of the last of each week: what lies between two silences of a day or more. The first
/// and the last are left out where there are more than two: they may be cut.
pub fn weeks_of(times: impl Iterator<Item = Micros>, bar: Micros) -> Vec<Span> {
    let mut weeks: Vec<Span> = Vec::new();
    for t in times {
        match weeks.last_mut() {
            Some(week) if t - week.to < DAY => week.to = t + bar,
            _ => weeks.push(Span::new(t, t + bar)),
        }
    }
    if weeks.len() > 2 {
        weeks.pop();
        weeks.remove(0);
    }
    weeks
}

/// The edges of the weeks of rows whose times are on some wall; see [`weeks_of`].
pub fn week_edges(times: impl Iterator<Item = Micros> + Clone, bar: Micros) -> WeekEdges {
    let weeks = weeks_of(times.clone(), bar);
    let mut weekend: BTreeMap<i64, (Micros, Micros)> = BTreeMap::new();
    let (mut today, mut is_weekend) = (Span::new(0, 0), false);
    for t in times {
        if !today.holds(t) {
            let day = day_of(t);
            today = Span::new(day * DAY, (day + 1) * DAY);
            is_weekend = weekday(day) >= 5;
        }
        if is_weekend {
            let day = weekend.entry(day_of(t)).or_insert((t, t));
            day.1 = t + bar;
        }
    }
    let of_week = |t: Micros| (t - monday_of(day_of(t)) * DAY) / MINUTE;
    let usual = |edges: Vec<i64>| {
        let mut counts: BTreeMap<i64, usize> = BTreeMap::new();
        edges.iter().for_each(|e| *counts.entry(e / 15).or_default() += 1);
        let (quarter, n) = counts.into_iter().max_by_key(|c| c.1).unwrap_or_default();
        let mut within: Vec<i64> = edges.into_iter().filter(|e| e / 15 == quarter).collect();
        within.sort_unstable();
        (within.get(within.len() / 2).copied().unwrap_or_default(), n)
    };
    let (opens, keep_open) = usual(weeks.iter().map(|w| of_week(w.from)).collect());
    let (closes, keep_close) = usual(weeks.iter().map(|w| of_week(w.to)).collect());
    let stubs = weekend.values().filter(|(from, to)| to - from <= 6 * HOUR).count();
    WeekEdges { opens, closes, keep_open, keep_close, weeks: weeks.len(), stubs }
}

/// How daily bars of two series agree: days both have, and of those how many have the same open, high, low and
/// close within a twentieth of the usual range.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Dailies {
    /// Days that both series have.
    pub days: usize,
    /// How many of them have the same open, high, low and close.
    pub same: [usize; 4],
}

/// Open, high, low and close by day.
pub type DailyBars = BTreeMap<i64, [i64; 4]>;

/// Compares the daily bars of two series.
pub fn dailies(mine: &DailyBars, theirs: &DailyBars) -> Dailies {
    let both: Vec<(&[i64; 4], &[i64; 4])> =
        mine.iter().filter_map(|(day, bar)| Some((bar, theirs.get(day)?))).collect();
    let usual: i64 = both.iter().map(|(_, b)| b[1] - b[2]).sum::<i64>() / both.len().max(1) as i64;
    let mut levels: Vec<i64> = both.iter().map(|(a, b)| b[3] - a[3]).collect();
    let level = median(&mut levels).unwrap_or_default();
    let mut out = Dailies { days: both.len(), same: [0; 4] };
    for (a, b) in both {
        for (same, (x, y)) in out.same.iter_mut().zip(a.iter().zip(b)) {
            *same += usize::from((y - x - level).abs() * 20 <= usual);
        }
    }
    out
}

/// Open, high, low and close of each day on a wall; days on which less than six hours trade are left out.
/// `shift` moves written times to UTC.
pub fn days_of(rows: &Columns, wall: &Clock, shift: impl Fn(Micros) -> Micros) -> DailyBars {
    let mut out: BTreeMap<i64, ([i64; 4], Micros, Micros)> = BTreeMap::new();
    let [high, low, close] = [Field::High, Field::Low, Field::Close].map(|f| rows.column(f));
    let times: Vec<Micros> = rows.time.iter().map(|t| wall.to_wall(shift(*t))).collect();
    let mut from = 0;
    for run in times.chunk_by(|a, b| day_of(*a) == day_of(*b)) {
        let range = from..from + run.len();
        from = range.end;
        // The close before is where the first bar of a day began, near enough.
        let open = close[range.start.saturating_sub(1)];
        let (first, last) = (run[0], run[run.len() - 1]);
        let (bar, _, end) = out.entry(day_of(first)).or_insert(([open, i64::MIN, i64::MAX, 0], first, last));
        bar[1] = high[range.clone()].iter().fold(bar[1], |a, b| a.max(*b));
        bar[2] = low[range.clone()].iter().fold(bar[2], |a, b| a.min(*b));
        bar[3] = close[range.end - 1];
        *end = last;
    }
    out.into_iter().filter(|(_, (_, a, b))| b - a > 6 * HOUR).map(|(day, (bar, ..))| (day, bar)).collect()
}

/// What a clock means for a session that keeps to New York, and where it parts from the clock people take it
/// for: sentences without a full stop.
pub fn clock_in_words(clock: &Clock, edges: &WeekEdges) -> Vec<String> {
    let mut out = vec![clock.in_words()];
    if edges.weeks > 2 {
        let at = |m: i64| {
            let day = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
            format!("{} {:02}:{:02}", day[(m / 1440).clamp(0, 6) as usize], m % 1440 / 60, m % 60)
        };
        out.push(format!("its week runs from {} to {}", at(edges.opens), at(edges.closes)));
        let length = (edges.closes - edges.opens).rem_euclid(7 * 1440);
        let days = (edges.opens.rem_euclid(1440) + length).div_euclid(1440)
            + i64::from((edges.opens + length).rem_euclid(1440) > 60);
        out.push(match edges.stubs * 2 > edges.weeks {
            true => "a stub of a day on most weekends".into(),
            false => format!("{days} daily bars a week"),
        });
    }
    out.extend(parting(clock));
    out
}

/// The common zone nearest to a clock, and in how many weeks of a year they part.
fn parting(clock: &Clock) -> Option<String> {
    let year = crate::model::time::days_from_civil(2024, 1, 1) * DAY;
    let weeks: Vec<Micros> = (0..52).map(|w| year + w * WEEK + 3 * DAY).collect();
    let own = clock.parts().0.map(str::to_owned);
    let apart = |zone: &Clock| -> Vec<Micros> {
        weeks.iter().copied().filter(|t| zone.offset_at(*t) != clock.offset_at(*t)).collect()
    };
    let known = ["Europe/Athens", "Europe/Oslo", "Europe/London", "America/New_York", "UTC"];
    let nearest = known
        .iter()
        .filter(|z| own.as_deref() != Some(**z))
        .filter_map(|z| Some((z, apart(&z.parse::<Clock>().ok()?))))
        .filter(|(_, weeks)| !weeks.is_empty() && weeks.len() <= 26)
        .min_by_key(|(_, weeks)| weeks.len())?;
    let spring = nearest.1.iter().filter(|t| **t < year + 26 * WEEK).count();
    let name = nearest.0.rsplit('/').next().unwrap_or(nearest.0).replace('_', " ");
    Some(match (spring, nearest.1.len() - spring) {
        (s, 0) => format!("differs from {name} time in {s} weeks of spring"),
        (0, a) => format!("differs from {name} time in {a} weeks of autumn"),
        (s, a) => format!("differs from {name} time in {s} weeks of spring and {a} of autumn"),
    })
}
