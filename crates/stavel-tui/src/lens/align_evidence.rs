//! The evidence for a clock: the longest bars of both series, when weeks open and close, daily bars.

use stavel_core::align::{ClockStudy, Dailies, WeekEdges};
use stavel_core::model::time::{HOUR, wall};
use stavel_work::minute_of_week;

use crate::canvas::{Canvas, cut_to, scroll};
use crate::theme;

/// The longest bars as written, with the bars of the other series there, without a clock and with it.
pub fn draw_bars(at: usize, found: &ClockStudy, mut canvas: Canvas<'_>) {
    let source = |name: &str| cut_to(name, 7);
    let (subject, reference) = (source(&found.subject.name.source), source(&found.reference.name.source));
    let head = format!(
        "{:<3} {:<17} {:<17} {:>7}  {:>7} {:>7} {:>8}",
        "", "written", "UTC", "diff", subject, reference, "no clock"
    );
    canvas.put(1, 0, "longest bars", theme::words());
    canvas.put(14, 0, &head, theme::faint());
    let rows = canvas.height().saturating_sub(1) as usize;
    let longest = found
        .evidence
        .iter()
        .map(|e| e.range_here.max(e.range_there.unwrap_or_default()))
        .max()
        .unwrap_or(1)
        .max(1);
    let at = at.min(found.evidence.len().saturating_sub(1));
    let points = |range: Option<i64>| range.map_or("–".to_owned(), |r| r.to_string());
    let first = scroll(at, rows, found.evidence.len());
    for (i, e) in found.evidence.iter().enumerate().skip(first).take(rows) {
        let y = (i - first) as u16 + 1;
        let hours = (e.written - e.utc) as f64 / HOUR as f64;
        let text = format!(
            "{:>3} {:<17} {:<17} {:>+5.1} h  {:>7} {:>7} {:>8}",
            i + 1,
            wall(e.written),
            wall(e.utc),
            hours,
            e.range_here,
            points(e.range_there),
            points(e.range_before)
        );
        let x = canvas.put(14, y, &text, if i == at { theme::chosen() } else { theme::words() });
        let bar = |range: i64| "▄".repeat((range * 10 / longest).max(0) as usize);
        canvas.put(x + 2, y, &bar(e.range_here), theme::words().fg(theme::source(1)));
        canvas.put(x + 13, y, &bar(e.range_there.unwrap_or_default()), theme::words().fg(theme::source(0)));
    }
}

/// When weeks open and close and how daily bars agree: written times taken for UTC, and by the clock.
pub fn draw_sessions(found: &ClockStudy, mut canvas: Canvas<'_>) {
    let e = &found.edges;
    let reference = found.reference.name.short();
    canvas.put(1, 0, "sessions and days", theme::words());
    let head = format!("{:<20} {:<24} {:<24} {reference}", "", "without a clock", "with the clock");
    canvas.put(1, 1, &head, theme::faint());
    let edge = |of: fn(&WeekEdges) -> (i64, usize)| {
        let told = |w: &WeekEdges| {
            let (minute, keep) = of(w);
            format!("{}, {keep} of {}", minute_of_week(minute), w.weeks)
        };
        [told(&e.before), told(&e.after), told(&e.reference)]
    };
    let (before, after) = found.dailies;
    let share = |d: &Dailies, i: usize| {
        let share = d.same[i] as f64 * 100.0 / d.days.max(1) as f64;
        if d.days == 0 { "–".to_owned() } else { format!("{share:.0} % of {} days", d.days) }
    };
    let stubs = |w: &WeekEdges| match w.stubs {
        0 => "none".to_owned(),
        1 => "1 day".to_owned(),
        n => format!("{n} days"),
    };
    let mut lines = vec![
        ("week opens", edge(|w| (w.opens, w.keep_open))),
        ("week closes", edge(|w| (w.closes, w.keep_close))),
        ("weekend stubs", [stubs(&e.before), stubs(&e.after), stubs(&e.reference)]),
    ];
    for (i, name) in ["same open", "same high", "same low", "same close"].into_iter().enumerate() {
        lines.push((name, [share(&before, i), share(&after, i), String::new()]));
    }
    // Right is what the other series has too: its opening and closing, no stub, its days.
    let like = |of: fn(&WeekEdges) -> i64| {
        let near = |w: &WeekEdges| (of(w) - of(&e.reference)).abs() <= 15;
        (near(&e.before), near(&e.after))
    };
    let mut good = vec![like(|w| w.opens), like(|w| w.closes), (e.before.stubs == 0, e.after.stubs == 0)];
    let same = |d: &Dailies, i: usize| d.same[i] * 100 >= d.days * 95;
    good.extend((0..4).map(|i| (same(&before, i), same(&after, i))));
    for (i, (name, cells)) in lines.iter().enumerate() {
        let y = i as u16 + 2;
        canvas.put(1, y, name, theme::faint());
        let style = |good: bool| theme::words().fg(if good { theme::GOOD } else { theme::WRONG });
        canvas.put(22, y, &cells[0], style(good[i].0));
        canvas.put(47, y, &cells[1], style(good[i].1));
        canvas.put(72, y, &cells[2], theme::faint());
    }
}
