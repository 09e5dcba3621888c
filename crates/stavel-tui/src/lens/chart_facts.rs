//! What the chart knows of the bar under the cursor.

use stavel_core::check::FindingKind;
use stavel_core::measures::{average_true_range, true_ranges};
use stavel_core::model::columns::{
    CARRIED_SPREAD, FILLED, SHEET_SPREAD, is_filled, is_made_up, is_rebuilt, spread_mark,
};
use stavel_core::model::price::scaled;
use stavel_core::model::time::{DAY, wall};
use stavel_core::model::{BarView, Columns, Field, SeriesName, Span, present};
use stavel_core::store::InstrumentFact;
use stavel_work::finding_in_words;

use super::FactLine;
use super::chart_view::ChartScene;
use crate::canvas::thousands;
use crate::dates::{in_words, mark};
use crate::theme;
use crate::view::View;

/// The series that a joined history was made of, in the order in which origins count them; none where it is not
/// joined.
fn joined_from(series: &SeriesName, view: &View<'_>) -> Vec<String> {
    let Some(info) = view.snapshot.find(series) else { return Vec::new() };
    let provenance = &info.edition.provenance;
    let mut parents = provenance.parents().map(|(_, parent)| parent);
    match &provenance.made {
        made if made.is_joined() => parents.map(SeriesName::short).collect(),
        made if made.is_framed() => parents.next().map_or_else(Vec::new, |base| joined_from(base, view)),
        _ => Vec::new(),
    }
}

/// What the origin of a row says, in words.
fn origin_in_words(origin: i64, joined: &[String]) -> String {
    let place = usize::try_from(origin % FILLED).unwrap_or_default();
    let mut words = match place.checked_sub(1) {
        None if joined.is_empty() => vec!["as its source has it".to_owned()],
        None => vec!["several sources".to_owned()],
        Some(before) => {
            vec![joined.get(before).cloned().unwrap_or_else(|| format!("source {place} of the splice"))]
        }
    };
    if is_filled(origin) {
        words.push("filled".into());
    }
    if is_rebuilt(origin) {
        words.push("rebuilt from bars".into());
    }
    if is_made_up(origin) {
        words.push("made up for a stress test".into());
    }
    match spread_mark(origin) {
        CARRIED_SPREAD => words.push("spread carried over".into()),
        SHEET_SPREAD => words.push("spread of the sheet".into()),
        _ => {}
    }
    words.join(", ")
}

/// A bar's values as facts.
fn bar_facts(bars: &Columns, at: usize, joined: &[String]) -> Vec<FactLine> {
    let mut out = Vec::new();
    for (field, column) in bars.fields.iter().zip(&bars.data) {
        let value = match (field, present(column[at])) {
            (_, None) => "not known".to_owned(),
            (f, Some(v)) if f.is_spread() => format!("{v} points"),
            (Field::Origin, Some(v)) => origin_in_words(v, joined),
            (_, Some(v)) => scaled(v, bars.scale.of(*field)),
        };
        out.push(FactLine::Pair(field.name(), value));
    }
    out
}

/// Bars in the average of true ranges.
const RANGES: usize = 14;

/// What is known of the bar under the cursor, of what is there, and of the window.
pub fn facts(drawn: &ChartScene, at: usize, dates: &[&InstrumentFact], view: &View<'_>) -> Vec<FactLine> {
    let clock = view.clock();
    let (time, afloat) = (drawn.bars.time[at], drawn.is_afloat);
    let mut out = vec![FactLine::heading(format!("bar of {}", drawn.frame))];
    if afloat {
        out.push(FactLine::Pair("written", wall(time)));
    } else {
        out.push(FactLine::Pair("UTC", wall(time)));
        out.push(FactLine::Pair("shown as", wall(clock.to_wall(time))));
    }
    out.extend(bar_facts(&drawn.bars, at, &joined_from(&drawn.series, view)));
    out.extend(there(drawn, at, dates, view));
    out.push(FactLine::Gap);
    out.push(FactLine::heading("window"));
    let decimals = drawn.bars.scale.price;
    let prices = BarView::new(&drawn.bars);
    let bars = || (0..prices.len()).filter_map(|i| prices.bar(i));
    let highest = bars().map(|b| b.high).max().map(|v| scaled(v, decimals));
    let lowest = bars().map(|b| b.low).min().map(|v| scaled(v, decimals));
    let ranges = true_ranges(&drawn.bars);
    let average = average_true_range(&ranges, RANGES);
    out.push(FactLine::Pair("bars", thousands(drawn.bars.len() as u64)));
    out.extend(highest.map(|v| FactLine::Pair("highest", v)));
    out.extend(lowest.map(|v| FactLine::Pair("lowest", v)));
    out.extend(ranges[at].map(|r| FactLine::Pair("true range", scaled(r, decimals))));
    out.extend(average[at].map(|r| FactLine::Pair("of 14 bars", scaled(r.round() as i64, decimals))));
    if !afloat {
        out.push(FactLine::Gap);
        out.push(FactLine::words(format!("times shown in {clock}: {}", clock.in_words())));
    }
    out
}

/// Findings and dated facts that lie in the bar at a place.
fn there(drawn: &ChartScene, at: usize, dates: &[&InstrumentFact], view: &View<'_>) -> Vec<FactLine> {
    let from = drawn.bars.time[at];
    let to = drawn.bars.time.get(at + 1).copied().unwrap_or(from + drawn.frame.length().max(1));
    let span = Span::new(from, to.max(from + 1));
    let mut out = Vec::new();
    let edition = view.snapshot.find(&drawn.series).map(|s| s.edition.id);
    let found = view.found.filter(|f| Some(f.edition) == edition);
    let findings = found.into_iter().flat_map(|f| &f.report.findings);
    for f in
        findings.filter(|f| f.kind != FindingKind::ClosedMarket && f.span.overlap(&span).is_some()).take(3)
    {
        let (shape, _) = theme::severity(f.kind.severity());
        out.push(FactLine::words(format!("{shape} {}: {}", f.kind.word(), finding_in_words(f))));
    }
    // A day without a time is that day, in whichever bar of it.
    let is_here = |fact: &&&InstrumentFact| {
        let day = Span::new(fact.time, fact.time + DAY);
        span.holds(fact.time) || !fact.has_moment() && day.overlap(&span).is_some()
    };
    for fact in dates.iter().filter(is_here).take(4) {
        let shape = mark(fact).map_or("", |(shape, _)| shape);
        out.push(FactLine::words(format!("{shape} {}", in_words(fact))));
    }
    if !out.is_empty() {
        out.insert(0, FactLine::Gap);
    }
    out
}
