//! Money of an account, added up deal by deal in another way.

use proptest::prelude::*;
use rust_decimal::Decimal;
use stavel_core::model::time::{DAY, HOUR, parse};
use stavel_core::model::{Instrument, Micros, OwnValues};
use stavel_core::rehearse::{Account, Direction, TradeQuote};

const COMMISSION: i64 = 350;
const SWAP: (i64, i64) = (-120, 40);

fn account() -> Account {
    let said = [
        ("kind", "forex"),
        ("decimals", "5"),
        ("tick_size", "0.00001"),
        ("tick_value", "1"),
        ("commission", "3.50"),
        ("swap_long", "-1.20"),
        ("swap_short", "0.40"),
        ("swap_triple", "none"),
        ("clock", "UTC"),
        ("hours", "mon-sun 00:00-24:00 UTC"),
    ];
    let said = said.map(|(key, value)| (key.to_owned(), value.to_owned())).into();
    let own = OwnValues { said, ..OwnValues::default() };
    Account::new(Instrument::resolve("NOKSEK", None, own).unwrap().sheet, 5)
}

/// A lot that was bought (or sold, below 0) at a price, in hundredths of lots.
#[derive(Clone, Copy)]
struct Open {
    hundredths: i64,
    price: i64,
}

/// The plain version: what is open is a list, and profit is taken at its mean price.
#[derive(Default)]
struct Plain {
    open: Vec<Open>,
    /// Profit in hundredths of points and lots.
    profit: f64,
    costs: Decimal,
}

impl Plain {
    fn position(&self) -> i64 {
        self.open.iter().map(|o| o.hundredths).sum()
    }

    fn mean(&self) -> f64 {
        let value: f64 = self.open.iter().map(|o| o.hundredths as f64 * o.price as f64).sum();
        value / self.position() as f64
    }

    fn deal(&mut self, signed: i64, price: i64) {
        self.costs += Decimal::new(COMMISSION, 2) * Decimal::new(signed.abs(), 2);
        let position = self.position();
        let closes = if position.signum() == -signed.signum() { signed.abs().min(position.abs()) } else { 0 };
        if closes > 0 {
            let mean = self.mean();
            self.profit += (price as f64 - mean) * (closes * position.signum()) as f64 / 100.0;
            let left = position.abs() - closes;
            // What is left keeps the mean price.
            self.open.clear();
            if left > 0 {
                self.kept(left * position.signum(), mean);
            }
        }
        let opens = signed.abs() - closes;
        if opens > 0 {
            self.open.push(Open { hundredths: opens * signed.signum(), price });
        }
    }

    /// Two lots at whole prices around a mean that may lie between them would do as well; the mean is kept exactly by
    /// prices of a hundredth each.
    fn kept(&mut self, hundredths: i64, mean: f64) {
        let (low, count) = (mean.floor(), hundredths.abs());
        let high = ((mean - low) * count as f64).round() as i64;
        let part = |n: i64, price: f64| Open { hundredths: n * hundredths.signum(), price: price as i64 };
        self.open.extend(
            [part(count - high, low), part(high, low + 1.0)].into_iter().filter(|o| o.hundredths != 0),
        );
    }
}

fn about(a: Decimal, b: f64) -> bool {
    let a: f64 = a.try_into().unwrap();
    (a - b).abs() < 0.51 + b.abs() * 1e-6
}

proptest! {
    #[test]
    fn an_account_is_worth_what_its_deals_add_up_to(
        deals in proptest::collection::vec((any::<bool>(), 1i64..400, 100_000i64..104_000, 0i64..40), 1..12),
    ) {
        let start = parse("2024-03-05 10:00").unwrap();
        let (mut account, mut plain) = (account(), Plain::default());
        for (i, (buys, hundredths, bid, spread)) in deals.iter().enumerate() {
            // All within one day: no swap.
            let quote = TradeQuote { time: start + i as Micros * HOUR / 4, bid: *bid, ask: bid + spread };
            account.pass(quote.time);
            let direction = if *buys { Direction::Buy } else { Direction::Sell };
            let deal = account.deal(direction, *hundredths, &quote);
            prop_assert_eq!(deal.time, quote.time);
            let (signed, price) = if *buys { (*hundredths, quote.ask) } else { (-*hundredths, quote.bid) };
            plain.deal(signed, price);
            prop_assert_eq!(account.position(), plain.position());
            prop_assert_eq!(account.costs(), plain.costs);
            prop_assert_eq!(account.mean_price().is_some(), plain.position() != 0);
        }
        let realised = account.realised() + account.costs();
        prop_assert!(about(realised, plain.profit), "{} is not {}", realised, plain.profit);
        let told: Decimal = account.deals().iter().map(|d| d.profit).sum();
        prop_assert_eq!(told, realised, "the deals tell all of it");
    }

    #[test]
    fn a_flat_account_neither_gains_nor_pays(prices in proptest::collection::vec(90_000i64..110_000, 1..9), days in 1i64..9) {
        let mut account = account();
        let start = parse("2024-03-05 10:00").unwrap();
        for (i, bid) in prices.iter().enumerate() {
            let time = start + days * DAY * i as Micros;
            account.pass(time);
            prop_assert_eq!(account.open_profit(&TradeQuote { time, bid: *bid, ask: bid + 9 }), Decimal::ZERO);
        }
        prop_assert_eq!((account.realised(), account.costs()), (Decimal::ZERO, Decimal::ZERO));
    }

    #[test]
    fn swap_is_paid_once_for_each_night_that_is_held(long: bool, hundredths in 1i64..300, nights in 0i64..20, looks in 1i64..5) {
        let mut account = account();
        let start = parse("2024-03-05 10:00").unwrap();
        let quote = |time: Micros| TradeQuote { time, bid: 102_300, ask: 102_300 };
        account.pass(start);
        let (open, close) = if long { (Direction::Buy, Direction::Sell) } else { (Direction::Sell, Direction::Buy) };
        account.deal(open, hundredths, &quote(start));
        // However often it is looked at.
        for look in 1..=nights * looks {
            account.pass(start + look * DAY / looks);
        }
        let end = start + nights * DAY + HOUR;
        account.pass(end);
        account.deal(close, hundredths, &quote(end));
        let lots = Decimal::new(hundredths, 2);
        let swap = Decimal::new(if long { SWAP.0 } else { SWAP.1 }, 2) * lots * Decimal::from(nights);
        let commission = Decimal::new(COMMISSION, 2) * lots * Decimal::TWO;
        let all = account.realised();
        let difference = (all - (swap - commission)).abs();
        prop_assert!(difference < Decimal::new(2, 1), "{} is not {} - {}", all, swap, commission);
        prop_assert_eq!(account.position(), 0);
    }
}
