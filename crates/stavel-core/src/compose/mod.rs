//! Compose: instruments of one's own out of others.
//!
//! An instrument's sheet is inherited (see [`crate::model::instrument`]); here are its rows: those of
//! the other instrument within the new session hours, moved in time, with another spread.

mod on_shelf;

pub use on_shelf::{ComposeRequest, Composed, compose};

use crate::model::columns::SHEET_SPREAD;
use crate::model::session::OpenHours;
use crate::model::{ABSENT, Columns, Field, Micros, Session, Shape, Span, present};

/// How rows are changed on their way to an instrument of one's own.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Changes {
    /// Added to every time.
    pub shift: Micros,
    /// Put in the place of the spread, in points: the ask is moved, the bid is not.
    pub spread: Option<i64>,
}

/// Rows of another instrument as rows of one with this session. Gives how many fell outside its hours.
pub fn derive(mut rows: Columns, changes: &Changes, session: &Session) -> (Columns, u64) {
    rows.time.iter_mut().for_each(|t| *t += changes.shift);
    if let Some((first, last)) = rows.ends() {
        let mut open = OpenHours::new(session, Span::new(first, last + 1));
        let keep: Vec<bool> = rows.time.iter().map(|&t| open.is_open(t)).collect();
        let before = rows.len();
        rows.retain(|i| keep[i]);
        let dropped = (before - rows.len()) as u64;
        return (with_spread(rows, changes.spread), dropped);
    }
    (rows, 0)
}

fn with_spread(mut rows: Columns, spread: Option<i64>) -> Columns {
    let Some(points) = spread else { return rows };
    if rows.has(Field::Bid) {
        let ask = |bid: &i64| present(*bid).map_or(ABSENT, |bid| bid + points);
        let asks: Vec<i64> = rows.column(Field::Bid).iter().map(ask).collect();
        if let Some(column) = rows.column_mut(Field::Ask) {
            *column = asks;
        }
    } else if rows.shape() == Shape::Bars {
        let fields = with_sheet_spread(&rows.fields);
        rows = rows.with_fields(&fields);
        if let Some(column) = rows.column_mut(Field::Spread) {
            column.fill(points);
        }
        rows.column_mut(Field::Origin).into_iter().flatten().for_each(|o| *o += SHEET_SPREAD);
    }
    rows
}

/// The fields of bars whose spread comes from the sheet: each row says so in its origin.
pub(crate) fn with_sheet_spread(fields: &[Field]) -> Vec<Field> {
    let added = [Field::Spread, Field::Origin];
    // What the first, the widest and the narrowest spread were is gone with the spreads.
    let keeps = |f: &Field| fields.contains(f) && !f.is_detail();
    Field::ALL.into_iter().filter(|f| added.contains(f) || keeps(f)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Scale;
    use crate::model::time::{HOUR, MINUTE, parse};

    #[test]
    fn rows_are_moved_cut_to_hours_and_given_a_spread() {
        let from = parse("2024-03-05 05:00").unwrap();
        let rows = Columns {
            time: (0..600).map(|i| from + i * MINUTE).collect(),
            fields: vec![Field::Open, Field::Close],
            data: vec![(0..600).collect(), (0..600).collect()],
            scale: Scale { price: 5, volume: 0 },
        };
        let day = Session {
            week: "mon-fri 08:00-12:00 Europe/Oslo".parse().unwrap(),
            clock: "Europe/Oslo".parse().unwrap(),
            ..Session::always()
        };
        let changes = Changes { shift: HOUR, spread: Some(18) };
        let (cut, dropped) = derive(rows, &changes, &day);
        assert_eq!((cut.len(), dropped), (240, 360));
        assert_eq!(cut.time[0], parse("2024-03-05 07:00").unwrap());
        assert_eq!(cut.column(Field::Open)[0], 60);
        assert!(cut.column(Field::Spread).iter().all(|s| *s == 18));
        assert!(cut.column(Field::Origin).iter().all(|o| *o == SHEET_SPREAD), "it is told as an estimate");
    }
}
