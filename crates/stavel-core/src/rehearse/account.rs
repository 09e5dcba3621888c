//! A paper account: what is held of one or many instruments, and its money by their spec sheets.

use rust_decimal::Decimal;

use super::book::DealDepth;
use super::money::{Rates, Traded, points_money as money};
use super::order::{Direction, LOT_DECIMALS, OrderRole};
use super::quote::TradeQuote;
use crate::model::Micros;
use crate::model::time::weekday;

/// What is held: opened by one deal or several, closed in one piece or by parts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Holding {
    /// Its number; counted from 1.
    pub id: u32,
    /// The place of its instrument.
    pub of: usize,
    /// Bought or sold.
    pub direction: Direction,
    /// Ten-thousandths of a lot; above zero.
    pub lots: i64,
    /// Sum of price times size, so that the mean price is exact.
    pub cost: i128,
    /// When it was opened.
    pub opened: Micros,
    /// The best price of the side that it would close at, and the worst.
    pub reach: Option<(i64, i64)>,
    /// Commission and swap paid for what is still held, in the money of the account.
    pub paid: Decimal,
    /// The word of the order that opened it.
    pub tag: String,
    /// True where it was opened at a price that is in doubt.
    pub doubtful: bool,
}

impl Holding {
    /// Its mean price in points.
    pub fn mean_price(&self) -> f64 {
        self.cost as f64 / self.lots as f64
    }

    /// The price that it would be closed at.
    pub fn exit_price(&self, quote: &TradeQuote) -> i64 {
        super::fill::side_of(self.direction.turned(), quote)
    }

    fn sees(&mut self, price: i64) {
        let sign = self.direction.sign();
        let (best, worst) = self.reach.unwrap_or((price, price));
        let better = if (price - best) * sign > 0 { price } else { best };
        let worse = if (price - worst) * sign < 0 { price } else { worst };
        self.reach = Some((better, worse));
    }
}

/// An order, or a part of one, that was filled.
#[derive(Debug, Clone, PartialEq)]
pub struct Deal {
    /// When it was filled.
    pub time: Micros,
    /// The place of its instrument.
    pub of: usize,
    /// Bought or sold.
    pub direction: Direction,
    /// Ten-thousandths of a lot.
    pub lots: i64,
    /// In points.
    pub price: i64,
    /// What it cost, in the money of the account.
    pub commission: Decimal,
    /// Profit of what it closed, in the money of the account.
    pub profit: Decimal,
    /// The number of its order.
    pub order: u32,
    /// Why it was made.
    pub reason: DealReason,
    /// True where the rows leave it open whether, or at which price, it was filled.
    pub doubtful: bool,
    /// What the recorded book had to do with it.
    pub depth: DealDepth,
    /// Bid and ask at that moment, in points.
    pub seen: (i64, i64),
    /// What it closed, a line for each holding.
    pub closed: Vec<Trade>,
}

/// Why a deal was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, strum::Display)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum DealReason {
    /// A market order.
    Market,
    /// A limit order.
    Limit,
    /// A stop order, also one with a limit.
    Stop,
    /// A trailing stop.
    Trailing,
    /// The stop of a bracket.
    #[serde(rename = "stop")]
    #[strum(serialize = "stop")]
    BracketStop,
    /// The target of a bracket.
    Target,
    /// A person closed it.
    Close,
    /// Equity did not cover the margin.
    MarginCall,
}

/// What was opened and closed again: one holding, or the part of it that a deal closed.
#[derive(Debug, Clone, PartialEq)]
pub struct Trade {
    /// The place of its instrument.
    pub of: usize,
    /// How it was opened.
    pub direction: Direction,
    /// Ten-thousandths of a lot.
    pub lots: i64,
    /// When it was opened.
    pub opened: Micros,
    /// When it was closed.
    pub closed: Micros,
    /// Sum of price times size of its opening.
    pub cost: i128,
    /// Sum of price times size of its closing.
    pub proceeds: i128,
    /// The number of the order that closed it.
    pub order: u32,
    /// Profit before costs, in the money of the account.
    pub profit: Decimal,
    /// Commission of both ends and swap, in the money of the account.
    pub costs: Decimal,
    /// The furthest that it ran for it, in points of its exit side from its mean price; never below zero.
    pub best: f64,
    /// The furthest that it ran against it, in points; never above zero.
    pub worst: f64,
    /// The word of the order that opened it.
    pub tag: String,
    /// Why it was closed.
    pub reason: DealReason,
    /// True where its opening or its closing is in doubt.
    pub doubtful: bool,
}

impl Trade {
    /// What it earned after all costs.
    pub fn net(&self) -> Decimal {
        self.profit - self.costs
    }

    /// Its mean price at the opening, in points.
    pub fn entry(&self) -> f64 {
        self.cost as f64 / self.lots as f64
    }

