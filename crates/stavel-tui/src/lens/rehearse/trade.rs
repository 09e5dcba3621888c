//! Trading by keys: deals, orders as a line of words, brackets, moving orders.

use stavel_core::model::price::scaled;
use stavel_core::rehearse::{
    DeskAct, Direction, Holding, Order, OrderKind, OrderRole, Ticket, lots_text, order_in_line,
};

use stavel_work::{keep_bracket, read_brackets};

use super::play::Play;
use super::{NOTHING_PLAYS, RehearseLens};
use crate::effect::{Effect, Effects, ask, say, tell_done, warn};
use crate::view::View;

/// What the keys deal with: a size and a bracket.
#[derive(Debug, Clone)]
pub struct Dealing {
    /// As it is typed: lots, or a risk as 1%.
    pub size: String,
    /// Named brackets: a name, a stop and a target as they are typed.
    pub brackets: Vec<(String, String)>,
    /// The one that is put on whatever is opened.
    pub bracket: Option<usize>,
    /// True once those that were named before were read.
    pub is_read: bool,
}

impl Default for Dealing {
    fn default() -> Dealing {
        Dealing { size: "1.00".into(), brackets: Vec::new(), bracket: None, is_read: false }
    }
}

impl Dealing {
    /// The words after an order that put the chosen bracket on it.
    fn with_bracket(&self) -> String {
        self.bracket
            .and_then(|place| self.brackets.get(place))
            .map_or(String::new(), |(_, words)| format!(" with {words}"))
    }

    /// Takes a bracket by its name, as `tight stop 20pt target 40pt`, or takes the name away, as `tight -`: the name, and the
    /// words that it stands for now.
    ///
    /// # Errors
    /// What is not understood, in words.
    pub fn name_bracket(&mut self, text: &str) -> Result<(String, Option<String>), String> {
        let (name, words) =
            text.trim().split_once(' ').ok_or("write a name and the bracket: tight stop 20pt target 40pt")?;
        let (name, words) = (name.to_owned(), words.trim().to_owned());
        let before = self.brackets.len();
        if words == "-" {
            self.brackets.retain(|(other, _)| *other != name);
            self.bracket = None;
            let is_gone = self.brackets.len() < before;
            return if is_gone { Ok((name, None)) } else { Err(format!("no bracket is named {name}")) };
        }
        order_in_line(&format!("buy 1 with {words}"), "1")?;
        self.brackets.retain(|(other, _)| *other != name);
        self.brackets.push((name.clone(), words.clone()));
        self.bracket = Some(self.brackets.len() - 1);
        Ok((name, Some(words)))
    }

    /// Goes on to the next bracket, and after the last to none.
    pub fn next_bracket(&mut self) {
        let next = self.bracket.map_or(0, |place| place + 1);
        self.bracket = (next < self.brackets.len()).then_some(next);
    }

    /// The size and the bracket in words.
    pub fn in_words(&self) -> String {
        match self.bracket.and_then(|place| self.brackets.get(place)) {
            Some((name, words)) => format!("size {} · bracket {name}: {words}", self.size),
            None => format!("size {} · no bracket", self.size),
        }
    }
}

