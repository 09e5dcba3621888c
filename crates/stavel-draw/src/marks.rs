//! What stands above the bars: findings, events, seams.

use stavel_core::model::{Micros, Span, Weight};

/// What a mark means.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum MarkKind {
    /// Two sources meet.
    Seam,
    /// Something is announced; none where nobody says how much it moves the market.
    Event(Option<Weight>),
    Holiday,
    /// A split, a dividend, a statement.
    Action,
    /// A live stream was away.
    Gap,
    /// Something in the rows is doubtful.
    Doubt,
    /// Something in the rows is wrong.
    Fault,
}

impl MarkKind {
    /// The word for it in a legend.
    pub fn word(self) -> &'static str {
        match self {
            MarkKind::Seam => "seam",
            MarkKind::Event(Some(Weight::High)) => "event, high",
            MarkKind::Event(Some(Weight::Medium)) => "event, medium",
            MarkKind::Event(Some(Weight::Low)) => "event, low",
            MarkKind::Event(None) => "event",
            MarkKind::Holiday => "holiday",
            MarkKind::Action => "split, dividend, statement",
            MarkKind::Gap => "gap of the stream",
            MarkKind::Doubt => "doubt",
            MarkKind::Fault => "fault",
        }
    }
}

/// A mark to be put on a chart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct MarkAt {
    pub time: Micros,
    pub kind: MarkKind,
}

/// A mark on a chart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SceneMark {
    /// The bar in which it lies.
    pub slot: usize,
    pub kind: MarkKind,
}

/// A deal to be put on a chart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DealAt {
    pub time: Micros,
    /// In units of price.
    pub price: f64,
    /// True where something was bought.
    pub is_buy: bool,
}

/// A deal on a chart.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SceneDeal {
    /// The bar in which it was made.
    pub slot: usize,
    /// In units of price.
    pub price: f64,
    pub is_buy: bool,
}

/// The deals that were made within the slots of a chart.
pub fn deals_on(times: &[Micros], deals: &[DealAt]) -> Vec<SceneDeal> {
    let on = |deal: &DealAt| {
        let slot = slot_holding(times, deal.time)?;
        Some(SceneDeal { slot, price: deal.price, is_buy: deal.is_buy })
    };
    deals.iter().filter_map(on).collect()
}

/// The slot whose bar holds a time; none outside of all.
fn slot_holding(times: &[Micros], time: Micros) -> Option<usize> {
    let (first, last) = (*times.first()?, *times.last()?);
    let usual = times.windows(2).map(|w| w[1] - w[0]).min().unwrap_or(1);
    (time >= first && time < last + usual).then(|| times.partition_point(|t| *t <= time).saturating_sub(1))
}

/// The marks that lie within the slots of a chart, each kind once a slot.
pub fn marks_on(times: &[Micros], marks: &[MarkAt]) -> Vec<SceneMark> {
    let mut out: Vec<SceneMark> = Vec::new();
    for mark in marks {
        let Some(slot) = slot_holding(times, mark.time) else { continue };
        let mark = SceneMark { slot, kind: mark.kind };
        if !out.contains(&mark) {
            out.push(mark);
        }
    }
    out.sort_by_key(|mark| (mark.slot, mark.kind));
    out
}

/// The slots that spans cover: from the first to behind the last.
pub fn slots_in(times: &[Micros], spans: &[Span]) -> Vec<(usize, usize)> {
    let range =
        |span: &Span| (times.partition_point(|t| *t < span.from), times.partition_point(|t| *t < span.to));
    spans.iter().map(range).filter(|(from, to)| to > from).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_stands_at_the_bar_it_lies_in_and_none_outside_is_drawn() {
        let times = [10, 20, 40];
        let at = |time, kind| MarkAt { time, kind };
        let marks = [
            at(9, MarkKind::Fault),
            at(10, MarkKind::Event(Some(Weight::High))),
            at(19, MarkKind::Event(Some(Weight::High))),
            at(35, MarkKind::Seam),
            at(49, MarkKind::Doubt),
            at(50, MarkKind::Doubt),
        ];
        let told: Vec<(usize, MarkKind)> =
            marks_on(&times, &marks).iter().map(|m| (m.slot, m.kind)).collect();
        assert_eq!(
            told,
            [(0, MarkKind::Event(Some(Weight::High))), (1, MarkKind::Seam), (2, MarkKind::Doubt)]
        );
        assert!(marks_on(&[], &marks).is_empty());
        let spans = [Span::new(0, 10), Span::new(15, 41), Span::new(41, 60)];
        assert_eq!(slots_in(&times, &spans), [(1, 3)]);
    }
}
