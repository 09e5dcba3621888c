//! One pass over a series.

use std::collections::BTreeMap;

use super::days::Days;
use super::runs::Runs;
use super::slip::Slips;
use super::spikes::{Look, Spikes};
use super::{Extreme, Finding, Gap, Kind, Report, SpreadStats};
use crate::model::price::scaled;
use crate::model::session::OpenHours;
use crate::model::time::{DAY, HOUR, MINUTE, length_in_words};
use crate::model::{Columns, Field, Frame, Micros, Session, Shape, Span};

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
    open: OpenHours,
    slips: Slips,
    spikes: Spikes,
    runs: Runs,
    days: Days,
    frame: Frame,
    /// The row before: its time and values, with the scale of the series.
    before: Option<(Micros, Vec<i64>)>,
    group: Vec<Vec<i64>>,
    last_price: Option<i64>,
    report: Report,
    spreads: BTreeMap<i64, u64>,
    decimals: u8,
}

impl Checker {
    /// A checker for rows of this subject.
    pub fn new(subject: Subject<'_>) -> Checker {
        let reach = Span::new(subject.span.from - 8 * DAY, subject.span.to + 8 * DAY);
        let open = OpenHours::new(subject.session, reach);
        let mut report = empty_report();
        for (span, rows, detail) in subject.disorder {
            report.findings.push(Finding { kind: Kind::OutOfOrder, span, rows, detail });
        }
        Checker {
            slips: Slips::new(open.spans()),
            days: Days::new(subject.session, subject.span),
            open,
            spikes: Spikes::default(),
            runs: Runs::default(),
            frame: subject.frame,
            before: None,
            group: Vec::new(),
            last_price: None,
            report,
            spreads: BTreeMap::new(),
            decimals: 0,
        }
    }

    /// Takes the next piece of the series.
    pub fn push(&mut self, rows: &Columns) {
        self.decimals = rows.scale.price;
        let column = |f| rows.column(f);
        let volume =
            if rows.has(Field::BidVolume) { column(Field::BidVolume) } else { column(Field::Volume) };
        let spread = column(Field::Spread);
        let shape = rows.shape();
        let prices: [&[i64]; 4] = match shape {
            Shape::Bars => {
                [column(Field::Open), column(Field::High), column(Field::Low), column(Field::Close)]
            }
            Shape::Quotes => [column(Field::Bid), column(Field::Ask), column(Field::Bid), column(Field::Bid)],
            Shape::Trades => [column(Field::Last); 4],
            Shape::Depth => [column(Field::Price); 4],
        };
        for i in 0..rows.len() {
            let time = rows.time[i];
            let [open, high, low, close] = prices.map(|p| p.get(i).copied().unwrap_or_default());
            let flat = volume.get(i).is_none_or(|v| *v == 0) && open == close && high == low;
            let has_trade = !flat || shape != Shape::Bars || volume.is_empty();
            let repeated = self.same_time(rows, i, shape);
            let is_open = self.where_it_stands(time, has_trade, repeated);
            if !repeated {
                self.values(shape, time, [open, high, low, close], is_open);
            }
            match shape {
                Shape::Quotes => *self.spreads.entry(high - open).or_default() += 1,
                _ if !spread.is_empty() => *self.spreads.entry(spread[i]).or_default() += 1,
                _ => {}
            }
            self.report.rows += 1;
        }
    }

    /// Compares a row with those at its time; true where it is one too many.
    fn same_time(&mut self, rows: &Columns, i: usize, shape: Shape) -> bool {
        let time = rows.time[i];
        let values = || rows.data.iter().map(|c| c[i]).collect::<Vec<i64>>();
        if self.before.as_ref().is_none_or(|(t, _)| *t != time) {
            self.group.clear();
            match &mut self.before {
                Some((t, kept)) => {
                    *t = time;
                    kept.clear();
                    kept.extend(rows.data.iter().map(|c| c[i]));
                }
                None => self.before = Some((time, values())),
            }
            return false;
        }
        let row = values();
        if self.group.is_empty()
            && let Some((_, first)) = &self.before
        {
            self.group.push(first.clone());
        }
        let kind = if self.group.contains(&row) { Kind::DuplicateTime } else { Kind::ConflictingTime };
        self.group.push(row);
        if kind == Kind::ConflictingTime && shape != Shape::Bars {
            // Two quotes in one millisecond are two quotes.
            return false;
        }
        self.runs.add(kind, time, self.join_within());
        true
    }

    /// Places a row in the session; true where the market is open.
    fn where_it_stands(&mut self, time: Micros, has_trade: bool, repeated: bool) -> bool {
        let is_open = self.open.is_open(time);
        if has_trade {
            self.slips.trade(time);
        } else if is_open {
            self.report.filler_open += 1;
        } else {
            self.report.filler_closed += 1;
        }
        if !is_open {
            self.runs.add_with(Kind::ClosedMarket, time, self.join_within(), has_trade);
            return false;
        }
        if repeated {
            return true;
        }
        let step = self.frame.length().min(DAY);
        self.days.row(time, step);
        let from = if self.report.first == 0 { time } else { self.report.last };
        if self.report.first == 0 {
            self.report.first = time;
        }
        if time - from > self.longest_quiet() {
            let open = self.open.open_between(from, time);
            if open > self.longest_quiet() {
                self.report.gaps.push(Gap { span: Span::new(from, time), open });
            }
        }
        self.report.last = time + step;
        true
    }

