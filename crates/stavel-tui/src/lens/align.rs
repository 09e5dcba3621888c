//! Align: the heat of weeks by offset, the clock fitted, the longest bars of both.

use stavel_core::align::{Study, study};
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, date, day_of, wall};
use stavel_core::model::{Frame, SeriesName};
use stavel_core::recipe::{AlignStep, Step};
use stavel_core::store::SeriesInfo;

use super::{Fact, scroll, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::Canvas;
use crate::jobs::Slot;
use crate::theme;

#[derive(Default)]
pub struct State {
    study: Slot<Study>,
    at: usize,
}

/// The series whose clock is asked for and the one it is compared with: the afloat one and an anchored
/// one of another source; where none is afloat, one that was anchored by an alignment.
fn pair(app: &App) -> Option<(&SeriesInfo, &SeriesInfo)> {
    let all: Vec<&SeriesInfo> = app.snapshot.roots_of(app.instrument()).collect();
    let chosen = app.selected.as_ref();
    let candidates = |test: fn(&SeriesInfo) -> bool| {
        let found: Vec<&SeriesInfo> = all.iter().copied().filter(|s| test(s)).collect();
        found.iter().copied().find(|s| Some(&s.name) == chosen).or(found.first().copied())
    };
    let here = candidates(|s| s.is_afloat()).or_else(|| candidates(|s| s.edition.act == "align"))?;
    let fits =
        |s: &&&SeriesInfo| !s.is_afloat() && s.name.source != here.name.source && s.edition.act != "splice";
    // Bars of the same length say most; ticks do where there are none.
    let there = all
        .iter()
        .filter(fits)
        .max_by_key(|s| (s.name.frame == here.name.frame, s.name.frame == Frame::M1))?;
    Some((here, there))
}

pub fn want(app: &mut App) {
    let Some((here, there)) = pair(app) else { return };
    let (a, b): (SeriesName, SeriesName) = (here.name.clone(), there.name.clone());
    let key = format!("{} {}", here.edition.id, there.edition.id);
    app.align.study.want(
        key,
        &app.threads,
        |app| Some(&mut app.align.study),
        move |shelf, job| study(shelf, &a, &b, job),
    );
}

pub fn act(app: &mut App, act: Act) {
    let Some(found) = app.align.study.get().cloned() else { return };
    match act {
        Act::Up | Act::Down => app.align.at = step(app.align.at, found.evidence.len(), act == Act::Down),
        Act::Accept => {
            if !found.is_sure() {
                app.say("no clock was found that can be trusted", Tone::Wrong);
            } else if !found.here.is_afloat() {
                app.say(
                    format!("{} is anchored already; u sets it afloat again", found.here.name.short()),
                    Tone::Plain,
                );
            } else {
                let (series, to) = (found.here.name.clone(), found.there.name.clone());
                app.start(Step::Align(AlignStep { series, to, anchor: true }));
            }
        }
        Act::Enter => {
            if let Some(e) = found.evidence.get(app.align.at) {
                let at = e.utc;
                app.selected = Some(found.there.name.clone());
                app.show_place(at, HOUR);
            }
        }
        _ => {}
    }
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let found = match (&app.align.study.value, pair(app)) {
        (_, None) => {
            canvas.put(2, 1, "Nothing to align: no series of this instrument is afloat.", theme::words());
            canvas.put(
                2,
                2,
                "A file without a zone comes in afloat; its clock is found here.",
                theme::faint(),
            );
            return;
        }
        (Some(Ok(found)), _) => found,
        (Some(Err(err)), _) => {
            canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            return;
        }
        (None, Some((here, there))) => {
            canvas.put(
                2,
                1,
                &format!("comparing {} with {} …", here.name.short(), there.name.short()),
                theme::faint(),
            );
            return;
        }
    };
    let (here, there) = (found.here.name.short(), found.there.name.short());
    let title = if canvas.width() >= 100 {
        format!("{here} written time against {there} (UTC): agreement by week")
    } else if found.is_sure() {
        // Without room for facts the clock is told here.
        let agree = found.fit.weeks.iter().filter(|w| w.agrees).count();
        format!("{here} against {there}: {}, {agree} of {} weeks", found.fit.clock, found.fit.weeks.len())
    } else {
        format!("{here} against {there}: no clock, they are not alike")
    };
    canvas.put(1, 0, &title, theme::words());
    let width = canvas.width();
    let bars = (found.evidence.len() as u16 + 2).min(canvas.height() / 2);
    let heat = canvas.height().saturating_sub(bars + 1);
    draw_heat(found, canvas.part(0, 1, width, heat));
    let below = heat + 1;
    canvas.rule(below, theme::rule());
    draw_bars(app, found, canvas.part(0, below + 1, width, bars.saturating_sub(1)));
}

/// Offsets shown: around the weeks' best, as many as there are lines.
fn offsets_shown(found: &Study, lines: u16) -> Vec<Micros> {
    let mut best: Vec<Micros> = found.weeks.iter().filter(|w| w.speaks).map(|w| w.best_offset()).collect();
    best.sort_unstable();
    let (low, high) = (best.first().copied().unwrap_or(-4 * HOUR), best.last().copied().unwrap_or(4 * HOUR));
    let spare = (lines as Micros - ((high - low) / HOUR + 1)).max(0);
    let top = (high + HOUR / 2).div_euclid(HOUR) * HOUR + (spare / 2) * HOUR;
    (0..lines as Micros).map(|i| (top - i * HOUR).clamp(-14 * HOUR, 14 * HOUR)).collect()
}

fn draw_heat(found: &Study, mut canvas: Canvas<'_>) {
    let left = 8u16;
    let columns = canvas.width().saturating_sub(left + 1) as usize;
    let lines = canvas.height().saturating_sub(2).min(29);
    if lines < 3 || columns < 8 {
        return;
    }
    let each = found.weeks.len().div_ceil(columns).max(1);
    let wide = (columns / found.weeks.len().max(1)).clamp(1, 3);
    let place = |week: usize| left + (week / each * wide) as u16;
    for (row, offset) in offsets_shown(found, lines).into_iter().enumerate() {
        let y = row as u16;
        let sign = if offset < 0 { '-' } else { '+' };
        canvas.put(1, y, &format!("{sign}{:>2} h", offset.abs() / HOUR), theme::faint());
        for (i, week) in found.weeks.iter().enumerate().step_by(each) {
            // The best within half an hour of the line's offset.
            let near = (-30..30).map(|m| week.at(offset + m * MINUTE)).fold(0.0f32, f32::max);
            let peak = week.peak().max(0.01);
            let verdict = &found.fit.weeks[i];
            let on_rule = (verdict.expected - offset).abs() <= HOUR / 2;
            let is_best = (week.best_offset() - offset).abs() <= HOUR / 2 && week.speaks;
            let (mark, colour) = match (is_best, verdict.agrees) {
                (true, true) => ("█", theme::source(0)),
                (true, false) => ("▲", theme::WRONG),
                _ if on_rule => ("─", theme::CHOSEN),
                // Below a quarter of the peak there is only noise.
                _ if near < peak / 4.0 => ("·", theme::RULE),
                _ => (theme::shade((near / peak) as f64 * 0.7), theme::FAINT),
            };
            canvas.put(place(i), y, &mark.repeat(wide), theme::words().fg(colour));
        }
    }
    let mut free = 0;
    for (i, week) in found.weeks.iter().enumerate().step_by(each) {
        let day = day_of(week.start) + 2;
        let label = &date(day)[..7];
        let is_new = i == 0 || date(day_of(found.weeks[i - 1].start) + 2)[..7] != *label;
        if is_new && place(i) >= free {
            free = canvas.put(place(i), lines, label, theme::faint()) + 2;
        }
    }
    let y = lines + 1;
    canvas.pieces(
        left,
        y,
        &[
            ("█", theme::words().fg(theme::source(0))),
            (" week's best, on the rule   ", theme::faint()),
            ("▲", theme::words().fg(theme::WRONG)),
            (" week that disagrees   ", theme::faint()),
            ("─", theme::words().fg(theme::CHOSEN)),
            (" the rule", theme::faint()),
        ],
    );
}

fn draw_bars(app: &App, found: &Study, mut canvas: Canvas<'_>) {
    let head =
        format!("{:<3} {:<17} {:<17} {:>7}  {:>7} {:>7}", "", "written", "UTC", "diff", "here", "there");
    canvas.put(1, 0, "longest bars", theme::words());
    canvas.put(14, 0, &head, theme::faint());
    let rows = canvas.height().saturating_sub(1) as usize;
    let longest = found.evidence.iter().map(|e| e.range_here.max(e.range_there)).max().unwrap_or(1).max(1);
    let at = app.align.at.min(found.evidence.len().saturating_sub(1));
    let first = scroll(at, rows, found.evidence.len());
    for (i, e) in found.evidence.iter().enumerate().skip(first).take(rows) {
        let y = (i - first) as u16 + 1;
        let hours = (e.written - e.utc) as f64 / HOUR as f64;
        let text = format!(
            "{:>3} {:<17} {:<17} {:>+5.1} h  {:>7} {:>7}",
            i + 1,
            wall(e.written),
            wall(e.utc),
            hours,
            e.range_here,
            e.range_there
        );
        let x = canvas.put(14, y, &text, if i == at { theme::chosen() } else { theme::words() });
        let bar = |range: i64| "▄".repeat((range * 14 / longest).max(0) as usize);
        canvas.put(x + 2, y, &bar(e.range_here), theme::words().fg(theme::source(1)));
        canvas.put(x + 18, y, &bar(e.range_there), theme::words().fg(theme::source(0)));
    }
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(found) = app.align.study.get() else { return Vec::new() };
    let fit = &found.fit;
    if !found.is_sure() {
        return vec![
            Fact::heading("no clock"),
            Fact::words("The two series are not alike at any one offset. Are they the same instrument?"),
        ];
    }
    let agree = fit.weeks.iter().filter(|w| w.agrees).count();
    let mut out = vec![
        Fact::heading(fit.clock.to_string()),
        Fact::words(fit.clock.in_words()),
        Fact::words(format!("{agree} of {} weeks agree", fit.weeks.len())),
        Fact::Pair("confidence", format!("{:.2}", fit.confidence)),
        Fact::Gap,
    ];
    if !fit.alternatives.is_empty() {
        out.push(Fact::heading("other clocks"));
    }
    for a in &fit.alternatives {
        out.push(Fact::words(format!("{}  {:.2}", a.clock, a.score)));
        out.push(Fact::words(match a.differs.len() {
            0 => "  no week here tells it apart".to_owned(),
            n => format!("  {n} weeks speak against it"),
        }));
    }
    let odd: Vec<_> = fit.weeks.iter().filter(|w| w.speaks && !w.agrees).collect();
    if !odd.is_empty() {
        out.push(Fact::Gap);
        out.push(Fact::heading("weeks that disagree"));
    }
    for w in odd.iter().take(6) {
        let by = (w.offset - w.expected) / MINUTE;
        out.push(Fact::words(format!("▲ {}: best {by:+} min off the rule", date(day_of(w.start + 2 * DAY)))));
    }
    out.push(Fact::Gap);
    out.push(Fact::words(if found.here.is_afloat() {
        "a stores it in UTC"
    } else {
        "anchored: stored in UTC"
    }));
    out
}
