//! One pass over a series.

use std::sync::Arc;

use super::blocks::RepeatWatch;
use super::frozen::Frozen;
use super::hours::HourWatch;
use super::ready::{Ready, RowPreparer};
use super::spikes::Spikes;
use super::subject::CheckSubject;
use super::values::ValueWatch;
use super::{CheckReport, Finding, FindingDetail, FindingKind, grade, rhythm, stubs};
use crate::measures::SessionRanges;
use crate::model::time::{DAY, HOUR, MINUTE};
use crate::model::{ABSENT, Clock, Columns, Frame, Micros, Shape, Span};

/// Reads rows in order of time and gathers what is wrong with them.
pub struct Checker {
    frame: Frame,
    clock: Clock,
    rows: u64,
    disorder: Vec<Finding>,
    preparer: RowPreparer,
    /// Rows that are ready and not yet looked at.
    waiting: Option<Ready>,
    /// Rows that were looked at: their room is used again.
    room: Ready,
    detectors: Detectors,
}

/// Those who look at rows that are ready.
struct Detectors {
    decimals: u8,
    /// The least that every market moves, in points; 0 while it is not known.
    tick: i64,
    values: ValueWatch,
    spikes: Spikes,
    frozen: Frozen,
    hours: HourWatch,
    blocks: RepeatWatch,
    /// How far prices go in a session day.
    ranges: SessionRanges,
    /// Bars of a day or more are few enough to keep.
    daily: Option<Vec<stubs::DailyBar>>,
}

impl Checker {
    /// A checker for rows of this subject.
    pub fn new(subject: CheckSubject<'_>) -> Checker {
        Checker {
            frame: subject.frame,
            clock: subject.session.clock.clone(),
            rows: 0,
            preparer: RowPreparer::new(&subject),
            waiting: None,
            room: Ready::default(),
            detectors: Detectors {
                decimals: 0,
                tick: 0,
                values: ValueWatch::new(subject.is_positive),
                spikes: Spikes::new(1),
                frozen: Frozen::new(subject.frame.length()),
                hours: HourWatch::default(),
                blocks: RepeatWatch::new(!subject.frame.is_bars()),
                ranges: SessionRanges::new(subject.session),
                daily: (subject.frame.length() >= DAY).then(Vec::new),
            },
            disorder: subject.disorder,
        }
    }

    /// Takes the next piece of the series. It is made ready while the piece before is looked at.
    pub fn push(&mut self, rows: impl Into<Arc<Columns>>) {
        let rows = rows.into();
        self.rows += rows.len() as u64;
        let join = self.join_within();
        let (preparer, detectors) = (&mut self.preparer, &mut self.detectors);
        let (waiting, room) = (self.waiting.take(), std::mem::take(&mut self.room));
        let (ready, ()) = rayon::join(
            || preparer.take(rows, room, join),
            || waiting.iter().for_each(|ready| detectors.look(ready, join)),
        );
        self.room = waiting.unwrap_or_default();
        self.waiting = Some(ready);
    }

    /// Findings of one kind this close together are one.
    fn join_within(&self) -> Micros {
        (3 * self.frame.length()).max(MINUTE)
    }

    /// Ends the pass.
    pub fn finish(mut self) -> CheckReport {
        let (length, join) = (self.frame.length(), self.join_within());
        self.waiting.iter().for_each(|ready| self.detectors.look(ready, join));
        let RowPreparer { order, place, spreads, .. } = self.preparer;
        let found = self.detectors;
        let (filler_closed, filler_open) = (place.filler_closed, place.filler_open);
        let placed = place.finish();
        let mut findings = self.disorder;
        let spread = spreads.finish(length, &mut findings);
        let (hours, weeks) = found.hours.finish(spread.as_ref().map(|s| s.1.as_slice()));
        let mut slips = placed.slips;
        if slips.is_empty() {
            slips.extend(rhythm::slips(&weeks).into_iter().filter(|_| length <= HOUR));
        }
        slips.iter().for_each(|(span, slip)| findings.push(slip_finding(*span, *slip)));
        // Trade in closed hours that a slip explains is told once, as the slip.
        let near =
            |span: &Span| slips.iter().any(|(s, _)| s.from - HOUR <= span.from && span.to <= s.to + HOUR);
        let runs = placed.runs.into_iter().chain(order.finish()).chain(found.values.runs.done());
        for run in runs {
            let span = Span::new(run.from, run.to + length.max(1));
            if run.kind != FindingKind::ClosedMarket || run.with_trade == 0 || !near(&span) {
                let detail = run.detail();
                findings.push(Finding { kind: run.kind, span, rows: run.rows, detail, remedy: None });
            }
        }
        // An early week ends early, a late one begins late: that is no hole.
        let touches = |t: Micros, end: Micros| (t - end).abs() <= HOUR;
        let late = |g: &&super::MissingSpan| {
            slips.iter().any(|(s, _)| touches(g.span.to, s.from) || touches(g.span.from, s.to))
        };
        for gap in placed.gaps.iter().filter(|g| !late(g)) {
            let detail = FindingDetail::Open(gap.open);
            findings.push(Finding {
                kind: FindingKind::Missing,
                span: gap.span,
                rows: 0,
                detail,
                remedy: None,
            });
        }
        found.spikes.finish(length, found.decimals, &mut findings);
        found.frozen.finish(&mut findings);
        found.blocks.finish(length, &mut findings);
        match &found.daily {
            Some(daily) => stubs::of_daily_bars(daily, &self.clock, self.frame, &mut findings),
            None => stubs::of_days(&placed.days, &self.clock, &mut findings),
        }
        told_once(&mut findings);
        let mut report = CheckReport {
            rows: self.rows,
            first: placed.seen.0,
            last: placed.seen.1,
            coverage: Some(placed.coverage),
            days: placed.days,
            gaps: placed.gaps,
            findings,
            max_range: found.values.max_range,
            max_body: found.values.max_body,
            max_gap: found.values.max_jump,
            spread: spread.map(|s| s.0),
            session_range: found.ranges.finish(),
            hours,
            filler_closed,
            filler_open,
            grade: grade::Grade::default(),
        };
        report.sort();
        report
    }
}

