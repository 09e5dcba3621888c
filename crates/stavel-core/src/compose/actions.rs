//! Prices adjusted for splits and dividends, by the dated facts of an instrument.
//!
//! The factor of a split is old shares / new shares; that of a dividend is 1 - dividend / close of the last session day before
//! it. Prices before a day are multiplied by the factors of all that happened from that day on, so the last prices stay as they
//! are; volumes before a split are divided by its factor.

use std::collections::BTreeSet;

use super::level_change::LevelChange;
use crate::model::actions::{Action, ActionKind, Actions, names_dividends, names_splits};
use crate::model::price::{as_float, scaled, unit};
use crate::model::time::{DAY, date, wall};
use crate::model::{ABSENT, Columns, Field, Micros, Session, Span, present};
use crate::store::{InstrumentFact, SeriesInfo, Shelf};
use crate::{Error, Result};

/// How far back a price before a day is looked for: weekends, holidays and halts may lie between.
const REACH: Micros = 30 * DAY;

/// The actions of a series, and what there is to say of them.
pub(super) struct FoundActions {
    /// In order of time.
    pub actions: Vec<Action>,
    pub notes: Vec<String>,
    pub doubts: Vec<String>,
}

/// A fact that was understood.
struct ToldAction {
    day: i64,
    kind: ActionKind,
    said: String,
    /// New shares for an old one, or money for a share.
    value: f64,
}

/// The splits and dividends that lie within the rows of a series, with their factors.
///
/// # Errors
/// Where no fact says any, or several sources do.
pub(super) fn find_actions(
    shelf: &Shelf,
    source: &SeriesInfo,
    session: &Session,
    which: Actions,
) -> Result<FoundActions> {
    let instrument = &source.name.instrument;
    let facts = of_one_source(shelf.actions(instrument)?, source)?;
    let (mut told, unread) = read_facts(&facts, session, which);
    if told.is_empty() {
        return Err(Error::input(format!(
            "The shelf knows no {} of {instrument}; take a table of them in with stavel intake (stavel shelf --facts {instrument} shows what is known).",
            if which == Actions::Splits { "splits" } else { "splits or dividends" }
        )));
    }
    told.sort_by_key(|action| action.day);
    let mut found = FoundActions { actions: Vec::new(), notes: Vec::new(), doubts: Vec::new() };
    if unread > 0 {
        found.doubts.push(format!(
            "{unread} dated facts of {instrument} say a split or dividend that cannot be read"
        ));
    }
    let day_of = |time: Micros| session.clock.day_of(time);
    let (first, last) = (day_of(source.edition.first), day_of(source.edition.last));
    let (mut early, mut late) = (0, 0);
    for action in told {
        match action.day {
            day if day <= first => early += 1,
            day if day > last => late += 1,
            _ => found.add(shelf, source, session, &action)?,
        }
    }
    for (count, what) in
        [(early, "before the rows begin"), (late, "after the last row: not adjusted for yet")]
    {
        if count > 0 {
            found.notes.push(format!("{count} of the facts lie {what}"));
        }
    }
    Ok(found)
}

/// The facts of the series' own source; where it has none, those of the only one that has.
fn of_one_source(mut facts: Vec<InstrumentFact>, source: &SeriesInfo) -> Result<Vec<InstrumentFact>> {
    let own = &source.name.source;
    if facts.iter().any(|fact| fact.source == *own) {
        facts.retain(|fact| fact.source == *own);
        return Ok(facts);
    }
    let sources: BTreeSet<&str> = facts.iter().map(|fact| fact.source.as_str()).collect();
    if sources.len() > 1 {
        return Err(Error::undecided(format!(
            "{} tell dated facts of {}, and {own} does not; take those that count in as {own}'s.",
            sources.into_iter().collect::<Vec<_>>().join(" and "),
            source.name.instrument
        )));
    }
    Ok(facts)
}

