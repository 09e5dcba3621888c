//! A desk: orders that wait, an account, and the journal of both, driven by quotes.
//!
//! Whatever a desk does follows from its rules, the quotes it is given and the acts of a person, in their order: the same of
//! them leads to the same journal.

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::account::{Account, Deal, DealReason, Swap};
use super::book::{Book, DepthSizes};
use super::fill::{Queue, side_of};
use super::money::{Rates, Traded};
use super::order::{Order, OrderKind, OrderRole};
use super::quote::TradeQuote;
use crate::model::Micros;

/// How orders are filled and money is kept.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct DeskRules {
    /// True where a buy and a sale of one instrument are held beside each other; else they make one position.
    pub hedged: bool,
    /// From an act of a person until the market has it.
    pub latency: Micros,
    /// Points that whatever is filled at the market gets worse by.
    pub slippage: i64,
    /// What a limit needs to be filled.
    pub queue: Queue,
    /// What the sizes of recorded books count; where nobody has said it the kind of the instrument may tell.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub depth: Option<DepthSizes>,
    /// Money of the account at the beginning; without it neither margin nor size by risk is known.
    pub balance: Option<Decimal>,
    /// Equity below this share of the margin closes everything.
    pub call: Decimal,
}

impl Default for DeskRules {
    fn default() -> DeskRules {
        DeskRules {
            hedged: false,
            latency: 0,
            slippage: 0,
            queue: Queue::Touch,
            depth: None,
            balance: None,
            call: Decimal::ONE,
        }
    }
}

/// A line of the journal.
#[derive(Debug, Clone, PartialEq)]
pub enum Entry {
    /// An order was taken: it waits.
    Given(Order),
    /// An order was changed; this is how it is now.
    Changed {
        /// When.
        time: Micros,
        /// As it is now.
        order: Order,
    },
    /// An order is gone.
    Gone {
        /// When.
        time: Micros,
        /// As it was last.
        order: Order,
        /// Why.
        why: Gone,
    },
    /// An order was refused.
    Refused(Refusal),
    /// An order was filled.
    Deal(Deal),
    /// What is held went through a night.
    Swap(Swap),
    /// Equity did not cover the margin; what is held is closed by the deals that follow.
    MarginCall {
        /// When.
        time: Micros,
        /// Money of the account with what is open in it.
        equity: Decimal,
        /// What all that is held binds.
        margin: Decimal,
    },
    /// A person wrote something.
    Note {
        /// When.
        time: Micros,
        /// What.
        text: String,
        /// A word to find it by.
        tag: String,
    },
}

impl Entry {
    /// When it happened.
    pub fn time(&self) -> Micros {
        match self {
            Entry::Given(order) => order.given,
            Entry::Changed { time, .. }
            | Entry::Gone { time, .. }
            | Entry::MarginCall { time, .. }
            | Entry::Note { time, .. } => *time,
            Entry::Refused(refusal) => refusal.time,
            Entry::Deal(deal) => deal.time,
            Entry::Swap(swap) => swap.time,
        }
    }
}

/// Why an order is gone that was not filled.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gone {
    /// A person took it back.
    Cancelled,
    /// The other one of its pair was filled, or what it closes is closed.
    Paired,
    /// Its time is over.
    Expired,
    /// A market order that found no quote for so long.
    NoQuote(Micros),
}

/// An order that was refused, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// When.
    pub time: Micros,
    /// What it was to be, where there is something to tell.
    pub ticket: Option<super::order::Ticket>,
    /// A sentence.
    pub why: String,
}

/// What changes as a desk goes on, beside the journal.
#[derive(Debug, Clone)]
pub(super) struct DeskState {
    pub account: Account,
    pub orders: Vec<Order>,
    pub quotes: Vec<Option<TradeQuote>>,
    /// The recorded book of each instrument; empty where there is none.
    pub books: Vec<Book>,
    /// Acts on their way to the market.
    pub on_the_way: Vec<(Micros, super::order::DeskAct)>,
    pub next_order: u32,
    /// When the bar began that is being walked through.
    pub walking: Option<Micros>,
    /// Quotes and bars that were played.
    pub played: u64,
    pub now: Micros,
}

