//! Check: a calendar of days shaded by completeness, what was found, and mends before they are done.

use std::path::{Path, PathBuf};

use stavel_core::check::{
    Against, CheckReport, Crossed, Finding, FindingKind, Learned, Mend, MendList, WEEK_HOURS, check_series,
    cross_check, learn_week, preview_mends,
};
use stavel_core::model::price::scaled;
use stavel_core::model::time::{DAY, HOUR, MINUTE, date, wall};
use stavel_core::model::{Columns, SeriesName, Span, time};
use stavel_core::store::SeriesInfo;
use stavel_work::{
    ChartStep, ChartView, CheckStep, ComposeStep, SheetValues, Step, finding_in_words, kind_mend_in_words,
    loss_in_words,
};

use super::check_mends::{self, MendPreview};
use super::{FactLine, Lens, check_against, check_calendar, check_week, picture_of, rests_on, step};
use crate::act::TableRow;
use crate::canvas::{Canvas, scroll, thousands};
use crate::effect::{ChartPlace, Effect, Effects, SecondSeries, ask, say, start, tell_done};
use crate::jobs::{Errand, Slot};
use crate::theme;
use crate::view::{FoundReport, View};

/// What can be done with a check.
#[derive(Debug, Clone, Copy)]
pub enum CheckAct {
    SeePlace,
    MendKind,
    MendSafe,
    DoMends,
    Week,
    HourBack,
    HourOn,
    Against,
    Learn,
    WriteReport,
    SaveMends,
    LoadMends,
}

/// What is shown below the calendar.
#[derive(Default, Clone, Copy, PartialEq, Eq)]
enum LowerPane {
    #[default]
    Findings,
    Week,
    Against,
}

/// The lens.
#[derive(Default)]
pub struct CheckLens {
    report: Slot<CheckReport>,
    at: usize,
    /// Mends chosen and not yet done, with what they would do.
    mends: Vec<Mend>,
    preview: Slot<MendPreview>,
    /// The rows around the chosen finding.
    place: Slot<(Columns, Span)>,
    crossed: Slot<Crossed>,
    below: LowerPane,
    /// The hour of the week that is looked at.
    hour: usize,
    /// The place among the worst days that is looked at.
    worst: usize,
    learned: Errand<Learned>,
    learning: Option<SeriesName>,
    asked: Option<CheckQuestion>,
}

/// A question whose answer is awaited; it is kept, since an answer that comes to nothing is asked for again.
#[derive(Clone)]
enum CheckQuestion {
    SaveMends,
    LoadMends,
    Report,
    /// The session week of an instrument.
    Week(String),
}

