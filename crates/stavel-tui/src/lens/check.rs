//! Check: a calendar of days shaded by completeness, what was found, and mends before they are done.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use stavel_core::check::{
    Against, Crossed, Finding, Kind, Mend, MendList, Report, WEEK_HOURS, check_series, cross_check,
    learn_week, preview_mends,
};
use stavel_core::job::Job;
use stavel_core::model::price::scaled;
use stavel_core::model::time::{DAY, HOUR, MINUTE, date, wall};
use stavel_core::model::{Columns, SeriesName, Span, time};
use stavel_core::store::{SeriesInfo, Shelf};
use stavel_work::{CheckStep, ComposeStep, Step};

use super::check_mends::{self, Preview};
use super::{Fact, check_against, check_calendar, check_week, rests_on, scroll, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::{Canvas, thousands};
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};
use crate::theme;

/// What is shown below the calendar.
#[derive(Default, Clone, Copy, PartialEq, Eq)]
enum Below {
    #[default]
    Findings,
    Week,
    Against,
}

#[derive(Default)]
pub struct State {
    pub report: Slot<Report>,
    at: usize,
    /// Mends chosen and not yet done, with what they would do.
    mends: Vec<Mend>,
    preview: Slot<Preview>,
    /// The rows around the chosen finding.
    place: Slot<(Columns, Span)>,
    pub crossed: Slot<Crossed>,
    below: Below,
    /// The hour of the week, and the place among the worst days, that are looked at.
    pub hour: usize,
    pub worst: usize,
}

impl State {
    /// Shows a part below the calendar, or the findings again.
    fn show(&mut self, part: Below) {
        self.below = if self.below == part { Below::Findings } else { part };
    }

    /// Lets the mends go that were chosen.
    pub fn forget_mends(&mut self) {
        self.mends.clear();
    }

    /// What was found in a series, if that is what was checked last.
    pub fn found_in(&self, app: &App, series: &SeriesName) -> Option<&Report> {
        let edition = app.snapshot.find(series)?.edition.id;
        self.report.get().filter(|_| self.report.is_for(&edition.to_string())).map(|r| r.as_ref())
    }
}

pub fn want(app: &mut App) {
    let Some(info) = app.selected.as_ref().and_then(|s| app.snapshot.find(s)).cloned() else { return };
    let (name, edition) = (info.name.clone(), info.edition.id.to_string());
    let series = name.clone();
    app.check.report.want(
        edition.clone(),
        &app.threads,
        |app| Some(&mut app.check.report),
        move |shelf, job| check_series(shelf, &series, Span::ALL, job).map(|(_, report)| report),
    );
    if app.check.report.is_for(&edition) {
        want_preview(app, &name, &edition);
        want_place(app, info.clone());
    } else {
        app.check.mends.clear();
    }
    if app.check.below == Below::Against {
        want_crossed(app, &name, &edition);
    }
}

/// Has the chosen mends tried, around the finding that is chosen.
fn want_preview(app: &mut App, name: &SeriesName, edition: &str) {
    let Some(report) = app.check.report.get().cloned().filter(|_| !app.check.mends.is_empty()) else {
        return;
    };
    let window = around(seen(app, &report).get(app.check.at).map_or(app.window, |f| f.span));
    let (name, mends) = (name.clone(), app.check.mends.clone());
    let key = format!("{edition} {window:?} {mends:?}");
    app.check.preview.want(
        key,
        &app.threads,
        |app| Some(&mut app.check.preview),
        move |shelf, job| {
            let (before, after, counts) = preview_mends(shelf, &name, &report, &mends, window, job)?;
            Ok(Preview { counts, before, after, window })
        },
    );
}

/// A finding's span with some room on both sides.
fn around(span: Span) -> Span {
    let room = (span.length() / 2).clamp(45 * MINUTE, 7 * DAY);
    Span::new(span.from - room, span.to + room)
}

/// Has the rows read around the finding that is chosen.
fn want_place(app: &mut App, info: SeriesInfo) {
    let Some(report) = app.check.report.get().cloned() else { return };
    let Some(window) = seen(app, &report).get(app.check.at).map(|f| around(f.span)) else { return };
    let key = format!("{} {window:?}", info.edition.id);
    app.check.place.want(
        key,
        &app.threads,
        |app| Some(&mut app.check.place),
        move |shelf, _| Ok((shelf.read(&info.edition, window)?, window)),
    );
}

