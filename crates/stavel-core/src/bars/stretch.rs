//! Rows that lack nothing, and what neighbouring ones of them come to.

use std::borrow::Cow;
use std::ops::Range;

use super::open_bar::{Amounts, BarRow, OpenBar, RowSpread};
use super::part::Part;
use crate::model::{ABSENT, Bar, Cells, Field, Micros, Side};

/// Numbers of a piece that are smaller than this add up, and multiply by ten, without leaving an `i64`.
const TAME: i64 = 1 << 40;

/// A column of a piece that lacks no value, or that is not there.
#[derive(Clone, Copy)]
struct Whole<'a>(Option<&'a [i64]>);

impl<'a> Whole<'a> {
    /// None where the column has absent values beside others, or very large ones.
    fn of(column: &'a [i64]) -> Option<Whole<'a>> {
        if column.iter().all(|v| -TAME < *v && *v < TAME) {
            return Some(Whole((!column.is_empty()).then_some(column)));
        }
        column.iter().all(|v| *v == ABSENT).then_some(Whole(None))
    }

    fn sum(&self, run: &Range<usize>) -> Option<i64> {
        self.0.map(|column| column[run.clone()].iter().sum())
    }
}

/// Neighbouring rows that go into one bar together.
pub(super) struct Stretch {
    pub rows: Range<usize>,
    /// The time of the last of them.
    pub last: Micros,
    bar: Bar,
    spread: Option<RowSpread>,
    sums: Amounts,
    open_interest: Option<i64>,
}

/// A piece of rows of which each column is either whole or not there at all, with numbers small enough for sums to be
/// safe. Counted from its first row.
pub(super) struct WholeRows<'a> {
    pub time: &'a [Micros],
    values: Values<'a>,
    origins: &'a [i64],
}

enum Values<'a> {
    Bars(BarColumns<'a>),
    Quotes(QuoteColumns<'a>),
}

struct BarColumns<'a> {
    open: &'a [i64],
    high: &'a [i64],
    low: &'a [i64],
    close: &'a [i64],
    volume: Whole<'a>,
    bid_volume: Whole<'a>,
    ask_volume: Whole<'a>,
    ticks: Whole<'a>,
    spread: Whole<'a>,
    interest: Cells<'a>,
}

struct QuoteColumns<'a> {
    bid: &'a [i64],
    ask: &'a [i64],
    /// Those of the side that is wanted, at the scale of the bars.
    prices: Cow<'a, [i64]>,
    bid_volume: Whole<'a>,
    ask_volume: Whole<'a>,
    /// Points of the bars in a point of the rows.
    times: i64,
}