impl Detectors {
    fn look(&mut self, ready: &Ready, join: Micros) {
        let piece = &ready.piece();
        self.decimals = piece.rows.scale.price;
        if piece.shape == Shape::Quotes {
            // Between two quotes a bid may move by a part of the spread without anything having happened.
            self.tick = ready.usual_spread / 3;
        } else {
            // A price that goes to and fro by one tick bounces between bid and ask.
            self.tick = least_step(piece.prices[3]).map_or(self.tick, |step| match self.tick {
                0 => step,
                tick => tick.min(step),
            });
        }
        self.spikes.set_least(self.tick);
        let (values, spikes, frozen) = (&mut self.values, &mut self.spikes, &mut self.frozen);
        let (week, blocks, ranges) = (&mut self.hours, &mut self.blocks, &mut self.ranges);
        rayon::join(
            || {
                values.piece(piece, join);
                (0..piece.time.len()).filter(|i| piece.counts(*i)).for_each(|i| spikes.next(piece.look(i)));
            },
            || {
                frozen.piece(piece);
                week.piece(piece, &ready.hours);
                blocks.piece(piece);
                let [_, high, low, _] = piece.prices;
                let has_price = |i: &usize| piece.counts(*i) && high[*i] != ABSENT && low[*i] != ABSENT;
                let rows = (0..piece.time.len()).filter(has_price);
                rows.for_each(|i| ranges.add(piece.time[i], high[i], low[i]));
            },
        );
        if let Some(daily) = &mut self.daily {
            let [_, high, low, _] = piece.prices;
            daily.extend((0..piece.time.len()).map(|i| (piece.time[i], high[i] - low[i])));
        }
    }
}

/// The smallest step between neighbouring prices that is one.
fn least_step(prices: &[i64]) -> Option<i64> {
    let steps = prices.windows(2).map(|w| w[1].saturating_sub(w[0]).saturating_abs());
    steps.filter(|step| *step > 0).min()
}

fn slip_finding(span: Span, slip: Micros) -> Finding {
    let detail = FindingDetail::SessionLate(slip);
    let remedy = Some(super::Remedy::Move(-slip));
    Finding { kind: FindingKind::ClockSlip, span, rows: 0, detail, remedy }
}

/// What one fault explains is not told as another too.
fn told_once(findings: &mut Vec<Finding>) {
    let of = |kind: FindingKind| -> Vec<Span> {
        findings.iter().filter(|f| f.kind == kind).map(|f| f.span).collect()
    };
    let (repeats, blocks, frozen) =
        (of(FindingKind::DuplicateTime), of(FindingKind::RepeatedBlock), of(FindingKind::Frozen));
    let around = |t: Micros| Span::new(t - HOUR, t + HOUR);
    let idle: Vec<Span> =
        of(FindingKind::ClockSlip).iter().flat_map(|s| [around(s.from), around(s.to)]).collect();
    let within = |spans: &[Span], s: &Span| spans.iter().any(|r| r.from <= s.from && s.to <= r.to);
    findings.retain(|f| match f.kind {
        // A block that came late only to repeat what was there is a repeat.
        FindingKind::OutOfOrder => !within(&repeats, &f.span),
        // A late week begins with an hour of filler, an early one ends with it.
        FindingKind::Frozen => !within(&blocks, &f.span) && !within(&idle, &f.span),
        FindingKind::Spike => !within(&frozen, &f.span),
        _ => true,
    });
}
