//! Align: the heat of weeks by offset, the clock fitted or chosen, and the evidence.

use stavel_core::align::{AlignWishes, ClockStudy, Fit, clock_in_words, fit_to, study};
use stavel_core::model::Stamp;
use stavel_core::model::time::{DAY, HOUR, MINUTE, Micros, date, day_of};
use stavel_core::model::{Clock, Frame, SeriesName};
use stavel_core::store::SeriesInfo;
use stavel_work::{
    AlignStep, ChartStep, ChartView, Step, doubt_in_words, likeness_near, offsets_shown, stretches_in_words,
};

use super::align_alone::{ClockSaid, alone, take};
use super::{FactLine, Lens, align_evidence, step};
use crate::act::TableRow;
use crate::canvas::Canvas;
use crate::choice::{Choice, ChoiceAnswer};
use crate::effect::{ChartPlace, Effect, Effects, SecondSeries, ask, say, start, warn};
use crate::jobs::Slot;
use crate::theme;
use crate::view::View;

/// What can be done to find a clock.
#[derive(Debug, Clone, Copy)]
pub enum AlignAct {
    Anchor,
    SeeBar,
    Evidence,
    OwnClock,
    BarBack,
    BarOn,
    HourBack,
    HourOn,
    Decide,
}

/// The lens.
#[derive(Default)]
pub struct AlignLens {
    study: Slot<ClockStudy>,
    /// For a series that nothing can be compared with.
    said: ClockSaid,
    /// The long bar that is looked at.
    at: usize,
    /// The clock a person chose, with what the weeks say of it at once.
    chosen: Option<Fit>,
    /// True once a person was told what speaks against the clock found.
    warned: bool,
    /// True where sessions and days are shown instead of the longest bars.
    sessions: bool,
}