impl<'a> WholeRows<'a> {
    /// Bars; none where they have to be looked at one by one.
    pub fn of_bars(rows: &Part<'a>) -> Option<WholeRows<'a>> {
        let whole = |field: Field| Whole::of(rows.column(field));
        let there = |field: Field| whole(field).and_then(|column| column.0);
        // Means that stand for a number of ticks each are rare.
        if rows.fields().iter().any(|f| f.is_detail()) {
            return None;
        }
        let columns = BarColumns {
            open: there(Field::Open)?,
            high: there(Field::High)?,
            low: there(Field::Low)?,
            close: there(Field::Close)?,
            volume: whole(Field::Volume)?,
            bid_volume: whole(Field::BidVolume)?,
            ask_volume: whole(Field::AskVolume)?,
            ticks: whole(Field::TickCount)?,
            spread: whole(Field::Spread)?,
            interest: Cells::new(rows.column(Field::OpenInterest)),
        };
        Some(WholeRows::of(rows, Values::Bars(columns)))
    }

    /// Quotes, by their prices of a side, `times` as fine as they are; none where they have to be looked at one by one.
    pub fn of_quotes(rows: &Part<'a>, side: Side, times: i64) -> Option<WholeRows<'a>> {
        let whole = |field: Field| Whole::of(rows.column(field));
        let (bid, ask) = (whole(Field::Bid)?.0?, whole(Field::Ask)?.0?);
        let prices = match side {
            Side::Ask => Cow::Borrowed(ask),
            Side::Mid => bid.iter().zip(ask).map(|(bid, ask)| ((bid + ask) * times).div_euclid(2)).collect(),
            Side::Bid | Side::Last => Cow::Borrowed(bid),
        };
        let (bid_volume, ask_volume) = (whole(Field::BidVolume)?, whole(Field::AskVolume)?);
        let columns = QuoteColumns { bid, ask, prices, bid_volume, ask_volume, times };
        Some(WholeRows::of(rows, Values::Quotes(columns)))
    }

    fn of(rows: &Part<'a>, values: Values<'a>) -> WholeRows<'a> {
        WholeRows { time: rows.time(), values, origins: rows.column(Field::Origin) }
    }

    /// A row as the first of a bar.
    pub fn first_row(&self, row: usize) -> BarRow {
        let origin = self.origins.get(row).copied().unwrap_or(0);
        let bar = match &self.values {
            Values::Bars(of) => {
                Bar { open: of.open[row], high: of.high[row], low: of.low[row], close: of.close[row] }
            }
            Values::Quotes(of) => Bar::flat(of.prices[row]),
        };
        BarRow { bar, ..BarRow::flat(self.time[row], bar.open, origin) }
    }

    /// What rows come to; at least one.
    #[inline(always)]
    pub fn stretch(&self, rows: Range<usize>) -> Stretch {
        let last = self.time[rows.end - 1];
        match &self.values {
            Values::Bars(of) => of.stretch(rows, last),
            Values::Quotes(of) => of.stretch(rows, last),
        }
    }

    /// All rows in stretches that lie within whole multiples of a length of time.
    pub fn stretches(&self, length: Micros) -> Vec<Stretch> {
        let mut stretches = Vec::new();
        let mut row = 0;
        while row < self.time.len() {
            let end = (self.time[row].div_euclid(length) + 1).saturating_mul(length);
            let count = rows_before(&self.time[row..], end).max(1);
            stretches.push(self.stretch(row..row + count));
            row += count;
        }
        stretches
    }

    /// Puts rows into the bar they belong to.
    #[inline(always)]
    pub fn add(&self, stretch: &Stretch, now: &mut OpenBar, is_close: bool) {
        now.add_prices(&stretch.bar, stretch.rows.len() as i64, is_close);
        if let Some(spread) = &stretch.spread {
            now.add_spread(spread);
        }
        now.add_sums(&stretch.sums);
        if let Some(last) = stretch.open_interest {
            now.set_open_interest(last);
        }
        // Most pieces have no origins, or one.
        let has_spread = stretch.spread.is_some();
        match self.origins.get(stretch.rows.clone()) {
            Some([first, rest @ ..]) if rest.iter().all(|o| o == first) => now.add_origin(*first, has_spread),
            Some(all) => all.iter().for_each(|o| now.add_origin(*o, has_spread)),
            None => {}
        }
    }
}

impl BarColumns<'_> {
    #[inline(always)]
    fn stretch(&self, rows: Range<usize>, last: Micros) -> Stretch {
        let high = self.high[rows.clone()].iter().fold(i64::MIN, |high, p| high.max(*p));
        let low = self.low[rows.clone()].iter().fold(i64::MAX, |low, p| low.min(*p));
        let bar = Bar { open: self.open[rows.start], high, low, close: self.close[rows.end - 1] };
        let spread = self.spread.0.map(|spreads| {
            let run = &spreads[rows.clone()];
            let (high, low) = high_low(run);
            RowSpread { open: run[0], high, low, sum: run.iter().sum(), count: run.len() as i64 }
        });
        let sums = Amounts {
            volume: self.volume.sum(&rows),
            bid_volume: self.bid_volume.sum(&rows),
            ask_volume: self.ask_volume.sum(&rows),
            ticks: self.ticks.sum(&rows),
        };
        let open_interest = rows.clone().rev().find_map(|i| self.interest.get(i));
        Stretch { rows, last, bar, spread, sums, open_interest }
    }
}

impl QuoteColumns<'_> {
    #[inline(always)]
    fn stretch(&self, rows: Range<usize>, last: Micros) -> Stretch {
        let (high, low) = high_low(&self.prices[rows.clone()]);
        let bar = Bar { open: self.prices[rows.start], high, low, close: self.prices[rows.end - 1] };
        let sums = Amounts {
            volume: None,
            bid_volume: self.bid_volume.sum(&rows),
            ask_volume: self.ask_volume.sum(&rows),
            ticks: Some(rows.len() as i64),
        };
        let spread = Some(spread_of(&self.bid[rows.clone()], &self.ask[rows.clone()], self.times));
        Stretch { rows, last, bar, spread, sums, open_interest: None }
    }
}

fn high_low(prices: &[i64]) -> (i64, i64) {
    prices.iter().fold((i64::MIN, i64::MAX), |(high, low), p| (high.max(*p), low.min(*p)))
}

/// How many of the times, which are in order, lie before a moment. Bars are short: the end is looked for from the
/// beginning on in steps that double.
pub(super) fn rows_before(times: &[Micros], end: Micros) -> usize {
    let mut step = 1;
    while step < times.len() && times[step] < end {
        step *= 2;
    }
    let from = step / 2;
    from + times[from..times.len().min(step + 1)].partition_point(|t| *t < end)
}

/// The spreads of quotes that have both sides, at a scale so many times finer.
fn spread_of(bid: &[i64], ask: &[i64], times: i64) -> RowSpread {
    let (mut high, mut low, mut sum) = (i64::MIN, i64::MAX, 0);
    for (bid, ask) in bid.iter().zip(ask) {
        let spread = ask - bid;
        high = high.max(spread);
        low = low.min(spread);
        sum += spread;
    }
    let open = ask.first().zip(bid.first()).map_or(0, |(ask, bid)| ask - bid);
    RowSpread {
        open: open * times,
        high: high * times,
        low: low * times,
        sum: sum * times,
        count: bid.len() as i64,
    }
}
