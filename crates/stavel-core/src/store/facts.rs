//! What is known of instruments on dates: dividends and splits, statements, events, holidays, dated values of their
//! sheets, gaps of a stream.
//!
//! A fact is kept under the name of what it is about: an instrument, a product with contracts, or a currency. Those of an
//! instrument are therefore looked for under several names.

use std::collections::{HashMap, HashSet};

use super::Shelf;
use super::act::{ChangedThing, SubjectState, record};
use super::fact_kind;
use super::records::{self, InstrumentFact};
use crate::Result;
use crate::model::contract_month::ContractName;
use crate::model::time::DAY;
use crate::model::{Instrument, Micros, Span, Weight};

/// The value of a fact that tells it apart from others of its kind, whatever else of it changes.
pub const FACT_ID: &str = "id";

/// The value of an event of which only the day is known: its time is then the beginning of that day.
pub const FACT_WHOLE_DAY: &str = "whole_day";

impl InstrumentFact {
    /// True where it takes place at a moment that is known, not only on a day.
    pub fn has_moment(&self) -> bool {
        match self.kind.as_str() {
            fact_kind::EVENT => !self.values.contains_key(FACT_WHOLE_DAY),
            _ => self.time % DAY != 0,
        }
    }

    /// What it is called.
    pub fn name(&self) -> Option<&str> {
        const NAMES: [&str; 6] = ["name", "title", "event", "events", "announcement", "description"];
        NAMES.iter().find_map(|key| self.values.get(*key)).map(String::as_str)
    }

    /// How much it moves the market; none where nobody has said it.
    pub fn weight(&self) -> Option<Weight> {
        ["weight", "impact", "importance"].iter().find_map(|key| Weight::read(self.values.get(*key)?))
    }

    /// What it is the same thing by, whatever else of it changes; none where nothing tells it from another of its time.
    fn thing(&self) -> Option<FactThing<'_>> {
        let same_by = match (self.values.get(FACT_ID), self.name()) {
            (Some(id), _) => SameBy::Id(id),
            // A source says one thing of a session day.
            (None, _) if self.kind == fact_kind::HOLIDAY => SameBy::Time(self.time, ""),
            (None, Some(name)) => SameBy::Time(self.time, name),
            (None, None) => return None,
        };
        Some((&self.source, &self.kind, same_by))
    }
}

/// Source, kind, and what tells a fact from the others of these.
type FactThing<'f> = (&'f str, &'f str, SameBy<'f>);

#[derive(PartialEq, Eq, Hash)]
enum SameBy<'f> {
    Id(&'f str),
    Time(Micros, &'f str),
}

/// Which facts are meant.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct FactFilter {
    /// Their kinds; all where none is named.
    pub kinds: Vec<String>,
    /// Events of at least this weight. One that does not say its weight is not meant then.
    pub weight: Option<Weight>,
    /// When they are; at any time where it is not said.
    pub span: Option<Span>,
}

impl FactFilter {
    /// Facts of one kind.
    pub fn of_kind(kind: &str) -> FactFilter {
        FactFilter { kinds: vec![kind.to_owned()], ..FactFilter::default() }
    }

    /// True where a fact is meant.
    pub fn holds(&self, fact: &InstrumentFact) -> bool {
        let is_heavy =
            fact.kind != fact_kind::EVENT || self.weight.is_none_or(|least| fact.weight() >= Some(least));
        let is_meant = match self.kinds.as_slice() {
            [] => fact.kind != fact_kind::DRAWING,
            kinds => kinds.contains(&fact.kind),
        };
        is_meant && is_heavy && self.span.is_none_or(|span| span.holds(fact.time))
    }
}

/// What bringing facts did.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct FactsBrought {
    /// Facts that were not there before.
    pub added: u64,
    /// Facts that took the place of what their source said of the same thing before.
    pub changed: u64,
    /// Facts that are no more.
    pub gone: u64,
}

