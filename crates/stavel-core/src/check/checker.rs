//! One pass over a series.

use super::blocks::Blocks;
use super::frozen::Frozen;
use super::hours::{Hours, WeekHour};
use super::order::Order;
use super::piece::{Piece, TRADE};
use super::place::Place;
use super::spikes::Spikes;
use super::spreads::Spreads;
use super::values::Values;
use super::{Finding, Kind, Report, grade, rhythm, stubs};
use crate::model::time::{DAY, HOUR, MINUTE, length_in_words};
use crate::model::{Clock, Columns, Field, Frame, Micros, Session, Shape, Span};

/// What is known of a series before its rows are read.
pub struct Subject<'a> {
    pub session: &'a Session,
    pub frame: Frame,
    /// The span the rows lie in.
    pub span: Span,
    /// Blocks that stood out of order in their file: span, rows, place in words.
    pub disorder: Vec<(Span, u64, String)>,
}

/// Reads rows in order of time and gathers what is wrong with them.
pub struct Checker {
    frame: Frame,
    clock: Clock,
    rows: u64,
    decimals: u8,
    disorder: Vec<(Span, u64, String)>,
    order: Order,
    place: Place,
    values: Values,
    spikes: Spikes,
    frozen: Frozen,
    spreads: Spreads,
    hours: Hours,
    blocks: Blocks,
    week_hour: WeekHour,
    /// Bars of a day or more are few enough to keep.
    daily: Vec<stubs::DailyBar>,
}

impl Checker {
    /// A checker for rows of this subject.
    pub fn new(subject: Subject<'_>) -> Checker {
        Checker {
            frame: subject.frame,
            clock: subject.session.clock.clone(),
            rows: 0,
            decimals: 0,
            order: Order::default(),
            place: Place::new(&subject),
            values: Values::default(),
            spikes: Spikes::new(1),
            frozen: Frozen::new(subject.frame.length()),
            spreads: Spreads::default(),
            hours: Hours::default(),
            blocks: Blocks::new(!subject.frame.is_bars()),
            week_hour: WeekHour::new(&subject.session.clock),
            daily: Vec::new(),
            disorder: subject.disorder,
        }
    }

    /// Takes the next piece of the series.
    pub fn push(&mut self, rows: &Columns) {
        self.decimals = rows.scale.price;
        self.rows += rows.len() as u64;
        let shape = rows.shape();
        let join = self.join_within();
        let prices = Piece::prices_of(rows);
        let volume = Piece::volume_of(rows);
        let mut marks = marks_of_trade(shape, prices, volume, rows.len());
        self.order.piece(rows, join, &mut marks);
        rows.time.iter().zip(&mut marks).for_each(|(t, mark)| self.place.row(*t, join, mark));
        let between: Vec<i64> = match shape {
            Shape::Quotes => rows.column(Field::Ask).iter().zip(prices[0]).map(|(a, b)| a - b).collect(),
            _ => Vec::new(),
        };
        let spread = if shape == Shape::Quotes { &between } else { rows.column(Field::Spread) };
        let hours: Vec<u8> = rows.time.iter().map(|t| self.week_hour.of(*t)).collect();
        let piece = Piece { shape, time: &rows.time, prices, spread, marks: &marks, rows };
        self.spreads.piece(&piece, &hours);
        if shape == Shape::Quotes {
            // Between two quotes a bid may move by a part of the spread without anything having happened.
            self.spikes.set_least(self.spreads.usual() / 3);
        }
        let (values, spikes, frozen) = (&mut self.values, &mut self.spikes, &mut self.frozen);
        let (week, blocks) = (&mut self.hours, &mut self.blocks);
        rayon::join(
            || {
                values.piece(&piece, join);
                (0..piece.time.len()).filter(|i| piece.counts(*i)).for_each(|i| spikes.next(piece.look(i)));
            },
            || {
                frozen.piece(&piece);
                week.piece(&piece, &hours);
                blocks.piece(&piece);
            },
        );
        if self.frame.length() >= DAY {
            self.daily.extend((0..rows.len()).map(|i| (rows.time[i], prices[1][i] - prices[2][i])));
        }
    }

    /// Findings of one kind this close together are one.
    fn join_within(&self) -> Micros {
        (3 * self.frame.length()).max(MINUTE)
    }

