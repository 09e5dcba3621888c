//! Align: the heat of weeks by offset, the clock fitted or chosen, and the evidence.

use stavel_core::align::{Ask, Fit, Study, clock_in_words, fit_to, study};
use stavel_core::intake::Stamp;
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, date, day_of};
use stavel_core::model::{Clock, Frame, SeriesName};
use stavel_core::store::SeriesInfo;
use stavel_work::{AlignStep, Step, doubt_in_words, stretches_in_words};

use super::{Fact, align_evidence, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::Canvas;
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};
use crate::theme;

#[derive(Default)]
pub struct State {
    study: Slot<Study>,
    pub at: usize,
    /// The clock a person chose, with what the weeks say of it at once.
    chosen: Option<Fit>,
    /// True once a person was told what speaks against the clock found.
    warned: bool,
    /// True where sessions and days are shown instead of the longest bars.
    pub sessions: bool,
}

impl State {
    /// The fit that is shown: of the clock chosen, else of the clock found.
    pub fn fit<'a>(&'a self, found: &'a Study) -> &'a Fit {
        self.chosen.as_ref().unwrap_or(&found.fit)
    }
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
    let here =
        candidates(|s| s.is_afloat()).or_else(|| candidates(|s| s.edition.provenance.made.is_aligned()))?;
    let fits = |s: &&&SeriesInfo| {
        !s.is_afloat() && s.name.source != here.name.source && !s.edition.provenance.made.is_joined()
    };
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
    let ids = format!("{} {}", here.edition.id, there.edition.id);
    // A clock chosen for one pair says nothing of another.
    if app.align.study.get().is_some_and(|s| s.here.name != a || s.there.name != b) {
        (app.align.chosen, app.align.warned) = (None, false);
    }
    let ask = app.align.chosen.as_ref().map(|f| Ask { clock: Some(f.clock.clone()), stamp: Some(f.stamp) });
    let ask = ask.unwrap_or_default();
    let key = format!("{ids} {ask:?}");
    app.align.study.want(
        key,
        &app.threads,
        |app| Some(&mut app.align.study),
        move |shelf, job| study(shelf, &a, &b, &ask, job),
    );
}

pub fn act(app: &mut App, act: Act) {
    let Some(found) = app.align.study.get().cloned() else { return };
    match act {
        Act::Up | Act::Down => app.align.at = step(app.align.at, found.evidence.len(), act == Act::Down),
        Act::Accept => accept(app, &found),
        Act::Enter => {
            if let Some(e) = found.evidence.get(app.align.at) {
                let at = e.utc;
                let fit = app.align.fit(&found);
                let back = fit.stamp.back(found.here.name.frame);
                app.chart.overlay_clock = Some((fit.clock.clone(), back));
                app.chart.overlay = Some(found.here.name.clone());
                app.selected = Some(found.there.name.clone());
                app.show_place(at, 50 * MINUTE);
            }
        }
        Act::Evidence => app.align.sessions = !app.align.sessions,
        Act::NudgeBack => nudge(app, &found, -found.here.name.frame.length().max(MINUTE)),
        Act::NudgeOn => nudge(app, &found, found.here.name.frame.length().max(MINUTE)),
        Act::HourBack => nudge(app, &found, -HOUR),
        Act::HourOn => nudge(app, &found, HOUR),
        Act::OwnClock => {
            let now = app.align.fit(&found).clock.to_string();
            let done = move |app: &mut App, typed: &str| choose(app, typed);
            app.overlay = Some(Overlay::Prompt(Prompt::new("clock (empty: the one found)", &now, done)));
        }
        _ => {}
    }
}

