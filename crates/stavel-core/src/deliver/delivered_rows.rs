//! The rows of a delivery: those of a series, of both sides of its bars, or of one side of its quotes.

use super::order::{PriceSides, WeighedEvents};
use super::{DeliveryOrder, FileFormat};
use crate::model::columns::{blank, shape_of};
use crate::model::{ABSENT, Columns, Field, Micros, Scale, SeriesName, Shape, Side, Span};
use crate::store::{Cursor, Reader, SeriesInfo, Shelf};
use crate::{Error, Result};

/// Rows of both sides that make one piece.
const PIECE_ROWS: usize = 64 * 1024;

type Pieces = Box<dyn Iterator<Item = Result<Columns>> + Send>;

/// Rows that can be read again and again, piece by piece, in order of time.
pub struct DeliveredRows {
    reader: Reader,
    /// Of bars: the ask, beside the bid.
    ask: Option<Reader>,
    /// Of quotes: the side without which a row has nothing to say.
    side: Option<Field>,
    /// Of bars: what falls into them.
    events: Option<BarEvents>,
    scale: Scale,
}

/// Events that fall into bars.
#[derive(Clone)]
struct BarEvents {
    /// Times and weights, in order of time.
    all: WeighedEvents,
    /// The length of a bar.
    length: Micros,
}

impl BarEvents {
    /// The weight of the heaviest event in each bar; a bar ends where the next begins, or when its time is over.
    fn column(&self, times: &[Micros]) -> Vec<i64> {
        let end = |row: usize| {
            let over = times[row].saturating_add(self.length);
            times.get(row + 1).map_or(over, |next| over.min(*next))
        };
        let heaviest = |row: usize| {
            let from = self.all.partition_point(|(time, _)| *time < times[row]);
            let within = self.all[from..].iter().take_while(|(time, _)| *time < end(row));
            within.map(|(_, weight)| *weight).max().unwrap_or(ABSENT)
        };
        (0..times.len()).map(heaviest).collect()
    }
}

impl DeliveredRows {
    /// The rows of an order. `info` is the series as it is delivered; it gets the columns and the decimals of what stands
    /// beside it.
    ///
    /// # Errors
    /// Where a side that is asked for is not there.
    pub fn of(shelf: &Shelf, order: &DeliveryOrder, info: &mut SeriesInfo) -> Result<DeliveredRows> {
        let reader = shelf.reader(&info.edition)?;
        let mut rows =
            DeliveredRows { reader, ask: None, side: None, events: None, scale: info.edition.scale };
        match order.sides {
            PriceSides::Own => {}
            PriceSides::Only(side) => rows.side = Some(only(side, info)?),
            PriceSides::Together => {
                if order.format == FileFormat::Dataset {
                    return Err(Error::arguments(
                        "A dataset holds each price side as a series of its own; leave --sides away.",
                    ));
                }
                let ask = ask_of(shelf, info)?;
                let edition = &mut info.edition;
                let has_own = edition.fields.contains(&Field::AskVolume);
                let is_beside = |f: &Field| {
                    f.in_rows_of_the_ask().is_some_and(|own| ask.edition.fields.contains(&own))
                        && !(has_own && *f == Field::AskVolume)
                };
                edition.fields =
                    Field::ALL.into_iter().filter(|f| edition.fields.contains(f) || is_beside(f)).collect();
                edition.scale = edition.scale.finer(&ask.edition.scale);
                rows.scale = edition.scale;
                rows.ask = Some(shelf.reader(&ask.edition)?);
            }
        }
        if let Some(all) = &order.events {
            let length = info.name.frame.length();
            if shape_of(&info.edition.fields) != Shape::Bars
                || length == 0
                || order.format == FileFormat::Dataset
            {
                return Err(Error::arguments(format!(
                    "Events stand beside bars of a length, and in no dataset; {} is delivered without --events.",
                    info.name
                )));
            }
            rows.events = Some(BarEvents { all: all.clone(), length });
            info.edition.fields = Field::ALL
                .into_iter()
                .filter(|f| info.edition.fields.contains(f) || *f == Field::Event)
                .collect();
        }
        Ok(rows)
    }

    /// Decimals of the rows.
    pub fn scale(&self) -> Scale {
        self.scale
    }

