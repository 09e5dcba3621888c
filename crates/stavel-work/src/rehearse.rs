//! Doing a rehearse step.

use serde_json::json;

use crate::report::StepReport;
use crate::span::span_between;
use crate::step::RehearseStep;
use stavel_core::job::Job;
use stavel_core::model::columns::shape_of;
use stavel_core::model::price::scaled;
use stavel_core::model::time::rfc3339;
use stavel_core::model::{Shape, Span};
use stavel_core::rehearse::{Played, SpreadRule, money_sheet, read_orders, run_orders};
use stavel_core::store::{EditionInfo, Shelf};
use stavel_core::{Error, Result};

/// Plays a list of orders without a screen.
pub fn rehearse(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<StepReport> {
    let info = shelf.find(&step.series)?;
    if info.is_afloat() {
        return Err(Error::input(format!(
            "{} is afloat: its session days are not known; align it first.",
            step.series
        )));
    }
    let edition = &info.edition;
    if shape_of(&edition.fields) == Shape::Depth {
        return Err(Error::input(
            "Depth rows alone cannot be played; name the ticks or bars of the instrument.",
        ));
    }
    let orders = step.orders.as_deref().ok_or_else(|| {
        Error::arguments("A rehearsal without a screen needs orders: a CSV file of time,side,lots.")
    })?;
    let orders = read_orders(orders)?;
    let instrument = shelf.instrument(&step.series.instrument)?;
    let (sheet, in_points) = money_sheet(&instrument, edition.scale.price);
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let spreads = SpreadRule::of(shelf, &info, &instrument.sheet)?;
    job.begin(format!("rehearse {}", step.series), edition.rows);
    let played = Played { frame: step.series.frame, decimals: edition.scale.price, spreads };
    let rows = shelf.scan(edition, span, None)?;
    if !has_rows(shelf, edition, span)? {
        let nearest = if span.to <= edition.first { edition.first } else { edition.last };
        return Err(Error::input(format!(
            "{} has nothing to play in that span; the nearest data are at {}.",
            step.series,
            rfc3339(nearest)
        )));
    }
    let currency = sheet.quote.clone();
    let outcome = run_orders(rows, &played, &orders, sheet, job)?;
    let mut json = outcome.to_json();
    json["series"] = json!(step.series);
    json["currency"] = json!(currency);
    let a = &outcome.account;
    let mut lines = vec![format!(
        "{}: {} quotes, {} fills, realised {} {currency} after costs of {}, position {}",
        step.series,
        outcome.quotes,
        a.deals().len(),
        stavel_core::rehearse::money(a.realised()),
        stavel_core::rehearse::money(a.costs()),
        scaled(a.position(), 2)
    )];
    lines.extend(a.journal_lines());
    lines.extend(outcome.remarks.iter().map(|remark| format!("  ▲ {remark}")));
    if in_points {
        lines.push(format!(
            "  nobody has said what a step of its price is worth, so this is in points, without costs: stavel compose {} --set tick_size=… --set tick_value=…",
            instrument.name
        ));
    }
    let used = outcome.spreads;
    if used.measured > 0 {
        lines.push(format!(
            "  the spread of {} quotes is the usual one of their hour of the week: their rows say none",
            used.measured
        ));
    }
    if used.sheet > 0 {
        lines.push(format!(
            "  the spread of {} quotes is that of the spec sheet: their rows say none",
            used.sheet
        ));
    }
    let doubts = if in_points { Vec::new() } else { instrument.doubts() };
    lines.extend(doubts.iter().map(|doubt| format!("  ▲ {doubt}")));
    let wants_person = !outcome.remarks.is_empty() || !doubts.is_empty();
    Ok(StepReport { wants_person, ..StepReport::new(json, lines) })
}

fn has_rows(shelf: &Shelf, edition: &EditionInfo, span: Span) -> Result<bool> {
    Ok(shelf.scan(edition, span, Some(&[]))?.next().transpose()?.is_some())
}
