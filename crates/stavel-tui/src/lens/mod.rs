//! The lenses: ways of working on what the window shows.
//!
//! Each is a [`Lens`] in a file of its own, and one line of [`all`]. A lens knows neither the bench nor any other lens:
//! it sees a [`View`], and answers with [`Effects`].

mod align;
mod align_alone;
mod align_evidence;
mod chart;
mod chart_facts;
mod chart_view;
mod check;
mod check_against;
mod check_calendar;
mod check_mends;
mod check_week;
mod compose;
mod compose_chain;
mod compose_formula;
mod compose_rows;
mod compose_vary;
mod compose_week;
mod deliver;
mod deliver_costs;
mod deliver_settings;
mod drawer;
mod frames;
mod frames_change;
mod rehearse;
mod shelf;
mod splice;
mod splice_facts;
mod splice_rules;
mod splice_state;
mod splice_view;
mod strokes;

use std::mem::discriminant;
use std::time::Duration;

use stavel_core::model::{Instrument, Micros};
use stavel_work::{ChartStep, ChartView, Step, StepReport};

use crate::act::{Act, ActTable, Line, TableRow};
use crate::canvas::Canvas;
use crate::effect::{ChartPlace, Effect, Effects, Pointer};
use crate::mask::Mask;
use crate::view::View;