/// The splits and dividends among facts, each once; and how many could not be read.
fn read_facts(facts: &[InstrumentFact], session: &Session, which: Actions) -> (Vec<ToldAction>, u64) {
    let (mut told, mut unread): (Vec<ToldAction>, u64) = (Vec::new(), 0);
    for fact in facts {
        // A date without a time is midnight on no clock; a moment is of the session day it lies in.
        let day = if fact.time % DAY == 0 { fact.time / DAY } else { session.clock.day_of(fact.time) };
        for (name, said) in &fact.values {
            let name = name.to_lowercase();
            let is_any = |words: &[&str]| words.iter().any(|word| name.contains(word));
            let (kind, value) = if names_splits(&name) {
                (ActionKind::Split, split_in(said))
            } else if names_dividends(&name)
                || fact.kind == "dividend" && is_any(&["amount", "cash", "value"])
            {
                (ActionKind::Dividend, money_in(said))
            } else {
                continue;
            };
            if kind == ActionKind::Dividend && which == Actions::Splits {
                continue;
            }
            // Tables of prices have a 0 or a 1 on days without any.
            let is_nothing = |value: f64| value == 0.0 || kind == ActionKind::Split && value == 1.0;
            match value.filter(|value| *value >= 0.0 && value.is_finite()) {
                Some(value) if is_nothing(value) => {}
                Some(value) if told.iter().any(|t| t.day == day && t.kind == kind && t.value == value) => {}
                Some(value) => told.push(ToldAction { day, kind, said: said.trim().to_owned(), value }),
                None => unread += 1,
            }
        }
    }
    (told, unread)
}

/// New shares for an old one: `2:1`, `3/2`, `2-for-1`, `2 for 1`, `1:10`, `2.0`.
fn split_in(text: &str) -> Option<f64> {
    let text = text.trim().to_lowercase().replace("-for-", ":").replace(" for ", ":");
    let parts: Vec<&str> = text.split([':', '/']).map(str::trim).collect();
    let number = |text: &str| text.parse::<f64>().ok().filter(|n| *n > 0.0 && n.is_finite());
    match parts.as_slice() {
        [one] => one.parse::<f64>().ok(),
        [new, old] => Some(number(new)? / number(old)?),
        _ => None,
    }
}

/// An amount of money, with or without its currency: `1.50`, `NOK 1.50`.
fn money_in(text: &str) -> Option<f64> {
    let plain =
        text.trim().trim_matches(|c: char| c.is_alphabetic() || c.is_whitespace() || "$€£¥".contains(c));
    plain.parse().ok()
}

impl FoundActions {
    fn add(
        &mut self,
        shelf: &Shelf,
        source: &SeriesInfo,
        session: &Session,
        told: &ToldAction,
    ) -> Result<()> {
        let begin = session.day_span(told.day).from;
        let before = last_price(shelf, source, Span::new(begin.saturating_sub(REACH), begin))?;
        let after = first_price(shelf, source, Span::new(begin, begin.saturating_add(REACH)))?;
        let on = date(told.day);
        let factor = match told.kind {
            ActionKind::Split => {
                self.doubts.extend(before.zip(after).and_then(|(a, b)| jump_doubt(told, a, b)));
                1.0 / told.value
            }
            ActionKind::Dividend => match before {
                Some(close) if told.value < close => 1.0 - told.value / close,
                Some(close) => {
                    let what = format!(
                        "a dividend of {} on {on} is not below the close before it, {close}: left away",
                        told.said
                    );
                    self.doubts.push(what);
                    return Ok(());
                }
                None => {
                    self.doubts.push(format!("no price is known before the dividend of {on}: left away"));
                    return Ok(());
                }
            },
        };
        let is_split = told.kind == ActionKind::Split;
        self.actions.push(Action {
            day: told.day,
            kind: told.kind,
            said: told.said.clone(),
            price: factor,
            volume: if is_split { told.value } else { 1.0 },
        });
        Ok(())
    }
}

