//! The usual spread of each hour of the week, measured from rows that know theirs.

use crate::check::WEEK_HOURS;
use crate::counts::Frequencies;
use crate::model::columns::CARRIED_SPREAD;
use crate::model::time::{DAY, HOUR, day_of, monday_of};
use crate::model::{ABSENT, Clock, Columns, Field, QuoteView};

/// The usual spread in each hour of the week on some wall, in points; none where none was seen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HourSpreads(pub Vec<Option<i64>>);

/// Counts spreads by the hour of the week, piece by piece.
pub struct SpreadCounter {
    wall: Clock,
    /// What bars say, and the distance of bid and ask of ticks.
    bars: Vec<Frequencies>,
    ticks: Vec<Frequencies>,
}

impl SpreadCounter {
    /// The fields it looks at.
    pub const FIELDS: [Field; 3] = [Field::Spread, Field::Bid, Field::Ask];

    /// Hours are those of the clock's wall.
    pub fn new(wall: &Clock) -> SpreadCounter {
        let hours = || vec![Frequencies::default(); WEEK_HOURS];
        SpreadCounter { wall: wall.clone(), bars: hours(), ticks: hours() }
    }

    /// Counts the spreads of the next rows.
    pub fn add(&mut self, rows: &Columns) {
        let spreads = rows.cells(Field::Spread);
        let view = QuoteView::new(rows);
        for (i, t) in rows.time.iter().enumerate() {
            if let Some(spread) = spreads.get(i) {
                self.bars[hour_of(&self.wall, *t)].add(spread, 1);
            } else if let Some(spread) = view.spread(i) {
                self.ticks[hour_of(&self.wall, *t)].add(spread, 1);
            }
        }
    }

    /// By hour the spread that a share of the rows does not exceed: of what bars say, in hours in which they say nothing
    /// of the ticks.
    pub fn finish_at(self, share: f64) -> HourSpreads {
        let at = |(bars, ticks): (Frequencies, Frequencies)| {
            [bars, ticks].iter().find(|c| c.total() > 0).map(|c| c.quantile(share))
        };
        HourSpreads(self.bars.into_iter().zip(self.ticks).map(at).collect())
    }

    /// The median by hour: of what bars say, in hours in which they say nothing of the ticks.
    pub fn finish(self) -> HourSpreads {
        let median = |(bars, ticks): (Frequencies, Frequencies)| {
            [bars, ticks].iter().find(|c| c.total() > 0).map(Frequencies::median)
        };
        HourSpreads(self.bars.into_iter().zip(self.ticks).map(median).collect())
    }
}

impl HourSpreads {
    /// The spread of the hour of the week that holds a moment.
    pub fn at(&self, wall: &Clock, t: i64) -> Option<i64> {
        self.0.get(hour_of(wall, t)).copied().flatten()
    }

    /// The median of all hours; none where no spread is known.
    pub fn usual(&self) -> Option<i64> {
        let mut known: Vec<i64> = self.0.iter().flatten().copied().collect();
        crate::stats::median(&mut known)
    }

    /// True where no spread is known.
    pub fn is_empty(&self) -> bool {
        self.0.iter().all(Option::is_none)
    }

    /// Puts them on those of some rows that do not know their spread, and marks those in their origin; gives
    /// their number. Ticks are left as they are: their spread is between bid and ask.
    pub fn carry_to(&self, rows: &mut Columns, part: std::ops::Range<usize>, wall: &Clock) -> u64 {
        let ticks: Vec<bool> = match rows.column(Field::Covers) {
            [] => Vec::new(),
            covers => covers[part.clone()].iter().map(|c| *c == 0).collect(),
        };
        let from = part.start;
        let Columns { time, fields, data, .. } = rows;
        let at = |field: Field| fields.iter().position(|f| *f == field);
        let (Some(spread), origin) = (at(Field::Spread), at(Field::Origin)) else { return 0 };
        let mut carried = 0;
        for row in part {
            let is_tick = ticks.get(row - from) == Some(&true);
            if data[spread][row] != ABSENT || is_tick {
                continue;
            }
            if let Some(usual) = self.0[hour_of(wall, time[row])] {
                data[spread][row] = usual;
                origin.into_iter().for_each(|o| data[o][row] += CARRIED_SPREAD);
                carried += 1;
            }
        }
        carried
    }
}

fn hour_of(wall: &Clock, t: i64) -> usize {
    let shown = wall.to_wall(t);
    ((shown - monday_of(day_of(shown)) * DAY) / HOUR) as usize % WEEK_HOURS
}
