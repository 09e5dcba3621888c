//! What the journal of a rehearsal adds up to.
//!
//! A trade is what was opened and closed again; a position that was closed by parts is a trade for each. Net is after
//! commission and swap. The equity curve goes over what was closed, costs and nights at their moments; what was open in
//! between is in [`Figures::deepest`] by the worst excursion of each trade.

use std::collections::BTreeMap;

use rust_decimal::Decimal;

use super::account::Trade;
use super::desk::{Desk, Entry};
use super::money::{Traded, points_money as money};
use crate::model::Micros;
use crate::model::time::HOUR;

/// A group of trades.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct TradeSum {
    /// Trades.
    pub trades: u64,
    /// Of them with a net above zero.
    pub won: u64,
    /// Sum of nets.
    pub net: Decimal,
}

impl TradeSum {
    fn add(&mut self, net: Decimal) {
        self.trades += 1;
        self.won += u64::from(net > Decimal::ZERO);
        self.net += net;
    }
}

/// What it adds up to, in the money of the account.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Figures {
    /// All trades.
    pub all: TradeSum,
    /// Sum of the nets above zero.
    pub gains: Decimal,
    /// Sum of the nets below zero.
    pub losses: Decimal,
    /// Commission and swap.
    pub costs: Decimal,
    /// Net of a trade in the mean; none without trades.
    pub expectancy: Option<Decimal>,
    /// The furthest that the curve of what was closed fell below its highest point before.
    pub drawdown: Decimal,
    /// The same with what was open: a trade counts with the worst that it stood at.
    pub deepest: Decimal,
    /// Time during which something was held.
    pub in_market: Micros,
    /// Time that was played.
    pub played: Micros,
    /// By the hour of the day in which a trade was opened, UTC.
    pub by_hour: BTreeMap<i64, TradeSum>,
    /// By the word of its order.
    pub by_tag: BTreeMap<String, TradeSum>,
    /// Trades that are in doubt.
    pub doubtful: u64,
    /// When something was closed or paid, and the sum of all until then.
    pub curve: Vec<(Micros, Decimal)>,
}

/// All trades of a desk, in the order of their closing: what one order closed at several prices is one trade.
pub fn trades_of(desk: &Desk) -> Vec<Trade> {
    let mut trades: Vec<Trade> = Vec::new();
    for part in desk.deals().flat_map(|deal| &deal.closed) {
        if !trades.last_mut().is_some_and(|last| last.join(part)) {
            trades.push(part.clone());
        }
    }
    trades
}

/// Money that a trade stood at when it was worst, in the quote currency: price distance times size.
fn at_worst(trade: &Trade, traded: &Traded) -> Decimal {
    let points = Decimal::try_from(trade.worst).unwrap_or_default();
    points * money(traded, 1) * Decimal::from(trade.lots)
}

/// The figures of a desk that began at a moment.
pub fn figures_of(desk: &Desk, began: Micros) -> Figures {
    let mut figures =
        Figures { costs: desk.account().costs(), played: desk.now() - began, ..Figures::default() };
    let (mut sum, mut peak) = (Decimal::ZERO, Decimal::ZERO);
    // Before each trade began to close, the sum of all and the highest that it had been.
    let mut begun: Vec<(Trade, Decimal, Decimal)> = Vec::new();
    for entry in desk.journal() {
        let (time, change) = match entry {
            Entry::Deal(deal) => (deal.time, deal.profit - deal.commission),
            Entry::Swap(swap) => (swap.time, swap.amount),
            _ => continue,
        };
        if let Entry::Deal(deal) = entry {
            for part in &deal.closed {
                if !begun.last_mut().is_some_and(|(last, ..)| last.join(part)) {
                    begun.push((part.clone(), sum, peak));
                }
            }
        }
        sum += change;
        peak = peak.max(sum);
        figures.drawdown = figures.drawdown.max(peak - sum);
        figures.curve.push((time, sum));
    }
    begun.iter().for_each(|(trade, sum, peak)| figures.add(trade, desk, *sum, *peak));
    figures.deepest = figures.deepest.max(figures.drawdown);
    figures.expectancy = figures.all.net.checked_div(Decimal::from(figures.all.trades));
    figures.in_market = time_held(desk);
    figures
}