impl Lens for CheckLens {
    type Act = CheckAct;
    const WORD: &'static str = "check";
    const ABOUT: &'static str = "check: find what is wrong, mend it";
    const ROWS: &'static [TableRow<CheckAct>] = &[
        TableRow::new(CheckAct::DoMends, "a", "do mends", "do the chosen mends: a new edition")
            .command("stavel check SERIES --mend KIND,..."),
        TableRow::new(CheckAct::SeePlace, "Enter", "see place", "go to the chosen finding on the chart"),
        TableRow::new(
            CheckAct::MendKind,
            "m",
            "mend kind",
            "choose the mend for this kind of finding, or take it away; what it would do is shown",
        )
        .command("stavel check SERIES --mend KIND,..."),
        TableRow::new(CheckAct::MendSafe, "M", "mend safe", "choose every mend that is safe without looking")
            .command("stavel check SERIES --mend KIND,..."),
        TableRow::new(CheckAct::Week, "v", "week", "movement and spread by hour of the week"),
        TableRow::new(CheckAct::HourBack, ",", "", "the hour of the week before"),
        TableRow::new(CheckAct::HourOn, ".", "hour", "the next hour of the week"),
        TableRow::new(CheckAct::Against, "o", "against", "hold it against another source, month by month")
            .command("stavel check SERIES --against SERIES"),
        TableRow::new(CheckAct::Learn, "l", "learn", "read the session week off the rows")
            .command("stavel check SERIES --learn"),
        TableRow::new(CheckAct::WriteReport, "w", "report", "write a page to keep with the data")
            .command("stavel check SERIES --report FILE"),
        TableRow::new(CheckAct::SaveMends, "W", "", "save the chosen mends as a list")
            .command("stavel check SERIES --mend KIND,... --save-mends FILE"),
        TableRow::new(CheckAct::LoadMends, "L", "mend list", "take the mends of a saved list")
            .command("stavel check SERIES --mends FILE"),
    ];

    fn act(&mut self, act: CheckAct, view: &View<'_>) -> Effects {
        match act {
            CheckAct::Week => self.show(LowerPane::Week),
            CheckAct::Against => self.show(LowerPane::Against),
            CheckAct::HourBack => self.move_hour(WEEK_HOURS - 1),
            CheckAct::HourOn => self.move_hour(1),
            CheckAct::SeePlace => self.see_place(view),
            CheckAct::MendKind => self.mend_kind(view),
            CheckAct::MendSafe => self.mend_safe(),
            CheckAct::DoMends => match (view.selected.cloned(), self.mends.is_empty()) {
                (Some(series), false) => {
                    let mend = std::mem::take(&mut self.mends);
                    start(Step::Check(CheckStep { mend, ..CheckStep::of(series) }))
                }
                _ => say("choose what to mend first: m the finding's kind, M all that is safe"),
            },
            CheckAct::SaveMends if self.mends.is_empty() => {
                say("there are no mends to save; m and M choose some")
            }
            CheckAct::SaveMends => self.ask(CheckQuestion::SaveMends, "save the mends as", "mends.toml"),
            CheckAct::LoadMends => self.ask(CheckQuestion::LoadMends, "take the mends of", "mends.toml"),
            CheckAct::WriteReport => {
                self.ask(CheckQuestion::Report, "write the report to (.html or .pdf)", "check.html")
            }
            CheckAct::Learn => self.learn(view),
        }
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        match self.below {
            LowerPane::Week => return self.move_hour(if down { 24 } else { WEEK_HOURS - 24 }),
            LowerPane::Against => {
                let days = self.crossed.get().map_or(0, |c| c.cross.worst_days.len());
                self.worst = step(self.worst, days, down);
            }
            LowerPane::Findings => {
                let count = self.report.get().map_or(0, |r| seen(view.window, r).len());
                self.at = step(self.at, count, down);
            }
        }
        Effects::new()
    }

    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects {
        let path = Path::new(text);
        match self.asked.clone() {
            Some(CheckQuestion::SaveMends) => {
                let list = MendList { mend: self.mends.clone() };
                match list.write(path) {
                    Ok(()) => tell_done(format!("{text} holds {} mends", list.mend.len())),
                    Err(err) => vec![Effect::Complain(err)],
                }
            }
            Some(CheckQuestion::LoadMends) => match MendList::read(path) {
                Ok(list) => {
                    self.mends = list.mend;
                    Effects::new()
                }
                Err(err) => vec![Effect::Complain(err)],
            },
            Some(CheckQuestion::Report) => {
                let report = Some(PathBuf::from(text));
                let step = |series: SeriesName| CheckStep { report, ..CheckStep::of(series) };
                view.selected.cloned().map_or_else(Effects::new, |s| start(Step::Check(step(s))))
            }
            Some(CheckQuestion::Week(name)) => {
                let set = SheetValues::one("hours", text);
                start(Step::Compose(Box::new(ComposeStep { name, set, ..ComposeStep::default() })))
            }
            None => Effects::new(),
        }
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        let Some(info) = view.series() else { return Effects::new() };
        let (name, edition) = (info.name.clone(), info.edition.id.to_string());
        self.report.want(edition.clone(), view.threads, move |shelf, job| {
            check_series(shelf, &name, Span::ALL, job).map(|(_, report)| report)
        });
        if self.report.is_for(&edition) {
            self.want_preview(info, view);
            self.want_place(info, view);
        } else {
            self.mends.clear();
        }
        if self.below == LowerPane::Against { self.want_crossed(info, view) } else { Effects::new() }
    }

    fn collect(&mut self, view: &View<'_>) -> Effects {
        let mut out = Effects::new();
        if self.report.collect()
            && let (Some(report), Some(info)) = (self.report.get(), view.series())
            && self.report.is_for(&info.edition.id.to_string())
        {
            out.push(Effect::Found(FoundReport { edition: info.edition.id, report: report.clone() }));
        }
        self.preview.collect();
        self.place.collect();
        self.crossed.collect();
        if let Some(learned) = self.learned.collect() {
            out.extend(self.propose_week(learned, view));
        }
        out
    }

    fn step_done(&mut self, _step: &Step, _report: &stavel_work::StepReport) {
        self.report.forget();
    }

    /// The mends that were chosen first, then what is shown below the calendar.
    fn let_go(&mut self) -> bool {
        if !self.mends.is_empty() {
            self.mends.clear();
            return true;
        }
        std::mem::take(&mut self.below) != LowerPane::Findings
    }

    fn due(&self, view: &View<'_>) -> Option<(String, CheckAct)> {
        let info = view.series().filter(|info| self.report.is_for(&info.edition.id.to_string()))?;
        if !self.mends.is_empty() {
            return Some(("do the mends chosen".into(), CheckAct::DoMends));
        }
        let known = view.checked.get(&info.edition.id)?;
        (known.has_safe_mends && !info.is_afloat())
            .then(|| ("choose what is safe to mend".into(), CheckAct::MendSafe))
    }

    fn reads(&self, view: &View<'_>) -> Option<String> {
        let info = view.series()?;
        (!self.report.is_for(&info.edition.id.to_string()))
            .then(|| format!("checking {} …", info.name.short()))
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        picture_of(
            view,
            if matches!(self.below, LowerPane::Week) { ChartView::Costs } else { ChartView::Days },
        )
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        match &self.report.value {
            Some(Ok(report)) => self.draw_report(report, view, canvas),
            Some(Err(err)) => {
                canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            }
            None => {
                canvas.put(2, 1, "checking …", theme::faint());
            }
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        let Some(report) = self.report.get() else { return Vec::new() };
        let mut out = facts_of(report, view);
        if let Some(finding) = seen(view.window, report).get(self.at) {
            out.extend(facts_of_finding(finding));
        }
        out
    }
}

