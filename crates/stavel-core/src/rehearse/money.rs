//! The money of a rehearsal: what it is counted by, and the rates to the currency of the account.

use std::sync::Arc;

use rust_decimal::Decimal;

use super::order::LOT_DECIMALS;
use super::quote::TradeQuote;
use crate::model::instrument::SpecSheet;
use crate::model::{Instrument, Micros, Standing};

/// The sheet to count money by, and whether it counts points only: what a step of a good's price is worth differs for
/// every contract, so where nobody has said it a lot earns a point for a point, and costs in money are left out. A
/// lot of a pair of currencies is usually 100,000 of the first, which is assumed and told.
pub fn money_sheet(instrument: &Instrument, decimals: u8) -> (SpecSheet, bool) {
    let is_known = |key: &str| instrument.standing(key) != Standing::Assumed;
    let is_pair = instrument.values.get("kind").is_some_and(|k| k == "forex");
    let mut sheet = instrument.sheet.clone();
    if is_pair || is_known("tick_value") || is_known("contract_size") {
        return (sheet, false);
    }
    (sheet.tick_size, sheet.tick_value) = (Decimal::new(1, decimals as u32), Decimal::ONE);
    sheet.commission = Default::default();
    (sheet.swap_long, sheet.swap_short) = Default::default();
    sheet.margin = Default::default();
    sheet.quote = "points".into();
    (sheet, true)
}

/// What money of an instrument's quote currency is worth in the money of the account.
#[derive(Debug, Clone)]
pub enum RateRule {
    /// It is the same money.
    Same,
    /// By the prices of an instrument that is played: the middle of its bid and ask, or one divided by it.
    Played {
        /// Its place.
        of: usize,
        /// Decimals of its prices.
        decimals: u8,
        /// True where the account's money is what the instrument buys.
        is_turned: bool,
    },
    /// By prices that were read before: from each moment on, in order of time.
    Read(Arc<Vec<(Micros, Decimal)>>),
}

/// An instrument that an account deals in.
#[derive(Debug, Clone)]
pub struct Traded {
    /// Its name.
    pub name: String,
    /// What money is counted by.
    pub sheet: SpecSheet,
    /// Decimals of the prices that are played.
    pub decimals: u8,
    /// What its money is worth in that of the account.
    pub rate: RateRule,
    /// Between two quotes of one market lies no more than this: an hour, or a bar where that is longer.
    pub patience: Micros,
}

/// The rates of a moment.
#[derive(Debug, Clone, Copy)]
pub struct Rates<'a> {
    /// The last quote of each instrument that is played.
    pub quotes: &'a [Option<TradeQuote>],
    /// The rule of each.
    pub traded: &'a [Traded],
}

impl Rates<'_> {
    /// The rate of an instrument's quote currency; none where no price is known by then.
    pub fn of(&self, of: usize, now: Micros) -> Option<Decimal> {
        match &self.traded[of].rate {
            RateRule::Same => Some(Decimal::ONE),
            RateRule::Played { of, decimals, is_turned } => {
                let quote = self.quotes[*of]?;
                let middle = Decimal::from_i128_with_scale(
                    (i128::from(quote.bid) + i128::from(quote.ask)) * 5,
                    u32::from(*decimals) + 1,
                );
                if *is_turned { Decimal::ONE.checked_div(middle) } else { Some(middle) }
            }
            RateRule::Read(steps) => {
                let after = steps.partition_point(|(from, _)| *from <= now);
                Some(steps.get(after.checked_sub(1)?)?.1)
            }
        }
    }
}

/// Money in the quote currency of a sum of points times ten-thousandths of a lot.
pub fn points_money(traded: &Traded, points_times_lots: i128) -> Decimal {
    let exact =
        Decimal::try_from_i128_with_scale(points_times_lots, u32::from(traded.decimals + LOT_DECIMALS));
    exact.unwrap_or(Decimal::MAX) / traded.sheet.tick_size * traded.sheet.tick_value
}

/// Money with two decimals.
pub fn money(amount: Decimal) -> String {
    money_to(amount, 2)
}

/// Money with so many decimals.
pub fn money_to(amount: Decimal, decimals: u32) -> String {
    format!("{:.*}", decimals as usize, amount.round_dp(decimals))
}
