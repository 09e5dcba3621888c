//! Money of an account, added up deal by deal in another way.

use proptest::prelude::*;
use rust_decimal::Decimal;
use stavel_core::model::Micros;
use stavel_core::model::time::{DAY, HOUR, parse};
use stavel_core::rehearse::{DeskAct, Direction, LOT, Ticket, Trade, TradeQuote};

use crate::desks::desk;

const COMMISSION: i64 = 350;
const SWAP: (i64, i64) = (-120, 40);
const SHEET: [(&str, &str); 3] = [("commission", "3.50"), ("swap_long", "-1.20"), ("swap_short", "0.40")];

/// The plain version: what is open is a sum, and profit is taken at its mean price.
#[derive(Default)]
struct Plain {
    lots: f64,
    mean: f64,
    /// Profit in points and lots.
    profit: f64,
    costs: Decimal,
}

impl Plain {
    fn deal(&mut self, signed: f64, price: f64) {
        self.costs += Decimal::new(COMMISSION, 2) * Decimal::new((signed.abs() * 100.0).round() as i64, 2);
        let closes = if self.lots * signed < 0.0 { signed.abs().min(self.lots.abs()) } else { 0.0 };
        self.profit += (price - self.mean) * closes * self.lots.signum();
        let opens = signed.abs() - closes;
        if opens > 0.0 {
            let kept = self.lots + closes * signed.signum();
            self.mean = (self.mean * kept.abs() + price * opens) / (kept.abs() + opens);
        }
        self.lots += signed;
    }
}

proptest! {
    #[test]
    fn an_account_is_worth_what_its_deals_add_up_to(
        deals in proptest::collection::vec((any::<bool>(), 1i64..400, 100_000i64..104_000, 0i64..40), 1..12),
    ) {
        let start = parse("2024-03-05 10:00").unwrap();
        let (mut desk, mut plain) = (desk(&SHEET), Plain::default());
        for (i, (buys, hundredths, bid, spread)) in deals.iter().enumerate() {
            // All within one day: no swap.
            let quote = TradeQuote { time: start + i as Micros * HOUR / 4, bid: *bid, ask: bid + spread };
            desk.take(0, quote);
            let direction = if *buys { Direction::Buy } else { Direction::Sell };
            desk.give(quote.time, DeskAct::Order(Ticket::market(0, direction, hundredths * LOT / 100)));
            let deal = desk.deals().next_back().unwrap();
            prop_assert_eq!(deal.time, quote.time);
            let price = if *buys { quote.ask } else { quote.bid };
            prop_assert_eq!(deal.price, price);
            plain.deal(*hundredths as f64 / 100.0 * direction.sign() as f64, price as f64);
            let position = desk.account().position(0) as f64 / LOT as f64;
            prop_assert!((position - plain.lots).abs() < 1e-6, "{} is not {}", position, plain.lots);
            prop_assert_eq!(desk.account().costs(), plain.costs);
            prop_assert_eq!(desk.account().mean_price(0).is_some(), position != 0.0);
        }
        // A point of a lot is one of its quote currency.
        let profit = desk.account().realised() + desk.account().costs();
        let plainly = Decimal::try_from(plain.profit).unwrap();
        prop_assert!((profit - plainly).abs() < Decimal::new(51, 2), "{} is not {}", profit, plainly);
        let told: Decimal = desk.deals().map(|d| d.profit).sum();
        prop_assert_eq!(told, profit, "the deals tell all of it");
        let trades: Decimal = desk.deals().flat_map(|d| &d.closed).map(Trade::net).sum();
        let open: Decimal = desk.account().holdings().iter().map(|h| h.paid).sum();
        prop_assert!((trades - open - desk.account().realised()).abs() < Decimal::new(1, 9), "costs are shared out whole");
    }

    #[test]
    fn a_flat_account_neither_gains_nor_pays(prices in proptest::collection::vec(90_000i64..110_000, 1..9), days in 1i64..9) {
        let mut desk = desk(&SHEET);
        let start = parse("2024-03-05 10:00").unwrap();
        for (i, bid) in prices.iter().enumerate() {
            desk.take(0, TradeQuote { time: start + days * DAY * i as Micros, bid: *bid, ask: bid + 9 });
            prop_assert_eq!(desk.open_profit(), Some(Decimal::ZERO));
        }
        prop_assert_eq!((desk.account().realised(), desk.account().costs()), (Decimal::ZERO, Decimal::ZERO));
    }

    #[test]
    fn swap_is_paid_once_for_each_night_that_is_held(long: bool, hundredths in 1i64..300, nights in 0i64..20, looks in 1i64..5) {
        let mut desk = desk(&SHEET);
        let start = parse("2024-03-05 10:00").unwrap();
        let mut look = |time: Micros, act: Option<DeskAct>| {
            desk.take(0, TradeQuote { time, bid: 102_300, ask: 102_300 });
            if let Some(act) = act {
                desk.give(time, act);
            }
        };
        let direction = if long { Direction::Buy } else { Direction::Sell };
        look(start, Some(DeskAct::Order(Ticket::market(0, direction, hundredths * LOT / 100))));
        // However often it is looked at.
        for at in 1..=nights * looks {
            look(start + at * DAY / looks, None);
        }
        look(start + nights * DAY + HOUR, Some(DeskAct::Flat { of: None }));
        let lots = Decimal::new(hundredths, 2);
        let swap = Decimal::new(if long { SWAP.0 } else { SWAP.1 }, 2) * lots * Decimal::from(nights);
        let commission = Decimal::new(COMMISSION, 2) * lots * Decimal::TWO;
        prop_assert_eq!(desk.account().realised(), swap - commission);
        prop_assert_eq!(desk.account().position(0), 0);
    }
}
