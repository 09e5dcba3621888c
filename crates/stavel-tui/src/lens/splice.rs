//! Splice: who serves which time, tried before it is done.

use std::sync::Arc;

use stavel_core::model::time::{HOUR, MINUTE, rfc3339, wall};
use stavel_core::model::{Columns, Field, Micros, SeriesName, SessionWeek, Span};
use stavel_core::splice::{Level, SpliceRule, SpliceWishes, ask_of, prepare};
use stavel_core::store::SeriesInfo;
use stavel_work::{ChartStep, ChartView, SpliceStep, Step};

use super::splice_rules::RuleChoice;
use super::splice_state::{INTO, Proposal, SeamBars, SpliceLens, has_layers};
use super::{FactLine, Lens, splice_facts, splice_view, step};
use crate::act::TableRow;
use crate::canvas::Canvas;
use crate::effect::{ChartPlace, Effect, Effects, SecondSeries, ask, say, start};
use crate::next::Task;
use crate::view::View;

/// What can be done to a splice.
#[derive(Debug, Clone, Copy)]
pub enum SpliceAct {
    Join,
    NextRule,
    Level,
    CarrySpreads,
    Order,
    Layers,
    CutBack,
    CutOn,
    CutFarBack,
    CutFarOn,
    TypeRule,
    Calmer,
    SeeSeam,
    FindClock,
}

