//! Mending: new rows out of rows and a list of mends, piece by piece.

use std::collections::BTreeMap;

use rust_decimal::Decimal;
use rust_decimal::prelude::ToPrimitive;

use super::{CheckReport, Finding, FindingKind, Keep, Mend, Remedy};
use crate::model::columns::FILLED;
use crate::model::session::OpenHours;
use crate::model::{
    ABSENT, Bar, BarView, Columns, Field, Frame, Micros, QuoteView, Session, Shape, Span, present,
};
use crate::{Error, Result};

/// How many rows each mend changed, dropped or added, in the order they were asked for.
pub type Mended = Vec<(Mend, u64)>;

/// Mends rows that come in order of time.
///
/// What is known by its place (spikes, frozen rows, repeated blocks, spans to rescale) is done first, then
/// rows are moved, then values are set right, then holes are filled.
pub struct Mender {
    mends: Vec<Mend>,
    counts: Vec<u64>,
    within: Span,
    frame: Frame,
    open: OpenHours,
    /// Rows to drop, by mend: sorted spans.
    drops: Vec<(usize, Vec<Span>)>,
    rescales: Vec<(usize, Span, Decimal)>,
    moves: Vec<(usize, Span, Micros)>,
    /// Rows that were moved and wait for their place, in order.
    moved: Columns,
    /// The rows at the latest time: more of that time may follow.
    held: Columns,
    /// Spans whose clock slipped and stays so: their rows in closed hours are trade at a wrong hour, and
    /// dropping them would hide the slip.
    slipped: Vec<Span>,
    /// The last row given, for filling.
    last: Option<(Micros, i64)>,
}

/// What a mender must know of the series.
pub struct MendSubject<'a> {
    /// When the market is open.
    pub session: &'a Session,
    /// The frame of the rows.
    pub frame: Frame,
    /// The span of the rows.
    pub span: Span,
}

impl Mender {
    /// For the findings of a report. Rows outside `within` are left as they are.
    ///
    /// # Errors
    /// Where ticks are to be filled, or a kind has no mend.
    pub fn new(
        subject: &MendSubject<'_>,
        report: &CheckReport,
        mends: &[Mend],
        within: Span,
    ) -> Result<Mender> {
        let reach = Span::new(subject.span.from, subject.span.to + 1);
        let mut mender = Mender {
            mends: mends.to_vec(),
            counts: vec![0; mends.len()],
            within,
            frame: subject.frame,
            open: OpenHours::new(subject.session, reach),
            drops: Vec::new(),
            rescales: Vec::new(),
            moves: Vec::new(),
            moved: Columns::empty(&[], Default::default()),
            held: Columns::empty(&[], Default::default()),
            slipped: Vec::new(),
            last: None,
        };
        if !mends.contains(&Mend::Kind(FindingKind::ClockSlip)) {
            let slips = report.findings.iter().filter(|f| f.kind == FindingKind::ClockSlip);
            mender.slipped = slips.map(|f| f.span).collect();
        }
        for (at, mend) in mends.iter().enumerate() {
            mender.plan(at, mend, report)?;
        }
        if mends.contains(&Mend::Kind(FindingKind::Missing)) && !subject.frame.is_bars() {
            return Err(Error::arguments(
                "Only bars can be filled; ticks that are missing cannot be made up.",
            ));
        }
        Ok(mender)
    }

    fn plan(&mut self, at: usize, mend: &Mend, report: &CheckReport) -> Result<()> {
        let within = self.within;
        let found = |kind: FindingKind| {
            report
                .findings
                .iter()
                .filter(move |f: &&Finding| f.kind == kind && f.span.overlap(&within).is_some())
        };
        match mend {
            Mend::Kind(
                kind @ (FindingKind::Spike
                | FindingKind::Frozen
                | FindingKind::RepeatedBlock
                | FindingKind::WideSpread),
            ) => {
                let mut spans: Vec<Span> = found(*kind).map(|f| f.span).collect();
                spans.sort_by_key(|s| s.from);
                self.drops.push((at, spans));
            }
            Mend::Kind(FindingKind::OutOfOrder) => {
                self.counts[at] = found(FindingKind::OutOfOrder).map(|f| f.rows).sum();
            }
            Mend::Kind(FindingKind::ClockSlip) => {
                let moves = found(FindingKind::ClockSlip).filter_map(|f| match f.remedy {
                    Some(Remedy::Move(by)) => Some((at, f.span, by)),
                    _ => None,
                });
                self.moves.extend(moves);
            }
            Mend::Kind(FindingKind::ScaleJump) => {
                let rescales = found(FindingKind::ScaleJump).filter_map(|f| match f.remedy {
                    Some(Remedy::Rescale(tens)) => Some((at, f.span, ten_to(tens))),
                    _ => None,
                });
                self.rescales.extend(rescales);
            }
            Mend::Kind(FindingKind::DuplicateTime) if !self.frame.is_bars() => {
                return Err(Error::arguments(
                    "Two equal ticks of one moment are two trades; repeated_block drops blocks that came twice.",
                ));
            }
            Mend::Kind(kind) if !kind.is_mendable() => {
                return Err(Error::arguments(format!("There is no mend for {}.", kind.word())));
            }
            Mend::Move { span, by } => self.moves.push((at, *span, *by)),
            Mend::Rescale { span, factor } => self.rescales.push((at, *span, *factor)),
            Mend::Kind(_) | Mend::Conflicts(_) | Mend::Filler | Mend::Safe => {}
        }
        Ok(())
    }