    /// Ends the pass.
    pub fn finish(self) -> Report {
        let length = self.frame.length();
        let (filler_closed, filler_open) = (self.place.filler_closed, self.place.filler_open);
        let placed = self.place.finish();
        let mut findings: Vec<Finding> = Vec::new();
        for (span, rows, detail) in self.disorder {
            findings.push(Finding { kind: Kind::OutOfOrder, span, rows, detail, remedy: None });
        }
        let spread = self.spreads.finish(length, &mut findings);
        let (hours, weeks) = self.hours.finish(spread.as_ref().map(|s| s.1.as_slice()));
        let mut slips = placed.slips;
        if slips.is_empty() {
            slips.extend(rhythm::slips(&weeks).into_iter().filter(|_| length <= HOUR));
        }
        slips.iter().for_each(|(span, slip)| findings.push(slip_finding(*span, *slip)));
        // Trade in closed hours that a slip explains is told once, as the slip.
        let near =
            |span: &Span| slips.iter().any(|(s, _)| s.from - HOUR <= span.from && span.to <= s.to + HOUR);
        let runs = placed.runs.into_iter().chain(self.order.finish()).chain(self.values.runs.done());
        for run in runs {
            let span = Span::new(run.from, run.to + length.max(1));
            if run.kind != Kind::ClosedMarket || run.with_trade == 0 || !near(&span) {
                let detail = run.detail();
                findings.push(Finding { kind: run.kind, span, rows: run.rows, detail, remedy: None });
            }
        }
        // An early week ends early, a late one begins late: that is no hole.
        let touches = |t: Micros, end: Micros| (t - end).abs() <= HOUR;
        let late = |g: &&super::Gap| {
            slips.iter().any(|(s, _)| touches(g.span.to, s.from) || touches(g.span.from, s.to))
        };
        for gap in placed.gaps.iter().filter(|g| !late(g)) {
            let detail = format!("{} of open market", length_in_words(gap.open));
            findings.push(Finding { kind: Kind::Missing, span: gap.span, rows: 0, detail, remedy: None });
        }
        self.spikes.finish(length, self.decimals, &mut findings);
        self.frozen.finish(&mut findings);
        self.blocks.finish(length, &mut findings);
        if length >= DAY {
            stubs::of_daily_bars(&self.daily, &self.clock, self.frame, &mut findings);
        } else {
            stubs::of_days(&placed.days, &self.clock, &mut findings);
        }
        told_once(&mut findings);
        let mut report = Report {
            rows: self.rows,
            first: placed.seen.0,
            last: placed.seen.1,
            coverage: placed.coverage,
            days: placed.days,
            gaps: placed.gaps,
            findings,
            max_range: self.values.max_range,
            max_body: self.values.max_body,
            max_gap: self.values.max_jump,
            spread: spread.map(|s| s.0),
            hours,
            filler_closed,
            filler_open,
            grade: grade::Grade::default(),
        };
        report.sort();
        report
    }
}

/// Marks rows with trade in them: flat bars without volume have none.
fn marks_of_trade(
    shape: Shape,
    [open, high, low, close]: [&[i64]; 4],
    volume: &[i64],
    rows: usize,
) -> Vec<u8> {
    if shape != Shape::Bars || volume.is_empty() {
        return vec![TRADE; rows];
    }
    let trade = |i: usize| volume[i] != 0 || open[i] != close[i] || high[i] != low[i];
    (0..rows).map(|i| if trade(i) { TRADE } else { 0 }).collect()
}

fn slip_finding(span: Span, slip: Micros) -> Finding {
    let way = if slip > 0 { "late" } else { "early" };
    let detail = format!("trade begins and ends {} {way}", length_in_words(slip.abs()));
    let remedy = Some(super::Remedy::Move(-slip));
    Finding { kind: Kind::ClockSlip, span, rows: 0, detail, remedy }
}

/// What one fault explains is not told as another too.
fn told_once(findings: &mut Vec<Finding>) {
    let of =
        |kind: Kind| -> Vec<Span> { findings.iter().filter(|f| f.kind == kind).map(|f| f.span).collect() };
    let (repeats, blocks, frozen) = (of(Kind::DuplicateTime), of(Kind::RepeatedBlock), of(Kind::Frozen));
    let around = |t: Micros| Span::new(t - HOUR, t + HOUR);
    let idle: Vec<Span> = of(Kind::ClockSlip).iter().flat_map(|s| [around(s.from), around(s.to)]).collect();
    let within = |spans: &[Span], s: &Span| spans.iter().any(|r| r.from <= s.from && s.to <= r.to);
    findings.retain(|f| match f.kind {
        // A block that came late only to repeat what was there is a repeat.
        Kind::OutOfOrder => !within(&repeats, &f.span),
        // A late week begins with an hour of filler, an early one ends with it.
        Kind::Frozen => !within(&blocks, &f.span) && !within(&idle, &f.span),
        Kind::Spike => !within(&frozen, &f.span),
        _ => true,
    });
}