/// Has the series held against the longest one of another source.
fn want_crossed(app: &mut App, name: &SeriesName, edition: &str) {
    let afloat = app.snapshot.find(name).is_some_and(|s| s.is_afloat());
    let others =
        app.snapshot.roots_of(&name.instrument).filter(|s| s.name != *name && s.is_afloat() == afloat);
    // What was joined out of this series would agree with it too well.
    let fits = |s: &&SeriesInfo| {
        (
            !s.edition.provenance.made.is_joined(),
            s.name.source != name.source,
            s.edition.last - s.edition.first,
        )
    };
    let Some(other) = others.max_by_key(fits) else {
        app.check.below = Below::Findings;
        return app.say("there is no other series to hold it against", Tone::Plain);
    };
    let key = format!("{edition} {}", other.edition.id);
    let (name, against) = (name.clone(), Against::Series(other.name.clone()));
    app.check.crossed.want(
        key,
        &app.threads,
        |app| Some(&mut app.check.crossed),
        move |shelf, job| cross_check(shelf, &name, &against, Span::ALL, job),
    );
}

/// More findings of one kind than this in the window are told by their first alone.
const TOGETHER: usize = 12;

/// The findings in the window: each, or the first of a kind that has very many.
fn seen<'a>(app: &App, report: &'a Report) -> Vec<&'a Finding> {
    let inside: Vec<&Finding> =
        report.findings.iter().filter(|f| f.span.overlap(&app.window).is_some()).collect();
    let of_kind = inside.chunk_by(|a, b| a.kind == b.kind);
    of_kind.flat_map(|run| if run.len() > TOGETHER { &run[..1] } else { run }).copied().collect()
}

/// How many findings of a kind are in the window.
fn count_in_window(app: &App, report: &Report, kind: Kind) -> usize {
    report.findings.iter().filter(|f| f.kind == kind && f.span.overlap(&app.window).is_some()).count()
}

pub fn act(app: &mut App, act: Act) {
    match act {
        Act::WeekHeat => return app.check.show(Below::Week),
        Act::Against => return app.check.show(Below::Against),
        _ => {}
    }
    let Some(report) = app.check.report.get().cloned() else { return };
    let seen = seen(app, &report);
    let chosen = seen.get(app.check.at).copied();
    match act {
        Act::Up | Act::Down if app.check.below == Below::Week => {
            let by = if act == Act::Down { 24 } else { WEEK_HOURS - 24 };
            app.check.hour = (app.check.hour + by) % WEEK_HOURS;
        }
        Act::NudgeBack | Act::NudgeOn if app.check.below == Below::Week => {
            let by = if act == Act::NudgeOn { 1 } else { WEEK_HOURS - 1 };
            app.check.hour = (app.check.hour + by) % WEEK_HOURS;
        }
        Act::NudgeBack | Act::NudgeOn => app.say("w shows the hours of the week", Tone::Plain),
        Act::Up | Act::Down if app.check.below == Below::Against => {
            let days = app.check.crossed.get().map_or(0, |c| c.cross.worst_days.len());
            app.check.worst = step(app.check.worst, days, act == Act::Down);
        }
        Act::Up | Act::Down => app.check.at = step(app.check.at, seen.len(), act == Act::Down),
        Act::Enter if app.check.below == Below::Week => check_week::show_hour(app, &report),
        Act::Enter if app.check.below == Below::Against => check_against::show_worst_day(app),
        Act::Enter => {
            if let Some(f) = chosen {
                app.show_place(f.span.from, (f.span.length() * 2).clamp(HOUR, 60 * DAY));
            }
        }
        Act::Mend => match chosen.map(|f| (f.kind, f.kind.mend_in_words())) {
            Some((kind, Some(_))) => toggle(&mut app.check.mends, Mend::Kind(kind)),
            Some((kind, None)) => app.say(format!("{} has no mend here", kind.word()), Tone::Plain),
            None => app.say("no finding is chosen", Tone::Plain),
        },
        Act::MendAll => {
            let is_due = report.count(Kind::DuplicateTime).0 > 0 || report.filler_closed > 0;
            if !is_due {
                app.say("nothing found here has a mend that is safe without looking", Tone::Plain);
            }
            app.check.mends = is_due.then_some(Mend::Safe).into_iter().collect();
        }
        Act::Accept => match (app.selected.clone(), app.check.mends.is_empty()) {
            (Some(series), false) => {
                let mend = std::mem::take(&mut app.check.mends);
                app.start(Step::Check(CheckStep { mend, ..CheckStep::of(series) }));
            }
            _ => app.say("choose what to mend first: m the finding's kind, M all that is safe", Tone::Plain),
        },
        Act::SaveMends if app.check.mends.is_empty() => {
            app.say("there are no mends to save; m and M choose some", Tone::Plain);
        }
        Act::SaveMends => ask(app, "save the mends as", "mends.toml", |app, path| {
            let list = MendList { mend: app.check.mends.clone() };
            match list.write(Path::new(path)) {
                Ok(()) => app.say(format!("{path} holds {} mends", list.mend.len()), Tone::Good),
                Err(err) => app.complain(&err),
            }
        }),
        Act::LoadMends => {
            ask(app, "take the mends of", "mends.toml", |app, path| match MendList::read(Path::new(path)) {
                Ok(list) => app.check.mends = list.mend,
                Err(err) => app.complain(&err),
            })
        }
        Act::LearnWeek => learn(app),
        Act::Report => ask(app, "write the report to (.html or .pdf)", "check.html", |app, path| {
            if let Some(series) = app.selected.clone() {
                let report = Some(PathBuf::from(path));
                app.start(Step::Check(CheckStep { report, ..CheckStep::of(series) }));
            }
        }),
        _ => {}
    }
}

