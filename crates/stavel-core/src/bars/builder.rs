//! Building bars.

use std::ops::Range;

use super::cut::Cut;
use super::grid::{Grid, can_build};
use super::open_bar::{BarRow, OpenBar};
use super::part::Part;
use super::settle::Settling;
use crate::model::columns::shape_of;
use crate::model::price::{LIMIT, MAX_DECIMALS, unit};
use crate::model::{ABSENT, Columns, Field, Frame, Micros, Scale, Session, Shape, Side, Span};
use crate::{Error, Result};

/// Builds bars of one frame out of rows in order of time.
pub struct Builder {
    pub(super) cut: Cut,
    /// Tells which closes count, in frames of days and longer of a session that settles.
    pub(super) settling: Option<Settling>,
    pub(super) side: Side,
    /// What lies open or closed where the rows begin and end.
    days: Grid,
    from: Frame,
    to: Frame,
    pub(super) now: Option<OpenBar>,
    bars: Columns,
    first: Option<Micros>,
    last: Micros,
    last_stamp: Option<Micros>,
    first_bar: Span,
    on_closed_days: u64,
    pub(super) too_large: u64,
    /// Points of its bars in a point of the rows.
    pub(super) times: i64,
    /// True where rows are bars that say a mean of spreads and of how many.
    pub(super) has_means: bool,
}

/// Bars and whether the first and last of them lack rows at their outer ends.
pub struct Built {
    /// The bars.
    pub bars: Columns,
    /// True where the rows begin within the first bar.
    pub partial_first: bool,
    /// True where the rows may end within the last bar.
    pub partial_last: bool,
    /// Bars of days on which the session does not open.
    pub on_closed_days: u64,
    /// Sums and prices that were more than a column holds ([`LIMIT`]); they are absent.
    pub too_large: u64,
    /// Bars without rows that were filled.
    pub filled: u64,
}

/// A value as a column holds it: absent where it is too large, which is counted.
#[inline(always)]
pub(super) fn held(value: i64, too_large: &mut u64) -> i64 {
    if value == ABSENT || value < LIMIT && value > -LIMIT {
        return value;
    }
    *too_large += 1;
    ABSENT
}

/// What bars made of rows with these fields have. The details are how many ticks a bar is made of, the volumes of both
/// sides, and the first, widest and narrowest spread beside the mean.
fn fields_of_bars(rows: &[Field], has_details: bool) -> Vec<Field> {
    use Field::*;
    let has = |field: &Field| rows.contains(field);
    let is_of_ticks = !matches!(shape_of(rows), Shape::Bars | Shape::Layered);
    let has_spread = has(&Spread) || has(&Bid);
    let is_there = |field: &Field| match field {
        Open | High | Low | Close => true,
        Volume => [Volume, BidVolume, AskVolume].iter().any(has),
        Spread => has_spread,
        TickCount => has(field) && !is_of_ticks || has_details && is_of_ticks,
        OpenInterest | Origin => has(field),
        BidVolume | AskVolume => has_details && has(field),
        SpreadOpen | SpreadHigh | SpreadLow => {
            has_details && (has(field) || is_of_ticks && has(&Bid) && has(&Ask))
        }
        _ => false,
    };
    Field::ALL.into_iter().filter(is_there).collect()
}

/// # Errors
/// Where rows with these fields have no price of that side.
fn refuse_side(side: Side, fields: &[Field]) -> Result<()> {
    let lacks = match (shape_of(fields), side) {
        (Shape::Trades, Side::Ask | Side::Mid) => "trades have one price, the last; leave the side away",
        (Shape::Quotes, Side::Last) => "quotes have a bid and an ask and no last price; take bid, ask or mid",
        (Shape::Quotes, Side::Ask | Side::Mid) if !fields.contains(&Field::Ask) => {
            "its quotes have no ask; take bid"
        }
        _ => return Ok(()),
    };
    Err(Error::input(format!("Bars of the {side} cannot be made: {lacks}.")))
}