impl Shelf {
    /// Adds dated facts of an instrument; gives the number of those that were not there before.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn put_facts(&mut self, instrument: &str, facts: &[InstrumentFact]) -> Result<u64> {
        self.must_write()?;
        self.begin_act("")?;
        self.ensure_instrument(instrument)?;
        let count = self.change_facts(instrument, &[], facts)?;
        self.end_act(instrument, "")?;
        Ok(count)
    }

    /// Brings the facts under a name up to what their source says now: one that says the same thing with other values takes
    /// the place of the earlier one, and those `cancelled` go. The name may be that of a currency: no instrument is made.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn bring_facts(
        &mut self,
        about: &str,
        facts: &[InstrumentFact],
        cancelled: &[InstrumentFact],
    ) -> Result<FactsBrought> {
        self.must_write()?;
        let there = self.facts(about)?;
        let (known, told): (HashSet<_>, HashSet<_>) = (there.iter().collect(), facts.iter().collect());
        let mut by_thing: HashMap<FactThing<'_>, Vec<&InstrumentFact>> = HashMap::new();
        // What is still told as it was stays.
        for old in there.iter().filter(|old| !told.contains(old)) {
            if let Some(thing) = old.thing() {
                by_thing.entry(thing).or_default().push(old);
            }
        }
        let mut brought = FactsBrought::default();
        let (mut go, mut come): (Vec<InstrumentFact>, Vec<InstrumentFact>) = (Vec::new(), Vec::new());
        let mut seen = HashSet::new();
        for fact in facts.iter().filter(|fact| !known.contains(fact)) {
            if !seen.insert(fact) {
                continue;
            }
            let before = fact.thing().and_then(|thing| by_thing.remove(&thing)).unwrap_or_default();
            brought.changed += u64::from(!before.is_empty());
            brought.added += u64::from(before.is_empty());
            go.extend(before.into_iter().cloned());
            come.push(fact.clone());
        }
        for fact in cancelled {
            let gone = fact.thing().and_then(|thing| by_thing.remove(&thing)).unwrap_or_default();
            brought.gone += gone.len() as u64;
            go.extend(gone.into_iter().cloned());
        }
        if !go.is_empty() || !come.is_empty() {
            self.begin_act("")?;
            self.change_facts(about, &go, &come)?;
            self.end_act(about, "")?;
        }
        Ok(brought)
    }

    pub(super) fn change_facts(
        &mut self,
        about: &str,
        go: &[InstrumentFact],
        come: &[InstrumentFact],
    ) -> Result<u64> {
        let act = self.act_id()?;
        let subject = ChangedThing::Facts(about.to_owned());
        let tx = self.db.transaction()?;
        if !go.is_empty() {
            records::remove_facts(&tx, about, go)?;
            record(&tx, act, &subject, Some(&SubjectState::Facts(go.to_vec())), None)?;
        }
        let added = records::add_facts(&tx, about, come)?;
        let count = added.len() as u64;
        if count > 0 {
            record(&tx, act, &subject, None, Some(&SubjectState::Facts(added)))?;
        }
        tx.commit()?;
        Ok(count)
    }

    /// The dated facts under a name, in order of time.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn facts(&self, about: &str) -> Result<Vec<InstrumentFact>> {
        records::facts(&self.db, about)
    }

    /// The names under which facts are kept.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn fact_names(&self) -> Result<Vec<String>> {
        records::fact_names(&self.db)
    }

    /// The dated facts that concern an instrument, in order of time: its own, those of what it is like, those of the product
    /// of a contract, and the events of its currencies. The holidays of a currency's country close no market, and are no
    /// holidays of the instrument.
    ///
    /// # Errors
    /// Where there is no such instrument, or the catalog cannot be read.
    pub fn facts_about(&self, instrument: &str, filter: &FactFilter) -> Result<Vec<InstrumentFact>> {
        let mut out = Vec::new();
        for shelved in fact_names_of(&self.instrument(instrument)?, self.names_of(instrument)?) {
            let facts = self.facts(&shelved.name)?;
            out.extend(facts.into_iter().filter(|fact| filter.holds(fact) && shelved.concerns(fact)));
        }
        out.sort_by_key(|fact| fact.time);
        Ok(out)
    }

    /// The splits and dividends of an instrument, in order of time: those under its name, under the names of what it is
    /// like, and under that of its product.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn actions(&self, instrument: &str) -> Result<Vec<InstrumentFact>> {
        let names = if self.has_instrument(instrument)? {
            self.names_of(instrument)?
        } else {
            vec![instrument.to_owned()]
        };
        let mut out = Vec::new();
        for name in names {
            out.extend(self.facts(&name)?);
        }
        out.retain(|fact| [fact_kind::SPLIT, fact_kind::DIVIDEND].contains(&fact.kind.as_str()));
        out.sort_by_key(|fact| fact.time);
        Ok(out)
    }

    /// The names that an instrument's own facts may stand under: its own, those of what it is like, its product.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn names_of(&self, instrument: &str) -> Result<Vec<String>> {
        own_fact_names(instrument, |name| Ok(self.instrument(name)?.own.like))
    }
}

/// A name under which facts stand that concern an instrument.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FactName {
    pub name: String,
    /// False for a currency of the instrument.
    pub is_own: bool,
}

impl FactName {
    /// True where a fact under this name concerns the instrument: of its currencies only events do.
    pub fn concerns(&self, fact: &InstrumentFact) -> bool {
        self.is_own || fact.kind == fact_kind::EVENT
    }
}

