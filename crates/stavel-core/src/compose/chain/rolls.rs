//! When a chain rolls.

use std::collections::BTreeMap;

use super::contracts::Contract;
use super::days::{DayTable, DayTotal};
use crate::model::chain::{RollAt, RollDate, RollReason, RollRule};
use crate::model::session::DayHours;
use crate::model::time::{date, rfc3339};
use crate::model::{Micros, Session, Span};
use crate::{Error, Result};

/// A roll that was decided, by the places of the contracts.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct PlannedRoll {
    pub at: Micros,
    pub from: usize,
    pub to: usize,
    pub why: RollReason,
}

/// The contract that a chain begins with, and its rolls in order of time.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct PlannedChain {
    pub first: usize,
    pub rolls: Vec<PlannedRoll>,
}

impl PlannedChain {
    /// The contracts in order, each with the span it is there for.
    pub fn parts(&self) -> impl Iterator<Item = (usize, Span)> {
        let places = std::iter::once(self.first).chain(self.rolls.iter().map(|roll| roll.to));
        let begins = std::iter::once(Micros::MIN).chain(self.rolls.iter().map(|roll| roll.at));
        let ends = self.rolls.iter().map(|roll| roll.at).chain(std::iter::once(Micros::MAX));
        places.zip(begins.zip(ends).map(|(from, to)| Span::new(from, to)))
    }
}

/// The last day of a contract.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Expiry {
    pub day: i64,
    /// True where it was said; else it is the last day on which the contract traded.
    pub is_said: bool,
}

/// Decides the rolls of contracts in order of their months. What is known on a day moves a roll to the next day at the
/// earliest: nobody could have acted on it before.
pub(super) struct RollPlanner<'a> {
    pub contracts: &'a [Contract],
    pub table: &'a DayTable,
    pub session: &'a Session,
    pub rule: &'a RollRule,
    pub moved: &'a BTreeMap<String, RollAt>,
}