impl RehearseLens {
    /// Takes in the brackets that were named before; once.
    pub(super) fn read_brackets(&mut self, view: &View<'_>) -> Effects {
        if std::mem::replace(&mut self.dealing.is_read, true) {
            return Effects::new();
        }
        match read_brackets(view.threads.root()) {
            Ok(brackets) => {
                self.dealing.brackets = brackets.into_iter().collect();
                Effects::new()
            }
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// Names a bracket, and keeps it for the next time.
    pub(super) fn name_bracket(&mut self, text: &str, view: &View<'_>) -> Effects {
        let (name, words) = match self.dealing.name_bracket(text) {
            Ok(named) => named,
            Err(why) => return warn(why),
        };
        match keep_bracket(view.threads.root(), &name, words.as_deref()) {
            Ok(()) => say(self.dealing.in_words()),
            Err(err) => vec![Effect::Complain(err)],
        }
    }

    /// Buys or sells at the market with the size and the bracket that are set.
    pub(super) fn deal(&mut self, direction: Direction) -> Effects {
        let verb = if direction == Direction::Buy { "buy" } else { "sell" };
        let line = format!("{verb} {}{}", self.dealing.size, self.dealing.with_bracket());
        self.order_by_words(&line)
    }

    /// Gives an order that is typed as a line of words.
    pub(super) fn order_by_words(&mut self, line: &str) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let read = order_in_line(line, &self.dealing.size);
        let (order, tag) = match read {
            Ok(read) => read,
            Err(why) => return warn(why),
        };
        match order.ticket(play.of(), play.decimals()) {
            Ok(ticket) => self.give(DeskAct::Order(Ticket { tag, ..ticket })),
            Err(err) => warn(err.to_string()),
        }
    }

    /// Does something at the desk and tells what it came to.
    pub(super) fn give(&mut self, act: DeskAct) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let before = play.replay.desk().journal().len();
        let told = match play.give(act) {
            Ok(lines) => lines,
            Err(err) => return vec![Effect::Complain(err)],
        };
        let refused = play.was_refused();
        let parts = play.parts_since(before);
        self.save();
        if parts > 1 {
            return tell_done(format!(
                "filled at {parts} prices: {}",
                told[..parts.min(told.len())].join("; ")
            ));
        }
        // A deal comes before what it puts up.
        match if refused { told.last() } else { told.first() } {
            Some(line) if refused => warn(line.clone()),
            Some(line) => tell_done(line.clone()),
            None => say("given: it is filled at the next quote"),
        }
    }

    /// Closes all that is held of the instrument, with its orders.
    pub(super) fn flat(&mut self) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        let of = play.of();
        self.give(DeskAct::Flat { of: Some(of) })
    }

    /// Closes a part of what is held: of the oldest holding first.
    pub(super) fn close_part(&mut self, text: &str) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        let held = play.replay.desk().account().holdings().iter().find(|h| h.of == play.of());
        let Some(holding) = held.map(|h| (h.id, h.lots)) else {
            return warn("there is no position to close");
        };
        let share = text.trim().strip_suffix('%').map(|share| share.trim().parse::<i64>().unwrap_or(0));
        let step = play.replay.desk().step_of(play.of());
        let lots = match share {
            Some(share) if (1..=100).contains(&share) => holding.1 * share / 100 / step * step,
            Some(_) => return warn("write lots, or a share from 1% to 100%"),
            None => match stavel_core::rehearse::parse_lots(text.trim()) {
                Some(lots) => lots,
                None => return warn("write lots as 0.50, or a share as 50%"),
            },
        };
        self.give(DeskAct::Close { holding: holding.0, lots: Some(lots) })
    }

    /// Chooses the next order of the instrument.
    pub(super) fn choose_order(&mut self) -> Effects {
        let Some(play) = &mut self.play else { return say(NOTHING_PLAYS) };
        let of = play.of();
        let ids: Vec<u32> = play.replay.desk().orders().iter().filter(|o| o.of == of).map(|o| o.id).collect();
        let next =
            play.chosen.and_then(|id| ids.iter().position(|other| *other == id)).map_or(0, |at| at + 1);
        play.chosen = ids.get(next).copied();
        match play.chosen {
            Some(_) => say("Up and Down move it, D takes it back, Esc lets it go"),
            None if ids.is_empty() => say("no order waits: o gives one"),
            None => Effects::new(),
        }
    }

    /// Moves the order that is chosen by a line of the screen, or a step of the price where that is more.
    pub(super) fn move_order(&mut self, down: bool, points_a_line: i64) -> Effects {
        let Some(play) = &self.play else { return Effects::new() };
        let desk = play.replay.desk();
        let Some(order) = play.chosen.and_then(|id| desk.order(id)) else { return Effects::new() };
        let Some(price) = order.price() else { return warn("this order has no price to move") };
        let traded = &desk.traded()[order.of];
        let step = traded.sheet.tick_points(traded.decimals).unwrap_or(1);
        let by = (points_a_line.max(1) / step).max(1) * step;
        self.move_to(order.id, if down { price - by } else { price + by })
    }

    pub(super) fn move_to(&mut self, order: u32, price: i64) -> Effects {
        self.give(DeskAct::Move { order, price })
    }

    pub(super) fn cancel_chosen(&mut self) -> Effects {
        match self.play.as_ref().map(|play| play.chosen) {
            Some(Some(order)) => self.give(DeskAct::Cancel { order }),
            Some(None) => warn("no order is chosen: H chooses one"),
            None => say(NOTHING_PLAYS),
        }
    }

    pub(super) fn ask_for_order(&mut self) -> Effects {
        let Some(play) = &self.play else { return say(NOTHING_PLAYS) };
        let Some(quote) = play.quote() else { return say(NOTHING_PLAYS) };
        let price = scaled(quote.bid, play.decimals());
        self.asked = Some(super::RehearseQuestion::Order);
        let proposal = format!("buy {} limit {price}{}", self.dealing.size, self.dealing.with_bracket());
        ask("order (buy/sell SIZE, limit/stop/trailing PRICE, with stop … target …, until day)", proposal)
    }
}

