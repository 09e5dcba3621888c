//! Drawings of an instrument. Each is a dated fact, so undo and redo step over it as over any other.

use rusqlite::Transaction;

use super::Shelf;
use super::act::{ChangedThing, SubjectState, record};
use super::fact_kind::DRAWING;
use super::records::{self, InstrumentFact};
use crate::model::SeriesName;
use crate::model::drawing::Drawing;
use crate::{Error, Result};

/// The source of facts that a person draws.
const DRAWN: &str = "drawn";

impl Drawing {
    fn fact(&self) -> InstrumentFact {
        let time = self.points.first().map_or(0, |point| point.time);
        InstrumentFact { source: DRAWN.into(), time, kind: DRAWING.into(), values: self.to_values() }
    }
}

/// The drawings among some facts, by their numbers.
///
/// # Errors
/// Where one is damaged.
pub fn drawings_in(facts: &[InstrumentFact]) -> Result<Vec<Drawing>> {
    let drawn = facts.iter().filter(|fact| fact.kind == DRAWING);
    let mut drawings = drawn.map(|fact| Drawing::from_values(&fact.values)).collect::<Result<Vec<_>>>()?;
    drawings.sort_by_key(|drawing| drawing.id);
    Ok(drawings)
}

impl Shelf {
    /// The drawings of an instrument, by their numbers.
    ///
    /// # Errors
    /// Where the catalog cannot be read, or one is damaged.
    pub fn drawings(&self, instrument: &str) -> Result<Vec<Drawing>> {
        drawings_in(&self.facts(instrument)?)
    }

    /// The drawing of a number.
    ///
    /// # Errors
    /// Where there is none, a sentence that names those that are there.
    pub fn drawing(&self, instrument: &str, id: u64) -> Result<Drawing> {
        one_of(&self.drawings(instrument)?, instrument, id).cloned()
    }

    /// Puts a drawing on the instrument of its series: in place of the one with its number, or with a number of its own
    /// where it has 0. Gives its number.
    ///
    /// # Errors
    /// Where none has its number, or the catalog cannot be written.
    pub fn put_drawing(&mut self, drawing: &Drawing) -> Result<u64> {
        self.must_write()?;
        let instrument = &drawing.series.instrument;
        let there = self.drawings(instrument)?;
        let (id, before) = match drawing.id {
            0 => (there.iter().map(|old| old.id).max().unwrap_or(0) + 1, Vec::new()),
            id => (id, vec![one_of(&there, instrument, id)?.fact()]),
        };
        let fact = Drawing { id, ..drawing.clone() }.fact();
        self.begin_act("")?;
        self.change_facts(instrument, &before, &[fact])?;
        self.end_act(instrument, "")?;
        Ok(id)
    }

    /// Takes a drawing away; gives it.
    ///
    /// # Errors
    /// Where none has that number, or the catalog cannot be written.
    pub fn remove_drawing(&mut self, instrument: &str, id: u64) -> Result<Drawing> {
        self.must_write()?;
        let drawing = self.drawing(instrument, id)?;
        self.begin_act("")?;
        self.change_facts(instrument, &[drawing.fact()], &[])?;
        self.end_act(instrument, "")?;
        Ok(drawing)
    }
}

fn one_of<'d>(drawings: &'d [Drawing], instrument: &str, id: u64) -> Result<&'d Drawing> {
    drawings.iter().find(|drawing| drawing.id == id).ok_or_else(|| {
        let there: Vec<String> = drawings.iter().map(|drawing| drawing.id.to_string()).collect();
        Error::input(match there.is_empty() {
            true => format!("{instrument} has no drawing {id}; nothing is drawn on it."),
            false => format!("{instrument} has no drawing {id}; it has {}.", there.join(", ")),
        })
    })
}