/// What is said before there is a report.
const NOT_CHECKED: &str = "nothing is checked yet";

/// More findings of one kind than this in the window are told by their first alone.
const TOGETHER: usize = 12;

/// The findings in the window: each, or the first of a kind that has very many.
fn seen(window: Span, report: &CheckReport) -> Vec<&Finding> {
    let inside: Vec<&Finding> =
        report.findings.iter().filter(|f| f.span.overlap(&window).is_some()).collect();
    let of_kind = inside.chunk_by(|a, b| a.kind == b.kind);
    of_kind.flat_map(|run| if run.len() > TOGETHER { &run[..1] } else { run }).copied().collect()
}

/// How many findings of a kind are in the window.
fn count_in_window(window: Span, report: &CheckReport, kind: FindingKind) -> usize {
    report.findings.iter().filter(|f| f.kind == kind && f.span.overlap(&window).is_some()).count()
}

/// A finding's span with some room on both sides.
fn around(span: Span) -> Span {
    let room = (span.length() / 2).clamp(45 * MINUTE, 7 * DAY);
    Span::new(span.from - room, span.to + room)
}

impl CheckLens {
    /// Shows a part below the calendar, or the findings again.
    fn show(&mut self, part: LowerPane) -> Effects {
        self.below = if self.below == part { LowerPane::Findings } else { part };
        Effects::new()
    }

    fn ask(&mut self, asked: CheckQuestion, label: &str, proposal: &str) -> Effects {
        self.asked = Some(asked);
        ask(label, proposal)
    }

    fn move_hour(&mut self, by: usize) -> Effects {
        if self.below != LowerPane::Week {
            return say("v shows the hours of the week");
        }
        self.hour = (self.hour + by) % WEEK_HOURS;
        Effects::new()
    }