impl Lens for SpliceLens {
    type Act = SpliceAct;
    const WORD: &'static str = "splice";
    const ABOUT: &'static str = "splice: merge sources into one history";
    const ROWS: &'static [TableRow<SpliceAct>] = &[
        TableRow::new(SpliceAct::Join, "a", "accept, join", "write the joined series")
            .command("stavel splice SERIES SERIES --into S"),
        TableRow::new(SpliceAct::NextRule, "r", "rule", "the next rule of who owns which time"),
        TableRow::new(
            SpliceAct::Level,
            "l",
            "level",
            "bring later sources to the level of the first, or not",
        ),
        TableRow::new(SpliceAct::CarrySpreads, "c", "spreads", "put the first one's spreads on rows without"),
        TableRow::new(SpliceAct::Order, "p", "order", "the next source comes first"),
        TableRow::new(
            SpliceAct::Layers,
            "y",
            "layers",
            "ticks where there are ticks, minutes elsewhere, or bars only",
        )
        .command("stavel splice TICKS MINUTES --into S --layered"),
        TableRow::new(SpliceAct::CutBack, ",", "", "move the cut an hour back"),
        TableRow::new(SpliceAct::CutOn, ".", "", "move the cut an hour on"),
        TableRow::new(SpliceAct::CutFarBack, "<", "", "move the cut a column of the spine back"),
        TableRow::new(SpliceAct::CutFarOn, ">", "move cut", "move the cut a column of the spine on"),
        TableRow::new(
            SpliceAct::TypeRule,
            "t",
            "type",
            "type the time of the cut, or the hours of the first source",
        )
        .command("stavel splice SERIES SERIES --into S --rule cut=TIME"),
        TableRow::new(SpliceAct::Calmer, "b", "calmer", "cut at the calmer place named for the seam"),
        TableRow::new(SpliceAct::SeeSeam, "Enter", "see seam", "see both sources at the seam on the chart"),
        TableRow::new(SpliceAct::FindClock, "f", "", "find the clock of the source that has none, in align")
            .rare(),
    ];

    fn act(&mut self, act: SpliceAct, view: &View<'_>) -> Effects {
        match act {
            SpliceAct::NextRule => self.next_rule(view),
            SpliceAct::Level => {
                self.level = match self.level {
                    Level::None => Level::Shift,
                    Level::Shift => Level::Ratio,
                    Level::Ratio => Level::None,
                }
            }
            SpliceAct::CarrySpreads => self.carry_spread = !self.carry_spread,
            SpliceAct::Order => self.turned += 1,
            SpliceAct::Layers if has_layers(view) => self.layered = !self.layered,
            SpliceAct::Layers => return say("layers need a series of ticks and one of 1m"),
            SpliceAct::CutBack => return self.move_cut(-HOUR, view),
            SpliceAct::CutOn => return self.move_cut(HOUR, view),
            SpliceAct::CutFarBack => return self.move_cut(-far(view), view),
            SpliceAct::CutFarOn => return self.move_cut(far(view), view),
            SpliceAct::Calmer => return self.take_calmer(),
            SpliceAct::TypeRule => return self.ask_for_rule(view),
            SpliceAct::SeeSeam => return self.see_seam(),
            SpliceAct::Join => return self.join(view),
            SpliceAct::FindClock => return self.find_clock(view),
        }
        Effects::new()
    }

    fn due(&self, view: &View<'_>) -> Option<(String, SpliceAct)> {
        if let Some(unanchored) = self.sources(view).iter().find(|s| s.is_afloat()) {
            return Some((format!("find the clock of {}", unanchored.name.short()), SpliceAct::FindClock));
        }
        let is_ready = self.proposal.get().is_some() && view.next().task == Task::Splice;
        is_ready.then(|| ("write the joined history".into(), SpliceAct::Join))
    }

    fn reads(&self, _view: &View<'_>) -> Option<String> {
        self.proposal.is_reading().then(|| "trying the join …".into())
    }

    fn choose(&mut self, down: bool, _view: &View<'_>) -> Effects {
        let seams = self.proposal.get().map_or(0, |p| p.told.seams.len());
        self.at = step(self.at, seams, down);
        Effects::new()
    }

    /// The time of the cut, or the hours of the week, as typed.
    fn answer(&mut self, typed: &str, _view: &View<'_>) -> Effects {
        let taken = match self.choice {
            RuleChoice::Hours => typed.parse().map(|week| self.hours = Some(week)),
            _ => stavel_core::model::time::parse(typed).map(|at| {
                self.choice = RuleChoice::Cut;
                self.cut = Some(at);
            }),
        };
        taken.err().map(Effect::Complain).into_iter().collect()
    }

    fn instrument_changed(&mut self) {
        *self = SpliceLens::default();
    }

    fn collect(&mut self, _view: &View<'_>) -> Effects {
        self.proposal.collect();
        self.trial.collect();
        self.around.collect();
        Effects::new()
    }

    fn want(&mut self, view: &View<'_>) -> Effects {
        self.go_on_as_before(view);
        let sources = self.sources(view);
        if sources.len() < 2 || sources.iter().any(|s| s.is_afloat()) {
            return Effects::new();
        }
        let names: Vec<SeriesName> = sources.iter().map(|s| s.name.clone()).collect();
        let editions: Vec<i64> = sources.iter().map(|s| s.edition.id).collect();
        let mut ask = self.ask();
        if self.cut().is_some() {
            // A cut that moves is tried where it is; all else is as by spans.
            ask.rule = SpliceRule::Span;
        }
        let key = format!("{editions:?} {ask:?}");
        self.proposal.want(key.clone(), view.threads, move |shelf, job| {
            let prepared = prepare(shelf, &names, INTO, &ask, job)?;
            let told = prepared.survey(job)?;
            Ok(Proposal { prepared, sources: names.clone(), told })
        });
        // What was proposed for other sources or another rule is no ground for these.
        let proposal = self.proposal.get().filter(|_| self.proposal.is_for(&key)).cloned();
        if let Some(p) = proposal {
            self.want_trial(&p, &editions, view);
            self.want_around(&p, &editions, view);
        }
        Effects::new()
    }

    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        let sources = self.sources(view);
        let (first, second) = (sources.first()?, sources.get(1)?);
        let step = ChartStep::of(first.name.clone(), Default::default());
        Some(ChartStep { view: ChartView::Agreement, with: Some(second.name.clone()), ..step })
    }

    fn draw(&self, view: &View<'_>, canvas: Canvas<'_>) {
        splice_view::draw(self, view, canvas);
    }

    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        splice_facts::facts(self, view)
    }
}

impl SpliceLens {
    /// Goes on with the rule that a series was joined by before, until one is chosen here.
    fn go_on_as_before(&mut self, view: &View<'_>) {
        if !view.is_read || std::mem::replace(&mut self.is_set, true) {
            return;
        }
        let joined = view.snapshot.series_of(view.instrument_name()).filter(|s| s.name.source == INTO);
        let mut before: Vec<&SeriesInfo> = joined.collect();
        before.sort_by_key(|s| s.name.frame.is_ticks());
        if let Some((_, ask)) = before.iter().find_map(|s| ask_of(s).ok()) {
            self.take_over(ask);
        }
    }

    fn want_trial(&mut self, p: &Arc<Proposal>, editions: &[i64], view: &View<'_>) {
        let Some(at) = self.cut() else { return };
        let p = p.clone();
        self.trial.want(format!("{editions:?} {at}"), view.threads, move |_, _| {
            p.prepared.plan.try_cut(at, (p.told.usual_step, p.told.usual_hour))
        });
    }