/// A desk.
pub struct Desk {
    pub(super) rules: DeskRules,
    pub(super) traded: Vec<Traded>,
    pub(super) state: DeskState,
    pub(super) journal: Vec<Entry>,
}

impl Desk {
    /// A desk for some instruments.
    pub fn new(traded: Vec<Traded>, rules: DeskRules) -> Desk {
        let state = DeskState {
            account: Account::new(traded.len(), rules.hedged),
            orders: Vec::new(),
            quotes: vec![None; traded.len()],
            books: vec![Book::default(); traded.len()],
            on_the_way: Vec::new(),
            next_order: 1,
            walking: None,
            played: 0,
            now: 0,
        };
        Desk { rules, traded, state, journal: Vec::new() }
    }

    /// Its rules.
    pub fn rules(&self) -> &DeskRules {
        &self.rules
    }

    /// The instruments it deals in.
    pub fn traded(&self) -> &[Traded] {
        &self.traded
    }

    /// What is held and earned.
    pub fn account(&self) -> &Account {
        &self.state.account
    }

    /// Orders that wait, oldest first.
    pub fn orders(&self) -> &[Order] {
        &self.state.orders
    }

    /// An order that waits.
    pub fn order(&self, id: u32) -> Option<&Order> {
        self.state.orders.iter().find(|o| o.id == id)
    }

    /// All that happened, in order of time.
    pub fn journal(&self) -> &[Entry] {
        &self.journal
    }

    /// Every deal, in order of time.
    pub fn deals(&self) -> impl DoubleEndedIterator<Item = &Deal> {
        self.journal.iter().filter_map(|entry| match entry {
            Entry::Deal(deal) => Some(deal),
            _ => None,
        })
    }

    /// The last quote of an instrument.
    pub fn quote(&self, of: usize) -> Option<TradeQuote> {
        self.state.quotes[of]
    }

    /// Bid and ask of the last quote of an instrument, in points.
    pub(super) fn seen(&self, of: usize) -> Option<(i64, i64)> {
        self.state.quotes[of].map(|quote| (quote.bid, quote.ask))
    }

    /// The recorded book of an instrument, as of now; none where nothing is known of it.
    pub fn book(&self, of: usize) -> Option<&Book> {
        self.state.books.get(of).filter(|book| book.told().is_some())
    }

    /// True where something is held, or an order waits or is on its way.
    pub fn is_engaged(&self) -> bool {
        let state = &self.state;
        !(state.account.holdings().is_empty() && state.orders.is_empty() && state.on_the_way.is_empty())
    }

    /// The moment that it has come to.
    pub fn now(&self) -> Micros {
        self.state.now
    }

    /// Quotes and bars that were played.
    pub fn played(&self) -> u64 {
        self.state.played
    }

