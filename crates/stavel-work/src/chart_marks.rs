//! What a chart has beside its bars: findings, seams, dates, where session days begin, drawings and deals.

use stavel_core::Result;
use stavel_core::check::{Finding, FindingKind, Severity, check_series};
use stavel_core::job::Job;
use stavel_core::model::price::as_float;
use stavel_core::model::time::DAY;
use stavel_core::model::{Frame, Made, Session, Span, Weight};
use stavel_core::rehearse::{Deal, Direction};
use stavel_core::store::{FactFilter, SeriesInfo, Shelf, fact_kind};
use stavel_draw::{DealAt, DrawingAt, MarkAt, MarkKind};

use crate::drawings::{PlacedDrawing, drawings_on};
use crate::rehearse::play_orders;
use crate::report::counted;
use crate::span::rows_within;
use crate::step::{ChartStep, RehearseStep};

/// Rows that are checked for the findings of a chart, at most: whoever draws a picture does not wait until a hundred
/// million ticks are checked.
const MOST_CHECKED: f64 = 3e6;

/// What stands on the bars of a chart.
#[derive(Default)]
pub struct OnBars {
    pub shades: Vec<Span>,
    pub marks: Vec<MarkAt>,
    pub drawings: Vec<DrawingAt>,
    pub deals: Vec<DealAt>,
    /// What is to be told of them.
    pub remarks: Vec<String>,
    /// True where orders came to nothing.
    pub wants_person: bool,
}

impl OnBars {
    /// What a step asks for on bars of a frame in a span.
    ///
    /// # Errors
    /// Where the series, its orders or its drawings cannot be read.
    pub fn of(
        shelf: &Shelf,
        step: &ChartStep,
        info: &SeriesInfo,
        (frame, span): (Frame, Span),
        job: &Job,
    ) -> Result<OnBars> {
        let mut on = OnBars::default();
        on.add_deals(shelf, step, info.edition.scale.price, job)?;
        if step.plain {
            return Ok(on);
        }
        let mut findings = Vec::new();
        if rows_within(info, span) <= MOST_CHECKED {
            findings = check_series(shelf, &info.name, span, job)?.1.findings;
        } else {
            on.remarks
                .push("  Findings are not marked: there are too many rows to check for a picture.".into());
        }
        on.marks = marks_of(shelf, info, &findings, step.weight, span)?;
        if !info.is_afloat() {
            let session = shelf.instrument(&info.name.instrument)?.sheet.session;
            on.shades = every_other_day(&session, frame, span);
        }
        // What a rehearsal drew is not seen in a picture of what was before.
        let is_known = |placed: &PlacedDrawing| {
            placed.drawing.rehearsed.is_none() || step.to.is_none() || placed.known_from() < span.to
        };
        let drawings = drawings_on(shelf, info)?.into_iter().filter(is_known);
        on.drawings = drawings.map(|placed| placed.on_chart(false)).collect();
        Ok(on)
    }

    /// Adds the fills of the orders of a step.
    fn add_deals(&mut self, shelf: &Shelf, step: &ChartStep, decimals: u8, job: &Job) -> Result<()> {
        let Some(orders) = &step.orders else { return Ok(()) };
        let play = RehearseStep {
            series: vec![step.series.clone()],
            orders: Some(orders.clone()),
            from: step.from.clone(),
            to: step.to.clone(),
            ..RehearseStep::default()
        };
        let played = play_orders(shelf, &play, job)?;
        let deal = |deal: &Deal| DealAt {
            time: deal.time,
            price: as_float(deal.price, decimals),
            is_buy: deal.direction == Direction::Buy,
        };
        self.deals = played.replay().desk().deals().map(deal).collect();
        self.remarks.push(format!("  {} marked", counted(self.deals.len() as u64, "fill")));
        let unfilled = played.outcome.unfilled();
        if unfilled > 0 {
            self.wants_person = true;
            let orders = counted(unfilled as u64, "order");
            self.remarks.push(format!("  ▲ {orders} not filled; stavel rehearse tells why"));
        }
        Ok(())
    }
}

/// Every other session day, so that days are told apart; none of bars of half a day and more.
fn every_other_day(session: &Session, frame: Frame, span: Span) -> Vec<Span> {
    if frame.length() >= DAY / 2 {
        return Vec::new();
    }
    let days = session.clock.day_of(span.from)..=session.clock.day_of(span.to - 1);
    days.filter(|day| day % 2 == 0).map(|day| session.day_span(day)).collect()
}

/// The marks of a series: its findings and seams, and what is known on dates in a span. Where its clock is not known, dates
/// have no place among its rows.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn marks_of(
    shelf: &Shelf,
    info: &SeriesInfo,
    findings: &[Finding],
    weight: Option<Weight>,
    span: Span,
) -> Result<Vec<MarkAt>> {
    let at = |time, kind| MarkAt { time, kind };
    let mut marks = Vec::new();
    if let Made::Splice(joining) = &info.edition.provenance.made {
        marks.extend(joining.seams.iter().map(|seam| at(*seam, MarkKind::Seam)));
    }
    for finding in findings.iter().filter(|f| f.kind != FindingKind::ClosedMarket) {
        match finding.kind.severity() {
            Severity::Fault => marks.push(at(finding.span.from, MarkKind::Fault)),
            Severity::Doubt => marks.push(at(finding.span.from, MarkKind::Doubt)),
            Severity::Note => {}
        }
    }
    if !info.is_afloat() {
        let filter = FactFilter { weight, span: Some(span), ..FactFilter::default() };
        for fact in shelf.facts_about(&info.name.instrument, &filter)? {
            let kind = match fact.kind.as_str() {
                fact_kind::EVENT => MarkKind::Event(fact.weight()),
                fact_kind::HOLIDAY => MarkKind::Holiday,
                fact_kind::GAP => MarkKind::Gap,
                fact_kind::SHEET => continue,
                _ => MarkKind::Action,
            };
            marks.push(at(fact.time, kind));
        }
    }
    Ok(marks)
}