/// The names under which facts stand that concern an instrument; `own` are those of [`own_fact_names`].
pub fn fact_names_of(instrument: &Instrument, own: Vec<String>) -> Vec<FactName> {
    let sheet = &instrument.sheet;
    let is_more = |currency: &&String| !currency.is_empty() && !own.contains(currency);
    let currencies: Vec<String> = [&sheet.base, &sheet.quote].into_iter().filter(is_more).cloned().collect();
    let of = |is_own| move |name| FactName { name, is_own };
    own.into_iter().map(of(true)).chain(currencies.into_iter().map(of(false))).collect()
}

/// The names that an instrument's own facts may stand under; `like_of` gives what an instrument is like.
///
/// # Errors
/// What `like_of` gives.
pub fn own_fact_names(
    instrument: &str,
    like_of: impl Fn(&str) -> Result<Option<String>>,
) -> Result<Vec<String>> {
    let mut names = vec![instrument.to_owned()];
    let mut above = like_of(instrument)?;
    while let Some(name) = above.take().filter(|name| !names.contains(name)) {
        above = like_of(&name)?;
        names.push(name);
    }
    let product = ContractName::read(instrument).map(|contract| contract.product);
    names.extend(product.filter(|product| !names.contains(product)));
    Ok(names)
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use super::*;
    use crate::model::OwnValues;

    fn fact(kind: &str, time: i64, values: &[(&str, &str)]) -> InstrumentFact {
        let values: BTreeMap<String, String> =
            values.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        InstrumentFact { source: "skerry".into(), time, kind: kind.into(), values }
    }

    #[test]
    fn what_a_source_says_anew_takes_the_place_of_what_it_said_and_undo_brings_that_back() {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        let rate = |time, actual| fact("event", time, &[("id", "7"), ("name", "rate"), ("actual", actual)]);
        let other = fact("event", 5, &[("name", "prices"), ("weight", "high")]);
        let brought = shelf.bring_facts("SEK", &[rate(5, ""), other.clone()], &[]).unwrap();
        assert_eq!(brought, FactsBrought { added: 2, ..FactsBrought::default() });
        // It is put off by a day, and then known.
        let brought = shelf.bring_facts("SEK", &[rate(9, "4.00"), other.clone()], &[]).unwrap();
        assert_eq!(brought, FactsBrought { changed: 1, ..FactsBrought::default() });
        assert_eq!(shelf.facts("SEK").unwrap(), [other.clone(), rate(9, "4.00")]);
        assert_eq!(shelf.bring_facts("SEK", &[rate(9, "4.00")], &[]).unwrap(), FactsBrought::default());
        let gone = shelf.bring_facts("SEK", &[], &[fact("event", 0, &[("id", "7")])]).unwrap();
        assert_eq!((gone.gone, shelf.facts("SEK").unwrap().len()), (1, 1));
        // What nothing tells from another of its time takes no place.
        let report = |value| fact("statement", 4, &[("stocks", value)]);
        shelf.bring_facts("BLY", &[report("1")], &[]).unwrap();
        assert_eq!(shelf.bring_facts("BLY", &[report("2")], &[]).unwrap().added, 1);
        assert_eq!(shelf.facts("BLY").unwrap().len(), 2);
        shelf.undo_act().unwrap();
        shelf.undo_act().unwrap();
        assert!(!shelf.has_instrument("SEK").unwrap(), "a currency is no instrument");
        shelf.undo_act().unwrap();
        shelf.undo_act().unwrap();
        assert_eq!(shelf.facts("SEK").unwrap(), [rate(5, ""), other]);
    }

    #[test]
    fn an_instrument_is_concerned_by_its_own_facts_those_of_its_product_and_events_of_its_currencies() {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        for name in ["NOKSEK", "BLY-2024-05"] {
            shelf.put_instrument(name, &OwnValues::default()).unwrap();
        }
        let event = |weight| fact("event", 1, &[("name", "rate"), ("weight", weight)]);
        shelf
            .bring_facts("SEK", &[event("high"), fact("holiday", 2, &[("name", "Midsummer")])], &[])
            .unwrap();
        shelf.bring_facts("NOK", &[event("low"), fact("event", 3, &[("name", "speech")])], &[]).unwrap();
        shelf.bring_facts("BLY", &[fact("holiday", 4, &[("name", "Harvest")])], &[]).unwrap();
        let told = |name: &str, filter: &FactFilter| -> Vec<i64> {
            shelf.facts_about(name, filter).unwrap().iter().map(|fact| fact.time).collect()
        };
        assert_eq!(told("NOKSEK", &FactFilter::default()), [1, 1, 3]);
        let heavy = FactFilter { weight: Some(Weight::Medium), ..FactFilter::default() };
        assert_eq!(told("NOKSEK", &heavy), [1], "what does not say its weight is not heavy");
        assert_eq!(told("BLY-2024-05", &FactFilter::of_kind("holiday")), [4]);
        let span = FactFilter { span: Some(Span::new(2, 9)), ..FactFilter::default() };
        assert_eq!(told("NOKSEK", &span), [3]);
    }
}