    pub(super) fn rates(&self) -> Rates<'_> {
        Rates { quotes: &self.state.quotes, traded: &self.traded }
    }

    /// What closing all that is held at the last quotes would earn, before commission, in the money of the account; none
    /// where a rate is not known.
    pub fn open_profit(&self) -> Option<Decimal> {
        let rates = self.rates();
        let profit = |h: &super::account::Holding| {
            Account::open_profit(h, &self.traded[h.of], &self.state.quotes[h.of]?, &rates)
        };
        self.state.account.holdings().iter().map(profit).sum()
    }

    /// Money of the account with what is open in it; none where nobody has said what there was at the beginning.
    pub fn equity(&self) -> Option<Decimal> {
        Some(self.rules.balance? + self.state.account.realised() + self.open_profit()?)
    }

    /// What all that is held binds; none where a margin is not known.
    pub fn margin(&self) -> Option<Decimal> {
        self.state.account.margin(&self.traded, &self.rates(), self.state.now)
    }

    /// Takes a quote of an instrument.
    pub fn take(&mut self, of: usize, quote: TradeQuote) {
        self.state.played += 1;
        self.arrive(quote.time);
        self.see(of, quote);
        self.expire(quote.time);
        self.fill_at(of, &quote);
        self.call_margin(of);
    }

    /// Notes a quote: the night before it, the last price, how far what is held has run, and where stops follow to.
    pub(super) fn see(&mut self, of: usize, quote: TradeQuote) {
        let rates = Rates { quotes: &self.state.quotes, traded: &self.traded };
        let swap = self.state.account.pass(of, quote.time, &self.traded[of], &rates);
        self.journal.extend(swap.map(Entry::Swap));
        self.state.quotes[of] = Some(quote);
        self.state.now = self.state.now.max(quote.time);
        self.state.account.sees(of, (quote.bid, quote.bid), (quote.ask, quote.ask));
        for order in self.state.orders.iter_mut().filter(|o| o.of == of) {
            if matches!(order.kind, OrderKind::Trailing(_)) {
                let price = side_of(order.direction, &quote);
                // A stop that sells follows the highest bid.
                let is_better = |best: i64| (price - best) * order.direction.turned().sign() > 0;
                if order.best.is_none_or(is_better) {
                    order.best = Some(price);
                }
            }
        }
    }

    /// Takes orders away whose time is over, of whatever instrument.
    pub(super) fn expire(&mut self, now: Micros) {
        let is_over = |order: &Order| order.until.is_some_and(|until| until <= now);
        if !self.state.orders.iter().any(is_over) {
            return;
        }
        let (gone, stay) = std::mem::take(&mut self.state.orders).into_iter().partition(is_over);
        self.state.orders = stay;
        let mut gone: Vec<Order> = gone;
        gone.sort_by_key(|order| order.until);
        let entry =
            |order: Order| Entry::Gone { time: order.until.unwrap_or(now), order, why: Gone::Expired };
        self.journal.extend(gone.into_iter().map(entry));
    }

    /// Closes everything where equity is below the share of the margin that the rules name.
    pub(super) fn call_margin(&mut self, of: usize) {
        if self.rules.balance.is_none() || self.state.account.holdings().is_empty() {
            return;
        }
        let (Some(equity), Some(margin)) = (self.equity(), self.margin()) else { return };
        if margin.is_zero() || equity >= margin * self.rules.call {
            return;
        }
        let time = self.state.quotes[of].map_or(self.state.now, |q| q.time);
        self.journal.push(Entry::MarginCall { time, equity, margin });
        let orders = std::mem::take(&mut self.state.orders);
        self.journal.extend(orders.into_iter().map(|order| Entry::Gone { time, order, why: Gone::Paired }));
        for holding in self.state.account.holdings().to_vec() {
            if let Some(quote) = self.state.quotes[holding.of] {
                let order = self.closing(&holding, holding.lots, time);
                let quote = TradeQuote { time, ..quote };
                let price = side_of(order.direction, &quote);
                self.deal(&order, price, DealReason::MarginCall, &quote);
            }
        }
    }

    /// The market order that closes a part of a holding.
    pub(super) fn closing(&mut self, holding: &super::account::Holding, lots: i64, given: Micros) -> Order {
        self.state.next_order += 1;
        Order {
            id: self.state.next_order - 1,
            of: holding.of,
            given,
            since: given,
            direction: holding.direction.turned(),
            lots,
            kind: OrderKind::Market,
            stop: None,
            target: None,
            until: None,
            tag: holding.tag.clone(),
            closes: Some(holding.id),
            role: OrderRole::Close,
            pair: None,
            best: None,
            seen: self.seen(holding.of),
        }
    }
}