impl Builder {
    /// A builder of `to` bars out of rows at `from`; `side` says which price of quotes is meant. One tick size is one
    /// point of the rows until [`Builder::with_tick`] says more.
    ///
    /// # Errors
    /// Where `to` cannot be made of `from`.
    pub fn new(
        from: Frame,
        to: Frame,
        side: Side,
        fields: &[Field],
        scale: Scale,
        session: &Session,
    ) -> Result<Builder> {
        if !can_build(from, to) {
            let reason = match (from, to) {
                (Frame::Counted { .. }, _) => {
                    format!(
                        "Bars of {to} cannot be made of {from}, which end at any time; build them from the ticks"
                    )
                }
                (_, Frame::Counted { .. }) => {
                    format!("Bars of {to} are counted from ticks and cannot be made of {from}")
                }
                _ => format!(
                    "Bars of {to} cannot be made of {from}; choose a longer frame that {from} divides"
                ),
            };
            return Err(Error::arguments(format!("{reason}.")));
        }
        if let Frame::Counted { by, .. } = to {
            by.is_known_of(fields)
                .map_err(|lack| Error::input(format!("Bars of {to} cannot be made: {lack}.")))?;
        }
        refuse_side(side, fields)?;
        // The middle of bid and ask may lie on half a point.
        let halves = side == Side::Mid && !from.is_bars() && scale.price < MAX_DECIMALS;
        let times = if halves { 10 } else { 1 };
        let scale = if halves { Scale { price: scale.price + 1, ..scale } } else { scale };
        Ok(Builder {
            cut: Cut::new(to, session, unit(scale.volume), times),
            settling: to.is_of_days().then(|| Settling::new(session, from.length())).flatten(),
            side,
            days: Grid::new(Frame::D1, session),
            from,
            to,
            now: None,
            bars: Columns::empty(&fields_of_bars(fields, false), scale),
            first: None,
            last: 0,
            last_stamp: None,
            first_bar: Span::new(0, 0),
            on_closed_days: 0,
            too_large: 0,
            times,
            has_means: fields.contains(&Field::SpreadOpen) && fields.contains(&Field::TickCount),
        })
    }

    /// Bars also with the details of `fields`, those of the rows: how many ticks, the volumes of both sides, and the
    /// first, widest and narrowest spread.
    #[must_use]
    pub fn with_details(mut self, fields: &[Field]) -> Builder {
        self.bars = Columns::empty(&fields_of_bars(fields, true), self.bars.scale);
        self
    }

    /// One tick size is so many points of the rows; bars of a range are told in it.
    #[must_use]
    pub fn with_tick(mut self, points: i64, session: &Session) -> Builder {
        self.cut =
            Cut::new(self.to, session, unit(self.bars.scale.volume), points.saturating_mul(self.times));
        self
    }

    /// Takes the next rows.
    pub fn push(&mut self, rows: &Columns) {
        self.push_range(rows, 0..rows.len());
    }

    /// Takes the next rows, some neighbouring ones of a piece.
    pub fn push_range(&mut self, rows: &Columns, range: Range<usize>) {
        let part = Part { rows, range };
        if part.time().is_empty() {
            return;
        }
        self.saw(part.time());
        if self.push_in_runs(&part) {
            return;
        }
        let rows = part.to_rows();
        match rows.shape() {
            Shape::Bars => self.push_bars(&rows),
            Shape::Quotes => self.push_quotes(&rows),
            Shape::Trades => self.push_trades(&rows),
            Shape::Layered => self.push_layers(&rows),
            // `Builder::new` refuses depth.
            Shape::Depth => {}
        }
    }

    /// Notes the times of the next rows.
    pub(super) fn saw(&mut self, times: &[Micros]) {
        if let (Some(first), Some(last)) = (times.first(), times.last()) {
            self.first.get_or_insert(*first);
            self.last = *last;
        }
    }