/// An order as its line on the chart tells it: what it is, and what it would earn or lose there.
pub fn level_in_words(play: &Play, order: &Order) -> String {
    let desk = play.replay.desk();
    let decimals = desk.traded()[order.of].decimals;
    let name = match (order.role, order.kind) {
        (OrderRole::Stop, OrderKind::Trailing(_)) => "trail",
        (OrderRole::Stop, _) => "stop",
        (OrderRole::Target, _) => "target",
        (_, OrderKind::Limit(_)) if order.direction == Direction::Buy => "buy limit",
        (_, OrderKind::Limit(_)) => "sell limit",
        (_, OrderKind::Trailing(_)) => "trail",
        _ if order.direction == Direction::Buy => "buy stop",
        _ => "sell stop",
    };
    let Some(price) = order.price() else { return name.to_owned() };
    let mut text = format!("{name} {} {}", lots_text(order.lots), scaled(price, decimals));
    let closes = order.closes.and_then(|id| desk.account().holding(id));
    if let Some(holding) = closes {
        let lots = order.lots.min(holding.lots);
        let cost = holding.cost * i128::from(lots) / i128::from(holding.lots);
        let part = Holding { lots, cost, ..holding.clone() };
        let points = (price as f64 - holding.mean_price()) * holding.direction.sign() as f64;
        if let Some(profit) = desk.profit_at(&part, price) {
            let money = stavel_core::rehearse::money_to(profit, play.money_decimals);
            text.push_str(&format!("  {points:+.0} points  {}{money} {}", sign_of(&money), play.currency));
        }
    }
    text
}

/// A plus before what has no minus.
pub fn sign_of(money: &str) -> &'static str {
    if money.starts_with('-') { "" } else { "+" }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn brackets_have_names_and_take_turns_with_none() {
        let mut dealing = Dealing::default();
        assert!(dealing.name_bracket("tight").is_err());
        assert!(dealing.name_bracket("tight stop twenty").is_err());
        dealing.name_bracket("tight stop 20pt target 40pt").unwrap();
        dealing.name_bracket("wide stop trail 90pt").unwrap();
        assert_eq!(dealing.in_words(), "size 1.00 · bracket wide: stop trail 90pt");
        dealing.next_bracket();
        assert_eq!(dealing.with_bracket(), "");
        dealing.next_bracket();
        assert_eq!(dealing.with_bracket(), " with stop 20pt target 40pt");
        dealing.name_bracket("tight stop 25pt").unwrap();
        assert_eq!(dealing.brackets.len(), 2, "a name stands for one bracket");
        assert!(dealing.name_bracket("narrow -").is_err());
        assert_eq!(dealing.name_bracket("tight -").unwrap(), ("tight".to_owned(), None));
        assert_eq!((dealing.brackets.len(), dealing.with_bracket()), (1, String::new()));
    }
}