/// What prices around a split say against it: they should fall by as much as shares became more.
fn jump_doubt(told: &ToldAction, before: f64, after: f64) -> Option<String> {
    if before <= 0.0 || after <= 0.0 {
        return None;
    }
    let (seen, said) = ((before / after).ln(), told.value.ln());
    let (is_so, is_none, is_turned) = ((seen - said).abs(), seen.abs(), (seen + said).abs());
    let on = date(told.day);
    if is_none < is_so && is_none <= is_turned {
        Some(format!(
            "the prices do not jump at the split {} of {on} ({before} before, {after} after): the source may have adjusted them already",
            told.said
        ))
    } else if is_turned < is_so {
        Some(format!(
            "the prices jump the other way at the split {} of {on} ({before} before, {after} after): is it new shares for old?",
            told.said
        ))
    } else {
        None
    }
}

fn price_field(source: &SeriesInfo, opening: bool) -> Option<Field> {
    let first = if opening { Field::Open } else { Field::Close };
    [first, Field::Close, Field::Bid, Field::Last].into_iter().find(|f| source.edition.fields.contains(f))
}

fn last_price(shelf: &Shelf, source: &SeriesInfo, span: Span) -> Result<Option<f64>> {
    let Some(field) = price_field(source, false) else { return Ok(None) };
    let mut last = None;
    for rows in shelf.scan(&source.edition, span, Some(&[field]))? {
        last = rows?.column(field).iter().rev().copied().find_map(present).or(last);
    }
    Ok(last.map(|points| as_float(points, source.edition.scale.price)))
}

fn first_price(shelf: &Shelf, source: &SeriesInfo, span: Span) -> Result<Option<f64>> {
    let Some(field) = price_field(source, true) else { return Ok(None) };
    for rows in shelf.scan(&source.edition, span, Some(&[field]))? {
        if let Some(points) = rows?.column(field).iter().copied().find_map(present) {
            return Ok(Some(as_float(points, source.edition.scale.price)));
        }
    }
    Ok(None)
}

/// Factors by time, put on rows.
pub(super) struct ActionLevels {
    /// The moment at which each action begins, in order, with its factors of prices and volumes.
    steps: Vec<(Micros, f64, f64)>,
}

impl ActionLevels {
    pub fn of(actions: &[Action], session: &Session) -> ActionLevels {
        let step = |action: &Action| (session.day_span(action.day).from, action.price, action.volume);
        ActionLevels { steps: actions.iter().map(step).collect() }
    }

    /// The factors of prices and volumes before the step at a place.
    fn before(&self, place: usize) -> (f64, f64) {
        let from = &self.steps[place..];
        (from.iter().map(|s| s.1).product(), from.iter().map(|s| s.2).product())
    }

    /// Decimals that the earliest prices need beyond their own, so that they keep their digits.
    pub fn more_decimals(&self) -> u8 {
        let least = (0..self.steps.len()).map(|place| self.before(place).0).fold(1.0, f64::min);
        (-least.log10() - 1e-9).ceil().clamp(0.0, 6.0) as u8
    }

    pub fn apply(&self, rows: &Columns) -> Columns {
        let mut out = Columns::empty(&rows.fields, rows.scale);
        let mut done = 0;
        for (place, step) in self.steps.iter().enumerate() {
            let end = rows.time.partition_point(|t| *t < step.0);
            if end > done {
                let mut part = rows.rows(done..end);
                let (price, volume) = self.before(place);
                LevelChange::Times(price).apply(&mut part);
                times_volumes(&mut part, volume);
                out.append(&part);
                done = end;
            }
        }
        out.append_range(rows, done..rows.len());
        out
    }

