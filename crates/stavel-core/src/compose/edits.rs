//! Rows that were edited elsewhere: a delivered file that comes back.
//!
//! What differs from the base is kept as a series of its own: whole rows where values changed or rows were added, and rows
//! without any price where one was taken out. So the variant follows its base everywhere else.

use std::cmp::Ordering;

use crate::model::columns::blank;
use crate::model::price::scaled;
use crate::model::time::wall;
use crate::model::{ABSENT, Columns, Field, Micros, Scale, SeriesName, Span, present};
use crate::store::{Cursor, EditionInfo, Origin, SeriesInfo, Shelf};
use crate::{Error, Result};

/// Differences that are told in words.
const TOLD: usize = 5;

/// What differs between a base and a file of it that was edited.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Edits {
    /// Rows with other values.
    pub changed: u64,
    /// Rows that the base does not have.
    pub added: u64,
    /// Rows of the base that are gone.
    pub removed: u64,
    /// The first of them in words, as `2024-03-05 10:00: close 1.02500 → 1.02510`.
    pub told: Vec<String>,
}

impl Edits {
    /// Holds an edited series against its base within the span of the file, and leaves in it only what differs.
    ///
    /// # Errors
    /// Where the base has ticks (several at one time cannot be told apart), where the file has prices with more decimals,
    /// or where nothing differs.
    pub fn find(shelf: &mut Shelf, base: &SeriesName, edited: &SeriesName, span: Span) -> Result<Edits> {
        let (base, edited) = (shelf.find(base)?, shelf.find(edited)?);
        if !base.name.frame.is_bars() {
            return Err(Error::input(format!(
                "{} has ticks, of which several may have one time; edits can be told of bars only.",
                base.name
            )));
        }
        let fields = &base.edition.fields;
        let is_in_file = |f: &&Field| edited.edition.fields.contains(f) && **f != Field::Origin;
        let compared: Vec<Field> = fields.iter().filter(is_in_file).copied().collect();
        let mut found = FoundEdits {
            edits: Edits::default(),
            rows: Columns::empty(fields, base.edition.scale),
            compared,
        };
        let mut there = Cursor::new(shelf.scan(&base.edition, span, None)?);
        let pieces = shelf.scan(&edited.edition, Span::ALL, None)?;
        let mut here = Cursor::new(pieces.map(|piece| like_base(piece?, &base)));
        loop {
            let (order, time) = match (there.time()?, here.time()?) {
                (None, None) => break,
                (Some(t), None) => (Ordering::Less, t),
                (None, Some(t)) => (Ordering::Greater, t),
                (Some(a), Some(b)) => (a.cmp(&b), a.min(b)),
            };
            match order {
                Ordering::Less => found.removed(time),
                // Edits of another part of the history that came before stay.
                Ordering::Greater if !span.holds(time) => found.rows.push_from(here.rows(), here.at()),
                Ordering::Greater => found.added(here.rows(), here.at()),
                Ordering::Equal => found.both((there.rows(), there.at()), (here.rows(), here.at())),
            }
            there.pass(usize::from(order != Ordering::Greater));
            here.pass(usize::from(order != Ordering::Less));
        }
        let FoundEdits { edits, rows, .. } = found;
        if rows.is_empty() {
            return Err(Error::input(format!(
                "The edited file is {} as it is: nothing differs, and nothing was done.",
                base.name
            )));
        }
        keep(shelf, &edited, rows)?;
        Ok(edits)
    }

    fn tell(&mut self, time: Micros, what: impl FnOnce() -> String) {
        if self.told.len() < TOLD {
            self.told.push(format!("{}: {}", wall(time), what()));
        }
    }
}

/// Rows of an edited file with the fields and the scale of its base.
///
/// # Errors
/// Where a price has more decimals than the base.
fn like_base(rows: Columns, base: &SeriesInfo) -> Result<Columns> {
    let scale = base.edition.scale;
    let needed = rows.decimals_needed(0);
    if needed > scale.price {
        return Err(Error::input(format!(
            "The edited file has prices with {needed} decimals and {} has {}; round them, or make the base finer first.",
            base.name, scale.price
        )));
    }
    Ok(at_scale(rows, scale).with_fields(&base.edition.fields))
}

/// Rows whose prices fit a scale, at that scale.
fn at_scale(rows: Columns, scale: Scale) -> Columns {
    if rows.scale.price > scale.price { rows.coarsened(scale) } else { rows.rescaled(scale) }
}

/// What differs, while both are gone through.
struct FoundEdits {
    edits: Edits,
    /// The rows that stand in for those of the base.
    rows: Columns,
    /// The fields that the file has.
    compared: Vec<Field>,
}

