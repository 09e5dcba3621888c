//! The spread of rows that do not say theirs: one rule, wherever a history is played.

use super::row_source::RowSource;
use super::with_ask::{WithAsk, spreads_of};
use crate::hour_spreads::{HourSpreads, SpreadCounter};
use crate::model::instrument::SpecSheet;
use crate::model::{Clock, Field, Micros, Side, Span};
use crate::store::{SeriesInfo, Shelf};
use crate::{Advice, Error, Result};

/// Where the spread of a quote comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SpreadFrom {
    /// The row says it.
    Rows,
    /// The usual one of its hour of the week, measured from rows that know theirs.
    Measured,
    /// The spec sheet.
    Sheet,
}

/// What a row's spread is taken to be where it says none: the usual one of its hour of the week, else that of the
/// spec sheet, else the usual one of all hours. None where neither rows nor sheet say any.
#[derive(Debug, Clone)]
pub struct SpreadRule {
    instrument: String,
    measured: HourSpreads,
    usual: Option<i64>,
    wall: Clock,
    sheet: Option<i64>,
    /// Which side of the market the prices of its bars are.
    side: Side,
    /// True where rows were measured that come after the beginning.
    looks_ahead: bool,
}

impl SpreadRule {
    /// A rule out of what was measured on a wall and the spread of the spec sheet, both in points of the prices.
    pub fn new(instrument: &str, measured: HourSpreads, wall: &Clock, sheet: Option<i64>) -> SpreadRule {
        SpreadRule {
            instrument: instrument.into(),
            usual: measured.usual(),
            measured,
            wall: wall.clone(),
            sheet,
            side: Side::Bid,
            looks_ahead: false,
        }
    }

    /// The same for bars of a side of the market.
    #[must_use]
    pub fn for_side(self, side: Side) -> SpreadRule {
        SpreadRule { side, ..self }
    }

    /// Bid and ask of a price of a bar with a spread. Prices of trades stand for the bid; of a middle an odd point goes to the bid.
    pub fn sides(&self, price: i64, spread: i64) -> (i64, i64) {
        let bid = match self.side {
            Side::Bid | Side::Last => price,
            Side::Ask => price - spread,
            Side::Mid => price - (spread + 1).div_euclid(2),
        };
        (bid, bid + spread)
    }

    /// The rule for a series that is played from a moment on, with the bars of its ask where they are played beside it, measured
    /// over the rows before that moment; where none of those says a spread, over all its rows.
    ///
    /// # Errors
    /// Where they cannot be read.
    pub fn of(
        shelf: &Shelf,
        info: &SeriesInfo,
        ask: Option<&SeriesInfo>,
        sheet: &SpecSheet,
        begin: Option<Micros>,
    ) -> Result<SpreadRule> {
        let edition = &info.edition;
        let wall = &sheet.session.clock;
        let has = |f: &Field| edition.fields.contains(f);
        let measured = |span: Span| -> Result<HourSpreads> {
            let mut counter = SpreadCounter::new(wall);
            // Of quotes each says its own.
            if let Some(ask) = ask {
                for rows in WithAsk::of(shelf, (info, ask), span)?.rows_from(span.from)? {
                    counter.add(&spreads_of(&rows?));
                }
            } else if has(&Field::Spread) {
                let fields: Vec<Field> = SpreadCounter::FIELDS.into_iter().filter(has).collect();
                for rows in shelf.scan(edition, span, Some(&fields))? {
                    counter.add(&rows?);
                }
            }
            Ok(counter.finish())
        };
        let points = sheet.spread_at(edition.scale.price);
        let name = &info.name.instrument;
        let before = match begin {
            Some(begin) => measured(Span::new(Micros::MIN, begin))?,
            None => HourSpreads(Vec::new()),
        };
        if !before.is_empty() {
            return Ok(SpreadRule::new(name, before, wall, points).for_side(info.name.side));
        }
        let all = measured(Span::ALL)?;
        let looks_ahead = !all.is_empty();
        let rule = SpreadRule::new(name, all, wall, points).for_side(info.name.side);
        Ok(SpreadRule { looks_ahead, ..rule })
    }