impl Figures {
    fn add(&mut self, trade: &Trade, desk: &Desk, sum: Decimal, peak: Decimal) {
        let net = trade.net();
        self.all.add(net);
        self.by_hour.entry(trade.opened.div_euclid(HOUR).rem_euclid(24)).or_default().add(net);
        self.by_tag.entry(trade.tag.clone()).or_default().add(net);
        self.doubtful += u64::from(trade.doubtful);
        let side = if net > Decimal::ZERO { &mut self.gains } else { &mut self.losses };
        *side += net;
        let traded = &desk.traded()[trade.of];
        // The rate at which its profit was turned into the money of the account holds for its worst as well.
        let moved = (trade.proceeds - trade.cost) * i128::from(trade.direction.sign());
        let quoted = money(traded, moved);
        let rate = trade.profit.checked_div(quoted).unwrap_or(Decimal::ONE);
        self.deepest = self.deepest.max(peak - (sum + at_worst(trade, traded) * rate));
    }
}

/// Time during which something was held; what is held still counts until now.
fn time_held(desk: &Desk) -> Micros {
    let mut spans: Vec<(Micros, Micros)> = trades_of(desk).iter().map(|t| (t.opened, t.closed)).collect();
    spans.extend(desk.account().holdings().iter().map(|h| (h.opened, desk.now())));
    spans.sort_unstable();
    let (mut held, mut until) = (0, Micros::MIN);
    for (from, to) in spans {
        held += (to - from.max(until)).max(0);
        until = until.max(to);
    }
    held
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::time::{MINUTE, parse};
    use crate::model::{Instrument, OwnValues};
    use crate::rehearse::{DeskAct, DeskRules, Direction, LOT, RateRule, Ticket, TradeQuote};

    #[test]
    fn trades_add_up_by_hour_and_tag_with_the_deepest_point_between() {
        let said = [("commission", "1"), ("decimals", "5")].map(|(k, v)| (k.to_owned(), v.to_owned())).into();
        let own = OwnValues { said, ..OwnValues::default() };
        let sheet = Instrument::resolve("NOKSEK", None, own).unwrap().sheet;
        let traded =
            Traded { name: "NOKSEK".into(), sheet, decimals: 5, rate: RateRule::Same, patience: HOUR };
        let mut desk = Desk::new(vec![traded], DeskRules::default());
        let start = parse("2024-03-05 09:50").unwrap();
        let quote = |minutes: i64, bid: i64| TradeQuote { time: start + minutes * MINUTE, bid, ask: bid };
        let order = |direction, tag: &str| {
            DeskAct::Order(Ticket { tag: tag.into(), ..Ticket::market(0, direction, LOT) })
        };
        for (minutes, bid, act) in [
            (0, 1000, Some(order(Direction::Buy, "a"))),
            (5, 1050, Some(order(Direction::Sell, ""))),
            (20, 1000, Some(order(Direction::Sell, "b"))),
            (25, 1200, None),
            (30, 1010, Some(order(Direction::Buy, ""))),
        ] {
            desk.take(0, quote(minutes, bid));
            if let Some(act) = act {
                desk.give(desk.now(), act);
            }
        }
        let figures = figures_of(&desk, start);
        let d = Decimal::from;
        assert_eq!((figures.all.trades, figures.all.won, figures.all.net), (2, 1, d(36)));
        assert_eq!((figures.gains, figures.losses, figures.costs), (d(48), d(-12), d(4)));
        assert_eq!(figures.expectancy, Some(d(18)));
        // Closed: -1, 48, 47, 36; in between the sale stood at -200.
        assert_eq!(figures.curve.iter().map(|(_, sum)| *sum).collect::<Vec<_>>(), [-1, 48, 47, 36].map(d));
        assert_eq!((figures.drawdown, figures.deepest), (d(12), d(201)));
        assert_eq!((figures.in_market, figures.played), (15 * MINUTE, 30 * MINUTE));
        assert_eq!(figures.by_hour.keys().copied().collect::<Vec<_>>(), [9, 10]);
        assert_eq!((figures.by_tag["a"].net, figures.by_tag["b"].net), (d(48), d(-12)));
        let empty = figures_of(&Desk::new(Vec::new(), DeskRules::default()), 0);
        assert_eq!((empty.expectancy, empty.drawdown), (None, d(0)));
    }
}