    /// The place looked at, on the chart: of a finding, an hour of the week or one of the worst days.
    fn see_place(&self, view: &View<'_>) -> Effects {
        let Some(report) = self.report.get() else { return say(NOT_CHECKED) };
        let plain = |at: i64, around: i64| ChartPlace { series: None, at, around, beside: None };
        let place = match self.below {
            LowerPane::Week => {
                check_week::last_time_of(self.hour, report, view).map(|at| plain(at, 2 * HOUR))
            }
            LowerPane::Against => self.crossed.get().and_then(|crossed| {
                let (day, _) = crossed.cross.worst_days.get(self.worst)?;
                let beside = Some(SecondSeries { series: crossed.other.name.clone(), by: None });
                Some(ChartPlace { beside, ..plain(day * DAY + DAY / 2, DAY / 2) })
            }),
            LowerPane::Findings => seen(view.window, report)
                .get(self.at)
                .map(|f| plain(f.span.from, (f.span.length() * 2).clamp(HOUR, 60 * DAY))),
        };
        place.map_or_else(|| say("no place is chosen here"), |place| vec![Effect::Show(place)])
    }

    fn mend_kind(&mut self, view: &View<'_>) -> Effects {
        let Some(report) = self.report.get() else { return say(NOT_CHECKED) };
        let chosen = seen(view.window, report).get(self.at).map(|f| f.kind);
        match chosen.map(|kind| (kind, kind_mend_in_words(kind))) {
            Some((kind, Some(_))) => {
                toggle(&mut self.mends, Mend::Kind(kind));
                Effects::new()
            }
            Some((kind, None)) => say(format!("{} has no mend here", kind.word())),
            None => say("no finding is chosen"),
        }
    }

    fn mend_safe(&mut self) -> Effects {
        let Some(report) = self.report.get() else { return say(NOT_CHECKED) };
        let is_due = report.has_safe_mends();
        self.mends = is_due.then_some(Mend::Safe).into_iter().collect();
        match is_due {
            true => Effects::new(),
            false => say("nothing found here has a mend that is safe without looking"),
        }
    }

    /// Reads the session week off the rows.
    fn learn(&mut self, view: &View<'_>) -> Effects {
        let Some(series) = view.selected.cloned() else { return say(NOT_CHECKED) };
        self.learning = Some(series.clone());
        self.learned.send(view.threads, move |shelf, job| learn_week(shelf, &series, job));
        say("reading the session week off the rows …")
    }

    /// Proposes the session week that the rows say.
    fn propose_week(&mut self, learned: stavel_core::Result<Learned>, view: &View<'_>) -> Effects {
        let learned = match learned {
            Ok(learned) => learned,
            Err(err) => return vec![Effect::Complain(err)],
        };
        let Some(series) = self.learning.take() else { return Effects::new() };
        let sheet = view.snapshot.instrument(&series.instrument).map(|i| i.sheet.session.week.to_string());
        let week = learned.week.to_string();
        if sheet.as_deref() == Some(&week) {
            return tell_done(format!("the rows keep to the sheet's session week, {week}"));
        }
        let label = format!(
            "the rows of {} weeks say this; the sheet has {}; take it?",
            learned.weeks,
            sheet.unwrap_or_default()
        );
        self.asked = Some(CheckQuestion::Week(series.instrument));
        ask(label, week)
    }

    /// Has the chosen mends tried, around the finding that is chosen.
    fn want_preview(&mut self, info: &SeriesInfo, view: &View<'_>) {
        let Some(report) = self.report.get().cloned().filter(|_| !self.mends.is_empty()) else { return };
        let window = around(seen(view.window, &report).get(self.at).map_or(view.window, |f| f.span));
        let (name, mends) = (info.name.clone(), self.mends.clone());
        let key = format!("{} {window:?} {mends:?}", info.edition.id);
        self.preview.want(key, view.threads, move |shelf, job| {
            let (before, after, counts) = preview_mends(shelf, &name, &report, &mends, window, job)?;
            Ok(MendPreview { counts, before, after, window })
        });
    }

    /// Has the rows around the chosen finding read.
    fn want_place(&mut self, info: &SeriesInfo, view: &View<'_>) {
        let Some(report) = self.report.get() else { return };
        let Some(window) = seen(view.window, report).get(self.at).map(|f| around(f.span)) else { return };
        let key = format!("{} {window:?}", info.edition.id);
        let edition = info.edition.clone();
        self.place.want(key, view.threads, move |shelf, _| Ok((shelf.read(&edition, window)?, window)));
    }

