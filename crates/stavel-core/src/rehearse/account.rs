//! A paper account: one net position, deals at bid and ask, money by the spec sheet.

use rust_decimal::Decimal;

use super::tape::TradeQuote;
use crate::model::instrument::SpecSheet;
use crate::model::time::weekday;
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
    sheet.quote = "points".into();
    (sheet, true)
}

/// Which way a deal goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Direction {
    /// Bought, at the ask.
    Buy,
    /// Sold, at the bid.
    Sell,
}

/// A market order that was filled.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Deal {
    /// When it was filled.
    pub time: Micros,
    /// Bought or sold.
    pub direction: Direction,
    /// Hundredths of a lot.
    pub lots: i64,
    /// In points.
    pub price: i64,
    /// What it cost, in the quote currency.
    pub commission: Decimal,
    /// Profit of the part of the position that the deal closed.
    pub profit: Decimal,
}

/// A line of an account's journal.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum AccountEntry {
    /// An order was filled.
    Deal(Deal),
    /// A position was held overnight.
    Swap {
        /// The first row after it.
        time: Micros,
        /// What it earned, in the quote currency; below zero where it cost.
        amount: Decimal,
        /// Nights it is for; a triple day counts three.
        nights: i64,
    },
}

/// A position and what was earned so far, in the instrument's quote currency.
pub struct Account {
    sheet: SpecSheet,
    decimals: u8,
    /// Hundredths of a lot; below zero for short.
    position: i64,
    /// Sum over the position of price times hundredths, so that the mean price is exact.
    cost: i128,
    realised: Decimal,
    costs: Decimal,
    deals: Vec<Deal>,
    journal: Vec<AccountEntry>,
    day: Option<i64>,
}

impl Account {
    /// An empty account for an instrument whose prices have so many decimals.
    pub fn new(sheet: SpecSheet, decimals: u8) -> Account {
        Account {
            sheet,
            decimals,
            position: 0,
            cost: 0,
            realised: Decimal::ZERO,
            costs: Decimal::ZERO,
            deals: Vec::new(),
            journal: Vec::new(),
            day: None,
        }
    }

    /// The sheet that money is counted by.
    pub fn sheet(&self) -> &SpecSheet {
        &self.sheet
    }

    /// Net position in hundredths of a lot; below zero for short.
    pub fn position(&self) -> i64 {
        self.position
    }

    /// Mean price of the position in points; none without a position.
    pub fn mean_price(&self) -> Option<f64> {
        (self.position != 0).then(|| self.cost as f64 / self.position as f64)
    }

    /// Every deal so far.
    pub fn deals(&self) -> &[Deal] {
        &self.deals
    }

    /// Decimals of the prices.
    pub fn decimals(&self) -> u8 {
        self.decimals
    }

    /// What happened, in order of time.
    pub fn journal(&self) -> &[AccountEntry] {
        &self.journal
    }

    /// Profit of closed deals less all costs.
    pub fn realised(&self) -> Decimal {
        self.realised - self.costs
    }

    /// Commissions and swaps paid.
    pub fn costs(&self) -> Decimal {
        self.costs
    }

    /// What closing the position at a quote would earn, before commission.
    pub fn open_profit(&self, quote: &TradeQuote) -> Decimal {
        let exit = if self.position > 0 { quote.bid } else { quote.ask };
        self.money(exit as i128 * self.position as i128 - self.cost)
    }

    /// Money of a sum of points times hundredths of a lot.
    fn money(&self, points_hundredths: i128) -> Decimal {
        let whole = i64::try_from(points_hundredths).unwrap_or(i64::MAX);
        self.sheet.money(whole, self.decimals) / Decimal::ONE_HUNDRED
    }

    /// Lets time pass: a position pays its swap for every session day that it was held through, three nights
    /// on the triple day, also where no row was seen on those days.
    pub fn pass(&mut self, time: Micros) {
        let day = self.sheet.session.clock.day_of(time);
        let Some(before) = self.day.replace(day).filter(|before| day > *before) else { return };
        if self.position == 0 {
            return;
        }
        let rate = if self.position > 0 { self.sheet.swap_long } else { self.sheet.swap_short };
        let nights_of = |ended: i64| match self.sheet.session.opens_on(ended) {
            false => 0,
            true if self.sheet.swap_triple == Some(weekday(ended)) => 3,
            true => 1,
        };
        let nights: i64 = (before..day).map(nights_of).sum();
        // A lot counts with what it was worth when it was opened.
        let value = self.money(self.cost * 100 / i128::from(self.position));
        let a_point = self.sheet.money(1, self.sheet.decimals);
        let a_lot = self.sheet.swap_kind.money(rate, a_point, value);
        let swap = a_lot * Decimal::new(self.position.abs(), 2) * Decimal::from(nights);
        if !swap.is_zero() {
            self.costs -= swap;
            self.journal.push(AccountEntry::Swap { time, amount: swap, nights });
        }
    }

