//! What the compose lens knows of an instrument's keys, its rows and its single days.

use stavel_core::model::instrument::{KEYS, Key, applies};
use stavel_core::model::session::Holiday;
use stavel_core::model::{Instrument, Made, SeriesName};
use stavel_core::store::SeriesInfo;
use stavel_work::{ComposeStep, SheetValues, Step, chain_in_words, variation_in_words};

use crate::effect::{Effect, Effects, start};
use crate::view::View;

/// The keys that a thing of its kind has, and those that were said nevertheless.
pub fn keys(instrument: &Instrument) -> Vec<&'static Key> {
    let is_shown =
        |key: &&Key| applies(key.name, instrument.sheet.kind) || instrument.own.said.contains_key(key.name);
    KEYS.iter().filter(is_shown).collect()
}

/// The rows that hours are counted on: its own, else those of the instrument it is like.
pub fn rows_for<'a>(instrument: &Instrument, view: &View<'a>) -> Option<&'a SeriesInfo> {
    let own = finest(view, &instrument.name);
    own.or_else(|| instrument.own.like.as_deref().and_then(|like| finest(view, like)))
}

/// The bars of an instrument that there are most of.
fn finest<'a>(view: &View<'a>, instrument: &str) -> Option<&'a SeriesInfo> {
    let snapshot = view.snapshot;
    let name = &snapshot.instrument(instrument)?.name;
    let roots = snapshot.roots_of(name).filter(|s| !s.is_afloat() && s.name.frame.is_bars());
    roots.max_by_key(|s| s.edition.rows)
}

/// What the rows of an instrument were composed of, and how they differ from it in words.
pub fn composed_of(instrument: &Instrument, view: &View<'_>) -> Option<(String, Vec<String>)> {
    view.snapshot.series_of(&instrument.name).find_map(|s| match &s.edition.provenance.made {
        Made::Compose(made) => {
            let base = s.edition.provenance.parents().next()?.1.clone();
            Some((base.to_string(), variation_in_words(&made.variation)))
        }
        Made::Chain(made) => {
            let base = made.of.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            Some((base, vec![chain_in_words(made), ", and . move the chosen roll".to_owned()]))
        }
        Made::Formula(made) => {
            let base = s.edition.provenance.parents().next()?.1.clone();
            Some((base.to_string(), vec![format!("by the formula {}", made.told)]))
        }
        _ => None,
    })
}

/// The series that the rows of a variant come from.
pub fn base_of(instrument: &Instrument, view: &View<'_>) -> Option<SeriesName> {
    view.snapshot.series_of(&instrument.name).find_map(|s| match &s.edition.provenance.made {
        Made::Compose(_) => Some(s.edition.provenance.parents().next()?.1.clone()),
        _ => None,
    })
}

/// The formula that an instrument was made by, as a line to be changed; else the beginning of one.
pub fn formula_of(instrument: &Instrument, view: &View<'_>) -> String {
    let made = view.snapshot.series_of(&instrument.name).find_map(|s| match &s.edition.provenance.made {
        Made::Formula(made) => Some(format!("{} = {}", s.name, made.text)),
        _ => None,
    });
    made.unwrap_or_default()
}

/// Builds rows with the changes that were typed: `days=mon-thu shift=1h inverse`.
pub fn varied(name: &str, from: Option<SeriesName>, text: &str) -> Effects {
    match ComposeStep::typed(name, from, text) {
        Ok(step) => start(Step::Compose(Box::new(step))),
        Err(error) => vec![Effect::Complain(error)],
    }
}

/// Says the hours of a single day; `open` gives it those of the week again.
pub fn with_day(instrument: &Instrument, text: &str) -> Effects {
    let typed = text.trim();
    let plain = typed.strip_suffix("closed").or(typed.strip_suffix("open")).unwrap_or(typed).trim();
    let day = match plain.parse::<Holiday>() {
        Ok(holiday) => holiday.day,
        Err(error) => return vec![Effect::Complain(error)],
    };
    let before = instrument.values.get("holidays").map_or("", String::as_str);
    let is_other = |d: &&str| d.parse::<Holiday>().is_ok_and(|h| h.day != day);
    let mut days: Vec<&str> =
        before.split(',').map(str::trim).filter(|d| !d.is_empty()).filter(is_other).collect();
    if !typed.ends_with("open") {
        days.push(plain);
    }
    days.sort_unstable();
    let set = SheetValues::one("holidays", &days.join(", "));
    start(Step::Compose(Box::new(ComposeStep { name: instrument.name.clone(), set, ..Default::default() })))
}