    /// Has the series held against the longest one of another source.
    fn want_crossed(&mut self, info: &SeriesInfo, view: &View<'_>) -> Effects {
        let name = info.name.clone();
        let others = view
            .snapshot
            .roots_of(&name.instrument)
            .filter(|s| s.name != name && s.is_afloat() == info.is_afloat());
        // What was joined out of this series would agree with it too well.
        let fits = |s: &&SeriesInfo| {
            (
                !s.edition.provenance.made.is_joined(),
                s.name.source != name.source,
                s.edition.last - s.edition.first,
            )
        };
        let Some(other) = others.max_by_key(fits) else {
            self.below = LowerPane::Findings;
            return say("there is no other series to hold it against");
        };
        let key = format!("{} {}", info.edition.id, other.edition.id);
        let against = Against::Series(other.name.clone());
        self.crossed
            .want(key, view.threads, move |shelf, job| cross_check(shelf, &name, &against, Span::ALL, job));
        Effects::new()
    }

    fn draw_report(&self, report: &CheckReport, view: &View<'_>, mut canvas: Canvas<'_>) {
        let width = canvas.width();
        // On a low screen the list of findings needs the room.
        let most = if canvas.height() >= 28 { 12 } else { 9 };
        let calendar = check_calendar::draw(view.window, report, canvas.part(0, 0, width, most));
        let height = canvas.height().saturating_sub(calendar);
        let mut below = canvas.part(0, calendar, width, height);
        below.rule(0, theme::rule());
        let height = height.saturating_sub(1);
        if !self.mends.is_empty() {
            let preview = self.preview.get().map(AsRef::as_ref);
            return check_mends::draw(&self.mends, preview, below.part(0, 1, width, height));
        }
        match self.below {
            LowerPane::Week => check_week::draw(report, self.hour, below.part(0, 1, width, height)),
            LowerPane::Against => {
                let mine = view.selected.map_or("", |s| s.source.as_str());
                check_against::draw(&self.crossed, mine, self.worst, below.part(0, 1, width, height));
            }
            LowerPane::Findings => {
                let kinds = draw_kinds(report, &mut below);
                let part = below.part(kinds, 1, width.saturating_sub(kinds), height);
                self.draw_findings(report, view.window, part);
            }
        }
    }

    fn draw_findings(&self, report: &CheckReport, window: Span, mut canvas: Canvas<'_>) {
        let seen = seen(window, report);
        let all: usize = FindingKind::ALL.iter().map(|k| count_in_window(window, report, *k)).sum();
        let head = match all {
            0 => "nothing found in this window".to_owned(),
            n => format!("{n} findings in this window"),
        };
        canvas.put(1, 0, &head, theme::faint());
        let mut rows = canvas.height().saturating_sub(1) as usize;
        // Where there is room, the place of the chosen finding is shown below the list.
        let list = seen.len().clamp(3, 10);
        if let Some(place) = self.place.get().filter(|_| rows >= list + 10) {
            let top = list as u16 + 2;
            let (width, height) = (canvas.width().saturating_sub(2), canvas.height().saturating_sub(top));
            check_mends::draw_place(&place.0, place.1, canvas.part(1, top, width, height));
            rows = list;
        }
        let at = self.at.min(seen.len().saturating_sub(1));
        let first = scroll(at, rows, seen.len());
        for (i, f) in seen.iter().enumerate().skip(first).take(rows) {
            let y = (i - first) as u16 + 1;
            let (mark, colour) = theme::severity(f.kind.severity());
            let style = if i == at { theme::chosen() } else { theme::words() };
            canvas.put(1, y, mark, theme::words().fg(colour));
            let n = count_in_window(window, report, f.kind);
            let many = if n > TOGETHER { format!("{n} times, the first: ") } else { String::new() };
            canvas.put(
                3,
                y,
                &format!("{:<16} {:<16} {many}{}", wall(f.span.from), f.kind.word(), finding_in_words(f)),
                style,
            );
        }
    }
}