    /// Its mean price at the closing, in points.
    pub fn exit(&self) -> f64 {
        self.proceeds as f64 / self.lots as f64
    }

    /// Takes another part of the same holding in, where one order closed both at one moment. False where it is another trade.
    pub fn join(&mut self, other: &Trade) -> bool {
        let of = |trade: &Trade| (trade.of, trade.order, trade.closed, trade.opened, trade.direction);
        if of(self) != of(other) {
            return false;
        }
        self.lots += other.lots;
        self.cost += other.cost;
        self.proceeds += other.proceeds;
        self.profit += other.profit;
        self.costs += other.costs;
        (self.best, self.worst) = (self.best.max(other.best), self.worst.min(other.worst));
        self.doubtful |= other.doubtful;
        true
    }
}

/// What a night cost or earned.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Swap {
    /// The first quote after it.
    pub time: Micros,
    /// The place of its instrument.
    pub of: usize,
    /// What it earned, in the money of the account; below zero where it cost.
    pub amount: Decimal,
    /// Nights it is for; a triple day counts three.
    pub nights: i64,
}

/// A deal that is to be booked.
#[derive(Debug, Clone)]
pub struct Booking<'a> {
    /// When.
    pub time: Micros,
    /// The place of its instrument.
    pub of: usize,
    /// Bought or sold.
    pub direction: Direction,
    /// Ten-thousandths of a lot.
    pub lots: i64,
    /// In points.
    pub price: i64,
    /// The number of its order.
    pub order: u32,
    /// Why it is made.
    pub reason: DealReason,
    /// Bid and ask at that moment, in points.
    pub seen: (i64, i64),
    /// The one holding that it closes, where it may not open any.
    pub closes: Option<u32>,
    /// The word of its order.
    pub tag: &'a str,
    /// What the recorded book had to do with it; beyond what was recorded it is in doubt.
    pub depth: DealDepth,
    /// Size, and price times size, that its order was dealt for at the same moment before: a least commission is of an order.
    pub before: (i64, i128),
}

/// What is held and what was earned so far.
#[derive(Debug, Clone)]
pub struct Account {
    /// True where a buy and a sale of one instrument are held beside each other.
    hedged: bool,
    holdings: Vec<Holding>,
    next_holding: u32,
    realised: Decimal,
    costs: Decimal,
    days: Vec<Option<i64>>,
}

impl Account {
    /// An empty account for so many instruments.
    pub fn new(instruments: usize, hedged: bool) -> Account {
        Account {
            hedged,
            holdings: Vec::new(),
            next_holding: 1,
            realised: Decimal::ZERO,
            costs: Decimal::ZERO,
            days: vec![None; instruments],
        }
    }

    /// What is held, oldest first.
    pub fn holdings(&self) -> &[Holding] {
        &self.holdings
    }

    /// A holding of that number.
    pub fn holding(&self, id: u32) -> Option<&Holding> {
        self.holdings.iter().find(|h| h.id == id)
    }

    /// What is held of an instrument in all, in ten-thousandths of a lot; below zero where more is sold.
    pub fn position(&self, of: usize) -> i64 {
        self.holdings.iter().filter(|h| h.of == of).map(|h| h.lots * h.direction.sign()).sum()
    }

    /// Mean price in points of what is held of an instrument where all of it goes one way.
    pub fn mean_price(&self, of: usize) -> Option<f64> {
        let mut held = self.holdings.iter().filter(|h| h.of == of);
        let first = held.next()?;
        let (mut lots, mut cost) = (first.lots, first.cost);
        for more in held {
            if more.direction != first.direction {
                return None;
            }
            lots += more.lots;
            cost += more.cost;
        }
        Some(cost as f64 / lots as f64)
    }

    /// Profit of what was closed, less all costs.
    pub fn realised(&self) -> Decimal {
        self.realised - self.costs
    }

    /// Commissions and swaps paid.
    pub fn costs(&self) -> Decimal {
        self.costs
    }

    /// What closing a holding at a quote would earn, before commission, in the money of the account; none where no rate is
    /// known.
    pub fn open_profit(
        holding: &Holding,
        traded: &Traded,
        quote: &TradeQuote,
        rates: &Rates<'_>,
    ) -> Option<Decimal> {
        let sign = i128::from(holding.direction.sign());
        let worth = i128::from(holding.exit_price(quote)) * i128::from(holding.lots);
        Some(money(traded, (worth - holding.cost) * sign) * rates.of(holding.of, quote.time)?)
    }

    /// Notes the prices between which an instrument moved while nothing was dealt in it.
    pub fn sees(&mut self, of: usize, bids: (i64, i64), asks: (i64, i64)) {
        for holding in self.holdings.iter_mut().filter(|h| h.of == of) {
            let (low, high) = if holding.direction == Direction::Buy { bids } else { asks };
            holding.sees(low);
            holding.sees(high);
        }
    }

