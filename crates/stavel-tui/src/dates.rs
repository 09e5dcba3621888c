//! Dated facts as marks: a shape says what one is and how much it weighs.

use ratatui::style::Color;
use stavel_core::model::Weight;
use stavel_core::model::time::{DAY, Micros, date, wall};
use stavel_core::store::{FACT_WHOLE_DAY, InstrumentFact, fact_kind};

use crate::theme;

/// The shape and colour of a fact; none for those that are told elsewhere.
pub fn mark(fact: &InstrumentFact) -> Option<(&'static str, Color)> {
    Some(match (fact.kind.as_str(), fact.weight()) {
        (fact_kind::SHEET, _) => return None,
        (fact_kind::EVENT, Some(Weight::High)) => ("●", theme::source(2)),
        (fact_kind::EVENT, Some(Weight::Medium)) => ("◐", theme::source(2)),
        (fact_kind::EVENT, _) => ("·", theme::source(2)),
        (fact_kind::HOLIDAY, _) => ("▬", theme::FAINT),
        (fact_kind::GAP, _) => ("╳", theme::WRONG),
        // Splits, dividends, statements.
        _ => ("◇", theme::source(2)),
    })
}

/// How much a mark is worth its place, where there is not enough of it.
fn rank(fact: &InstrumentFact) -> u8 {
    match (fact.kind.as_str(), fact.weight()) {
        (fact_kind::GAP | fact_kind::SPLIT | fact_kind::DIVIDEND, _) => 4,
        (fact_kind::EVENT, Some(Weight::High)) => 3,
        (fact_kind::HOLIDAY | fact_kind::STATEMENT, _) => 2,
        (fact_kind::EVENT, Some(Weight::Medium)) => 1,
        _ => 0,
    }
}

/// The marks of facts on an axis of so many columns, the weightiest of a column: as light ones as leave two thirds of the
/// axis empty.
pub fn on_axis(
    facts: &[&InstrumentFact],
    columns: u16,
    column_of: impl Fn(Micros) -> u16,
) -> Vec<(u16, &'static str, Color)> {
    let mut best: Vec<(u16, u8, &'static str, Color)> = Vec::new();
    for fact in facts {
        let Some((shape, colour)) = mark(fact) else { continue };
        let (column, rank) = (column_of(fact.time), rank(fact));
        match best.iter_mut().find(|(at, ..)| *at == column) {
            Some(there) if there.1 >= rank => {}
            Some(there) => *there = (column, rank, shape, colour),
            None => best.push((column, rank, shape, colour)),
        }
    }
    let least =
        (0..=4).find(|least| best.iter().filter(|m| m.1 >= *least).count() * 3 <= usize::from(columns));
    best.retain(|m| least.is_some_and(|least| m.1 >= least));
    best.into_iter().map(|(column, _, shape, colour)| (column, shape, colour)).collect()
}

/// A fact in a line: what it is, when, and what it says.
pub fn in_words(fact: &InstrumentFact) -> String {
    let when = if fact.has_moment() { wall(fact.time) } else { date(fact.time.div_euclid(DAY)) };
    let name = fact.name().unwrap_or(&fact.kind);
    let left_out = [
        "id",
        "name",
        "title",
        "event",
        "weight",
        "impact",
        "importance",
        "cancelled",
        "series",
        "left",
        "back",
        FACT_WHOLE_DAY,
    ];
    let values: Vec<String> = fact
        .values
        .iter()
        .filter(|(key, _)| !left_out.contains(&key.as_str()))
        .map(|(key, value)| format!("{key} {value}"))
        .collect();
    let weight = fact.weight().map_or(String::new(), |weight| format!(" ({weight})"));
    let told = if values.is_empty() { String::new() } else { format!(": {}", values.join(", ")) };
    format!("{name}{weight} {when}{told}")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fact(kind: &str, time: Micros, weight: &str) -> InstrumentFact {
        let values =
            [("name".to_owned(), "rate".to_owned()), ("weight".to_owned(), weight.to_owned())].into();
        InstrumentFact { source: "skerry".into(), time, kind: kind.into(), values }
    }

    #[test]
    fn the_weightiest_has_the_place_and_light_ones_go_where_there_are_too_many() {
        let all: Vec<InstrumentFact> = (0..30)
            .map(|i| fact("event", i, if i % 10 == 0 { "high" } else { "low" }))
            .chain([fact("gap", 5, ""), fact("sheet", 7, "")])
            .collect();
        let facts: Vec<&InstrumentFact> = all.iter().collect();
        let wide = on_axis(&facts, 200, |t| t as u16);
        assert_eq!(wide.len(), 30);
        let narrow = on_axis(&facts, 30, |t| t as u16);
        let shapes: Vec<(u16, &str)> = narrow.iter().map(|(column, shape, _)| (*column, *shape)).collect();
        assert_eq!(shapes, [(0, "●"), (5, "╳"), (10, "●"), (20, "●")]);
        assert_eq!(in_words(&fact("event", DAY + 60_000_000, "high")), "rate (high) 1970-01-02 00:01");
    }
}
