//! Splice: who serves which time, tried before it is done.

use std::sync::Arc;

use stavel_core::job::Job;
use stavel_core::model::columns::shape_of;
use stavel_core::model::time::{HOUR, MINUTE, rfc3339, wall};
use stavel_core::model::{Columns, Field, Frame, Micros, SeriesName, SessionWeek, Shape, Span};
use stavel_core::splice::{Ask, Judged, Level, Prepared, Rule, Seam, Spliced, Trial, ask_of, prepare};
use stavel_core::store::SeriesInfo;
use stavel_work::{SpliceStep, Step};

use super::{splice_view, step};
use crate::act::Act;
use crate::app::{App, Tone};
use crate::canvas::Canvas;
use crate::jobs::Slot;
use crate::overlay::{Overlay, Prompt};

/// The source that results go to.
pub const INTO: &str = "joined";

/// What a join would give.
pub struct Proposal {
    pub prepared: Prepared,
    pub sources: Vec<SeriesName>,
    pub told: Spliced,
}

impl Proposal {
    /// The length of a bar.
    pub fn bar(&self) -> Micros {
        self.prepared.plan.bar()
    }
}

/// Bars of two sources around a seam.
pub struct Around {
    pub window: Span,
    pub before: Columns,
    pub after: Columns,
}

#[derive(Clone, Copy, Default, PartialEq)]
enum Choice {
    #[default]
    Span,
    Holes,
    Grade,
    Cut,
    Hours,
}

#[derive(Default)]
pub struct State {
    pub proposal: Slot<Proposal>,
    pub trial: Slot<Trial>,
    pub around: Slot<Around>,
    choice: Choice,
    cut: Option<Micros>,
    hours: Option<SessionWeek>,
    level: Level,
    carry_spread: bool,
    layered: bool,
    /// How many sources have gone to the end of the order.
    turned: usize,
    /// The seam that is looked at.
    at: usize,
    /// True once the rule was set here, or taken from the series joined before.
    is_set: bool,
}

impl State {
    /// How series are to be joined, as chosen here.
    pub fn ask(&self) -> Ask {
        let rule = match (self.choice, self.cut, &self.hours) {
            (Choice::Holes, ..) => Rule::Holes,
            (Choice::Grade, ..) => Rule::Grade,
            (Choice::Cut, Some(at), _) => Rule::Cut(at),
            (Choice::Hours, _, Some(week)) => Rule::Hours(week.clone()),
            _ => Rule::Span,
        };
        Ask { rule, level: self.level, carry_spread: self.carry_spread, layered: self.layered, anew: false }
    }

    /// Goes on with what a series was joined by.
    fn take_over(&mut self, ask: Ask) {
        self.choice = match ask.rule {
            Rule::Span => Choice::Span,
            Rule::Holes => Choice::Holes,
            Rule::Grade => Choice::Grade,
            Rule::Cut(at) => {
                self.cut = Some(at);
                Choice::Cut
            }
            Rule::Hours(week) => {
                self.hours = Some(week);
                Choice::Hours
            }
        };
        (self.level, self.carry_spread, self.layered) = (ask.level, ask.carry_spread, ask.layered);
    }

    /// The cut that is tried, while that is the rule.
    pub fn cut(&self) -> Option<Micros> {
        self.cut.filter(|_| self.choice == Choice::Cut)
    }

    /// The seam looked at and what is said of it.
    pub fn seam<'a>(&self, p: &'a Proposal, trial: Option<&Trial>) -> Option<(Seam, Option<Judged>)> {
        if self.cut().is_some() {
            return trial.and_then(|t| t.seam).map(|(seam, judged)| (seam, Some(judged)));
        }
        let told: &'a Spliced = &p.told;
        let at = self.at.min(told.seams.len().checked_sub(1)?);
        Some((told.seams[at], told.judged.get(at).copied()))
    }

    /// The rule in a word.
    pub fn rule_word(&self) -> &'static str {
        match self.choice {
            Choice::Span => "span",
            Choice::Holes => "holes",
            Choice::Grade => "grade",
            Choice::Cut => "cut",
            Choice::Hours => "hours",
        }
    }

    /// The place of the seam looked at in the list.
    pub fn at(&self) -> usize {
        self.at
    }
}

/// The series that can be joined, the shortest history first: a broker's own comes before a vendor's. In layers
/// ticks come before minutes.
pub fn sources(app: &App) -> Vec<&SeriesInfo> {
    let fits = |s: &&SeriesInfo| s.name.source != INTO && !s.edition.provenance.made.is_joined();
    let mut all: Vec<&SeriesInfo> = app.snapshot.roots_of(app.instrument()).filter(fits).collect();
    let layered = app.splice.layered;
    let frame = all.iter().map(|s| s.name.frame).filter(Frame::is_bars).min();
    all.retain(|s| Some(s.name.frame) == frame || layered && s.name.frame.is_ticks());
    // What was joined before keeps its order.
    let before = joined(app).and_then(|j| ask_of(j).ok()).map(|(names, _)| names).unwrap_or_default();
    let place = |s: &SeriesInfo| before.iter().position(|n| *n == s.name).unwrap_or(usize::MAX);
    all.sort_by_key(|s| {
        (place(s), s.name.frame.is_bars(), s.edition.last - s.edition.first, s.name.source.clone())
    });
    let turned = app.splice.turned % all.len().max(1);
    all.rotate_left(turned);
    all
}