    /// Notes the day of an instrument of which nothing is held.
    pub fn skip_to(&mut self, of: usize, time: Micros, traded: &Traded) {
        self.days[of] = Some(traded.sheet.session.clock.day_of(time));
    }

    /// Marks what was opened of an instrument at a moment as in doubt.
    pub fn doubt(&mut self, of: usize, opened: Micros) {
        for holding in self.holdings.iter_mut().filter(|h| h.of == of && h.opened == opened) {
            holding.doubtful = true;
        }
    }

    /// Lets time pass for an instrument: what is held of it pays its swap for every session day that it was held through,
    /// three nights on the triple day, also where no row was seen on those days.
    pub fn pass(&mut self, of: usize, time: Micros, traded: &Traded, rates: &Rates<'_>) -> Option<Swap> {
        let sheet = &traded.sheet;
        let day = sheet.session.clock.day_of(time);
        let before = self.days[of].replace(day).filter(|before| day > *before)?;
        if !self.holdings.iter().any(|h| h.of == of) {
            return None;
        }
        let nights_of = |ended: i64| match sheet.session.opens_on(ended) {
            false => 0,
            true if sheet.swap_triple == Some(weekday(ended)) => 3,
            true => 1,
        };
        let nights: i64 = (before..day).map(nights_of).sum();
        let a_point = sheet.money(1, sheet.decimals);
        let rate = rates.of(of, time).unwrap_or(Decimal::ZERO);
        let mut amount = Decimal::ZERO;
        for holding in self.holdings.iter_mut().filter(|h| h.of == of) {
            let swap = if holding.direction == Direction::Buy { sheet.swap_long } else { sheet.swap_short };
            // A lot counts with what it was worth when it was opened.
            let value = money(traded, holding.cost * i128::from(super::LOT) / i128::from(holding.lots));
            let a_lot = sheet.swap_kind.money(swap, a_point, value);
            let swap = a_lot * Decimal::new(holding.lots, LOT_DECIMALS.into()) * Decimal::from(nights) * rate;
            holding.paid -= swap;
            amount += swap;
        }
        self.costs -= amount;
        (!amount.is_zero()).then_some(Swap { time, of, amount, nights })
    }

    /// Books a deal: what it closes is closed, the rest is opened.
    pub fn book(&mut self, booking: &Booking<'_>, traded: &Traded, rate: Decimal) -> Deal {
        let commission = commission_of(booking, traded) * rate;
        let is_doubtful = booking.depth == DealDepth::Beyond;
        self.costs += commission;
        let mut left = booking.lots;
        let mut closed = Vec::new();
        while left > 0 {
            let Some(place) = self.closed_by(booking) else { break };
            let part = left.min(self.holdings[place].lots);
            let share = commission * Decimal::from(part) / Decimal::from(booking.lots);
            closed.push(self.close_part((place, part), share, booking, (traded, rate)));
            left -= part;
        }
        if left > 0 && booking.closes.is_none() {
            let paid = commission * Decimal::from(left) / Decimal::from(booking.lots);
            self.open(booking, left, paid);
        }
        Deal {
            time: booking.time,
            of: booking.of,
            direction: booking.direction,
            lots: booking.lots,
            price: booking.price,
            commission,
            profit: closed.iter().map(|t| t.profit).sum(),
            order: booking.order,
            reason: booking.reason,
            doubtful: is_doubtful,
            depth: booking.depth,
            seen: booking.seen,
            closed,
        }
    }

    /// The holding that a deal closes next: the one it names, else the oldest that goes the other way where such are not
    /// held beside each other.
    fn closed_by(&self, booking: &Booking<'_>) -> Option<usize> {
        let opposite = |h: &Holding| h.of == booking.of && h.direction != booking.direction;
        match booking.closes {
            Some(id) => self.holdings.iter().position(|h| h.id == id && opposite(h)),
            None if self.hedged => None,
            None => self.holdings.iter().position(opposite),
        }
    }

