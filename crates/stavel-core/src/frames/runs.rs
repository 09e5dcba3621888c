//! The fast way for rows that lack nothing: all rows of a bar at once, column by column.
//!
//! A piece goes this way where each of its columns is either whole or not there at all and its numbers are small enough
//! for sums to be safe; every other piece goes row by row ([`super::rows`]), with the same result.

use std::ops::Range;

use super::builder::Builder;
use super::cut::Cut;
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

/// The origins of a piece, which most pieces do not have or have one of.
struct Origins<'a>(&'a [i64]);

impl Origins<'_> {
    fn add_to(&self, now: &mut OpenBar, run: &Range<usize>, has_spread: bool) {
        let Some(run) = self.0.get(run.clone()) else { return };
        match run {
            [first, rest @ ..] if rest.iter().all(|o| o == first) => now.add_origin(*first, has_spread),
            all => all.iter().for_each(|o| now.add_origin(*o, has_spread)),
        }
    }

    fn first(&self, run: &Range<usize>) -> i64 {
        self.0.get(run.start).copied().unwrap_or(0)
    }
}

fn high_low(prices: &[i64]) -> (i64, i64) {
    prices.iter().fold((i64::MIN, i64::MAX), |(high, low), p| (high.max(*p), low.min(*p)))
}

/// How many of the times, which are in order, lie before a moment. Bars are short: the end is looked for from the
/// beginning on in steps that double.
fn rows_before(times: &[Micros], end: Micros) -> usize {
    let mut step = 1;
    while step < times.len() && times[step] < end {
        step *= 2;
    }
    let from = step / 2;
    from + times[from..times.len().min(step + 1)].partition_point(|t| *t < end)
}

/// The next rows that go into one bar, and whether the last of them counts as a close.
struct Run {
    rows: Range<usize>,
    is_close: bool,
}

impl Builder {
    /// The run that begins with a row; the bar is opened where the row begins one.
    fn run_at(&mut self, times: &[Micros], row: usize, first: &BarRow) -> Run {
        let time = times[row];
        let (is_close, until) = self.close_counts(time);
        let end = match &self.now {
            Some(now) if now.span.holds(time) => now.span.to,
            _ => self.open_bar(first).span.to,
        };
        let count = rows_before(&times[row..], end.min(until)).max(1);
        Run { rows: row..row + count, is_close }
    }

    /// Takes quotes; false where they have to go row by row.
    pub(super) fn push_quotes_in_runs(&mut self, rows: &Part<'_>) -> bool {
        if !matches!(self.cut, Cut::Time(_)) {
            return false;
        }
        let whole = |field: Field| Whole::of(rows.column(field));
        let (Some(Whole(Some(bid))), Some(Whole(Some(ask)))) = (whole(Field::Bid), whole(Field::Ask)) else {
            return false;
        };
        let (Some(bid_volume), Some(ask_volume)) = (whole(Field::BidVolume), whole(Field::AskVolume)) else {
            return false;
        };
        let origins = Origins(rows.column(Field::Origin));
        let (times, middles, time) = (self.times, self.middles(bid, ask), rows.time());
        let prices = match self.side {
            Side::Ask => ask,
            Side::Mid => &middles,
            Side::Bid | Side::Last => bid,
        };
        let mut row = 0;
        while row < time.len() {
            let begin = BarRow::flat(time[row], prices[row], origins.first(&(row..row + 1)));
            let Run { rows: run, is_close } = self.run_at(time, row, &begin);
            row = run.end;
            let Some(now) = &mut self.now else { break };
            let (high, low) = high_low(&prices[run.clone()]);
            let (open, close) = (prices[run.start], prices[run.end - 1]);
            now.add_prices(&Bar { open, high, low, close }, run.len() as i64, is_close);
            now.add_spread(&spread_of(&bid[run.clone()], &ask[run.clone()], times));
            now.add_sums(&Amounts {
                volume: None,
                bid_volume: bid_volume.sum(&run),
                ask_volume: ask_volume.sum(&run),
                ticks: Some(run.len() as i64),
            });
            origins.add_to(now, &run, true);
        }
        true
    }

    /// The middles of quotes, at the scale of the bars; nothing where another side is wanted.
    fn middles(&self, bid: &[i64], ask: &[i64]) -> Vec<i64> {
        if self.side != Side::Mid {
            return Vec::new();
        }
        bid.iter().zip(ask).map(|(bid, ask)| ((bid + ask) * self.times).div_euclid(2)).collect()
    }

    /// Takes bars; false where they have to go row by row.
    pub(super) fn push_bars_in_runs(&mut self, rows: &Part<'_>) -> bool {
        if !matches!(self.cut, Cut::Time(_)) {
            return false;
        }
        let whole = |field: Field| Whole::of(rows.column(field));
        let prices = [Field::Open, Field::High, Field::Low, Field::Close].map(whole);
        let [
            Some(Whole(Some(opens))),
            Some(Whole(Some(highs))),
            Some(Whole(Some(lows))),
            Some(Whole(Some(closes))),
        ] = prices
        else {
            return false;
        };
        let sums = [Field::Volume, Field::BidVolume, Field::AskVolume, Field::TickCount].map(whole);
        let [Some(volume), Some(bid_volume), Some(ask_volume), Some(ticks)] = sums else { return false };
        // Means that stand for a number of ticks each are rare: they go row by row.
        let has_ends = rows.fields().iter().any(|f| f.is_detail());
        let Some(spreads) = whole(Field::Spread).filter(|_| !self.has_means && !has_ends) else {
            return false;
        };
        let (interest, time) = (Cells::new(rows.column(Field::OpenInterest)), rows.time());
        let origins = Origins(rows.column(Field::Origin));
        let mut row = 0;
        while row < time.len() {
            let begin = BarRow {
                bar: Bar { open: opens[row], high: highs[row], low: lows[row], close: closes[row] },
                ..BarRow::flat(time[row], opens[row], origins.first(&(row..row + 1)))
            };
            let Run { rows: run, is_close } = self.run_at(time, row, &begin);
            row = run.end;
            let Some(now) = &mut self.now else { break };
            let high = highs[run.clone()].iter().fold(i64::MIN, |high, p| high.max(*p));
            let low = lows[run.clone()].iter().fold(i64::MAX, |low, p| low.min(*p));
            let (open, close) = (opens[run.start], closes[run.end - 1]);
            now.add_prices(&Bar { open, high, low, close }, run.len() as i64, is_close);
            if let Some(spreads) = spreads.0 {
                let run = &spreads[run.clone()];
                let (high, low) = high_low(run);
                let (sum, count) = (run.iter().sum(), run.len() as i64);
                now.add_spread(&RowSpread { open: run[0], high, low, sum, count });
            }
            now.add_sums(&Amounts {
                volume: volume.sum(&run),
                bid_volume: bid_volume.sum(&run),
                ask_volume: ask_volume.sum(&run),
                ticks: ticks.sum(&run),
            });
            if let Some(last) = run.clone().rev().find_map(|i| interest.get(i)) {
                now.set_open_interest(last);
            }
            origins.add_to(now, &run, spreads.0.is_some());
        }
        true
    }
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