    /// Deals at the market: buys at the ask, sells at the bid.
    pub fn deal(&mut self, direction: Direction, hundredths: i64, quote: &TradeQuote) -> Deal {
        let (signed, price) = match direction {
            Direction::Buy => (hundredths, quote.ask),
            Direction::Sell => (-hundredths, quote.bid),
        };
        let closing = if self.position.signum() == -signed.signum() {
            signed.abs().min(self.position.abs())
        } else {
            0
        };
        let mut profit = Decimal::ZERO;
        if closing > 0 {
            // The part that closes takes its share of the cost with it.
            let share = self.cost * closing as i128 / self.position.abs() as i128;
            let proceeds = price as i128 * closing as i128 * self.position.signum() as i128;
            profit = self.money(proceeds - share);
            self.cost -= share;
            self.realised += profit;
        }
        let opening = signed.abs() - closing;
        self.cost += price as i128 * opening as i128 * signed.signum() as i128;
        self.position += signed;
        let value = self.money(i128::from(price) * i128::from(hundredths));
        let commission = self.sheet.commission.of_side(Decimal::new(hundredths, 2), value);
        self.costs += commission;
        let deal = Deal { time: quote.time, direction, lots: hundredths, price, commission, profit };
        self.journal.push(AccountEntry::Deal(deal.clone()));
        self.deals.push(deal.clone());
        deal
    }
}

/// Money with two decimals.
pub fn money(amount: Decimal) -> String {
    money_to(amount, 2)
}

/// Money with so many decimals.
pub fn money_to(amount: Decimal, decimals: u32) -> String {
    format!("{:.*}", decimals as usize, amount.round_dp(decimals))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::parse;
    use crate::model::{Instrument, OwnValues};

    fn account() -> Account {
        let own =
            [("commission", "3.50"), ("swap_long", "-1.20")].map(|(k, v)| (k.to_string(), v.to_string()));
        Account::new(
            Instrument::resolve("NOKSEK", None, OwnValues { said: own.into(), ..OwnValues::default() })
                .unwrap()
                .sheet,
            5,
        )
    }

    fn quote(time: &str, bid: i64) -> TradeQuote {
        TradeQuote { time: parse(time).unwrap(), bid, ask: bid + 18 }
    }

    #[test]
    fn a_round_trip_pays_the_spread_and_both_commissions() {
        let mut account = account();
        account.deal(Direction::Buy, 100, &quote("2024-03-05 10:00", 102_300));
        assert_eq!(account.open_profit(&quote("2024-03-05 10:01", 102_300)), Decimal::new(-1800, 2));
        let deal = account.deal(Direction::Sell, 100, &quote("2024-03-05 10:05", 102_350));
        // 32 points of 1 SEK each on one lot.
        assert_eq!(deal.profit, Decimal::new(3200, 2));
        assert_eq!(money(account.realised()), "25.00");
        assert_eq!(account.position(), 0);
    }

    #[test]
    fn partial_closes_and_turning_round() {
        let mut account = account();
        account.deal(Direction::Buy, 100, &quote("2024-03-05 10:00", 100_000));
        account.deal(Direction::Buy, 100, &quote("2024-03-05 10:01", 100_100));
        assert_eq!(account.mean_price(), Some(100_068.0));
        let deal = account.deal(Direction::Sell, 300, &quote("2024-03-05 10:02", 100_168));
        assert_eq!(money(deal.profit), "200.00");
        assert_eq!((account.position(), account.mean_price()), (-100, Some(100_168.0)));
    }

    #[test]
    fn a_night_costs_swap_once() {
        let mut account = account();
        account.pass(parse("2024-03-05 10:00").unwrap());
        account.deal(Direction::Buy, 200, &quote("2024-03-05 10:00", 100_000));
        for time in ["2024-03-05 21:59", "2024-03-05 22:00", "2024-03-05 23:00"] {
            account.pass(parse(time).unwrap());
        }
        assert_eq!(money(account.costs()), "9.40");
    }

    #[test]
    fn every_session_day_held_pays_and_the_triple_day_three_also_over_holes() {
        let mut account = account();
        account.pass(parse("2024-03-04 10:00").unwrap());
        account.deal(Direction::Buy, 100, &quote("2024-03-04 10:00", 100_000));
        // Monday to Monday without a row: five session days, Wednesday's with two nights more.
        account.pass(parse("2024-03-11 10:00").unwrap());
        assert_eq!(money(account.costs()), format!("{:.2}", 3.5 + 7.0 * 1.2));
        // Over the weekend only Friday's night is paid.
        account.pass(parse("2024-03-15 10:00").unwrap());
        let before = account.costs();
        account.pass(parse("2024-03-18 10:00").unwrap());
        assert_eq!(account.costs() - before, Decimal::new(120, 2));
    }
}
