//! What trading an instrument costs: spreads as they were measured, and what its spec sheet says, in its own money and
//! in that of an account.

mod measured;
mod money;
mod told;

pub use measured::MeasuredSpreads;
use measured::{measure, measured_series};
pub use money::{CostMoney, NightCost, RoundTurn};
pub use told::{costs_csv, costs_report, costs_tables};

use crate::account_money::AccountWish;
use crate::dates::{QuotedSpread, quoted_spreads};
use crate::sheet::{SheetValue, sheet_values};
use stavel_core::job::Job;
use stavel_core::model::{Instrument, SeriesName, Standing, Weight};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// Everything that is known of what an instrument costs.
#[derive(Debug, Clone)]
pub struct CostSheet {
    /// The instrument.
    pub instrument: Instrument,
    /// Its spreads; none where no series of it knows any.
    pub spreads: Option<MeasuredSpreads>,
    /// The usual spreads as brokers say them, in points.
    pub quoted: Vec<QuotedSpread>,
    /// The values of its spec sheet that are about costs.
    pub values: Vec<SheetValue>,
    /// The same in money.
    pub money: CostMoney,
    /// What a careful person would look at.
    pub doubts: Vec<String>,
}

/// The keys of a spec sheet that are about costs and sizes.
const KEYS: [&str; 15] = [
    "quote",
    "decimals",
    "tick_size",
    "tick_value",
    "contract_size",
    "spread",
    "commission",
    "swap_long",
    "swap_short",
    "swap_kind",
    "swap_triple",
    "margin",
    "lot_min",
    "lot_step",
    "lot_max",
];

/// Works out what an instrument costs; `of` is its name, or a series of it whose spreads are to be measured. Of events only
/// those of at least `weight` count, where one is said.
///
/// # Errors
/// Where there is no such instrument or series, or it cannot be read.
pub fn cost_sheet(
    shelf: &Shelf,
    of: &str,
    account: Option<&AccountWish>,
    weight: Option<Weight>,
    job: &Job,
) -> Result<CostSheet> {
    let series: Option<SeriesName> = if of.contains('@') { Some(of.parse()?) } else { None };
    let name = series.as_ref().map_or(of, |s| s.instrument.as_str());
    let instrument = shelf.instrument(name)?;
    let spreads = match &series {
        Some(series) => {
            let info = shelf.find(series)?;
            let measured = measure(shelf, &instrument, &info, weight, job)?;
            if measured.profile.all.is_none() {
                return Err(Error::input(format!(
                    "No row of {series} knows its spread; name a series of quotes, or of bars with spreads."
                )));
            }
            Some(measured)
        }
        None => measured_series(shelf, &instrument, weight, job)?,
    };
    let values: Vec<SheetValue> =
        sheet_values(shelf, name)?.into_iter().filter(|v| KEYS.contains(&v.key)).collect();
    let mut doubts = instrument.doubts();
    let money = CostMoney::of(shelf, &instrument, spreads.as_ref(), account, &mut doubts)?;
    if instrument.standing("tick_value") == Standing::Assumed
        && instrument.standing("contract_size") == Standing::Assumed
    {
        doubts.push(format!(
            "nobody has said what a step of the price is worth, so money rests on an assumed tick value of {1}: stavel compose {0} --set tick_value=…",
            instrument.name, instrument.sheet.tick_value
        ));
    }
    if spreads.is_none() && instrument.sheet.spread.is_none() {
        doubts.push(format!(
            "no series of {name} knows its spread, and nobody has said one: stavel compose {name} --set spread=…"
        ));
    }
    let quoted = quoted_spreads(shelf, name)?;
    Ok(CostSheet { instrument, spreads, quoted, values, money, doubts })
}