/// True where there are ticks and minutes to make layers of.
pub fn has_layers(app: &App) -> bool {
    let has = |frame| {
        app.snapshot
            .roots_of(app.instrument())
            .any(|s| s.name.frame == frame && !s.edition.provenance.made.is_joined())
    };
    has(Frame::Ticks) && has(Frame::M1)
}

/// The series that was joined before, as ticks or as bars.
pub fn joined(app: &App) -> Option<&SeriesInfo> {
    let layered = |s: &SeriesInfo| shape_of(&s.edition.fields) == Shape::Layered;
    app.snapshot.series_of(app.instrument()).find(|s| {
        s.name.source == INTO && s.edition.provenance.made.is_joined() && layered(s) == app.splice.layered
    })
}

pub fn want(app: &mut App) {
    if app.is_read && !app.splice.is_set {
        app.splice.is_set = true;
        let bars_first = |s: &&SeriesInfo| s.name.frame.is_ticks();
        let mut before: Vec<&SeriesInfo> =
            app.snapshot.series_of(app.instrument()).filter(|s| s.name.source == INTO).collect();
        before.sort_by_key(bars_first);
        if let Some((_, ask)) = before.iter().find_map(|s| ask_of(s).ok()) {
            app.splice.take_over(ask);
        }
    }
    let sources = sources(app);
    if sources.len() < 2 || sources.iter().any(|s| s.is_afloat()) {
        return;
    }
    let names: Vec<SeriesName> = sources.iter().map(|s| s.name.clone()).collect();
    let editions: Vec<i64> = sources.iter().map(|s| s.edition.id).collect();
    let mut ask = app.splice.ask();
    if app.splice.cut().is_some() {
        // A cut that moves is tried where it is; all else is as by spans.
        ask.rule = Rule::Span;
    }
    let key = format!("{editions:?} {ask:?}");
    app.splice.proposal.want(
        key.clone(),
        &app.threads,
        |app| Some(&mut app.splice.proposal),
        move |shelf, job| {
            let prepared = prepare(shelf, &names, INTO, &ask, job)?;
            let told = prepared.survey(job)?;
            Ok(Proposal { prepared, sources: names, told })
        },
    );
    // What was proposed for other sources or another rule is no ground for these.
    let proposal = app.splice.proposal.get().filter(|_| app.splice.proposal.is_for(&key)).cloned();
    if let Some(p) = proposal {
        want_trial(app, &p, &editions);
        want_around(app, &p, &editions);
    }
}

fn want_trial(app: &mut App, p: &Arc<Proposal>, editions: &[i64]) {
    let Some(at) = app.splice.cut() else { return };
    let p = p.clone();
    app.splice.trial.want(
        format!("{editions:?} {at}"),
        &app.threads,
        |app| Some(&mut app.splice.trial),
        move |_, _| p.prepared.plan.try_cut(at, (p.told.usual_step, p.told.usual_hour)),
    );
}

fn want_around(app: &mut App, p: &Arc<Proposal>, editions: &[i64]) {
    let Some((seam, _)) = app.splice.seam(p, app.splice.trial.get().map(Arc::as_ref)) else { return };
    let p = p.clone();
    // An hour to each side of minutes, days of longer bars.
    let reach = p.bar().max(MINUTE) * 60;
    let window = Span::new(seam.at - reach, seam.at + reach);
    app.splice.around.want(
        format!("{editions:?} {seam:?} {:?}", app.splice.level),
        &app.threads,
        |app| Some(&mut app.splice.around),
        move |_, _: &Job| {
            let plan = &p.prepared.plan;
            let read = |s: usize| -> stavel_core::Result<Columns> {
                let fields = [Field::Open, Field::High, Field::Low, Field::Close];
                Ok(plan.dresses[s].put_on(plan.sources[s].window(&fields, window)?))
            };
            Ok(Around { window, before: read(seam.before)?, after: read(seam.after)? })
        },
    );
}

pub fn act(app: &mut App, act: Act) {
    match act {
        Act::Rule => next_rule(app),
        Act::Level => {
            app.splice.level = match app.splice.level {
                Level::None => Level::Shift,
                Level::Shift => Level::Ratio,
                Level::Ratio => Level::None,
            }
        }
        Act::CarrySpread => app.splice.carry_spread = !app.splice.carry_spread,
        Act::Precedence => app.splice.turned += 1,
        Act::Layers if has_layers(app) => app.splice.layered = !app.splice.layered,
        Act::Layers => app.say("layers need a series of ticks and one of 1m", Tone::Plain),
        Act::NudgeBack => move_cut(app, -HOUR),
        Act::NudgeOn => move_cut(app, HOUR),
        Act::HourBack => move_cut(app, -far(app)),
        Act::HourOn => move_cut(app, far(app)),
        Act::Calmer => take_calmer(app),
        Act::TypeRule => type_rule(app),
        Act::Up | Act::Down => {
            let seams = app.splice.proposal.get().map_or(0, |p| p.told.seams.len());
            app.splice.at = step(app.splice.at, seams, act == Act::Down);
        }
        Act::Enter => show_seam(app),
        Act::Accept => accept(app),
        _ => {}
    }
}