    /// The spans whose rows are moved, apart from each other. Their rows must be given to
    /// [`Mender::take_moved`] before any other.
    pub fn spans_moved(&self) -> Vec<Span> {
        let mut spans: Vec<Span> = self.moves.iter().map(|m| m.1).collect();
        spans.sort_by_key(|s| s.from);
        Span::joined(spans)
    }

    /// Takes the rows of the spans that are moved.
    pub fn take_moved(&mut self, mut rows: Columns) {
        self.by_place(&mut rows);
        let moves: Vec<Option<(usize, Micros)>> = rows.time.iter().map(|t| self.move_of(*t)).collect();
        rows.retain(|i| moves[i].is_some());
        for (t, (at, by)) in rows.time.iter_mut().zip(moves.into_iter().flatten()) {
            *t += by;
            self.counts[at] += 1;
        }
        if self.moved.fields.is_empty() {
            self.moved = rows;
        } else {
            self.moved.append(&rows);
        }
        self.moved.sort();
    }

    fn move_of(&self, t: Micros) -> Option<(usize, Micros)> {
        let found = self.moves.iter().find(|(_, span, _)| span.holds(t) && self.within.holds(t));
        found.map(|(at, _, by)| (*at, *by))
    }

    /// Puts rows that were moved to a place up to `last` among those that were not. Filler that stood in their
    /// place gives way; a row with trade stays, to be told as a conflict.
    fn put_moved(&mut self, rows: &mut Columns, last: Micros) {
        let due = self.moved.time.partition_point(|t| *t <= last);
        if due == 0 {
            return;
        }
        let (here, later) = (self.moved.rows(0..due), self.moved.rows(due..self.moved.len()));
        self.moved = later;
        let gives_way: Vec<bool> = (0..rows.len())
            .map(|i| is_filler(rows, i) && here.time.binary_search(&rows.time[i]).is_ok())
            .collect();
        rows.retain(|i| !gives_way[i]);
        rows.append(&here);
        rows.sort();
    }

    /// Mends the next rows; gives those that are done.
    pub fn push(&mut self, mut rows: Columns) -> Columns {
        let Some((_, last)) = rows.ends() else { return rows };
        if !self.moves.is_empty() {
            // What is moved was mended when it was taken.
            let keep: Vec<bool> = rows.time.iter().map(|t| self.move_of(*t).is_none()).collect();
            rows.retain(|i| keep[i]);
        }
        self.by_place(&mut rows);
        self.put_moved(&mut rows, last);
        let mut whole = std::mem::replace(&mut self.held, Columns::empty(&rows.fields, rows.scale));
        if whole.fields.is_empty() {
            whole = rows;
        } else {
            whole.append(&rows);
        }
        // Rows at the last time wait: others at that time may follow.
        if let Some(&last) = whole.time.last() {
            let from = whole.time.partition_point(|t| *t < last);
            self.held = whole.rows(from..whole.len());
            whole.truncate(from);
        }
        self.by_value(whole)
    }

    /// The rows that waited.
    pub fn finish(&mut self) -> Columns {
        let mut rest = std::mem::replace(&mut self.held, Columns::empty(&[], Default::default()));
        if rest.fields.is_empty() {
            rest = std::mem::replace(&mut self.moved, Columns::empty(&[], Default::default()));
        } else if !self.moved.is_empty() {
            rest.append(&self.moved);
            rest.sort();
        }
        self.by_value(rest)
    }

    /// What each mend did.
    pub fn counts(self) -> Mended {
        self.mends.into_iter().zip(self.counts).collect()
    }