fn toggle(mends: &mut Vec<Mend>, mend: Mend) {
    match mends.iter().position(|m| *m == mend) {
        Some(at) => drop(mends.remove(at)),
        None => mends.push(mend),
    }
}

/// Kinds with their counts at the left; gives the columns used.
fn draw_kinds(report: &CheckReport, canvas: &mut Canvas<'_>) -> u16 {
    let wide = if canvas.width() >= 90 { 36 } else { 0 };
    if wide == 0 {
        return 0;
    }
    canvas.put(1, 1, "kind", theme::faint());
    canvas.put_right(24, 1, "found", theme::faint());
    canvas.put_right(34, 1, "rows", theme::faint());
    for (i, kind) in FindingKind::ALL.iter().enumerate() {
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

fn facts_of(report: &CheckReport, view: &View<'_>) -> Vec<FactLine> {
    let decimals = view.series().map_or(0, |s| s.edition.scale.price);
    let price = |e: stavel_core::check::Extreme| scaled(e.points, decimals);
    let missing: Vec<String> = report.missing_days().map(date).collect();
    let mut out = vec![FactLine::heading(format!("grade {}", report.grade.points))];
    let losses = report.grade.losses.iter().take(4);
    out.extend(losses.map(|l| FactLine::words(loss_in_words(l))));
    out.extend([
        FactLine::Gap,
        FactLine::heading("completeness"),
        FactLine::Pair("rows", thousands(report.rows)),
        FactLine::Pair(
            "covered",
            report.coverage.map_or("not known: afloat".to_owned(), |c| format!("{:.2} %", c * 100.0)),
        ),
        FactLine::Pair("days", report.days.len().to_string()),
    ]);
    // While it is not known when the market is open, nothing can be missing or lie in closed hours.
    if report.coverage.is_some() {
        let empty = if missing.is_empty() { "none".into() } else { missing.len().to_string() };
        out.extend([
            FactLine::Pair("empty days", empty),
            FactLine::Pair("gaps", report.gaps.len().to_string()),
            FactLine::Pair("filler", format!("{} closed", thousands(report.filler_closed))),
            FactLine::Pair("quiet", format!("{} open, kept", thousands(report.filler_open))),
        ]);
    }
    out.extend(view.instrument().map_or(Vec::new(), |i| rests_on(i, &["hours"])));
    out.extend([
        FactLine::Gap,
        FactLine::heading("largest"),
        FactLine::Pair("high-low", price(report.max_range)),
        FactLine::words(format!("  {}", wall(report.max_range.at))),
        FactLine::Pair("jump", price(report.max_gap)),
        FactLine::words(format!("  {}", wall(report.max_gap.at))),
    ]);
    if let Some(gap) = report.largest_gap() {
        out.push(FactLine::Pair("hole", time::length_in_words(gap.open)));
        out.push(FactLine::words(format!("  {}", wall(gap.span.from))));
    }
    out.push(FactLine::Pair("a minute", format!("{:.1} rows", report.rows_a_minute())));
    if let Some(r) = report.session_range {
        out.push(FactLine::Gap);
        out.push(FactLine::heading("range of a session day"));
        for (label, value) in [("median", r.median), ("p90", r.p90), ("max", r.max)] {
            out.push(FactLine::Pair(label, scaled(value, decimals)));
        }
    }
    if let Some(s) = report.spread {
        out.push(FactLine::Gap);
        out.push(FactLine::heading("spread in points"));
        for (label, value) in [("median", s.median), ("p90", s.p90), ("p99", s.p99), ("max", s.max)] {
            out.push(FactLine::Pair(label, value.to_string()));
        }
    }
    out
}

fn facts_of_finding(f: &Finding) -> Vec<FactLine> {
    vec![
        FactLine::Gap,
        FactLine::heading(f.kind.word()),
        FactLine::words(format!("{} … {}", wall(f.span.from), wall(f.span.to))),
        FactLine::words(time::length_in_words(f.span.length())),
        FactLine::words(finding_in_words(f)),
        FactLine::words(match kind_mend_in_words(f.kind) {
            Some(words) => format!("m: {words}"),
            None => "Enter: see it on the chart".into(),
        }),
    ]
}