    /// The length of its bars; none where it differs from bar to bar.
    pub(super) fn length(&self) -> Option<Micros> {
        Some(self.to.length()).filter(|length| *length > 0)
    }

    /// Whether the price of a row at this time counts as a close, and until when that holds.
    #[inline(always)]
    pub(super) fn close_counts(&mut self, time: Micros) -> (bool, Micros) {
        self.settling.as_mut().map_or((true, Micros::MAX), |s| s.at(time))
    }

    #[inline(always)]
    pub(super) fn row(&mut self, row: BarRow) {
        let (is_close, _) = self.close_counts(row.time);
        let side = self.side;
        match &mut self.now {
            Some(now) if now.span.holds(row.time) && self.cut.takes(now, &row, side) => {
                now.add_prices(&row.bar, 1, is_close);
                now.add_beside(&row);
            }
            _ => {
                let now = self.open_bar(&row);
                now.add_prices(&row.bar, 1, is_close);
                now.add_beside(&row);
            }
        }
    }

    /// Ends the bar before and opens the one of a row, which is not taken yet.
    #[cold]
    pub(super) fn open_bar(&mut self, row: &BarRow) -> &mut OpenBar {
        self.close_bar();
        let at = self.cut.bar_at(row, self.last_stamp);
        self.on_closed_days += u64::from(!at.opens);
        if self.last_stamp.is_none() {
            self.first_bar = at.span;
        }
        self.last_stamp = Some(at.stamp);
        self.now.insert(OpenBar::new(&at, row))
    }

    fn close_bar(&mut self) {
        let Some(now) = self.now.take() else { return };
        self.bars.time.push(now.stamp);
        for (field, column) in self.bars.fields.iter().zip(&mut self.bars.data) {
            column.push(held(now.value(*field, self.side), &mut self.too_large));
        }
    }

    /// The fields of its bars.
    pub fn fields(&self) -> &[Field] {
        &self.bars.fields
    }

    /// True for a field of the rows that its bars are made of.
    pub fn reads(&self, field: Field) -> bool {
        match field {
            // Volumes of the other side matter where both are told, or added up.
            Field::BidVolume => self.side != Side::Ask || self.bars.has(field),
            Field::AskVolume => matches!(self.side, Side::Ask | Side::Mid) || self.bars.has(field),
            field if field.is_detail() => self.bars.has(field),
            _ => true,
        }
    }

    /// The fields and the scale of its bars.
    pub fn shape(&self) -> &Columns {
        &self.bars
    }

    /// The bars that are whole so far; they are given once.
    pub fn take_closed(&mut self) -> Columns {
        let empty = Columns::empty(&self.bars.fields, self.bars.scale);
        std::mem::replace(&mut self.bars, empty)
    }

    /// The bar that is open, as it is so far; no row where none is.
    pub fn open_so_far(&self) -> Columns {
        let mut bar = Columns::empty(&self.bars.fields, self.bars.scale);
        let Some(now) = &self.now else { return bar };
        bar.time.push(now.stamp);
        for (field, column) in bar.fields.iter().zip(&mut bar.data) {
            column.push(held(now.value(*field, self.side), &mut 0));
        }
        bar
    }

    /// Ends the rows and gives the bars.
    pub fn finish(mut self) -> Built {
        let last_bar = self.now.as_ref().filter(|now| !self.cut.is_full(now, self.side)).map(|now| now.span);
        self.close_bar();
        let open_in = |from: Micros, to: Micros, days: &Grid| days.open_time(Span::new(from, to)) > 0;
        let partial_first = self.first.is_some_and(|first| open_in(self.first_bar.from, first, &self.days));
        let last_end = self.last + self.from.length().max(1);
        let partial_last =
            last_bar.is_some_and(|bar| last_end < bar.to && open_in(last_end, bar.to, &self.days));
        Built {
            bars: self.bars,
            partial_first,
            partial_last,
            on_closed_days: self.on_closed_days,
            too_large: self.too_large,
            filled: 0,
        }
    }
}