    /// The bytes of its files on the shelf, and the rows in them.
    pub fn on_the_shelf(&self) -> (u64, u64) {
        let of = |r: &Reader| (r.bytes(), r.edition.rows);
        let (own, beside) = (of(&self.reader), self.ask.as_ref().map_or((0, 0), of));
        (own.0 + beside.0, own.1.max(beside.1))
    }

    /// Rows within a span piece by piece; only `fields` are read.
    pub fn scan(&self, span: Span, fields: &[Field]) -> Pieces {
        let Some(events) = self.events.clone().filter(|_| fields.contains(&Field::Event)) else {
            return self.scan_rows(span, fields);
        };
        let read: Vec<Field> = fields.iter().copied().filter(|f| *f != Field::Event).collect();
        let wanted = fields.to_vec();
        let with_events = move |mut rows: Columns| {
            rows.data.push(events.column(&rows.time));
            rows.fields.push(Field::Event);
            rows.with_fields(&wanted)
        };
        Box::new(self.scan_rows(span, &read).map(move |piece| piece.map(&with_events)))
    }

    fn scan_rows(&self, span: Span, fields: &[Field]) -> Pieces {
        if let Some(ask) = &self.ask {
            return Box::new(SideBySide::new(&self.reader, ask, span, fields, self.scale));
        }
        let Some(side) = self.side else { return Box::new(self.reader.scan(span, Some(fields))) };
        let mut read = fields.to_vec();
        if !read.contains(&side) {
            read.push(side);
        }
        let fields = fields.to_vec();
        let with_price = move |mut rows: Columns| {
            let prices = rows.column(side).to_vec();
            rows.retain(|row| prices[row] != ABSENT);
            rows.with_fields(&fields)
        };
        Box::new(self.reader.scan(span, Some(&read)).map(move |piece| piece.map(&with_price)))
    }

    /// The number of rows within a span.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn count(&self, span: Span) -> Result<u64> {
        if self.ask.is_none() && self.side.is_none() {
            return self.reader.count(span);
        }
        self.scan(span, &[]).map(|piece| Ok(piece?.len() as u64)).sum()
    }

    /// The times of the first and of the last row within a span.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn ends(&self, span: Span) -> Result<Option<(Micros, Micros)>> {
        if self.side.is_some() {
            let mut ends: Option<(Micros, Micros)> = None;
            for piece in self.scan(span, &[]) {
                let Some((first, last)) = piece?.ends() else { continue };
                ends = Some((ends.map_or(first, |e| e.0), last));
            }
            return Ok(ends);
        }
        let beside = self.ask.as_ref().map(|ask| ask.ends(span)).transpose()?.flatten();
        let all = self.reader.ends(span)?.into_iter().chain(beside);
        Ok(all.reduce(|a, b| (a.0.min(b.0), a.1.max(b.1))))
    }

    /// Some of the last rows within a span; none where there are none.
    ///
    /// # Errors
    /// Where a file cannot be read.
    pub fn last_rows(&self, span: Span, fields: &[Field]) -> Result<Option<Columns>> {
        let own = self.reader.last_rows(span, Some(&[]))?;
        let beside = self.ask.as_ref().map(|ask| ask.last_rows(span, Some(&[]))).transpose()?.flatten();
        let days = own.iter().chain(&beside).filter_map(Columns::ends);
        let Some(from) = days.map(|(first, _)| first).max() else { return Ok(None) };
        let mut all: Option<Columns> = None;
        for piece in self.scan(Span::new(from, span.to), fields) {
            match &mut all {
                Some(all) => all.append(&piece?),
                none => *none = Some(piece?),
            }
        }
        Ok(all)
    }
}

/// The price of one side of quotes; of the other side's columns none is left.
fn only(side: Side, info: &mut SeriesInfo) -> Result<Field> {
    let (price, others) = match side {
        Side::Ask => (Field::Ask, [Field::Bid, Field::BidVolume]),
        _ => (Field::Bid, [Field::Ask, Field::AskVolume]),
    };
    let fields = &mut info.edition.fields;
    fields.retain(|f| !others.contains(f) && !f.is_spread());
    match fields.contains(&price) {
        true => Ok(price),
        false => Err(Error::arguments(format!("{} has no {}.", info.name, price.name()))),
    }
}