    fn want_around(&mut self, p: &Arc<Proposal>, editions: &[i64], view: &View<'_>) {
        let Some((seam, _)) = self.seam(p, self.trial.get().map(Arc::as_ref)) else { return };
        let p = p.clone();
        // An hour to each side of minutes, days of longer bars.
        let reach = p.bar().max(MINUTE) * 60;
        let window = Span::new(seam.at - reach, seam.at + reach);
        let key = format!("{editions:?} {seam:?} {:?}", self.level);
        self.around.want(key, view.threads, move |_, _| {
            let plan = &p.prepared.plan;
            let read = |s: usize| -> stavel_core::Result<Columns> {
                let fields = [Field::Open, Field::High, Field::Low, Field::Close];
                Ok(plan.adapters[s].adapt(plan.sources[s].window(&fields, window)?))
            };
            Ok(SeamBars { window, before: read(seam.before)?, after: read(seam.after)? })
        });
    }

    fn next_rule(&mut self, view: &View<'_>) {
        self.choice = self.choice.next();
        if self.choice == RuleChoice::Cut && self.cut.is_none() {
            self.cut = self.room_for_cut(view).map(|room| room.from);
        }
        if self.choice == RuleChoice::Hours && self.hours.is_none() {
            self.hours = "mon-fri 08:00-17:00 UTC".parse().ok();
        }
    }

    /// Where a cut can be: the first source has rows from there on, and another has some before it.
    fn room_for_cut(&self, view: &View<'_>) -> Option<Span> {
        let sources = self.sources(view);
        let earliest = sources.iter().skip(1).map(|s| s.edition.first).min()?;
        let first = &sources.first()?.edition;
        let from = first.first.max(earliest + HOUR);
        Some(Span::new(from, first.last.max(from)))
    }

    /// Moves the cut; it stays where the first source has history and another has some before it.
    fn move_cut(&mut self, by: Micros, view: &View<'_>) -> Effects {
        let Some(at) = self.cut() else { return say("a cut is moved where the rule is a cut (r)") };
        let Some(room) = self.room_for_cut(view) else { return say("a cut needs two sources") };
        let to = ((at + by).div_euclid(HOUR) * HOUR).clamp(room.from, room.to);
        self.cut = Some(to);
        if to == at { say("the cut stays where both sides have rows") } else { Effects::new() }
    }

    /// Puts the cut at the calmer place named for the seam looked at.
    fn take_calmer(&mut self) -> Effects {
        let trial = self.trial.get().map(Arc::as_ref);
        let judged = self.proposal.get().and_then(|p| self.seam(p, trial)).and_then(|(_, judged)| judged);
        let Some(better) = judged.and_then(|j| j.better) else {
            return say("the place is calm, or no calmer one is near");
        };
        self.choice = RuleChoice::Cut;
        self.cut = Some(better);
        say(format!("cut at {}", wall(better)))
    }

    /// Asks for the time of the cut, or for the hours of the week.
    fn ask_for_rule(&self, view: &View<'_>) -> Effects {
        let (label, now) = match self.choice {
            RuleChoice::Hours => ("hours of the first", self.hours.as_ref().map(SessionWeek::to_string)),
            _ => ("cut at", self.cut.or_else(|| Some(self.room_for_cut(view)?.from)).map(rfc3339)),
        };
        ask(label, now.unwrap_or_default())
    }

    /// Both sources at the seam, on the chart.
    fn see_seam(&self) -> Effects {
        let shown = self.proposal.get().and_then(|p| {
            let (seam, _) = self.seam(p, self.trial.get().map(Arc::as_ref))?;
            let beside = SecondSeries { series: p.sources[seam.before].clone(), by: None };
            let series = Some(p.sources[seam.after].clone());
            Some(ChartPlace { series, at: seam.at, around: 50 * MINUTE, beside: Some(beside) })
        });
        shown.map_or_else(|| say("there is no seam to see"), |place| vec![Effect::Show(place)])
    }

    /// Opens align on the first source whose clock is not known.
    fn find_clock(&self, view: &View<'_>) -> Effects {
        match self.sources(view).iter().find(|s| s.is_afloat()) {
            Some(info) => vec![Effect::Select(info.name.clone()), Effect::Open("align")],
            None => say("every source has a clock"),
        }
    }

    fn join(&self, view: &View<'_>) -> Effects {
        match self.proposal.get() {
            Some(p) if self.sources(view).iter().all(|s| !s.is_afloat()) => {
                let series = p.sources.clone();
                let SpliceWishes { rule, level, carry_spread, layered, anew } = self.ask();
                let step = SpliceStep { series, into: INTO.into(), rule, level, carry_spread, layered, anew };
                start(Step::Splice(step))
            }
            _ => say("there is nothing to join yet"),
        }
    }
}

/// One column of the spine, in whole hours.
fn far(view: &View<'_>) -> Micros {
    (view.whole().length() / 120 / HOUR).max(1) * HOUR
}