    fn close_part(
        &mut self,
        (place, part): (usize, i64),
        commission: Decimal,
        booking: &Booking<'_>,
        (traded, rate): (&Traded, Decimal),
    ) -> Trade {
        let holding = &mut self.holdings[place];
        holding.sees(booking.price);
        // The part that closes takes its share of the cost with it.
        let cost = holding.cost * i128::from(part) / i128::from(holding.lots);
        let paid = holding.paid * Decimal::from(part) / Decimal::from(holding.lots);
        let sign = holding.direction.sign();
        let proceeds = i128::from(booking.price) * i128::from(part);
        let profit = money(traded, (proceeds - cost) * i128::from(sign)) * rate;
        let mean = holding.mean_price();
        let from_mean = |price: i64| (price as f64 - mean) * sign as f64;
        let (best, worst) =
            holding.reach.map_or((0.0, 0.0), |(b, w)| (from_mean(b).max(0.0), from_mean(w).min(0.0)));
        let trade = Trade {
            of: holding.of,
            direction: holding.direction,
            lots: part,
            opened: holding.opened,
            closed: booking.time,
            cost,
            proceeds,
            order: booking.order,
            profit,
            costs: paid + commission,
            best,
            worst,
            tag: holding.tag.clone(),
            reason: booking.reason,
            doubtful: holding.doubtful || booking.depth == DealDepth::Beyond,
        };
        holding.cost -= cost;
        holding.paid -= paid;
        holding.lots -= part;
        if holding.lots == 0 {
            self.holdings.remove(place);
        }
        self.realised += profit;
        trade
    }

    /// Opens a holding, or adds to the one that there is where nothing is held beside it.
    fn open(&mut self, booking: &Booking<'_>, lots: i64, paid: Decimal) {
        let cost = i128::from(booking.price) * i128::from(lots);
        let exit = if booking.direction == Direction::Buy { booking.seen.0 } else { booking.seen.1 };
        let one = (!self.hedged).then(|| self.holdings.iter_mut().find(|h| h.of == booking.of)).flatten();
        if let Some(holding) = one {
            holding.lots += lots;
            holding.cost += cost;
            holding.paid += paid;
            holding.doubtful |= booking.depth == DealDepth::Beyond;
            holding.sees(exit);
            return;
        }
        let id = self.next_holding;
        self.next_holding += 1;
        self.holdings.push(Holding {
            id,
            of: booking.of,
            direction: booking.direction,
            lots,
            cost,
            opened: booking.time,
            reach: Some((exit, exit)),
            paid,
            tag: booking.tag.to_owned(),
            doubtful: booking.depth == DealDepth::Beyond,
        });
    }

    /// The holding that a deal of an order opened or added to: the newest of its instrument that goes its way.
    pub fn opened_by(&self, deal: &Deal) -> Option<u32> {
        self.holdings.iter().rev().find(|h| h.of == deal.of && h.direction == deal.direction).map(|h| h.id)
    }

    /// What all that is held binds, in the money of the account; none where a margin or a rate is not known.
    pub fn margin(&self, traded: &[Traded], rates: &Rates<'_>, now: Micros) -> Option<Decimal> {
        let mut sum = Decimal::ZERO;
        for (of, traded) in traded.iter().enumerate() {
            for direction in [Direction::Buy, Direction::Sell] {
                let held = self.holdings.iter().filter(|h| h.of == of && h.direction == direction);
                let (lots, cost) = held.fold((0, 0), |(lots, cost), h| (lots + h.lots, cost + h.cost));
                if lots > 0 {
                    sum += margin_of(traded, lots, cost)? * rates.of(of, now)?;
                }
            }
        }
        Some(sum)
    }
}

/// What a deal costs in the quote currency: of an order that is dealt in parts, what they cost together less what was paid.
fn commission_of(booking: &Booking<'_>, traded: &Traded) -> Decimal {
    let of = |lots: i64, cost: i128| {
        let size = Decimal::new(lots, LOT_DECIMALS.into());
        traded.sheet.commission.of_side(size, money(traded, cost))
    };
    let cost = i128::from(booking.price) * i128::from(booking.lots);
    match booking.before {
        (0, _) => of(booking.lots, cost),
        (lots, before) => of(lots + booking.lots, before + cost) - of(lots, before),
    }
}

/// What a size binds that was dealt at prices with a sum of price times size, in the quote currency; none where nobody has
/// said it.
pub fn margin_of(traded: &Traded, lots: i64, cost: i128) -> Option<Decimal> {
    let a_lot = money(traded, cost * i128::from(super::LOT) / i128::from(lots.max(1)));
    traded.sheet.margin.of(Decimal::new(lots, LOT_DECIMALS.into()), a_lot)
}

/// The reason that a deal of an order has.
pub fn reason_of(kind: super::order::OrderKind, role: OrderRole) -> DealReason {
    use super::order::OrderKind;
    match (role, kind) {
        (OrderRole::Target, _) => DealReason::Target,
        (OrderRole::Close, _) => DealReason::Close,
        (_, OrderKind::Trailing(_)) => DealReason::Trailing,
        (OrderRole::Stop, _) => DealReason::BracketStop,
        (_, OrderKind::Market) => DealReason::Market,
        (_, OrderKind::Limit(_)) => DealReason::Limit,
        (_, OrderKind::Stop(_) | OrderKind::StopLimit { .. }) => DealReason::Stop,
    }
}