    fn by_place(&mut self, rows: &mut Columns) {
        for (at, spans) in &self.drops {
            let before = rows.len();
            let times = rows.time.clone();
            let hit = |t: Micros| {
                let next = spans.partition_point(|s| s.to <= t);
                spans.get(next).is_some_and(|s| s.from <= t)
            };
            let within = self.within;
            rows.retain(|i| !(within.holds(times[i]) && hit(times[i])));
            self.counts[*at] += (before - rows.len()) as u64;
        }
        for (at, span, factor) in &self.rescales {
            let Some(span) = span.overlap(&self.within) else { continue };
            let range = rows.range_of(span);
            self.counts[*at] += range.len() as u64;
            for (field, column) in rows.fields.iter().zip(&mut rows.data) {
                if field.is_price() || field.is_spread() {
                    let there = column[range.clone()].iter_mut().filter(|v| present(**v).is_some());
                    there.for_each(|v| *v = times_factor(*v, *factor));
                }
            }
        }
    }

    fn by_value(&mut self, mut rows: Columns) -> Columns {
        for at in 0..self.mends.len() {
            let before = rows.len() as u64;
            let changed = match self.mends[at] {
                Mend::Kind(FindingKind::BadOhlc) => widen(&mut rows, self.within),
                Mend::Kind(FindingKind::DuplicateTime) => {
                    rows = self.one_a_time(rows, None);
                    before - rows.len() as u64
                }
                Mend::Kind(FindingKind::ConflictingTime) => {
                    rows = self.one_a_time(rows, Some(Keep::First));
                    before - rows.len() as u64
                }
                Mend::Conflicts(keep) => {
                    rows = self.one_a_time(rows, Some(keep));
                    before - rows.len() as u64
                }
                Mend::Kind(FindingKind::ClosedMarket) | Mend::Filler => {
                    self.drop_closed(&mut rows, self.mends[at] == Mend::Filler);
                    before - rows.len() as u64
                }
                Mend::Kind(kind @ (FindingKind::NonPositive | FindingKind::Crossed)) => {
                    drop_impossible(&mut rows, kind, self.within);
                    before - rows.len() as u64
                }
                _ => 0,
            };
            self.counts[at] += changed;
        }
        if let Some(at) = self.mends.iter().position(|m| *m == Mend::Kind(FindingKind::Missing)) {
            let before = rows.len();
            rows = self.fill(rows);
            self.counts[at] += (rows.len() - before) as u64;
        }
        rows
    }

    /// Of rows at one time drops all but one: of equal ones (where none is to be kept of others), or of all.
    fn one_a_time(&self, rows: Columns, keep: Option<Keep>) -> Columns {
        let mut drop = vec![false; rows.len()];
        let mut from = 0;
        while from < rows.len() {
            let to = from + rows.time[from..].iter().take_while(|t| **t == rows.time[from]).count();
            if to - from > 1 && self.within.holds(rows.time[from]) {
                match keep {
                    None => (from + 1..to).for_each(|i| {
                        drop[i] = (from..i).any(|j| !drop[j] && rows.same_values(i, &rows, j));
                    }),
                    Some(keep) => {
                        let kept = chosen(&rows, from..to, keep);
                        (from..to).for_each(|i| drop[i] = i != kept);
                    }
                }
            }
            from = to;
        }
        let mut rows = rows;
        rows.retain(|i| !drop[i]);
        rows
    }

    fn drop_closed(&mut self, rows: &mut Columns, only_filler: bool) {
        let keep: Vec<bool> = (0..rows.len())
            .map(|i| {
                let flat = is_filler(rows, i);
                let kept = !flat && (only_filler || self.slipped.iter().any(|s| s.holds(rows.time[i])));
                kept || !self.within.holds(rows.time[i]) || self.reaches_open_hours(rows.time[i])
            })
            .collect();
        rows.retain(|i| keep[i]);
    }

    /// True for a row in open hours, and for a bar that begins before the opening and reaches into it.
    fn reaches_open_hours(&mut self, time: Micros) -> bool {
        self.open.is_open(time) || self.open.open_between(time, time + self.frame.length()) > 0
    }

    /// Puts flat bars, marked as filled, where open time has no row.
    fn fill(&mut self, rows: Columns) -> Columns {
        let mut fields = rows.fields.clone();
        if !fields.contains(&Field::Origin) {
            fields.push(Field::Origin);
        }
        let rows = rows.with_fields(&fields);
        let step = self.frame.length();
        let mut out = Columns::empty(&fields, rows.scale);
        let view = BarView::new(&rows);
        for i in 0..rows.len() {
            let time = rows.time[i];
            if let Some((last, close)) = self.last {
                for t in self.times_between(last + step, time, step) {
                    out.time.push(t);
                    for (field, column) in fields.iter().zip(&mut out.data) {
                        let value = match field {
                            f if f.is_of_a_bar() => close,
                            Field::Origin => FILLED,
                            // Nothing was traded, and nobody knows at what spread it could have been.
                            Field::Volume | Field::TickCount => 0,
                            _ => ABSENT,
                        };
                        column.push(value);
                    }
                }
            }
            out.push_from(&rows, i);
            let close = view.bar(i).map(|b| b.close).or(self.last.map(|l| l.1));
            self.last = close.map(|close| (time, close));
        }
        out
    }