impl Lens for AlignLens {
    type Act = AlignAct;
    const WORD: &'static str = "align";
    const ABOUT: &'static str = "align: find the clock";
    const ROWS: &'static [TableRow<AlignAct>] = &[
        TableRow::new(
            AlignAct::Anchor,
            "a",
            "accept, anchor",
            "store the series in UTC with the clock found",
        )
        .command("stavel align SERIES --to SERIES --anchor"),
        TableRow::new(AlignAct::SeeBar, "Enter", "see bar", "see the chosen long bar on the chart"),
        TableRow::new(AlignAct::Evidence, "v", "evidence", "the longest bars, or sessions and daily bars"),
        TableRow::new(
            AlignAct::OwnClock,
            "e",
            "own clock",
            "take a clock of your own and see what the weeks say of it",
        )
        .command("stavel align SERIES --to SERIES --clock CLOCK --anchor"),
        TableRow::new(AlignAct::BarBack, ",", "", "set the clock a bar back"),
        TableRow::new(AlignAct::BarOn, ".", "", "set the clock a bar on"),
        TableRow::new(AlignAct::HourBack, "<", "", "set the clock an hour back"),
        TableRow::new(AlignAct::HourOn, ">", "nudge", "set the clock an hour on"),
        TableRow::new(
            AlignAct::Decide,
            "d",
            "",
            "choose among the clocks that fit, with the evidence for each",
        )
        .rare(),
    ];

    fn act(&mut self, act: AlignAct, view: &View<'_>) -> Effects {
        if let Some(info) = alone(view) {
            return match act {
                AlignAct::Decide => self.said.decide(&info.name),
                AlignAct::Anchor => self.said.accept(&info.name),
                AlignAct::OwnClock => self.said.ask(&info.name),
                _ => say("there is no series to compare it with; e says its clock"),
            };
        }
        let Some(found) = self.study.get().cloned() else { return say("nothing is compared yet") };
        let bar = found.subject.name.frame.length().max(MINUTE);
        match act {
            AlignAct::Anchor => self.accept(&found),
            AlignAct::Decide => decide(&found),
            AlignAct::SeeBar => self.see_bar(&found),
            AlignAct::Evidence => {
                self.sessions = !self.sessions;
                Effects::new()
            }
            AlignAct::BarBack => self.nudge(&found, -bar),
            AlignAct::BarOn => self.nudge(&found, bar),
            AlignAct::HourBack => self.nudge(&found, -HOUR),
            AlignAct::HourOn => self.nudge(&found, HOUR),
            AlignAct::OwnClock => ask("clock (empty: the one found)", self.fit(&found).clock.to_string()),
        }
    }

    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        if alone(view).is_some() {
            self.said.choose(down);
            return Effects::new();
        }
        let count = self.study.get().map_or(0, |found| found.evidence.len());
        self.at = step(self.at, count, down);
        Effects::new()
    }

    /// A clock that was typed.
    fn answer(&mut self, typed: &str, view: &View<'_>) -> Effects {
        if let Some(info) = alone(view) {
            return typed
                .parse()
                .map_or_else(|err| vec![Effect::Complain(err)], |clock| take(&info.name, clock));
        }
        let Some(found) = self.study.get().cloned() else { return Effects::new() };
        if typed.is_empty() {
            self.chosen = None;
            return say("back to the clock found");
        }
        match typed.parse::<Clock>() {
            Ok(clock) => self.rate(&found, &clock, Stamp::Open),
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// A clock of one's own.
    fn let_go(&mut self) -> bool {
        self.chosen.take().is_some() || std::mem::take(&mut self.sessions)
    }

    fn due(&self, view: &View<'_>) -> Option<(String, AlignAct)> {
        if let Some(info) = alone(view) {
            let words = format!("set the clock of {}", info.name.short());
            return self.said.is_read().then_some((words, AlignAct::Decide));
        }
        let found = self.shown(view)?;
        if !found.subject.is_afloat() {
            return None;
        }
        let short = found.subject.name.short();
        let is_clear = found.is_sure() && found.doubts().is_empty();
        Some(match (&self.chosen, is_clear) {
            (Some(fit), _) => (format!("store {short} by {}", fit.clock), AlignAct::Anchor),
            (None, true) => (format!("accept the clock found for {short}"), AlignAct::Anchor),
            (None, false) => (format!("decide the clock of {short}"), AlignAct::Decide),
        })
    }

    fn reads(&self, view: &View<'_>) -> Option<String> {
        let (subject, _) = pair(view)?;
        let is_waiting = alone(view).is_none() && subject.is_afloat() && self.study.is_reading();
        let waits_alone = alone(view).is_some() && !self.said.is_read();
        (is_waiting || waits_alone).then(|| format!("looking for the clock of {} …", subject.name.short()))
    }

    fn instrument_changed(&mut self) {
        *self = AlignLens::default();
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.said.collect();
        self.study.collect();
        Effects::new()
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        if let Some(info) = alone(view) {
            self.said.want(info, view);
        }
        let Some((subject, reference)) = pair(view) else { return Effects::new() };
        let (a, b): (SeriesName, SeriesName) = (subject.name.clone(), reference.name.clone());
        let ids = format!("{} {}", subject.edition.id, reference.edition.id);
        // A clock chosen for one pair says nothing of another.
        if self.study.get().is_some_and(|s| s.subject.name != a || s.reference.name != b) {
            (self.chosen, self.warned) = (None, false);
        }
        let ask =
            self.chosen.as_ref().map(|f| AlignWishes { clock: Some(f.clock.clone()), stamp: Some(f.stamp) });
        let ask = ask.unwrap_or_default();
        let key = format!("{ids} {ask:?}");
        self.study.want(key, view.threads, move |shelf, job| study(shelf, &a, &b, &ask, job));
        Effects::new()
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        let (subject, reference) = pair(view)?;
        let step = ChartStep::of(subject.name.clone(), Default::default());
        Some(ChartStep { view: ChartView::Align, with: Some(reference.name.clone()), ..step })
    }

    fn draw(&self, view: &View<'_>, mut canvas: Canvas<'_>) {
        if let Some(info) = alone(view) {
            return self.said.draw(&info.name, canvas);
        }
        match (&self.study.value, pair(view)) {
            (_, None) => {
                let text = "Nothing to align: no series of this instrument is afloat.";
                canvas.put(2, 1, text, theme::words());
                let text = "A file without a zone comes in afloat; its clock is found here.";
                canvas.put(2, 2, text, theme::faint());
            }
            (Some(Ok(found)), _) => self.draw_study(found, canvas),
            (Some(Err(err)), _) => {
                canvas.paragraph(1, &err.to_string(), theme::words().fg(theme::WRONG));
            }
            (None, Some((subject, reference))) => {
                let text = format!("comparing {} with {} …", subject.name.short(), reference.name.short());
                canvas.put(2, 1, &text, theme::faint());
            }
        }
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        if alone(view).is_some() {
            return self.said.facts();
        }
        let Some(found) = self.study.get() else { return Vec::new() };
        if !found.is_sure() && self.chosen.is_none() {
            return vec![
                FactLine::heading("no clock"),
                FactLine::words(
                    "The two series are not alike at any one offset. Are they the same instrument?",
                ),
                FactLine::words("e: take a clock of your own and see what the weeks say of it"),
            ];
        }
        facts_of(found, self.fit(found), self.chosen.is_some())
    }
}

/// The series whose clock is asked for and the one it is compared with: the afloat one and an anchored
/// one of another source; where none is afloat, one that was anchored by an alignment.
fn pair<'a>(view: &View<'a>) -> Option<(&'a SeriesInfo, &'a SeriesInfo)> {
    let all: Vec<&SeriesInfo> = view.snapshot.roots_of(view.instrument_name()).collect();
    let candidates = |test: fn(&SeriesInfo) -> bool| {
        let found: Vec<&'a SeriesInfo> = all.iter().copied().filter(|s| test(s)).collect();
        found.iter().copied().find(|s| Some(&s.name) == view.selected).or(found.first().copied())
    };
    let subject = candidates(SeriesInfo::is_afloat)
        .or_else(|| candidates(|s| s.edition.provenance.made.is_aligned()))?;
    let fits = |s: &&&SeriesInfo| {
        !s.is_afloat() && s.name.source != subject.name.source && !s.edition.provenance.made.is_joined()
    };
    // Bars of the same length say most; ticks do where there are none.
    let reference = all
        .iter()
        .filter(fits)
        .max_by_key(|s| (s.name.frame == subject.name.frame, s.name.frame == Frame::M1))?;
    Some((subject, reference))
}