    /// The rule measured on another series of the instrument, for a series whose rows have no spread: by the hour of the
    /// week, over the rows before `begin`, or over all rows if none of those has one. Spreads are converted to the points
    /// of `info`; one that is no whole number of them is rounded up.
    ///
    /// # Errors
    /// If the rows of `other` cannot be read.
    pub fn measured_on(
        shelf: &Shelf,
        other: &SeriesInfo,
        info: &SeriesInfo,
        sheet: &SpecSheet,
        begin: Option<Micros>,
    ) -> Result<SpreadRule> {
        let rule = SpreadRule::of(shelf, other, None, sheet, begin)?;
        let rule =
            if rule.measured.is_empty() { rule.measured_on_quotes(shelf, other, begin)? } else { rule };
        let (from, to) = (u32::from(other.edition.scale.price), u32::from(info.edition.scale.price));
        let converted = |points: i64| match to >= from {
            true => points.saturating_mul(10i64.saturating_pow(to - from)),
            false => (points + 10i64.pow(from - to) - 1).div_euclid(10i64.pow(from - to)),
        };
        let measured = HourSpreads(rule.measured.0.iter().map(|spread| spread.map(converted)).collect());
        let looks_ahead = rule.looks_ahead;
        let rule =
            SpreadRule::new(&info.name.instrument, measured, &rule.wall, None).for_side(info.name.side);
        Ok(SpreadRule { looks_ahead, ..rule })
    }

    /// The same rule with the spreads of the quotes of a series.
    fn measured_on_quotes(
        self,
        shelf: &Shelf,
        info: &SeriesInfo,
        begin: Option<Micros>,
    ) -> Result<SpreadRule> {
        let fields: Vec<Field> =
            SpreadCounter::FIELDS.into_iter().filter(|f| info.edition.fields.contains(f)).collect();
        let measured = |span: Span| -> Result<HourSpreads> {
            let mut counter = SpreadCounter::new(&self.wall);
            for rows in shelf.scan(&info.edition, span, Some(&fields))? {
                counter.add(&rows?);
            }
            Ok(counter.finish())
        };
        let before = begin.map(|begin| measured(Span::new(Micros::MIN, begin))).transpose()?;
        let (found, looks_ahead) = match before.filter(|before| !before.is_empty()) {
            Some(before) => (before, false),
            None => (measured(Span::ALL)?, true),
        };
        Ok(SpreadRule { usual: found.usual(), measured: found, looks_ahead, ..self })
    }

    /// Whether neither the rows nor the spec sheet give a spread.
    pub fn is_unknown(&self) -> bool {
        self.usual.is_none() && self.sheet.is_none()
    }

    /// True where rows after the beginning were measured: none before it says a spread.
    pub fn looks_ahead(&self) -> bool {
        self.looks_ahead
    }

    /// The spread of a moment, in points, and where it comes from; none where nothing says any.
    pub fn at(&self, time: Micros) -> Option<(i64, SpreadFrom)> {
        let measured = |spread| (spread, SpreadFrom::Measured);
        let hour = self.measured.at(&self.wall, time).map(measured);
        hour.or(self.sheet.map(|s| (s, SpreadFrom::Sheet))).or(self.usual.map(measured))
    }

    /// What a person is asked where nothing says a spread.
    pub(super) fn question(&self) -> Error {
        Error::undecided(format!(
            "{0} has no spread, neither in its rows nor in its spec sheet, so the ask is unknown. Set one in points, or measure it on another series with --spread-of SERIES.",
            self.instrument
        )).advise(Advice::SetValue { instrument: self.instrument.clone(), key: "spread" })
    }

    /// Where rows that say no spread have theirs from.
    pub fn source(&self) -> SpreadFrom {
        match (self.usual, self.sheet) {
            (Some(_), _) => SpreadFrom::Measured,
            (None, Some(_)) => SpreadFrom::Sheet,
            (None, None) => SpreadFrom::Rows,
        }
    }
}

/// How many quotes had their spread from where.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct SpreadsUsed {
    /// Rows that say their own spread.
    pub own: u64,
    /// Rows given the spread measured for their hour of the week.
    pub measured: u64,
    /// Rows given the fixed spread of the spec sheet.
    pub sheet: u64,
}

impl SpreadsUsed {
    pub(super) fn count(&mut self, from: SpreadFrom, quotes: u64) {
        *(match from {
            SpreadFrom::Rows => &mut self.own,
            SpreadFrom::Measured => &mut self.measured,
            SpreadFrom::Sheet => &mut self.sheet,
        }) += quotes;
    }
}