    /// The opening times of bars in open time between two rows: on from the last, and anew from each opening.
    fn times_between(&self, from: Micros, to: Micros, step: Micros) -> Vec<Micros> {
        let mut out = Vec::new();
        let spans = self.open.spans();
        for open in &spans[spans.partition_point(|s| s.to <= from)..] {
            if open.from >= to {
                break;
            }
            let mut t = open.from.max(from);
            while t < open.to.min(to) {
                // Only what is looked at is filled, on the grid of the rows.
                out.extend(self.within.holds(t).then_some(t));
                t += step;
            }
        }
        out
    }
}

/// A flat bar without volume. A bar of which a price is absent may have moved.
fn is_filler(rows: &Columns, i: usize) -> bool {
    let view = BarView::new(rows);
    let is_flat = |bar: Bar| bar.open == bar.close && bar.high == bar.low;
    rows.shape() == Shape::Bars
        && !view.is_partial(i)
        && view.bar(i).is_some_and(is_flat)
        && view.volume.get(i).is_none_or(|v| v == 0)
}

fn ten_to(tens: i32) -> Decimal {
    let power = Decimal::from(10i64.pow(tens.unsigned_abs().min(9)));
    if tens < 0 { Decimal::ONE / power } else { power }
}

/// Rounded half away from zero; what would not fit stays as it is.
fn times_factor(value: i64, factor: Decimal) -> i64 {
    let product = Decimal::from(value).checked_mul(factor);
    let rounded =
        product.map(|p| p.round_dp_with_strategy(0, rust_decimal::RoundingStrategy::MidpointAwayFromZero));
    // What no number can say is refused where it would be written.
    rounded.and_then(|p| p.to_i64()).unwrap_or(i64::MAX)
}

/// Which of neighbouring rows is kept.
fn chosen(rows: &Columns, range: std::ops::Range<usize>, keep: Keep) -> usize {
    match keep {
        Keep::First => range.start,
        Keep::Last => range.end - 1,
        Keep::Median => {
            let view = BarView::new(rows);
            let tick = [Field::Bid, Field::Last, Field::Price].into_iter().find(|f| rows.has(*f));
            let close = |i: usize| match tick {
                Some(field) => rows.cells(field).get(i),
                None => view.bar(i).map(|b| b.close),
            };
            let mut by_close: BTreeMap<(Option<i64>, usize), ()> = BTreeMap::new();
            let middle = (range.len() - 1) / 2;
            let start = range.start;
            range.for_each(|i| {
                by_close.insert((close(i), i), ());
            });
            by_close.keys().nth(middle).map_or(start, |(_, i)| *i)
        }
    }
}

/// Makes high and low of each bar hold its open and close; gives the number of bars changed.
fn widen(rows: &mut Columns, within: Span) -> u64 {
    if rows.shape() != Shape::Bars {
        return 0;
    }
    let wider: Vec<(usize, i64, i64)> = {
        let view = BarView::new(rows);
        let wider = |i: usize| {
            let bar = view.bar(i).filter(|_| !view.is_partial(i) && within.holds(view.time[i]))?;
            // High and low are each judged by open and close alone: one that is wrong must not spoil the other.
            let (top, bottom) = (bar.high.max(bar.open).max(bar.close), bar.low.min(bar.open).min(bar.close));
            ((top, bottom) != (bar.high, bar.low)).then_some((i, top, bottom))
        };
        (0..view.len()).filter_map(wider).collect()
    };
    for (i, top, bottom) in &wider {
        for (field, value) in [(Field::High, *top), (Field::Low, *bottom)] {
            if let Some(column) = rows.column_mut(field) {
                column[*i] = value;
            }
        }
    }
    wider.len() as u64
}

fn drop_impossible(rows: &mut Columns, kind: FindingKind, within: Span) {
    let bad: Vec<bool> = match kind {
        FindingKind::Crossed => {
            let view = QuoteView::new(rows);
            (0..rows.len()).map(|i| view.spread(i).is_some_and(|s| s < 0)).collect()
        }
        _ => (0..rows.len())
            .map(|i| {
                rows.fields
                    .iter()
                    .zip(&rows.data)
                    .any(|(f, c)| f.is_price() && present(c[i]).is_some_and(|v| v <= 0))
            })
            .collect(),
    };
    let keep: Vec<bool> = bad.iter().zip(&rows.time).map(|(bad, t)| !(*bad && within.holds(*t))).collect();
    rows.retain(|i| keep[i]);
}