/// Asks which clock is right, with what the weeks say for and against each.
fn decide(found: &ClockStudy) -> Effects {
    let (series, other) = (&found.subject.name, &found.reference.name);
    let percent = |share: f64| format!("{:.0} %", share * 100.0);
    let mut answers = Vec::new();
    if found.is_sure() {
        let doubts: Vec<String> = found.doubts().iter().map(|d| doubt_in_words(found, d)).collect();
        answers.push(ChoiceAnswer {
            command: format!("stavel align {series} --to {other} --anchor --accept"),
            evidence: format!(
                "{}: {} of the weeks agree; against it: {}",
                found.fit.clock,
                percent(found.fit.confidence),
                doubts.join("; ")
            ),
        });
        answers.extend(found.fit.alternatives.iter().take(3).map(|a| ChoiceAnswer {
            command: format!("stavel align {series} --clock '{}' --anchor", a.clock),
            evidence: format!("{}: {} of the weeks agree", a.clock, percent(a.score)),
        }));
    }
    answers.push(ChoiceAnswer {
        command: format!("stavel align {series} --clock CLOCK --anchor"),
        evidence: match found.is_sure() {
            true => "another clock, as the broker states it".into(),
            false => "the two series do not match at any offset: set the clock that the broker states".into(),
        },
    });
    let question = format!("Which clock do the times of {} follow?", series.short());
    vec![Effect::Choose(Box::new(Choice { question, answers, at: 0, then: None }))]
}

impl AlignLens {
    /// The study of the pair that is shown, once it is there.
    fn shown(&self, view: &View<'_>) -> Option<&ClockStudy> {
        let subject = pair(view).map(|p| &p.0.name);
        self.study.get().map(AsRef::as_ref).filter(|f| Some(&f.subject.name) == subject)
    }