fn next_rule(app: &mut App) {
    app.splice.choice = match app.splice.choice {
        Choice::Span => Choice::Holes,
        Choice::Holes => Choice::Grade,
        Choice::Grade => Choice::Cut,
        Choice::Cut => Choice::Hours,
        Choice::Hours => Choice::Span,
    };
    if app.splice.choice == Choice::Cut && app.splice.cut.is_none() {
        app.splice.cut = room_for_cut(app).map(|room| room.from);
    }
    if app.splice.choice == Choice::Hours && app.splice.hours.is_none() {
        app.splice.hours = "mon-fri 08:00-17:00 UTC".parse().ok();
    }
}

/// One column of the spine, in whole hours.
fn far(app: &App) -> Micros {
    (app.whole().length() / 120 / HOUR).max(1) * HOUR
}

/// Where a cut can be: the first source has rows from there on, and another has some before it.
fn room_for_cut(app: &App) -> Option<Span> {
    let sources = sources(app);
    let earliest = sources.iter().skip(1).map(|s| s.edition.first).min()?;
    let first = &sources.first()?.edition;
    let from = first.first.max(earliest + HOUR);
    Some(Span::new(from, first.last.max(from)))
}

/// Moves the cut; it stays where the first source has history and another has some before it.
fn move_cut(app: &mut App, by: Micros) {
    let Some(at) = app.splice.cut() else {
        return app.say("a cut is moved where the rule is a cut (r)", Tone::Plain);
    };
    let Some(room) = room_for_cut(app) else { return };
    let to = ((at + by).div_euclid(HOUR) * HOUR).clamp(room.from, room.to);
    app.splice.cut = Some(to);
    if to == at {
        app.say("the cut stays where both sides have rows", Tone::Plain);
    }
}

/// Puts the cut at the calmer place named for the seam looked at.
fn take_calmer(app: &mut App) {
    let state = &app.splice;
    let trial = state.trial.get().map(Arc::as_ref);
    let judged = state.proposal.get().and_then(|p| state.seam(p, trial)).and_then(|(_, judged)| judged);
    match judged.and_then(|j| j.better) {
        Some(better) => {
            app.splice.choice = Choice::Cut;
            app.splice.cut = Some(better);
            app.say(format!("cut at {}", wall(better)), Tone::Plain);
        }
        None => app.say("the place is calm, or no calmer one is near", Tone::Plain),
    }
}

/// Asks for the time of the cut, or for the hours of the week.
fn type_rule(app: &mut App) {
    let (label, now) = match app.splice.choice {
        Choice::Hours => ("hours of the first", app.splice.hours.as_ref().map(SessionWeek::to_string)),
        _ => ("cut at", app.splice.cut.or_else(|| Some(room_for_cut(app)?.from)).map(rfc3339)),
    };
    let done = |app: &mut App, typed: &str| {
        let taken = match app.splice.choice {
            Choice::Hours => typed.parse().map(|week| app.splice.hours = Some(week)),
            _ => stavel_core::model::time::parse(typed).map(|at| {
                app.splice.choice = Choice::Cut;
                app.splice.cut = Some(at);
            }),
        };
        if let Err(err) = taken {
            app.complain(&err);
        }
    };
    app.overlay = Some(Overlay::Prompt(Prompt::new(label, &now.unwrap_or_default(), done)));
}

fn show_seam(app: &mut App) {
    let state = &app.splice;
    let seam = state.proposal.get().and_then(|p| {
        let (seam, _) = state.seam(p, state.trial.get().map(Arc::as_ref))?;
        Some((seam, p.sources[seam.after].clone(), p.sources[seam.before].clone()))
    });
    if let Some((seam, after, before)) = seam {
        app.selected = Some(after);
        app.chart.overlay = Some(before);
        app.chart.overlay_clock = None;
        app.show_place(seam.at, 50 * MINUTE);
    }
}

fn accept(app: &mut App) {
    match app.splice.proposal.get() {
        Some(p) if sources(app).iter().all(|s| !s.is_afloat()) => {
            let series = p.sources.clone();
            let Ask { rule, level, carry_spread, layered, anew } = app.splice.ask();
            let step = SpliceStep { series, into: INTO.into(), rule, level, carry_spread, layered, anew };
            app.start(Step::Splice(step));
        }
        _ => app.say("there is nothing to join yet", Tone::Plain),
    }
}

pub fn draw(app: &App, canvas: Canvas<'_>) {
    splice_view::draw(app, &sources(app), canvas);
}