fn accept(app: &mut App, found: &Study) {
    let fit = app.align.fit(found).clone();
    let chosen = app.align.chosen.is_some();
    if !found.here.is_afloat() {
        let text = format!("{} is anchored already; u sets it afloat again", found.here.name.short());
        return app.say(text, Tone::Plain);
    }
    if !chosen && !found.is_sure() {
        return app.say("no clock was found that can be trusted; o takes one of your own", Tone::Wrong);
    }
    let doubts = if chosen { Vec::new() } else { found.doubts() };
    let doubtful = !doubts.is_empty();
    if doubtful && !std::mem::replace(&mut app.align.warned, true) {
        let first = doubt_in_words(found, &doubts[0]);
        return app.say(format!("{first}; a again takes it all the same"), Tone::Wrong);
    }
    let step = AlignStep {
        accept: doubtful,
        ..AlignStep::of(found.here.name.clone(), Some(found.there.name.clone()))
    };
    let (clock, stamp) = if chosen { (Some(fit.clock), Some(fit.stamp)) } else { (None, None) };
    app.start(Step::Align(AlignStep { anchor: true, clock, stamp, ..step }));
}

/// Takes a clock that was typed.
fn choose(app: &mut App, typed: &str) {
    let Some(found) = app.align.study.get().cloned() else { return };
    if typed.is_empty() {
        app.align.chosen = None;
        return app.say("back to the clock found", Tone::Plain);
    }
    match typed.parse::<Clock>() {
        Ok(clock) => rate(app, &found, &clock, Stamp::Open),
        Err(err) => app.complain(&err),
    }
}

/// Shifts the clock by a length: by hours as a clock, by a bar to the other stamp of bars.
fn nudge(app: &mut App, found: &Study, by: Micros) {
    let fit = app.align.fit(found).clone();
    match fit.clock.shifted(by) {
        Ok(clock) if clock.offset_at(found.here.edition.first).abs() <= 18 * HOUR => {
            rate(app, found, &clock, fit.stamp);
        }
        Ok(_) => app.say("no clock is farther from UTC than this", Tone::Plain),
        Err(err) => app.complain(&err),
    }
}

fn rate(app: &mut App, found: &Study, clock: &Clock, stamp: Stamp) {
    let fit = fit_to(&found.weeks, found.here.name.frame.length(), &found.fit, clock, stamp);
    let agree = fit.weeks.iter().filter(|w| w.agrees).count();
    app.say(
        format!("{clock}: {agree} of {} weeks agree, confidence {:.2}", fit.weeks.len(), fit.confidence),
        Tone::Plain,
    );
    app.align.chosen = Some(fit);
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
    let fit = app.align.fit(found);
    let (here, there) = (found.here.name.short(), found.there.name.short());
    let title = if canvas.width() >= 100 {
        format!("{here} written time against {there} (UTC): agreement by week")
    } else if found.is_sure() || app.align.chosen.is_some() {
        // Without room for facts the clock is told here.
        let agree = fit.weeks.iter().filter(|w| w.agrees).count();
        format!("{here} against {there}: {}, {agree} of {} weeks", fit.clock, fit.weeks.len())
    } else {
        format!("{here} against {there}: no clock, they are not alike")
    };
    canvas.put(1, 0, &title, theme::words());
    let width = canvas.width();
    let bars = (found.evidence.len() as u16 + 2).max(10).min(canvas.height() / 2);
    let heat = canvas.height().saturating_sub(bars + 1);
    draw_heat(found, fit, canvas.part(0, 1, width, heat));
    let below = heat + 1;
    canvas.rule(below, theme::rule());
    let part = canvas.part(0, below + 1, width, bars.saturating_sub(1));
    if app.align.sessions {
        align_evidence::draw_sessions(found, part);
    } else {
        align_evidence::draw_bars(app, found, part);
    }
}

/// Offsets shown: around the weeks' best, as many as there are lines.
fn offsets_shown(found: &Study, fit: &Fit, lines: u16) -> Vec<Micros> {
    let mut best: Vec<Micros> = found.weeks.iter().filter(|w| w.speaks).map(|w| w.best_offset()).collect();
    best.extend(fit.weeks.first().map(|w| w.expected));
    best.sort_unstable();
    let (low, high) = (best.first().copied().unwrap_or(-4 * HOUR), best.last().copied().unwrap_or(4 * HOUR));
    let spare = (lines as Micros - ((high - low) / HOUR + 1)).max(0);
    let top = (high + HOUR / 2).div_euclid(HOUR) * HOUR + (spare / 2) * HOUR;
    (0..lines as Micros).map(|i| (top - i * HOUR).clamp(-14 * HOUR, 14 * HOUR)).collect()
}