/// A way of working on what the window shows, with a state of its own.
pub trait Lens: Default + 'static {
    /// What a person can do here, beside what holds everywhere.
    type Act: Copy + 'static;
    /// Its word on the bar.
    const WORD: &'static str;
    /// What it is for.
    const ABOUT: &'static str;
    /// Its part of the table of acts.
    const ROWS: &'static [TableRow<Self::Act>];

    /// Does an act.
    fn act(&mut self, act: Self::Act, view: &View<'_>) -> Effects;

    /// Its picture.
    fn draw(&self, view: &View<'_>, canvas: Canvas<'_>);

    /// What is under the cursor, in words and numbers: a heading or a line each.
    fn facts(&self, view: &View<'_>) -> Vec<FactLine>;

    /// What is next here and can be done at once, in words, with the act that does it.
    fn due(&self, _view: &View<'_>) -> Option<(String, Self::Act)> {
        None
    }

    /// What is being read that decides what is next here, in a few words; `None` if nothing is.
    fn reads(&self, _view: &View<'_>) -> Option<String> {
        None
    }

    /// Has read what it shows; called again and again while it is open.
    fn want(&mut self, _view: &View<'_>) -> Effects {
        Effects::new()
    }

    /// Takes what was read; called whether it is open or not.
    fn collect(&mut self, _view: &View<'_>) -> Effects {
        Effects::new()
    }

    /// Chooses the line below or above; without lines of its own, a series.
    fn choose(&mut self, down: bool, _view: &View<'_>) -> Effects {
        vec![Effect::NextSeries { back: !down }]
    }

    /// The answer to what it asked last.
    fn answer(&mut self, _text: &str, _view: &View<'_>) -> Effects {
        Effects::new()
    }

    /// A place is about to be shown on the chart.
    fn place_shown(&mut self, _place: &ChartPlace) {}

    /// A step was done, wherever it was asked for.
    fn step_done(&mut self, _step: &Step, _report: &StepReport) {}

    /// Another instrument was chosen.
    fn instrument_changed(&mut self) {}

    /// Esc was pressed: lets go what is innermost here. False where there is nothing to let go.
    fn let_go(&mut self) -> bool {
        false
    }

    /// Time passes; true where something moved.
    fn pass(&mut self, _time: Duration) -> bool {
        false
    }

    /// The pointer does something at a place of the lens, which has so many columns and rows; none where that means
    /// nothing here.
    fn pointed(&mut self, _pointer: Pointer, _size: (u16, u16), _view: &View<'_>) -> Option<Effects> {
        None
    }

    /// The pointer is held at a time of the spine, or let go there; none where that means the window.
    fn slid(&mut self, _to: Micros, _is_let_go: bool, _view: &View<'_>) -> Option<Effects> {
        None
    }

    /// What draws its picture into a file; none where there is nothing to draw.
    fn picture(&self, _view: &View<'_>) -> Option<ChartStep> {
        None
    }

    /// What must not be seen while this lens is open; none where everything may.
    fn hides(&self) -> Option<Mask> {
        None
    }

    /// The moment about which a person zooms; the middle of the window where there is none.
    fn cursor(&self) -> Option<Micros> {
        None
    }
}

/// All lenses, in the order of the bar.
pub fn all() -> Vec<Box<dyn AnyLens>> {
    vec![
        boxed::<shelf::ShelfLens>(),
        boxed::<chart::ChartLens>(),
        boxed::<check::CheckLens>(),
        boxed::<align::AlignLens>(),
        boxed::<splice_state::SpliceLens>(),
        boxed::<frames::FramesLens>(),
        boxed::<compose::ComposeLens>(),
        boxed::<deliver::DeliverLens>(),
        boxed::<rehearse::RehearseLens>(),
    ]
}

/// A lens for the bench.
pub fn boxed<L: Lens>() -> Box<dyn AnyLens> {
    Box::new(L::default())
}

/// The table of acts of some lenses.
pub fn table(lenses: &[Box<dyn AnyLens>]) -> ActTable {
    ActTable::new(lenses.iter().enumerate().map(|(place, lens)| (lens.lines(place), lens.about())))
}

/// A lens whose kind of act is not known: what the bench keeps.
pub trait AnyLens {
    fn word(&self) -> &'static str;
    fn about(&self) -> &'static str;
    /// Its part of the table, where it stands at a place of the bar.
    fn lines(&self, place: usize) -> Vec<Line>;
    /// Does the act of one of its rows.
    fn act(&mut self, row: usize, view: &View<'_>) -> Effects;
    fn draw(&self, view: &View<'_>, canvas: Canvas<'_>);
    fn facts(&self, view: &View<'_>) -> Vec<FactLine>;
    /// What is next here, in words, with the place of the row that does it.
    fn due(&self, view: &View<'_>) -> Option<(String, usize)>;
    fn reads(&self, view: &View<'_>) -> Option<String>;
    fn want(&mut self, view: &View<'_>) -> Effects;
    fn collect(&mut self, view: &View<'_>) -> Effects;
    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects;
    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects;
    fn place_shown(&mut self, place: &ChartPlace);
    fn step_done(&mut self, step: &Step, report: &StepReport);
    fn instrument_changed(&mut self);
    fn let_go(&mut self) -> bool;
    fn pass(&mut self, time: Duration) -> bool;
    fn pointed(&mut self, pointer: Pointer, size: (u16, u16), view: &View<'_>) -> Option<Effects>;
    fn slid(&mut self, to: Micros, is_let_go: bool, view: &View<'_>) -> Option<Effects>;
    fn picture(&self, view: &View<'_>) -> Option<ChartStep>;
    fn cursor(&self) -> Option<Micros>;
    fn hides(&self) -> Option<Mask>;
}

impl<L: Lens> AnyLens for L {
    fn word(&self) -> &'static str {
        L::WORD
    }
    fn about(&self) -> &'static str {
        L::ABOUT
    }
    fn lines(&self, place: usize) -> Vec<Line> {
        let lens = Some((place, L::WORD));
        let line = |(row, told)| Line::of(told, Act::OfLens { lens: place, row }, lens);
        L::ROWS.iter().enumerate().map(line).collect()
    }
    fn act(&mut self, row: usize, view: &View<'_>) -> Effects {
        L::ROWS.get(row).map_or_else(Effects::new, |row| Lens::act(self, row.act, view))
    }
    fn draw(&self, view: &View<'_>, canvas: Canvas<'_>) {
        Lens::draw(self, view, canvas);
    }
    fn facts(&self, view: &View<'_>) -> Vec<FactLine> {
        Lens::facts(self, view)
    }
    fn due(&self, view: &View<'_>) -> Option<(String, usize)> {
        let (words, act) = Lens::due(self, view)?;
        let row = L::ROWS.iter().position(|row| discriminant(&row.act) == discriminant(&act))?;
        Some((words, row))
    }
    fn reads(&self, view: &View<'_>) -> Option<String> {
        Lens::reads(self, view)
    }
    fn want(&mut self, view: &View<'_>) -> Effects {
        Lens::want(self, view)
    }
    fn collect(&mut self, view: &View<'_>) -> Effects {
        Lens::collect(self, view)
    }
    fn choose(&mut self, down: bool, view: &View<'_>) -> Effects {
        Lens::choose(self, down, view)
    }
    fn answer(&mut self, text: &str, view: &View<'_>) -> Effects {
        Lens::answer(self, text, view)
    }
    fn place_shown(&mut self, place: &ChartPlace) {
        Lens::place_shown(self, place);
    }
    fn step_done(&mut self, step: &Step, report: &StepReport) {
        Lens::step_done(self, step, report);
    }
    fn instrument_changed(&mut self) {
        Lens::instrument_changed(self);
    }
    fn let_go(&mut self) -> bool {
        Lens::let_go(self)
    }
    fn pass(&mut self, time: Duration) -> bool {
        Lens::pass(self, time)
    }
    fn pointed(&mut self, pointer: Pointer, size: (u16, u16), view: &View<'_>) -> Option<Effects> {
        Lens::pointed(self, pointer, size, view)
    }
    fn slid(&mut self, to: Micros, is_let_go: bool, view: &View<'_>) -> Option<Effects> {
        Lens::slid(self, to, is_let_go, view)
    }
    fn picture(&self, view: &View<'_>) -> Option<ChartStep> {
        Lens::picture(self, view)
    }
    fn cursor(&self) -> Option<Micros> {
        Lens::cursor(self)
    }
    fn hides(&self) -> Option<Mask> {
        Lens::hides(self)
    }
}

/// A line of the facts column.
pub enum FactLine {
    Heading(String),
    /// A label and its value.
    Pair(&'static str, String),
    Words(String),
    Gap,
}

impl FactLine {
    pub fn words(text: impl Into<String>) -> FactLine {
        FactLine::Words(text.into())
    }
    pub fn heading(text: impl Into<String>) -> FactLine {
        FactLine::Heading(text.into())
    }
}

/// A picture of the series that is chosen.
fn picture_of(view: &View<'_>, what: ChartView) -> Option<ChartStep> {
    Some(ChartStep { view: what, ..ChartStep::of(view.selected.cloned()?, Default::default()) })
}

/// Values of a spec sheet that a result rests on, each with how it is known.
fn rests_on(instrument: &Instrument, keys: &[&str]) -> Vec<FactLine> {
    let told = |key: &&str| {
        let value = instrument.values.get(*key).filter(|v| !v.is_empty())?;
        let standing = instrument.standing(key);
        Some(FactLine::words(format!("{} {key} {value} ({standing})", standing.mark())))
    };
    keys.iter().filter_map(told).collect()
}

/// Moves a cursor within a list.
fn step(at: usize, count: usize, down: bool) -> usize {
    if down { (at + 1).min(count.saturating_sub(1)) } else { at.saturating_sub(1) }
}