    /// The fit that is shown: of the clock chosen, else of the clock found.
    fn fit<'a>(&'a self, found: &'a ClockStudy) -> &'a Fit {
        self.chosen.as_ref().unwrap_or(&found.fit)
    }

    /// The chosen long bar on the chart, in both series.
    fn see_bar(&self, found: &ClockStudy) -> Effects {
        let Some(bar) = found.evidence.get(self.at) else { return say("there is no long bar to see") };
        let fit = self.fit(found);
        let by = Some((fit.clock.clone(), fit.stamp.back(found.subject.name.frame)));
        vec![Effect::Show(ChartPlace {
            series: Some(found.reference.name.clone()),
            at: bar.utc,
            around: 50 * MINUTE,
            beside: Some(SecondSeries { series: found.subject.name.clone(), by }),
        })]
    }

    fn accept(&mut self, found: &ClockStudy) -> Effects {
        if !found.subject.is_afloat() {
            return say(format!(
                "{} is anchored already; u sets it afloat again",
                found.subject.name.short()
            ));
        }
        let chosen = self.chosen.as_ref();
        if chosen.is_none() && !found.is_sure() {
            return warn("no clock was found that can be trusted; e takes one of your own");
        }
        let doubts = if chosen.is_some() { Vec::new() } else { found.doubts() };
        if let Some(first) = doubts.first()
            && !std::mem::replace(&mut self.warned, true)
        {
            return warn(format!("{}; a again takes it all the same", doubt_in_words(found, first)));
        }
        let step = AlignStep {
            anchor: true,
            accept: !doubts.is_empty(),
            clock: self.chosen.as_ref().map(|fit| fit.clock.clone()),
            stamp: self.chosen.as_ref().map(|fit| fit.stamp),
            ..AlignStep::of(found.subject.name.clone(), Some(found.reference.name.clone()))
        };
        start(Step::Align(step))
    }