impl RollPlanner<'_> {
    /// # Errors
    /// Where the rule needs what the rows do not have, or rolls are out of order.
    pub fn plan(&self) -> Result<PlannedChain> {
        self.refuse()?;
        let mut rolls: Vec<PlannedRoll> = Vec::new();
        let mut first = 0;
        let mut said = self.dates().iter();
        let mut at_hand = 0;
        let mut since = (0..self.table.days.len()).find(|day| self.table.has(0, *day)).unwrap_or(0);
        while at_hand + 1 < self.contracts.len() {
            let by_rule = match self.rule {
                RollRule::Dates(_) => said.next().map(|date| self.on_date(at_hand, date)).transpose()?,
                RollRule::Days(before) => self.before_expiry(at_hand, *before),
                RollRule::Volume => self.overtaken(at_hand, since, |total| total.volume),
                RollRule::OpenInterest => self.overtaken(at_hand, since, |total| total.open_interest),
            };
            let Some(roll) = self.moved_by_hand(at_hand, by_rule).or_else(|| self.ended(at_hand)) else {
                break;
            };
            if roll.at > self.last_row() {
                self.refuse_moved(&roll)?;
                // A date that is not reached yet.
                return Ok(PlannedChain { first, rolls });
            }
            match rolls.last() {
                Some(before) if roll.at <= before.at => return Err(self.out_of_order(before, &roll)),
                // It was over before the contract's first row: the chain begins with the next one.
                None if roll.at <= self.contracts[at_hand].info.edition.first => first = roll.to,
                _ => rolls.push(roll),
            }
            (at_hand, since) = (roll.to, self.table.place_of(roll.at));
        }
        match said.next() {
            Some(date) => Err(mistake(date, "no contract is left to roll into")),
            None => Ok(PlannedChain { first, rolls }),
        }
    }

    fn last_row(&self) -> Micros {
        self.contracts.iter().map(|c| c.info.edition.last).max().unwrap_or(Micros::MAX)
    }

    /// # Errors
    /// Where a roll was moved beyond all rows.
    fn refuse_moved(&self, roll: &PlannedRoll) -> Result<()> {
        if roll.why != RollReason::Moved {
            return Ok(());
        }
        Err(Error::arguments(format!(
            "The roll out of {} cannot be moved to {}: that is after the last row of all contracts, {}.",
            self.name(roll.from),
            rfc3339(roll.at),
            rfc3339(self.last_row())
        )))
    }

    fn dates(&self) -> &[RollDate] {
        match self.rule {
            RollRule::Dates(dates) => dates,
            _ => &[],
        }
    }

    fn name(&self, contract: usize) -> &str {
        &self.contracts[contract].instrument.name
    }

    /// # Errors
    /// Where the rule needs what no row has, dates are out of order, or a roll is moved of a contract that is not there.
    fn refuse(&self) -> Result<()> {
        let (needs, what): (fn(&DayTotal) -> bool, _) = match self.rule {
            RollRule::Volume => (|total| total.volume.is_some(), "volume"),
            RollRule::OpenInterest => (|total| total.open_interest.is_some(), "open interest"),
            _ => (|_| true, ""),
        };
        let knows = |contract: usize| self.table.totals[contract].iter().flatten().any(needs);
        if let Some(lacks) = (0..self.contracts.len()).find(|contract| !knows(*contract)) {
            return Err(Error::input(format!(
                "The rows of {} know no {what}; let the chain roll some days before expiry (days=5) or on dates (dates=FILE).",
                self.contracts[lacks].info.name
            )));
        }
        for pair in self.dates().windows(2) {
            let [before, date] = pair else { continue };
            if self.moment(date.at) <= self.moment(before.at) {
                let what = format!(
                    "it is not after {} of line {}; rolls are in order of time",
                    before.at, before.line
                );
                return Err(mistake(date, &what));
            }
        }
        let is_there = |name: &&String| self.contracts.iter().any(|c| c.instrument.name == **name);
        match self.moved.keys().find(|name| !is_there(name)) {
            Some(name) => {
                Err(Error::arguments(format!("The chain has no contract {name} whose roll could be moved.")))
            }
            None => Ok(()),
        }
    }

    /// The last day of a contract: the one that was said, else the last on which it traded, once a later contract goes on.
    pub fn expiry(&self, contract: usize) -> Option<Expiry> {
        if let Some(day) = self.contracts[contract].instrument.sheet.expiry {
            return Some(Expiry { day, is_said: true });
        }
        let last = self.table.last_of(contract)?;
        let goes_on = |later: usize| (last + 1..self.table.days.len()).any(|day| self.table.has(later, day));
        let is_over = (contract + 1..self.contracts.len()).any(goes_on);
        is_over.then(|| Expiry { day: self.table.days[last].day, is_said: false })
    }

    /// The next contract that still has rows on or after a day.
    fn next_after(&self, contract: usize, day: usize) -> Option<usize> {
        let has_rows = |later: &usize| (day..self.table.days.len()).any(|day| self.table.has(*later, day));
        (contract + 1..self.contracts.len()).find(has_rows)
    }

    fn before_expiry(&self, contract: usize, before: u32) -> Option<PlannedRoll> {
        let days = &self.table.days;
        let expiry = self.expiry(contract)?;
        // Days after the last one with rows are those on which the session opens.
        let mut later: Vec<i64> = Vec::new();
        let last = days.last()?.day;
        let is_closed =
            |day: i64| self.session.holidays.iter().any(|h| h.day == day && h.hours == DayHours::Closed);
        later.extend((last + 1..=expiry.day).filter(|day| self.session.opens_on(*day) && !is_closed(*day)));
        let all: Vec<i64> = days.iter().map(|d| d.day).chain(later).collect();
        let through_expiry = all.partition_point(|day| *day <= expiry.day);
        let place = through_expiry.checked_sub(1 + before as usize)?;
        let day = days.get(place)?;
        let to = self.next_after(contract, place)?;
        Some(PlannedRoll { at: day.from, from: contract, to, why: RollReason::Rule })
    }

    /// The roll on the day after the first on which a later contract had more; into the one that had most.
    fn overtaken(
        &self,
        contract: usize,
        since: usize,
        of: impl Fn(&DayTotal) -> Option<i64>,
    ) -> Option<PlannedRoll> {
        let value = |contract: usize, day: usize| self.table.totals[contract][day].as_ref().and_then(&of);
        for day in since..self.table.days.len().saturating_sub(1) {
            let Some(own) = value(contract, day) else { continue };
            let others =
                (contract + 1..self.contracts.len()).filter_map(|later| Some((later, value(later, day)?)));
            // Of two that are alike, the nearer one.
            let most = others.max_by_key(|(later, value)| (*value, std::cmp::Reverse(*later)));
            if let Some((to, value)) = most
                && value > own
            {
                return Some(PlannedRoll {
                    at: self.table.days[day + 1].from,
                    from: contract,
                    to,
                    why: RollReason::Rule,
                });
            }
        }
        None
    }

    /// Where a contract ended and its rule said nothing, the roll on the first day on which a later one goes on. Dates that were
    /// said are all there are.
    fn ended(&self, contract: usize) -> Option<PlannedRoll> {
        if matches!(self.rule, RollRule::Dates(_)) {
            return None;
        }
        let last = self.table.totals[contract].iter().rposition(Option::is_some)?;
        let to = self.next_after(contract, last + 1)?;
        let day = (last + 1..self.table.days.len()).find(|day| self.table.has(to, *day))?;
        Some(PlannedRoll { at: self.table.days[day].from, from: contract, to, why: RollReason::Ended })
    }

    /// The session day of a moment.
    pub fn day_of(&self, moment: Micros) -> i64 {
        let there = self.table.days.iter().find(|d| d.from == moment);
        there.map_or_else(|| self.session.clock.day_of(moment), |d| d.day)
    }

    fn moment(&self, at: RollAt) -> Micros {
        match at {
            RollAt::Time(time) => time,
            RollAt::Day(day) => {
                let there = self.table.days.iter().find(|d| d.day == day);
                there.map_or_else(|| self.session.day_span(day).from, |d| d.from)
            }
        }
    }

    fn moved_by_hand(&self, contract: usize, by_rule: Option<PlannedRoll>) -> Option<PlannedRoll> {
        let Some(at) = self.moved.get(self.name(contract)) else { return by_rule };
        let at = self.moment(*at);
        let to =
            by_rule.map(|roll| roll.to).or_else(|| self.next_after(contract, self.table.place_of(at)))?;
        Some(PlannedRoll { at, from: contract, to, why: RollReason::Moved })
    }

    fn on_date(&self, contract: usize, said: &RollDate) -> Result<PlannedRoll> {
        let at_hand = self.name(contract);
        if let Some(from) = &said.from
            && !self.is_named(contract, from)
        {
            return Err(mistake(
                said,
                &format!("it rolls out of {from}, and the chain is in {at_hand} then"),
            ));
        }
        let to = match &said.to {
            None => contract + 1,
            Some(to) => match (0..self.contracts.len()).find(|c| self.is_named(*c, to)) {
                Some(place) if place > contract => place,
                Some(_) => {
                    return Err(mistake(said, &format!("{to} is not of a later month than {at_hand}")));
                }
                None => return Err(mistake(said, &format!("the chain has no contract {to}"))),
            },
        };
        Ok(PlannedRoll { at: self.moment(said.at), from: contract, to, why: RollReason::Rule })
    }

    /// True where a contract is meant: by its name or by its month.
    fn is_named(&self, contract: usize, text: &str) -> bool {
        self.name(contract) == text || self.contracts[contract].month.to_string() == text
    }

    fn out_of_order(&self, before: &PlannedRoll, roll: &PlannedRoll) -> Error {
        let told = |roll: &PlannedRoll| format!("{} into {}", self.name(roll.from), self.name(roll.to));
        Error::input(format!(
            "The roll from {} on {} is not after that from {} on {}; rolls are in order of time.",
            told(roll),
            rfc3339(roll.at),
            told(before),
            rfc3339(before.at)
        ))
    }

    /// Rolls that a later contract's volume asked for on one day and not on those after it.
    pub fn fell_back(&self, roll: &PlannedRoll) -> Option<String> {
        const DAYS_AFTER: usize = 4;
        let of: fn(&DayTotal) -> Option<i64> = match self.rule {
            RollRule::Volume => |total| total.volume,
            RollRule::OpenInterest => |total| total.open_interest,
            _ => return None,
        };
        if roll.why != RollReason::Rule {
            return None;
        }
        let at = self.table.place_of(roll.at);
        let value = |contract: usize, day: usize| self.table.totals[contract].get(day)?.as_ref().and_then(of);
        let after =
            (at..at + DAYS_AFTER).filter_map(|day| Some((value(roll.from, day)?, value(roll.to, day)?)));
        let (mut back, mut all) = (0, 0);
        after.for_each(|(own, other)| (back, all) = (back + usize::from(own > other), all + 1));
        (all > 1 && back * 2 > all).then(|| {
            format!(
                "{} rolls into {} on {}, but on {back} of the {all} days after that it had more again; move the roll if that day was odd",
                self.name(roll.from),
                self.name(roll.to),
                date(self.table.days[at].day)
            )
        })
    }
}

fn mistake(said: &RollDate, what: &str) -> Error {
    Error::input(format!("Line {} of the dates, {}: {what}.", said.line, said.at))
}