fn draw_heat(found: &Study, fit: &Fit, mut canvas: Canvas<'_>) {
    let left = 8u16;
    let columns = canvas.width().saturating_sub(left + 1) as usize;
    let lines = canvas.height().saturating_sub(2).min(29);
    if lines < 3 || columns < 8 {
        return;
    }
    let each = found.weeks.len().div_ceil(columns).max(1);
    // The weeks share the whole width.
    let shown = found.weeks.len().div_ceil(each).max(1);
    let place = |week: usize| left + (week / each * columns / shown) as u16;
    let wide = |week: usize| (place(week + each) - place(week)).max(1) as usize;
    for (row, offset) in offsets_shown(found, fit, lines).into_iter().enumerate() {
        let y = row as u16;
        let sign = if offset < 0 { '-' } else { '+' };
        canvas.put(1, y, &format!("{sign}{:>2} h", offset.abs() / HOUR), theme::faint());
        for (i, week) in found.weeks.iter().enumerate().step_by(each) {
            // The best within half an hour of the line's offset.
            let near = (-30..30).map(|m| week.at(offset + m * MINUTE)).fold(0.0f32, f32::max);
            let peak = week.peak().max(0.01);
            let verdict = &fit.weeks[i];
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
            canvas.put(place(i), y, &mark.repeat(wide(i)), theme::words().fg(colour));
        }
    }
    let mut free = 0;
    for (i, week) in found.weeks.iter().enumerate().step_by(each) {
        let day = day_of(week.start) + 2;
        let label = &date(day)[..7];
        let is_new = i == 0 || date(day_of(found.weeks[i - 1].start) + 2)[..7] != *label;
        if is_new && place(i) >= free && place(i) + 7 <= canvas.width() {
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

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(found) = app.align.study.get() else { return Vec::new() };
    let fit = app.align.fit(found);
    let chosen = app.align.chosen.is_some();
    if !found.is_sure() && !chosen {
        return vec![
            Fact::heading("no clock"),
            Fact::words("The two series are not alike at any one offset. Are they the same instrument?"),
            Fact::words("o: take a clock of your own and see what the weeks say of it"),
        ];
    }
    let agree = fit.weeks.iter().filter(|w| w.agrees).count();
    let mut out = match fit.clock.changes() {
        [] => vec![Fact::heading(fit.clock.to_string())],
        // One after the other they are longer than a heading.
        _ => vec![Fact::heading("a clock that was changed"), Fact::words(fit.clock.to_string())],
    };
    if chosen {
        out.push(Fact::words(format!(
            "your choice; found was {}",
            found.fit.scan.first().map_or_else(String::new, |s| s.0.to_string())
        )));
    }
    out.extend(clock_in_words(&fit.clock, &found.edges.written).into_iter().map(Fact::Words));
    if fit.stamp == Stamp::Close {
        out.push(Fact::words("bars are stamped at their close"));
    }
    if found.inverse {
        out.push(Fact::words(format!("{} is quoted the other way round", found.there.name.short())));
    }
    out.push(Fact::words(format!("{agree} of {} weeks agree", fit.weeks.len())));
    out.push(Fact::Pair("confidence", format!("{:.2}", fit.confidence)));
    if !chosen {
        out.extend(found.doubts().iter().map(|d| Fact::words(format!("▲ {}", doubt_in_words(found, d)))));
    }
    out.push(Fact::Gap);
    if !fit.alternatives.is_empty() {
        out.push(Fact::heading("other clocks"));
    }
    for a in fit.alternatives.iter().take(4) {
        out.push(Fact::words(format!("{}  {:.2}", a.clock, a.score)));
        out.push(Fact::words(match a.differs.len() {
            0 => format!("  parts {}, not covered", stretches_in_words(&a.would_differ[..1])),
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