/// Has the drawings of a series follow it to its new name, in the transaction that renames it. Where it goes to another
/// instrument they are drawn there too, and stay where they were.
pub fn rename_drawings(tx: &Transaction<'_>, act: i64, from: &SeriesName, to: &SeriesName) -> Result<()> {
    let of_series = |drawing: &Drawing| drawing.series.with_built(false) == from.with_built(false);
    let facts = records::facts(tx, &from.instrument)?;
    let drawn: Vec<Drawing> = drawings_in(&facts)?.into_iter().filter(of_series).collect();
    if drawn.is_empty() {
        return Ok(());
    }
    let stays = from.instrument == to.instrument;
    let last = drawings_in(&records::facts(tx, &to.instrument)?)?.iter().map(|drawing| drawing.id).max();
    let renamed = |(at, drawing): (usize, &Drawing)| {
        let id = if stays { drawing.id } else { last.unwrap_or(0) + 1 + at as u64 };
        Drawing { id, series: to.with_built(false), ..drawing.clone() }.fact()
    };
    let come: Vec<InstrumentFact> = drawn.iter().enumerate().map(renamed).collect();
    if stays {
        let go: Vec<InstrumentFact> = drawn.iter().map(Drawing::fact).collect();
        records::remove_facts(tx, &from.instrument, &go)?;
        let subject = ChangedThing::Facts(from.instrument.clone());
        record(tx, act, &subject, Some(&SubjectState::Facts(go)), None)?;
    }
    let come = records::add_facts(tx, &to.instrument, &come)?;
    record(tx, act, &ChangedThing::Facts(to.instrument.clone()), None, Some(&SubjectState::Facts(come)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Columns, DrawingColour, DrawingKind, DrawnPoint, Field, Made, Provenance, Scale};
    use crate::store::{FactFilter, Origin};

    fn shelf_with(series: &SeriesName) -> (tempfile::TempDir, Shelf) {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        shelf.ensure_instrument(&series.instrument).unwrap();
        let mut rows = Columns::empty(&[Field::Close], Scale { price: 5, volume: 0 });
        rows.time.push(60_000_000);
        rows.data[0].push(98_000);
        let origin = Origin {
            provenance: Provenance::of(Made::Unknown),
            clock: Some("UTC".parse().unwrap()),
            fields: rows.fields.clone(),
            scale: rows.scale,
        };
        let mut draft = shelf.draft(series, origin).unwrap();
        draft.push(rows).unwrap();
        draft.commit().unwrap();
        (dir, shelf)
    }

    fn level(series: &SeriesName, time: i64, price: f64) -> Drawing {
        Drawing {
            id: 0,
            kind: DrawingKind::Level,
            points: vec![DrawnPoint { time, price }],
            text: "x, 'y' \"z\"".into(),
            colour: DrawingColour::Red,
            series: series.clone(),
            clock: Some("UTC".parse().unwrap()),
            rehearsed: None,
        }
    }

    #[test]
    fn drawings_survive_every_undo_and_redo_and_renames_take_them_along() {
        for seed in 0..40 {
            let mut rng = fastrand::Rng::with_seed(seed);
            let mut name: SeriesName = "NOKSEK@tarn:1m".parse().unwrap();
            let (_dir, mut shelf) = shelf_with(&name);
            // What was drawn after each act, and how many acts can be redone.
            let mut past: Vec<Vec<Drawing>> = vec![Vec::new()];
            let mut names = vec![name.clone()];
            let mut at = 0;
            for _ in 0..25 {
                let there = past[at].clone();
                let pick = |rng: &mut fastrand::Rng| there[rng.usize(0..there.len())].clone();
                let mut next = there.clone();
                match rng.u8(0..8) {
                    0..=2 => {
                        let drawing = level(&name, rng.i64(-9..9), rng.f64());
                        let id = shelf.put_drawing(&drawing).unwrap();
                        next.push(Drawing { id, ..drawing });
                    }
                    3 if !there.is_empty() => {
                        let mut drawing = pick(&mut rng);
                        drawing.points[0].price += 1.0;
                        assert_eq!(shelf.put_drawing(&drawing).unwrap(), drawing.id);
                        next.retain(|old| old.id != drawing.id);
                        next.push(drawing);
                    }
                    4 if !there.is_empty() => {
                        let drawing = pick(&mut rng);
                        shelf.remove_drawing("NOKSEK", drawing.id).unwrap();
                        next.retain(|old| old.id != drawing.id);
                    }
                    5 if at > 0 => {
                        shelf.undo_act().unwrap();
                        at -= 1;
                        name = names[at].clone();
                        assert_eq!(shelf.drawings("NOKSEK").unwrap(), past[at]);
                        continue;
                    }
                    6 if at + 1 < past.len() => {
                        shelf.redo_act().unwrap();
                        at += 1;
                        name = names[at].clone();
                        assert_eq!(shelf.drawings("NOKSEK").unwrap(), past[at]);
                        continue;
                    }
                    7 => {
                        let to = name.with_source(&format!("s{}", rng.u32(0..1_000_000)));
                        shelf.begin_act("").unwrap();
                        shelf.rename(&name, &to).unwrap();
                        shelf.end_act("", "renamed").unwrap();
                        next.iter_mut().for_each(|drawing| drawing.series = to.clone());
                        name = to;
                    }
                    _ => continue,
                }
                next.sort_by_key(|drawing| drawing.id);
                past.truncate(at + 1);
                names.truncate(at + 1);
                past.push(next);
                names.push(name.clone());
                at += 1;
                assert_eq!(shelf.drawings("NOKSEK").unwrap(), past[at], "{seed}");
            }
        }
    }

    #[test]
    fn a_series_that_goes_to_another_instrument_takes_copies_along() {
        let (from, to): (SeriesName, SeriesName) =
            ("NOKSEK@tarn:1m".parse().unwrap(), "NZDSEK@tarn:1m".parse().unwrap());
        let (_dir, mut shelf) = shelf_with(&from);
        shelf.put_drawing(&level(&from, 1, 0.5)).unwrap();
        shelf.ensure_instrument("NZDSEK").unwrap();
        shelf.put_drawing(&level(&to, 2, 0.6)).unwrap();
        shelf.rename(&from, &to).unwrap();
        let told: Vec<(u64, f64)> =
            shelf.drawings("NZDSEK").unwrap().iter().map(|drawn| (drawn.id, drawn.points[0].price)).collect();
        assert_eq!(told, [(1, 0.6), (2, 0.5)]);
        assert_eq!(shelf.drawings("NOKSEK").unwrap().len(), 1, "nothing a person drew is taken away");
        shelf.undo_act().unwrap();
        assert_eq!(shelf.drawings("NZDSEK").unwrap().len(), 1);
    }

    #[test]
    fn drawings_are_no_dates_of_the_instrument_and_one_that_is_not_there_is_told() {
        let series: SeriesName = "NOKSEK@tarn:1m".parse().unwrap();
        let (_dir, mut shelf) = shelf_with(&series);
        let told = |shelf: &mut Shelf| shelf.remove_drawing("NOKSEK", 7).unwrap_err().to_string();
        assert!(told(&mut shelf).contains("nothing is drawn"));
        shelf.put_drawing(&level(&series, 1, 0.5)).unwrap();
        assert!(told(&mut shelf).contains("it has 1."), "{}", told(&mut shelf));
        assert!(shelf.facts_about("NOKSEK", &FactFilter::default()).unwrap().is_empty());
        assert_eq!(shelf.facts_about("NOKSEK", &FactFilter::of_kind(DRAWING)).unwrap().len(), 1);
    }
}
