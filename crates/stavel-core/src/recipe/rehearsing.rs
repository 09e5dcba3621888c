//! Doing a rehearse step.

use serde_json::json;

use super::apply::{Report, span_between};
use super::step::RehearseStep;
use crate::job::Job;
use crate::model::columns::shape_of;
use crate::model::price::scaled;
use crate::model::time::rfc3339;
use crate::model::{Decision, Instrument, Shape, Span, Standing};
use crate::rehearse::{KnownSpreads, Played, read_orders, run_orders};
use crate::store::{EditionInfo, Shelf};
use crate::{Error, Result};

/// Plays a list of orders without a screen.
pub fn rehearse(shelf: &Shelf, step: &RehearseStep, job: &Job) -> Result<Report> {
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
    let orders = read_orders(&step.orders)?;
    let instrument = shelf.instrument(&step.series.instrument)?;
    ask_for_money(&instrument)?;
    let span = span_between(step.from.as_deref(), step.to.as_deref())?;
    let spread = match instrument.sheet.spread_at(edition.scale.price) {
        Some(points) => Some(points),
        None => usual_spread(shelf, edition, span)?,
    };
    job.begin(format!("rehearse {}", step.series), edition.rows);
    let played = Played { frame: step.series.frame, decimals: edition.scale.price, spread };
    let rows = shelf.scan(edition, span, None)?;
    if !has_rows(shelf, edition, span)? {
        let nearest = if span.to <= edition.first { edition.first } else { edition.last };
        return Err(Error::input(format!(
            "{} has nothing to play in that span; the nearest data are at {}.",
            step.series,
            rfc3339(nearest)
        )));
    }
    let currency = instrument.sheet.quote.clone();
    let outcome = run_orders(rows, &played, &orders, instrument.sheet, job)?;
    let mut json = outcome.to_json();
    json["series"] = json!(step.series);
    json["currency"] = json!(currency);
    let a = &outcome.account;
    let mut lines = vec![format!(
        "{}: {} quotes, {} fills, realised {} {currency} after costs of {}, position {}",
        step.series,
        outcome.quotes,
        a.deals().len(),
        crate::rehearse::money(a.realised()),
        crate::rehearse::money(a.costs()),
        scaled(a.position(), 2)
    )];
    lines.extend(a.journal_lines());
    lines.extend(outcome.remarks.iter().map(|remark| format!("  ▲ {remark}")));
    let mut report = Report { wants_person: !outcome.remarks.is_empty(), ..Report::new(json, lines) };
    if spread.is_none() && shape_of(&edition.fields) != Shape::Quotes {
        // A spread of a point flatters every fill: somebody should look.
        report.wants_person = true;
        let why = format!(
            "neither the rows nor the spec sheet say one; compose {} --spread says it",
            instrument.name
        );
        report.assumed.push(Decision::new("spread", "1 point", Standing::Assumed, why));
    }
    Ok(report)
}

/// What one step of a good's price is worth is different for every contract: without it all money is worthless.
/// A lot of a pair of currencies is usually 100,000 of the first, which is told and not asked.
fn ask_for_money(instrument: &Instrument) -> Result<()> {
    let is_known = |key: &str| instrument.standing(key) != Standing::Assumed;
    let is_pair = instrument.values.get("kind").is_some_and(|k| k == "forex");
    if is_pair || is_known("tick_value") || is_known("contract_size") {
        return Ok(());
    }
    Err(Error::undecided(format!(
        "Nobody has said what a step of the price of {0} is worth, so profit and loss would mean nothing; say it first: stavel compose {0} --set tick_size=… --set tick_value=…",
        instrument.name
    )))
}

fn has_rows(shelf: &Shelf, edition: &EditionInfo, span: Span) -> Result<bool> {
    Ok(shelf.scan(edition, span, Some(&[]))?.next().transpose()?.is_some())
}

/// The median spread that the rows say, read beforehand.
fn usual_spread(shelf: &Shelf, edition: &EditionInfo, span: Span) -> Result<Option<i64>> {
    let mut known = KnownSpreads::default();
    let fields: Vec<_> = KnownSpreads::FIELDS.into_iter().filter(|f| edition.fields.contains(f)).collect();
    if fields.is_empty() || shape_of(&edition.fields) == Shape::Quotes {
        return Ok(None);
    }
    for rows in shelf.scan(edition, span, Some(&fields))? {
        known.add(&rows?);
    }
    Ok(known.usual())
}