    /// Holds adjusted closes against those that the source itself has.
    ///
    /// # Errors
    /// Where rows cannot be read.
    pub fn compare(&self, shelf: &Shelf, source: &SeriesInfo) -> Result<Option<AdjustedComparison>> {
        let fields = [Field::Close, Field::AdjustedClose];
        if !fields.iter().all(|f| source.edition.fields.contains(f)) {
            return Ok(None);
        }
        let mut both: Vec<(Micros, i64, i64)> = Vec::new();
        let mut closes = Columns::empty(&[Field::Close], source.edition.scale);
        for rows in shelf.scan(&source.edition, Span::ALL, Some(&fields))? {
            let rows = rows?;
            let pairs = rows.column(Field::Close).iter().zip(rows.column(Field::AdjustedClose));
            for (time, (close, adjusted)) in rows.time.iter().zip(pairs) {
                if *close != ABSENT && *adjusted != ABSENT {
                    both.push((*time, *close, *adjusted));
                    closes.data[0].push(*close);
                }
            }
        }
        let Some((_, close, adjusted)) = both.last() else { return Ok(None) };
        // What the source adjusts for after its last row is on all of them alike.
        let later = *adjusted as f64 / *close as f64;
        let digit = unit(source.edition.scale.price - closes.decimals_needed(0)) as f64;
        let mut told = AdjustedComparison { rows: both.len() as u64, later, apart: 0, last: None };
        for (time, close, adjusted) in &both {
            let place = self.steps.partition_point(|step| step.0 <= *time);
            let own = *close as f64 * self.before(place).0 * later;
            if (own - *adjusted as f64).abs() > digit {
                told.apart += 1;
                told.last = Some((*time, own.round() as i64, *adjusted));
            }
        }
        Ok(Some(told))
    }
}

fn times_volumes(rows: &mut Columns, factor: f64) {
    if factor == 1.0 {
        return;
    }
    for (_, column) in rows.fields.iter().zip(&mut rows.data).filter(|(f, _)| f.is_volume()) {
        let there = column.iter_mut().filter(|v| **v != ABSENT);
        there.for_each(|v| *v = (*v as f64 * factor).round() as i64);
    }
}

/// How closes that were adjusted lie to the source's own adjusted closes.
pub(super) struct AdjustedComparison {
    /// Rows that have both.
    pub rows: u64,
    /// What the source's adjusted close is of the close at the last row; 1 where it adjusts for nothing later.
    pub later: f64,
    /// Rows in which they are more than the last digit of the closes apart.
    pub apart: u64,
    /// The last of these: its time, and both in points of the source.
    pub last: Option<(Micros, i64, i64)>,
}

impl AdjustedComparison {
    pub fn tell(&self, source: &SeriesInfo, notes: &mut Vec<String>, doubts: &mut Vec<String>) {
        if (self.later - 1.0).abs() > 1e-6 {
            notes.push(format!(
                "the source's adjusted closes are {:.6} of the closes at the last row: it adjusts for something after it",
                self.later
            ));
        }
        let price = |points: i64| scaled(points, source.edition.scale.price);
        match self.last {
            None => {
                notes.push(format!("{} adjusted closes are those of the source, to a last digit", self.rows));
            }
            Some((time, own, theirs)) => doubts.push(format!(
                "{} of {} adjusted closes are not those of the source, the last at {}: {} here, {} there",
                self.apart,
                self.rows,
                wall(time),
                price(own),
                price(theirs)
            )),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn splits_and_money_are_read_as_people_write_them() {
        for (text, value) in
            [("2:1", 2.0), ("3/2", 1.5), ("2-for-1", 2.0), ("1 for 10", 0.1), ("2.0", 2.0), ("0.25", 0.25)]
        {
            assert_eq!(split_in(text), Some(value), "{text}");
        }
        for text in ["two", "2:0", "", "1:2:3", ":"] {
            assert_eq!(split_in(text), None, "{text}");
        }
        assert_eq!(
            (money_in("NOK 1.50"), money_in("0.25 kr"), money_in("soon")),
            (Some(1.5), Some(0.25), None)
        );
    }

    #[test]
    fn a_split_that_prices_do_not_show_is_doubted() {
        let told = |value| ToldAction { day: 19_800, kind: ActionKind::Split, said: "2:1".into(), value };
        assert_eq!(jump_doubt(&told(2.0), 100.0, 51.0), None);
        assert!(jump_doubt(&told(2.0), 50.0, 51.0).unwrap().contains("adjusted them already"));
        assert!(jump_doubt(&told(0.5), 100.0, 51.0).unwrap().contains("the other way"));
        assert_eq!(jump_doubt(&told(0.1), 1.0, 10.4), None);
    }
}
