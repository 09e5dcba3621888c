//! Bars back to ticks, where only bars exist.
//!
//! A bar does not know in which order its high and its low came. [`PathShape`] says how likely either order is, by where
//! the bar opens and closes between them, as measured on bars of the same instrument that do have ticks; without any, a
//! random walk says it. The ticks of a bar begin at its open, go over both ends to its close, share out its volume to the
//! last unit and have its spread. They depend on the seed, the bar and the model alone, and give the bar back exactly.
//! How far such ticks are from real ones is measured where there are some ([`PathError`]).

mod error;
mod measure;
mod on_shelf;
mod path;
mod shape;

pub use crate::model::provenance::PathError;
pub use measure::PathMeasure;
pub use on_shelf::{MeasuredOn, RebuiltSeries, TicksFrom, rebuild_series};
pub use shape::PathShape;

use crate::chance::Chance;
use path::{BarSpreads, PathBar};

use crate::bars::Grid;
use crate::model::columns::{MADE_UP, REBUILT};
use crate::model::session::OpenHours;
use crate::model::time::MINUTE;
use crate::model::{ABSENT, Bar, BarView, Cells, Columns, Field, Frame, Micros, Session, Span};

/// Makes ticks of bars, piece by piece.
pub struct Rebuilder {
    grid: Grid,
    session: Session,
    shape: PathShape,
    /// Points between two prices.
    step: i64,
    seed: u64,
    out: Vec<Field>,
    /// The most that a bar's volume may be where it counts the bar's ticks; 0 where it does not.
    most_counted: i64,
    no_spread: u64,
}

/// Ticks that a minute has at most: a volume beyond it counts something else.
const MOST_A_MINUTE: i64 = 600;

impl Rebuilder {
    /// For bars of a frame with these fields; `step` points lie between two prices.
    pub fn new(
        frame: Frame,
        fields: &[Field],
        session: &Session,
        shape: PathShape,
        step: i64,
        seed: u64,
    ) -> Rebuilder {
        let has = |field: &Field| fields.contains(field);
        let has_volume = [Field::Volume, Field::BidVolume, Field::AskVolume].iter().any(has);
        let mut out = if has(&Field::Spread) { vec![Field::Bid, Field::Ask] } else { vec![Field::Last] };
        match (has(&Field::Spread), has(&Field::AskVolume)) {
            (true, both) => {
                out.extend(has_volume.then_some(Field::BidVolume));
                out.extend((has_volume && both).then_some(Field::AskVolume));
            }
            (false, _) => out.extend(has_volume.then_some(Field::Volume)),
        }
        out.push(Field::Origin);
        out.sort_by_key(|f| Field::ALL.iter().position(|x| x == f));
        Rebuilder {
            grid: Grid::new(frame, session),
            session: session.clone(),
            shape,
            step: step.max(1),
            seed,
            out,
            most_counted: 0,
            no_spread: 0,
        }
    }

    /// The volume of bars of this frame counts their ticks, as that of most brokers does, unless it is more than there
    /// can be.
    #[must_use]
    pub fn with_volume_as_ticks(mut self, frame: Frame) -> Rebuilder {
        self.most_counted = (frame.length() / MINUTE).max(1) * MOST_A_MINUTE;
        self
    }

    /// Bars so far that know no spread, though others do: their ticks have no ask.
    pub fn no_spread(&self) -> u64 {
        self.no_spread
    }

    /// The fields of its ticks: bid and ask where the bars know their spread, else the last price.
    pub fn fields(&self) -> &[Field] {
        &self.out
    }

    /// The ticks of some bars. `next` is when the bar after them begins, where there is one.
    pub fn ticks(&mut self, bars: &Columns, next: Option<Micros>) -> Columns {
        let mut out = Columns::empty(&self.out, bars.scale);
        let Some((first, last)) = bars.ends() else { return out };
        let reach = Span::new(first, self.grid.bar_at(last).span.to.max(last + 1));
        let open = OpenHours::new(&self.session, reach);
        let view = BarView::new(bars);
        let cells = BarCells::of(bars);
        for i in 0..bars.len() {
            let Some(bar) = view.bar(i) else { continue };
            let end = bars.time.get(i + 1).copied().or(next).unwrap_or(Micros::MAX);
            let begin = bars.time[i];
            let span = Span::new(begin, self.grid.bar_at(begin).span.to.min(end).max(begin + 1));
            let mut within = open.spans_in(span);
            if within.is_empty() {
                within.push(span);
            }
            let of = cells.bar(i, bar, self.most_counted);
            self.no_spread += u64::from(of.spread.is_none() && self.out.contains(&Field::Ask));
            self.bar(&of, &within, begin, cells.origin.get(i).unwrap_or(0), &mut out);
        }
        out
    }

    fn bar(&self, of: &PathBar, open: &[Span], time: Micros, origin: i64, out: &mut Columns) {
        let mut chance = Chance::at(self.seed, time);
        let prices = path::prices(of, &self.shape, self.step, &mut chance);
        let count = prices.len();
        out.time.extend(path::times(open, count, &mut chance));
        let volumes = of.volumes.map(|v| v.map(|v| path::shares(v, count, &mut chance)));
        let spreads = of.spread.as_ref().map(|s| path::spreads(s, count));
        let absent = || vec![ABSENT; count];
        for (field, column) in self.out.iter().zip(&mut out.data) {
            column.extend(match field {
                Field::Bid | Field::Last => prices.clone(),
                Field::Ask => spreads.as_ref().map_or_else(absent, |spreads| {
                    prices.iter().zip(spreads).map(|(price, spread)| price + spread).collect()
                }),
                Field::Volume | Field::BidVolume => volumes[0].clone().unwrap_or_else(absent),
                Field::AskVolume => volumes[1].clone().unwrap_or_else(absent),
                _ => vec![origin - origin % MADE_UP + origin % REBUILT + REBUILT; count],
            });
        }
    }
}

/// The cells of bars that ticks are made of.
struct BarCells<'a> {
    volume: Cells<'a>,
    bid_volume: Cells<'a>,
    ask_volume: Cells<'a>,
    ticks: Cells<'a>,
    spread: Cells<'a>,
    ends: [Cells<'a>; 3],
    origin: Cells<'a>,
}

impl BarCells<'_> {
    fn of(bars: &Columns) -> BarCells<'_> {
        BarCells {
            volume: bars.cells(Field::Volume),
            bid_volume: bars.cells(Field::BidVolume),
            ask_volume: bars.cells(Field::AskVolume),
            ticks: bars.cells(Field::TickCount),
            spread: bars.cells(Field::Spread),
            ends: [Field::SpreadOpen, Field::SpreadHigh, Field::SpreadLow].map(|f| bars.cells(f)),
            origin: bars.cells(Field::Origin),
        }
    }

    fn bar(&self, i: usize, bar: Bar, most_counted: i64) -> PathBar {
        let volume = self.bid_volume.get(i).or(self.volume.get(i)).filter(|v| *v >= 0);
        let counted = self.volume.get(i).filter(|volume| *volume <= most_counted);
        let ticks = self.ticks.get(i).or(counted).and_then(|t| u64::try_from(t).ok()).filter(|t| *t > 0);
        let spread = self.spread.get(i).map(|mean| {
            let [open, high, low] = self.ends.map(|end| end.get(i).unwrap_or(mean));
            BarSpreads { mean, open, high, low }
        });
        PathBar { bar, ticks, volumes: [volume, self.ask_volume.get(i).filter(|v| *v >= 0)], spread }
    }
}

#[cfg(test)]
mod tests;