fn toggle(mends: &mut Vec<Mend>, mend: Mend) {
    match mends.iter().position(|m| *m == mend) {
        Some(at) => {
            mends.remove(at);
        }
        None => mends.push(mend),
    }
}

fn ask(app: &mut App, label: &str, proposal: &str, done: impl FnOnce(&mut App, &str) + Send + 'static) {
    app.overlay = Some(Overlay::Prompt(Prompt::new(label, proposal, done)));
}

/// Reads the session week off the rows and proposes it.
fn learn(app: &mut App) {
    let Some(series) = app.selected.clone() else { return };
    app.say("reading the session week off the rows …", Tone::Plain);
    let name = series.clone();
    let work = move |shelf: &Shelf, job: &Job| learn_week(shelf, &name, job);
    app.threads.read(Arc::new(Job::unwatched()), work, move |app, learned| match learned {
        Err(err) => app.complain(&err),
        Ok(learned) => {
            let sheet = app.snapshot.instrument(&series.instrument).map(|i| i.sheet.session.week.to_string());
            let week = learned.week.to_string();
            if sheet.as_deref() == Some(&week) {
                return app.say(format!("the rows keep to the sheet's session week, {week}"), Tone::Good);
            }
            let label = format!(
                "the rows of {} weeks say this; the sheet has {}; take it?",
                learned.weeks,
                sheet.unwrap_or_default()
            );
            ask(app, &label, &week, move |app, typed| {
                let set = [("hours".to_owned(), typed.to_owned())].into();
                let (name, like) = (series.instrument.clone(), None);
                app.start(Step::Compose(ComposeStep { name, like, set, ..ComposeStep::default() }));
            });
        }
    });
}

pub fn draw(app: &App, mut canvas: Canvas<'_>) {
    let report = match &app.check.report.value {
        Some(Ok(report)) => report,
        Some(Err(err)) => {
            canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            return;
        }
        None => {
            canvas.put(2, 1, "checking …", theme::faint());
            return;
        }
    };
    let width = canvas.width();
    let calendar = check_calendar::draw(app, report, canvas.part(0, 0, width, 12));
    let height = canvas.height().saturating_sub(calendar);
    let mut below = canvas.part(0, calendar, width, height);
    below.rule(0, theme::rule());
    if !app.check.mends.is_empty() {
        let part = below.part(0, 1, width, height.saturating_sub(1));
        return check_mends::draw(&app.check.mends, app.check.preview.get().map(|p| p.as_ref()), part);
    }
    match app.check.below {
        Below::Week => {
            return check_week::draw(
                report,
                app.check.hour,
                below.part(0, 1, width, height.saturating_sub(1)),
            );
        }
        Below::Against => {
            return check_against::draw(
                &app.check.crossed,
                app.check.worst,
                below.part(0, 1, width, height.saturating_sub(1)),
            );
        }
        Below::Findings => {}
    }
    let kinds = draw_kinds(report, &mut below);
    draw_findings(app, report, below.part(kinds, 1, width.saturating_sub(kinds), height.saturating_sub(1)));
}

/// Kinds with their counts at the left; gives the columns used.
fn draw_kinds(report: &Report, canvas: &mut Canvas<'_>) -> u16 {
    let wide = if canvas.width() >= 90 { 36 } else { 0 };
    if wide == 0 {
        return 0;
    }
    canvas.put(1, 1, "kind", theme::faint());
    canvas.put_right(24, 1, "found", theme::faint());
    canvas.put_right(34, 1, "rows", theme::faint());
    for (i, kind) in Kind::ALL.iter().enumerate() {
        let (n, rows) = report.count(*kind);
        let (mark, colour) = theme::severity(kind.severity());
        let style = if n > 0 { theme::words() } else { theme::rule().fg(theme::FAINT) };
        let y = i as u16 + 2;
        canvas.put(1, y, mark, theme::words().fg(if n > 0 { colour } else { theme::RULE }));
        canvas.put(3, y, kind.word(), style);
        canvas.put_right(24, y, &if n > 0 { n.to_string() } else { "–".into() }, style);
        if rows > 0 {
            canvas.put_right(34, y, &thousands(rows), theme::faint());
        }
    }
    wide
}

