//! The lenses: ways of working on what the window shows.
//!
//! Each has its state, what it wants read, what its acts do, its picture and its facts.

pub mod align;
mod align_evidence;
pub mod chart;
pub mod check;
mod check_against;
mod check_calendar;
mod check_mends;
mod check_week;
pub mod compose;
pub mod deliver;
pub mod frames;
pub mod rehearse;
pub mod shelf;
pub mod splice;
mod splice_facts;
mod splice_view;
mod strokes;

use stavel_core::model::Instrument;

use crate::act::{Act, Lens};
use crate::app::App;
use crate::canvas::Canvas;
use crate::intake::IntakeForm;

/// Has read what the lens in use needs.
pub fn want(app: &mut App) {
    IntakeForm::want(app);
    match app.lens {
        Lens::Shelf => shelf::want(app),
        Lens::Chart => chart::want(app),
        Lens::Check => check::want(app),
        Lens::Align => align::want(app),
        Lens::Splice => splice::want(app),
        Lens::Deliver => deliver::want(app),
        Lens::Rehearse => rehearse::want(app),
        Lens::Frames | Lens::Compose => {}
    }
}

/// Does an act of the lens in use.
pub fn act(app: &mut App, act: Act) {
    match app.lens {
        Lens::Shelf => shelf::act(app, act),
        Lens::Chart => chart::act(app, act),
        Lens::Check => check::act(app, act),
        Lens::Align => align::act(app, act),
        Lens::Splice => splice::act(app, act),
        Lens::Frames => frames::act(app, act),
        Lens::Compose => compose::act(app, act),
        Lens::Deliver => deliver::act(app, act),
        Lens::Rehearse => rehearse::act(app, act),
    }
}

/// Draws the lens in use.
pub fn draw(app: &App, canvas: Canvas<'_>) {
    match app.lens {
        Lens::Shelf => shelf::draw(app, canvas),
        Lens::Chart => chart::draw(app, canvas),
        Lens::Check => check::draw(app, canvas),
        Lens::Align => align::draw(app, canvas),
        Lens::Splice => splice::draw(app, canvas),
        Lens::Frames => frames::draw(app, canvas),
        Lens::Compose => compose::draw(app, canvas),
        Lens::Deliver => deliver::draw(app, canvas),
        Lens::Rehearse => rehearse::draw(app, canvas),
    }
}

/// What is under the cursor, in words and numbers: a heading or a line each.
pub fn facts(app: &App) -> Vec<Fact> {
    match app.lens {
        Lens::Shelf => shelf::facts(app),
        Lens::Chart => chart::facts(app),
        Lens::Check => check::facts(app),
        Lens::Align => align::facts(app),
        Lens::Splice => splice_facts::facts(app),
        Lens::Frames => frames::facts(app),
        Lens::Compose => compose::facts(app),
        Lens::Deliver => deliver::facts(app),
        Lens::Rehearse => rehearse::facts(app),
    }
}

/// A line of the facts column.
pub enum Fact {
    Heading(String),
    /// A label and its value.
    Pair(&'static str, String),
    Words(String),
    Gap,
}

impl Fact {
    pub fn words(text: impl Into<String>) -> Fact {
        Fact::Words(text.into())
    }
    pub fn heading(text: impl Into<String>) -> Fact {
        Fact::Heading(text.into())
    }
}

/// Values of a spec sheet that a result rests on, each with how it is known.
fn rests_on(instrument: &Instrument, keys: &[&str]) -> Vec<Fact> {
    let told = |key: &&str| {
        let value = instrument.values.get(*key).filter(|v| !v.is_empty())?;
        let standing = instrument.standing(key);
        Some(Fact::words(format!("{} {key} {value} ({standing})", standing.mark())))
    };
    keys.iter().filter_map(told).collect()
}

/// The first of two ends of a list view, so that `at` is among `rows` lines.
pub fn scroll(at: usize, rows: usize, count: usize) -> usize {
    at.saturating_sub(rows.saturating_sub(1) / 2).min(count.saturating_sub(rows))
}

/// Moves a cursor within a list.
pub fn step(at: usize, count: usize, down: bool) -> usize {
    if down { (at + 1).min(count.saturating_sub(1)) } else { at.saturating_sub(1) }
}
