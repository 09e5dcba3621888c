//! The settings of rehearse.

use std::path::PathBuf;

use clap::Args;
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use stavel_core::model::time::parse_length;
use stavel_core::model::{Clock, SeriesName};
use stavel_core::rehearse::{DepthSizes, DeskRules, Queue};
use stavel_core::{Error, Result};

use super::deliver::{as_one_or_many, one_or_many};
use super::settings::{is_default, one_of};

/// What a table of a rehearsal holds.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, strum::EnumString, strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum RehearsalTable {
    /// Every fill.
    #[default]
    Fills,
    /// What was opened and closed again.
    Trades,
    /// Orders, their changes, fills, swaps and notes, as they came.
    Journal,
}

/// One or many histories to play in one time.
#[derive(Debug, Clone, Default, PartialEq, Args, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RehearseStep {
    /// The series; several are played in one time.
    #[arg(required = true)]
    #[serde(deserialize_with = "one_or_many", serialize_with = "as_one_or_many")]
    pub series: Vec<SeriesName>,
    /// Play from this moment on.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Play up to this moment.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub to: Option<String>,
    /// Series on which to measure the spread of rows that have none.
    #[arg(long, value_name = "SERIES")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub spread_of: Option<SeriesName>,
    /// A CSV file of orders: time,instrument,side,type,lots,price,stop,target,until. A command without it plays on the bench.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub orders: Option<PathBuf>,
    /// A script of orders at times and conditions, instead of a list of orders.
    #[arg(long, value_name = "FILE", conflicts_with = "orders")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub script: Option<PathBuf>,
    /// Write a report (.html, .pdf), a table (.csv, .txt, .json, .ndjson, .parquet), all tables (.xlsx), or all of it into a folder (run/),
    /// with a picture of each moment of the journal.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub out: Option<PathBuf>,
    /// What a table holds.
    #[arg(long, value_parser = one_of::<RehearsalTable>(), default_value = "fills", requires = "out")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub table: RehearsalTable,
    /// The layout of the lines of a table: a saved one, one that ships, or a file.
    #[arg(long, value_name = "LAYOUT", requires = "out")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub layout: Option<String>,
    /// The clock of times in tables; else UTC.
    #[arg(long, value_name = "CLOCK", requires = "out")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub clock: Option<Clock>,
    /// Hold it against an earlier run, as it was kept with --json.
    #[arg(long, value_name = "FILE")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<PathBuf>,
    /// The currency of the account; else the one that all series are priced in.
    #[arg(long, value_name = "CURRENCY")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Money of the account at the beginning: needed for margin and for sizes by risk.
    #[arg(long, value_name = "MONEY")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub balance: Option<Decimal>,
    /// Equity below this share of the margin closes everything, in per cent.
    #[arg(long, value_name = "PERCENT")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub call: Option<Decimal>,
    /// Hold buys and sales of an instrument beside each other; else they make one position.
    #[arg(long)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub hedged: bool,
    /// From an order until the market has it, as 200ms or 1s.
    #[arg(long, value_name = "TIME")]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency: Option<String>,
    /// Points that whatever fills at the market gets worse by.
    #[arg(long, value_name = "POINTS", default_value_t = 0)]
    #[serde(default, skip_serializing_if = "is_default")]
    pub slippage: i64,
    /// A limit is filled when the price touches it, or only when the price goes through it.
    #[arg(long, value_parser = one_of::<Queue>(), default_value = "touch")]
    #[serde(default, skip_serializing_if = "is_default")]
    pub queue: Queue,
    /// What the sizes of recorded depth count; contracts are counted in lots. Fills take from it; none leaves it away.
    #[arg(long, value_name = "SIZES", value_parser = one_of::<DepthSizes>())]
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub depth: Option<DepthSizes>,
}

impl RehearseStep {
    /// A rehearsal of some series.
    pub fn of(series: Vec<SeriesName>) -> RehearseStep {
        RehearseStep { series, ..RehearseStep::default() }
    }

    /// True where it is played without a screen.
    pub fn is_without_screen(&self) -> bool {
        self.orders.is_some() || self.script.is_some()
    }

    /// How orders are filled and money is kept.
    ///
    /// # Errors
    /// A sentence for a setting that makes no sense.
    pub fn rules(&self) -> Result<DeskRules> {
        let usual = DeskRules::default();
        let latency = self.latency.as_deref().map(latency_of).transpose()?.unwrap_or(0);
        if self.slippage < 0 {
            return Err(Error::arguments("Slippage makes a price worse: write it as points above zero."));
        }
        if self.balance.is_some_and(|balance| balance <= Decimal::ZERO) {
            return Err(Error::arguments("The balance must be above zero."));
        }
        if self.call.is_some() && self.balance.is_none() {
            return Err(Error::arguments(
                "A margin call needs to know what is in the account: say --balance.",
            ));
        }
        if self.call.is_some_and(|call| call <= Decimal::ZERO) {
            return Err(Error::arguments("The share of the margin must be above zero, as --call 50."));
        }
        Ok(DeskRules {
            hedged: self.hedged,
            latency,
            slippage: self.slippage,
            queue: self.queue,
            depth: self.depth,
            balance: self.balance,
            call: self.call.map_or(usual.call, |call| call / Decimal::ONE_HUNDRED),
        })
    }
}

/// A length of time that may be of milliseconds.
fn latency_of(text: &str) -> Result<i64> {
    let bad = || Error::arguments(format!("'{text}' is not a latency; write it as 200ms, 1s or 0."));
    let latency = match text.strip_suffix("ms") {
        Some(ms) => ms.trim().parse::<i64>().ok().and_then(|ms| ms.checked_mul(1000)).ok_or_else(bad)?,
        None if text.trim() == "0" => 0,
        None => match text.strip_suffix('s').and_then(|s| s.trim().parse::<i64>().ok()) {
            Some(seconds) => seconds.checked_mul(1_000_000).ok_or_else(bad)?,
            None => parse_length(text).map_err(|_| bad())?,
        },
    };
    if (0..=3_600_000_000).contains(&latency) { Ok(latency) } else { Err(bad()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_make_rules_or_are_refused() {
        let step = |change: fn(&mut RehearseStep)| {
            let mut step = RehearseStep::default();
            change(&mut step);
            step.rules()
        };
        assert_eq!(step(|_| {}), Ok(DeskRules::default()));
        for (text, micros) in [("200ms", 200_000), ("2s", 2_000_000), ("0", 0), ("1m", 60_000_000)] {
            assert_eq!(latency_of(text), Ok(micros), "{text}");
        }
        assert!(["-5ms", "soon", "9h", "99999999999999999999ms"].iter().all(|bad| latency_of(bad).is_err()));
        assert!(step(|s| s.slippage = -1).is_err());
        assert!(step(|s| s.balance = Some(Decimal::ZERO)).is_err());
        assert!(step(|s| s.call = Some(Decimal::from(50))).is_err());
        let both =
            step(|s| (s.call, s.balance) = (Some(Decimal::from(50)), Some(Decimal::from(1000)))).unwrap();
        assert_eq!(both.call, Decimal::new(5, 1));
    }
}