fn draw_findings(app: &App, report: &Report, mut canvas: Canvas<'_>) {
    let seen = seen(app, report);
    let all: usize = Kind::ALL.iter().map(|k| count_in_window(app, report, *k)).sum();
    let head = match all {
        0 => "nothing found in this window".to_owned(),
        n => format!("{n} findings in this window"),
    };
    canvas.put(1, 0, &head, theme::faint());
    let mut rows = canvas.height().saturating_sub(1) as usize;
    // Where there is room, the place of the chosen finding is shown below the list.
    let list = seen.len().clamp(3, 10);
    if let Some(place) = app.check.place.get().filter(|_| rows >= list + 10) {
        let top = list as u16 + 2;
        let (width, height) = (canvas.width().saturating_sub(2), canvas.height().saturating_sub(top));
        check_mends::draw_place(&place.0, place.1, canvas.part(1, top, width, height));
        rows = list;
    }
    let at = app.check.at.min(seen.len().saturating_sub(1));
    let first = scroll(at, rows, seen.len());
    for (i, f) in seen.iter().enumerate().skip(first).take(rows) {
        let y = (i - first) as u16 + 1;
        let (mark, colour) = theme::severity(f.kind.severity());
        let style = if i == at { theme::chosen() } else { theme::words() };
        canvas.put(1, y, mark, theme::words().fg(colour));
        let n = count_in_window(app, report, f.kind);
        let many = if n > TOGETHER { format!("{n} times, the first: ") } else { String::new() };
        canvas.put(
            3,
            y,
            &format!("{:<16} {:<16} {many}{}", wall(f.span.from), f.kind.word(), f.detail),
            style,
        );
    }
}

pub fn facts(app: &App) -> Vec<Fact> {
    let Some(report) = app.check.report.get() else { return Vec::new() };
    let decimals =
        app.selected.as_ref().and_then(|s| app.snapshot.find(s)).map_or(0, |s| s.edition.scale.price);
    let price = |e: stavel_core::check::Extreme| scaled(e.points, decimals);
    let missing: Vec<String> = report.missing_days().map(date).collect();
    let mut out = vec![Fact::heading(format!("grade {}", report.grade.points))];
    let losses = report.grade.losses.iter().take(4);
    out.extend(losses.map(|l| Fact::words(format!("-{:.1} {}", l.points, l.why))));
    out.extend([
        Fact::Gap,
        Fact::heading("completeness"),
        Fact::Pair("rows", thousands(report.rows)),
        Fact::Pair("covered", format!("{:.2} %", report.coverage * 100.0)),
        Fact::Pair("days", report.days.len().to_string()),
        Fact::Pair("empty days", if missing.is_empty() { "none".into() } else { missing.len().to_string() }),
        Fact::Pair("gaps", report.gaps.len().to_string()),
        Fact::Pair("filler", format!("{} closed", thousands(report.filler_closed))),
        Fact::Pair("quiet", format!("{} open, kept", thousands(report.filler_open))),
    ]);
    let instrument = app.selected.as_ref().and_then(|s| app.snapshot.instrument(&s.instrument));
    out.extend(instrument.map_or(Vec::new(), |i| rests_on(i, &["hours"])));
    out.extend([
        Fact::Gap,
        Fact::heading("largest"),
        Fact::Pair("high-low", price(report.max_range)),
        Fact::words(format!("  {}", wall(report.max_range.at))),
        Fact::Pair("jump", price(report.max_gap)),
        Fact::words(format!("  {}", wall(report.max_gap.at))),
    ]);
    if let Some(gap) = report.largest_gap() {
        out.push(Fact::Pair("hole", time::length_in_words(gap.open)));
        out.push(Fact::words(format!("  {}", wall(gap.span.from))));
    }
    out.push(Fact::Pair("a minute", format!("{:.1} rows", report.rows_a_minute())));
    if let Some(s) = report.spread {
        out.push(Fact::Gap);
        out.push(Fact::heading("spread in points"));
        for (label, value) in [("median", s.median), ("p90", s.p90), ("p99", s.p99), ("max", s.max)] {
            out.push(Fact::Pair(label, value.to_string()));
        }
    }
    if let Some(f) = seen(app, report).get(app.check.at) {
        out.push(Fact::Gap);
        out.push(Fact::heading(f.kind.word()));
        out.push(Fact::words(format!("{} … {}", wall(f.span.from), wall(f.span.to))));
        out.push(Fact::words(time::length_in_words(f.span.length())));
        out.push(Fact::words(f.detail.clone()));
        out.push(Fact::words(match f.kind.mend_in_words() {
            Some(words) => format!("m: {words}"),
            None => "Enter: see it on the chart".into(),
        }));
    }
    out
}