impl FoundEdits {
    fn removed(&mut self, time: Micros) {
        self.edits.removed += 1;
        self.edits.tell(time, || "taken out".to_owned());
        self.rows.time.push(time);
        let Columns { fields, data, .. } = &mut self.rows;
        data.iter_mut().zip(fields).for_each(|(column, field)| column.push(blank(*field)));
    }

    fn added(&mut self, rows: &Columns, at: usize) {
        self.edits.added += 1;
        self.edits.tell(rows.time[at], || "added".to_owned());
        self.rows.push_from(rows, at);
    }

    /// A row that both have: what the file does not have stays as it is in the base.
    fn both(&mut self, (old, old_row): (&Columns, usize), (new, new_row): (&Columns, usize)) {
        let differs = |f: &&Field| new.column(**f)[new_row] != old.column(**f)[old_row];
        let other: Vec<Field> = self.compared.iter().filter(differs).copied().collect();
        if other.is_empty() {
            return;
        }
        self.edits.changed += 1;
        self.edits.tell(old.time[old_row], || in_words(&other, old, old_row, new, new_row));
        self.rows.push_from(old, old_row);
        for field in other {
            let value = new.column(field)[new_row];
            self.rows.column_mut(field).and_then(|c| c.last_mut()).into_iter().for_each(|last| *last = value);
        }
    }
}

fn in_words(fields: &[Field], old: &Columns, old_row: usize, new: &Columns, new_row: usize) -> String {
    let text = |rows: &Columns, field: Field, row: usize| {
        let value = present(rows.column(field)[row]);
        value.map_or("none".to_owned(), |value| scaled(value, rows.scale.of(field)))
    };
    let change = |f: &Field| format!("{} {} → {}", f.name(), text(old, *f, old_row), text(new, *f, new_row));
    fields.iter().map(change).collect::<Vec<_>>().join(", ")
}

/// Leaves only the differences in the series of edits: a further edition of it, said to be of the same file.
fn keep(shelf: &mut Shelf, edited: &SeriesInfo, rows: Columns) -> Result<()> {
    let origin = Origin {
        provenance: edited.edition.provenance.clone(),
        clock: edited.edition.clock.clone(),
        fields: rows.fields.clone(),
        scale: rows.scale,
    };
    let mut draft = shelf.draft(&edited.name, origin)?;
    draft.push(rows)?;
    draft.commit().map(drop)
}

/// Lays edits over the rows of a base, piece by piece.
pub(super) struct EditOverlay {
    rows: Columns,
    at: usize,
}

impl EditOverlay {
    /// The edits of a series, as rows like those of the base.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn of(shelf: &Shelf, edits: &SeriesInfo, base: &EditionInfo) -> Result<EditOverlay> {
        let rows = shelf.read(&edits.edition, Span::ALL)?;
        Ok(EditOverlay { rows: at_scale(rows, base.scale).with_fields(&base.fields), at: 0 })
    }

    /// The rows of a piece with the edits up to its end.
    pub fn lay_over(&mut self, piece: Columns) -> Columns {
        let Some((_, last)) = piece.ends() else { return piece };
        let end = self.rows.time.partition_point(|t| *t <= last);
        if self.at == end {
            return piece;
        }
        let mut out = Columns::with_room(&piece.fields, piece.scale, piece.len() + end - self.at);
        let mut row = 0;
        while row < piece.len() || self.at < end {
            let edit = (self.at < end).then(|| self.rows.time[self.at]);
            match (piece.time.get(row), edit) {
                (Some(t), Some(e)) if *t < e => {
                    out.push_from(&piece, row);
                    row += 1;
                }
                (Some(_), None) => {
                    out.append_range(&piece, row..piece.len());
                    row = piece.len();
                }
                (here, Some(e)) => {
                    row += usize::from(here == Some(&e));
                    self.put(&mut out);
                }
                (None, None) => break,
            }
        }
        out
    }

    /// The edits after the last row of the base; none where there are none.
    pub fn rest(mut self) -> Option<Columns> {
        let mut out = Columns::empty(&self.rows.fields, self.rows.scale);
        while self.at < self.rows.len() {
            self.put(&mut out);
        }
        (!out.is_empty()).then_some(out)
    }

    /// The next edit; a row that was taken out is none.
    fn put(&mut self, out: &mut Columns) {
        let prices = self.rows.fields.iter().zip(&self.rows.data).filter(|(f, _)| f.is_price());
        let is_gone = prices.map(|(_, column)| column[self.at]).all(|v| v == ABSENT);
        if !is_gone {
            out.push_from(&self.rows, self.at);
        }
        self.at += 1;
    }
}