    /// Shifts the clock by a length.
    fn nudge(&mut self, found: &ClockStudy, by: Micros) -> Effects {
        let fit = self.fit(found);
        let stamp = fit.stamp;
        match fit.clock.shifted(by) {
            Ok(clock) if clock.offset_at(found.subject.edition.first).abs() <= 18 * HOUR => {
                self.rate(found, &clock, stamp)
            }
            Ok(_) => say("no clock is farther from UTC than this"),
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// Takes a clock, and says what the weeks say of it.
    fn rate(&mut self, found: &ClockStudy, clock: &Clock, stamp: Stamp) -> Effects {
        let fit = fit_to(&found.weeks, found.subject.name.frame.length(), &found.fit, clock, stamp);
        let agree = fit.weeks.iter().filter(|w| w.agrees).count();
        let told =
            format!("{clock}: {agree} of {} weeks agree, confidence {:.2}", fit.weeks.len(), fit.confidence);
        self.chosen = Some(fit);
        say(told)
    }

    fn draw_study(&self, found: &ClockStudy, mut canvas: Canvas<'_>) {
        let fit = self.fit(found);
        let (subject, reference) = (found.subject.name.short(), found.reference.name.short());
        let title = if canvas.width() >= 100 {
            format!("{subject} written time against {reference} (UTC): agreement by week")
        } else if found.is_sure() || self.chosen.is_some() {
            // Without room for facts the clock is told here.
            let agree = fit.weeks.iter().filter(|w| w.agrees).count();
            format!("{subject} against {reference}: {}, {agree} of {} weeks", fit.clock, fit.weeks.len())
        } else {
            format!("{subject} against {reference}: no clock, they are not alike")
        };
        canvas.put(1, 0, &title, theme::words());
        let width = canvas.width();
        let bars = (found.evidence.len() as u16 + 2).max(10).min(canvas.height() / 2);
        let heat = canvas.height().saturating_sub(bars + 1);
        draw_heat(found, fit, canvas.part(0, 1, width, heat));
        let below = heat + 1;
        canvas.rule(below, theme::rule());
        let part = canvas.part(0, below + 1, width, bars.saturating_sub(1));
        if self.sessions {
            align_evidence::draw_sessions(found, part);
        } else {
            align_evidence::draw_bars(self.at, found, part);
        }
    }
}

fn draw_heat(found: &ClockStudy, fit: &Fit, mut canvas: Canvas<'_>) {
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
    for (row, offset) in offsets_shown(found, fit, lines.into()).into_iter().enumerate() {
        let y = row as u16;
        let sign = if offset < 0 { '-' } else { '+' };
        canvas.put(1, y, &format!("{sign}{:>2} h", offset.abs() / HOUR), theme::faint());
        for (i, week) in found.weeks.iter().enumerate().step_by(each) {
            let near = likeness_near(week, offset);
            let verdict = &fit.weeks[i];
            let on_rule = (verdict.expected - offset).abs() <= HOUR / 2;
            let is_best = (week.best_offset() - offset).abs() <= HOUR / 2 && week.is_clear;
            let (mark, colour) = match (is_best, verdict.agrees) {
                (true, true) => ("█", theme::source(0)),
                (true, false) => ("▲", theme::WRONG),
                _ if on_rule => ("─", theme::CHOSEN),
                // Below a quarter of the peak there is only noise.
                _ if near < 0.25 => ("·", theme::RULE),
                _ => (theme::shade(f64::from(near) * 0.7), theme::FAINT),
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

/// What is told of a clock, found or chosen.
fn facts_of(found: &ClockStudy, fit: &Fit, chosen: bool) -> Vec<FactLine> {
    let agree = fit.weeks.iter().filter(|w| w.agrees).count();
    let mut out = match fit.clock.changes() {
        [] => vec![FactLine::heading(fit.clock.to_string())],
        // One after the other they are longer than a heading.
        _ => vec![FactLine::heading("a clock that was changed"), FactLine::words(fit.clock.to_string())],
    };
    if chosen {
        out.push(FactLine::words(format!(
            "your choice; found was {}",
            found.fit.scan.first().map_or_else(String::new, |s| s.0.to_string())
        )));
    }
    out.extend(clock_in_words(&fit.clock, &found.edges.written).into_iter().map(FactLine::Words));
    if fit.stamp == Stamp::Close {
        out.push(FactLine::words("bars are stamped at their close"));
    }
    if found.inverse {
        out.push(FactLine::words(format!("{} is quoted the other way round", found.reference.name.short())));
    }
    out.push(FactLine::words(format!("{agree} of {} weeks agree", fit.weeks.len())));
    out.push(FactLine::Pair("confidence", format!("{:.2}", fit.confidence)));
    if !chosen {
        out.extend(found.doubts().iter().map(|d| FactLine::words(format!("▲ {}", doubt_in_words(found, d)))));
    }
    out.push(FactLine::Gap);
    if !fit.alternatives.is_empty() {
        out.push(FactLine::heading("other clocks"));
    }
    for a in fit.alternatives.iter().take(4) {
        out.push(FactLine::words(format!("{}  {:.2}", a.clock, a.score)));
        out.push(FactLine::words(match a.differs.len() {
            0 => format!("  parts {}, not covered", stretches_in_words(&a.would_differ[..1])),
            n => format!("  {n} weeks speak against it"),
        }));
    }
    let odd: Vec<_> = fit.weeks.iter().filter(|w| w.is_clear && !w.agrees).collect();
    if !odd.is_empty() {
        out.push(FactLine::Gap);
        out.push(FactLine::heading("weeks that disagree"));
    }
    for w in odd.iter().take(6) {
        let by = (w.offset - w.expected) / MINUTE;
        out.push(FactLine::words(format!(
            "▲ {}: best {by:+} min off the rule",
            date(day_of(w.start + 2 * DAY))
        )));
    }
    out.push(FactLine::Gap);
    out.push(FactLine::words(if found.subject.is_afloat() {
        "a stores it in UTC"
    } else {
        "anchored: stored in UTC"
    }));
    out
}