    /// The longest open time without a row that a quiet market explains.
    fn longest_quiet(&self) -> Micros {
        (2 * self.frame.length()).max(30 * MINUTE - 1)
    }

    /// Findings of one kind this close together are one.
    fn join_within(&self) -> Micros {
        (3 * self.frame.length()).max(MINUTE)
    }

    fn values(&mut self, shape: Shape, time: Micros, [open, high, low, close]: [i64; 4], is_open: bool) {
        let join = self.join_within();
        if open.min(low).min(close) <= 0 {
            self.runs.add(Kind::NonPositive, time, join);
        }
        let look = match shape {
            Shape::Bars => {
                if high < open.max(close).max(low) || low > open.min(close) {
                    self.runs.add(Kind::BadOhlc, time, join);
                }
                larger(&mut self.report.max_range, high - low, time);
                larger(&mut self.report.max_body, (close - open).abs(), time);
                Look { time, open, high, low, close }
            }
            Shape::Quotes => {
                if open > high {
                    self.runs.add(Kind::Crossed, time, join);
                }
                Look { time, open, high: open, low: open, close: open }
            }
            Shape::Trades | Shape::Depth => Look { time, open, high: open, low: open, close: open },
        };
        // A row of closed hours is dropped or explained as one; its price is compared with no other.
        if !is_open {
            return;
        }
        if let Some(before) = self.last_price {
            larger(&mut self.report.max_gap, (open - before).abs(), time);
        }
        self.last_price = Some(close);
        if let Some((at, size)) = self.spikes.next(look) {
            self.runs.add_with(Kind::Spike, at, 0, false);
            self.runs.say(
                Kind::Spike,
                format!("{} away from its neighbours and back", scaled(size, self.decimals)),
            );
        }
    }

    /// Ends the pass.
    pub fn finish(mut self) -> Report {
        let mut findings = std::mem::take(&mut self.report.findings);
        let slips = self.slips.found();
        for (span, slip) in &slips {
            let detail = format!(
                "trade begins and ends {} {}",
                length_in_words(slip.abs()),
                if *slip > 0 { "late" } else { "early" }
            );
            let rows = 0;
            findings.push(Finding { kind: Kind::ClockSlip, span: *span, rows, detail });
        }
        // Trade in closed hours that a slip explains is told once, as the slip.
        let explained =
            |span: &Span| slips.iter().any(|(s, _)| s.from - HOUR <= span.from && span.to <= s.to + HOUR);
        for run in self.runs.done() {
            let join = self.frame.length().max(1);
            let span = Span::new(run.from, run.to + join);
            if run.kind == Kind::ClosedMarket && run.with_trade > 0 && explained(&span) {
                continue;
            }
            findings.push(Finding { kind: run.kind, span, rows: run.rows, detail: run.detail() });
        }
        for gap in self
            .report
            .gaps
            .iter()
            .filter(|g| !slips.iter().any(|(s, _)| s.from - HOUR <= g.span.to && g.span.to <= s.from))
        {
            let detail = format!("{} of open market", length_in_words(gap.open));
            findings.push(Finding { kind: Kind::Missing, span: gap.span, rows: 0, detail });
        }
        // A block that came late only to repeat what was there is told once, as a repeat.
        let repeats: Vec<Span> =
            findings.iter().filter(|f| f.kind == Kind::DuplicateTime).map(|f| f.span).collect();
        findings.retain(|f| {
            f.kind != Kind::OutOfOrder || !repeats.iter().any(|r| r.from <= f.span.from && f.span.to <= r.to)
        });
        findings.sort_by_key(|f| (Kind::ALL.iter().position(|k| *k == f.kind), f.span.from));
        let (days, coverage) = self.days.finish(self.report.first, self.report.last);
        self.report.last -= if self.report.rows > 0 { self.frame.length().min(DAY) } else { 0 };
        let spread = (!self.spreads.is_empty()).then(|| spread_stats(&self.spreads));
        Report { findings, days, coverage, spread, ..self.report }
    }
}

fn empty_report() -> Report {
    Report {
        rows: 0,
        first: 0,
        last: 0,
        coverage: 0.0,
        days: Vec::new(),
        gaps: Vec::new(),
        findings: Vec::new(),
        max_range: Extreme::default(),
        max_body: Extreme::default(),
        max_gap: Extreme::default(),
        spread: None,
        filler_closed: 0,
        filler_open: 0,
    }
}

fn larger(extreme: &mut Extreme, points: i64, at: Micros) {
    if points > extreme.points {
        *extreme = Extreme { points, at };
    }
}

fn spread_stats(counts: &BTreeMap<i64, u64>) -> SpreadStats {
    let total: u64 = counts.values().sum();
    let quantile = |share: f64| {
        let mut left = (total as f64 * share).ceil().max(1.0) as u64;
        counts
            .iter()
            .find(|(_, n)| {
                let hit = left <= **n;
                left = left.saturating_sub(**n);
                hit
            })
            .map_or(0, |(v, _)| *v)
    };
    SpreadStats {
        median: quantile(0.5),
        p90: quantile(0.9),
        p99: quantile(0.99),
        max: counts.keys().next_back().copied().unwrap_or_default(),
    }
}