fn ask_of(shelf: &Shelf, info: &SeriesInfo) -> Result<SeriesInfo> {
    let name = SeriesName { side: Side::Ask, ..info.name.clone() };
    let has_bars = shape_of(&info.edition.fields) == Shape::Bars;
    if !has_bars || info.name.side != Side::Bid {
        return Err(Error::arguments(format!("{} is not the bid of bars.", info.name)));
    }
    let found = shelf.current(&name)?.ok_or_else(|| {
        Error::input(format!(
            "{} has no ask beside it: {name} is not on the shelf; take it in, or build it by frames with --side ask.",
            info.name
        ))
    })?;
    if found.is_afloat() {
        return Err(Error::input(format!("{name} is afloat: its times are not UTC; align it first.")));
    }
    Ok(found)
}

/// Bars of both sides, row by row: where one side has none, its values are absent.
struct SideBySide {
    own: Cursor<Pieces>,
    ask: Cursor<Pieces>,
    /// Of each column: whose it is, and its place there.
    columns: Vec<(bool, usize)>,
    fields: Vec<Field>,
    scale: Scale,
}

impl SideBySide {
    fn new(own: &Reader, ask: &Reader, span: Span, fields: &[Field], scale: Scale) -> SideBySide {
        let is_own = |f: &Field| own.edition.fields.contains(f) || f.in_rows_of_the_ask().is_none();
        let (mut of_own, mut of_ask, mut columns) = (Vec::new(), Vec::new(), Vec::new());
        for field in fields {
            match field.in_rows_of_the_ask().filter(|_| !is_own(field)) {
                Some(theirs) => {
                    columns.push((false, of_ask.len()));
                    of_ask.push(theirs);
                }
                None => {
                    columns.push((true, of_own.len()));
                    of_own.push(*field);
                }
            }
        }
        let pieces = |reader: &Reader, fields: &[Field]| -> Cursor<Pieces> {
            let pieces = reader.scan(span, Some(fields));
            Cursor::new(Box::new(pieces.map(move |piece| Ok(piece?.rescaled(scale)))))
        };
        let (own, ask) = (pieces(own, &of_own), pieces(ask, &of_ask));
        SideBySide { own, ask, columns, fields: fields.to_vec(), scale }
    }

    fn piece(&mut self) -> Result<Option<Columns>> {
        let mut out = Columns::empty(&self.fields, self.scale);
        while out.len() < PIECE_ROWS {
            let (here, there) = (self.own.time()?, self.ask.time()?);
            let Some(time) = here.into_iter().chain(there).min() else { break };
            out.time.push(time);
            let (has_own, has_ask) = (here == Some(time), there == Some(time));
            for (column, (field, (is_own, place))) in
                out.data.iter_mut().zip(self.fields.iter().zip(&self.columns))
            {
                let (cursor, has) = if *is_own { (&self.own, has_own) } else { (&self.ask, has_ask) };
                column.push(if has { cursor.rows().data[*place][cursor.at()] } else { blank(*field) });
            }
            self.own.pass(usize::from(has_own));
            self.ask.pass(usize::from(has_ask));
        }
        Ok((!out.is_empty()).then_some(out))
    }
}

impl Iterator for SideBySide {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Result<Columns>> {
        self.piece().transpose()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::MINUTE;

    #[test]
    fn a_bar_has_the_weight_of_its_heaviest_event_and_none_of_the_time_without_bars() {
        let at = |minute: Micros| minute * MINUTE;
        let all = [(at(0) - 1, 3), (at(0), 1), (at(0) + 1, 2), (at(2), 3), (at(6) + 5, 3), (at(9), 1)];
        let events = BarEvents { all: all.into(), length: at(5) };
        // Bars of five minutes; of the one that begins at 20 the rest is not there.
        assert_eq!(events.column(&[at(0), at(5), at(20)]), [3, 3, ABSENT]);
        // A bar ends where the next begins.
        assert_eq!(events.column(&[at(0), at(2), at(4)]), [2, 3, 3]);
        assert_eq!(events.column(&[]), [0; 0]);
    }
}
