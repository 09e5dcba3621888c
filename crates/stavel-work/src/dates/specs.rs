//! Specs and costs as a broker says them, in the spec sheet: each value with who says it and since when. A later change is a
//! new dated value, and the earlier ones stay known.

use std::collections::BTreeMap;

use stavel_core::Result;
use stavel_core::model::time::{DAY, date, parse_moment, wall};
use stavel_core::model::{Instrument, Micros, OwnValues};
use stavel_core::store::{FactFilter, InstrumentFact, Shelf, fact_kind};
use stavel_feed::client::ToldSpecs;

use crate::report::StepReport;

/// Values that mean something only together: where a person has said one of them, the others are not taken from a broker.
const TOGETHER: [&[&str]; 2] = [&["swap_long", "swap_short", "swap_kind"], &["tick_size", "tick_value"]];

/// The value of a dated fact with the usual spread, which is none of a sheet.
const QUOTED_SPREAD: &str = "quoted_spread";

/// A usual spread as a broker says it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QuotedSpread {
    pub source: String,
    /// Since when, UTC.
    pub since: Micros,
    /// In points.
    pub points: String,
}

/// A value of a sheet as somebody said it at some time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ToldValue {
    pub source: String,
    /// Since when, UTC.
    pub since: Micros,
    pub value: String,
}

/// What a broker says of an instrument on its way into the sheet.
struct Bringing<'b> {
    instrument: &'b Instrument,
    source: &'b str,
    before: BTreeMap<String, Vec<ToldValue>>,
    own: OwnValues,
    fact: InstrumentFact,
    report: &'b mut StepReport,
}

/// Brings what a broker says of an instrument into its sheet.
///
/// # Errors
/// Where the catalog cannot be written.
pub fn bring_specs(
    shelf: &mut Shelf,
    name: &str,
    source: &str,
    told: &ToldSpecs,
    now: Micros,
    report: &mut StepReport,
) -> Result<()> {
    let instrument = shelf.instrument(name)?;
    let since = told.since.as_deref().and_then(|text| parse_moment(text).ok());
    let fact = InstrumentFact {
        source: source.to_owned(),
        // Who does not say since when means from the day it was asked on.
        time: since.map_or_else(|| now.div_euclid(DAY) * DAY, |(since, _)| since),
        kind: fact_kind::SHEET.into(),
        values: BTreeMap::new(),
    };
    let (before, own) = (told_values(shelf, name)?, instrument.own.clone());
    let mut bringing = Bringing { instrument: &instrument, source, before, own, fact, report };
    if told.since.is_some() && since.is_none() {
        bringing.doubt(&format!("{source} does not say since when in a way that can be read"));
    }
    for (key, value) in &told.values {
        bringing.value(key, value);
    }
    if let Some(points) = &told.quoted_spread {
        bringing.quoted_spread(points);
    }
    let Bringing { own, fact, .. } = bringing;
    if !fact.values.is_empty() {
        shelf.put_facts(name, &[fact])?;
    }
    if own != instrument.own {
        shelf.put_instrument(name, &own)?;
    }
    Ok(())
}

impl Bringing<'_> {
    fn doubt(&mut self, what: &str) {
        self.report.wants_person = true;
        self.report.lines.push(format!("  ▲ {}: {what}", self.instrument.name));
    }

    fn tell(&mut self, what: &str) {
        self.report.lines.push(format!("  {}: {what}", self.instrument.name));
    }

    /// True where the source said this before, and nothing else since.
    fn is_said(&self, key: &str, value: &str) -> bool {
        let of_source = |told: &&ToldValue| told.source == self.source;
        let last = self.before.get(key).and_then(|all| all.iter().rev().find(of_source));
        last.is_some_and(|told| told.value == value)
    }

    fn value(&mut self, key: &str, value: &str) {
        let (name, source) = (&self.instrument.name, self.source);
        if let Err(why) = is_sound(self.instrument, key, value) {
            return self.doubt(&format!("{source} says {key} {value}, which cannot be: {why}"));
        }
        if self.is_said(key, value) {
            return;
        }
        self.fact.values.insert(key.to_owned(), value.to_owned());
        let settle = format!("stavel compose {name} --set {key}=… settles it");
        if let Some(said) = self.said_beside(key).filter(|_| !self.own.said.contains_key(key)) {
            let words = format!("{source} says {key} {value}; {said} was said, which goes with it");
            return self.doubt(&format!("{words}, so it is not taken; {settle}"));
        }
        let (told, standing) = (self.before.get(key), self.own.found.get(key));
        // What another one said, or the rows themselves show, is not taken away by this one.
        if let Some(other) = said_by_another(told, standing, source).filter(|other| other.value != value) {
            let words = format!("{source} says {key} {value}, {} says {}", other.source, other.value);
            return self.doubt(&format!("{words}, which stays; {settle}"));
        }
        if let Some(found) = standing.filter(|found| *found != value && !is_told(told, found)) {
            let words = format!("{source} says {key} {value}, its rows show {found}");
            return self.doubt(&format!("{words}, which stays; {settle}"));
        }
        let was = self.own.found.insert(key.to_owned(), value.to_owned());
        let from = was.filter(|was| was != value).map_or(String::new(), |was| format!(" (was {was})"));
        self.tell(&format!("{key} {value}{from}, as {source} says since {}", day_or_moment(self.fact.time)));
        if let Some(said) = self.own.said.get(key).filter(|said| *said != value).cloned() {
            self.doubt(&format!("{key} was said to be {said}, and stays so; {source} says {value}"));
        }
    }

    /// A value that a person has said and that means something only together with this one.
    fn said_beside(&self, key: &str) -> Option<&'static str> {
        let group = TOGETHER.iter().find(|group| group.contains(&key))?;
        group.iter().copied().find(|other| *other != key && self.own.said.contains_key(*other))
    }

    fn quoted_spread(&mut self, points: &str) {
        if self.is_said(QUOTED_SPREAD, points) {
            return;
        }
        let source = self.source;
        if points.parse::<f64>().is_ok_and(|number| number >= 0.0) {
            self.fact.values.insert(QUOTED_SPREAD.into(), points.to_owned());
            self.tell(&format!("usual spread {points} points, as {source} says"));
        } else {
            self.doubt(&format!("{source} says a usual spread of {points}, which is none"));
        }
    }
}

fn is_told(told: Option<&Vec<ToldValue>>, value: &str) -> bool {
    told.is_some_and(|told| told.iter().any(|told| told.value == value))
}

/// Who said the value that stands in a sheet, where it is not this source.
fn said_by_another<'t>(
    told: Option<&'t Vec<ToldValue>>,
    standing: Option<&String>,
    source: &str,
) -> Option<&'t ToldValue> {
    let last_of = |source: &str| told?.iter().rev().find(|told| told.source == source);
    let is_standing = |told: &&ToldValue| Some(&told.value) == standing;
    if last_of(source).is_some_and(|own| is_standing(&own)) {
        return None;
    }
    told?.iter().rev().find(|other| other.source != source && is_standing(other))
}

fn day_or_moment(time: Micros) -> String {
    if time % DAY == 0 { date(time.div_euclid(DAY)) } else { wall(time) }
}

/// Why a value cannot be one of the sheet.
fn is_sound(instrument: &Instrument, key: &str, value: &str) -> Result<()> {
    let found = [(key.to_owned(), value.to_owned())].into();
    Instrument::resolve(&instrument.name, None, OwnValues { found, ..OwnValues::default() }).map(drop)
}

/// What was said of each value of a sheet, in order of time.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn told_values(shelf: &Shelf, name: &str) -> Result<BTreeMap<String, Vec<ToldValue>>> {
    let mut out: BTreeMap<String, Vec<ToldValue>> = BTreeMap::new();
    for fact in
        shelf.facts(name)?.into_iter().filter(|fact| FactFilter::of_kind(fact_kind::SHEET).holds(fact))
    {
        for (key, value) in fact.values {
            let told = ToldValue { source: fact.source.clone(), since: fact.time, value };
            out.entry(key).or_default().push(told);
        }
    }
    Ok(out)
}

/// The usual spreads of an instrument as brokers say them now.
///
/// # Errors
/// Where the catalog cannot be read.
pub fn quoted_spreads(shelf: &Shelf, name: &str) -> Result<Vec<QuotedSpread>> {
    let mut told = told_values(shelf, name)?;
    let mut latest: BTreeMap<String, QuotedSpread> = BTreeMap::new();
    for ToldValue { source, since, value } in told.remove(QUOTED_SPREAD).unwrap_or_default() {
        latest.insert(source.clone(), QuotedSpread { source, since, points: value });
    }
    Ok(latest.into_values().collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::Value;

    fn told(since: &str, values: &[(&str, &str)], spread: Option<&str>) -> ToldSpecs {
        ToldSpecs {
            since: Some(since.into()),
            quoted_spread: spread.map(str::to_owned),
            values: values.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect(),
        }
    }

    #[test]
    fn what_a_broker_says_stands_in_the_sheet_with_its_day_and_a_change_is_a_new_value() {
        let dir = tempfile::tempdir().unwrap();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        let said = [("commission".to_owned(), "2.00".to_owned())].into();
        let found = [("decimals".to_owned(), "5".to_owned())].into();
        shelf.put_instrument("NOKSEK", &OwnValues { said, found, ..OwnValues::default() }).unwrap();
        let mut bring = |source: &str, specs: &ToldSpecs| {
            let mut report = StepReport::new(Value::Null, Vec::new());
            bring_specs(&mut shelf, "NOKSEK", source, specs, 0, &mut report).unwrap();
            (report.lines.join("\n"), report.wants_person)
        };
        let first = told("2024-01-01", &[("swap_long", "-3.1"), ("margin", "much")], Some("18"));
        let (lines, wants_person) = bring("tarn", &first);
        assert!(lines.contains("swap_long -3.1, as tarn says since 2024-01-01") && wants_person, "{lines}");
        assert!(lines.contains("says margin much, which cannot be"), "{lines}");
        let (lines, _) =
            bring("tarn", &told("2024-03-01", &[("swap_long", "-3.4"), ("commission", "3.50")], Some("18")));
        assert!(
            lines.contains("swap_long -3.4 (was -3.1)") && lines.contains("commission was said to be 2.00"),
            "{lines}"
        );
        // Said again, nothing is new; said otherwise by another one, the first stays.
        assert_eq!(bring("tarn", &told("2024-03-01", &[("swap_long", "-3.4")], Some("18"))).0, "");
        assert!(
            bring("quill", &told("2024-03-02", &[("swap_long", "-9")], None))
                .0
                .contains("tarn says -3.4, which stays")
        );
        let (lines, wants_person) = bring("tarn", &told("2024-03-03", &[("decimals", "3")], None));
        assert!(lines.contains("its rows show 5, which stays") && wants_person, "{lines}");
        let sheet = shelf.instrument("NOKSEK").unwrap();
        assert_eq!(sheet.values["decimals"], "5");
        assert_eq!(
            (sheet.values["swap_long"].as_str(), sheet.values["commission"].as_str()),
            ("-3.4", "2.00")
        );
        let values: Vec<String> =
            told_values(&shelf, "NOKSEK").unwrap()["swap_long"].iter().map(|t| t.value.clone()).collect();
        assert_eq!(values, ["-3.1", "-3.4", "-9"]);
        // A swap that a person has said in money is no number of points because a broker tells its own so.
        let said = [("swap_long".to_owned(), "-21.5".to_owned())].into();
        shelf.put_instrument("NZDSEK", &OwnValues { said, ..OwnValues::default() }).unwrap();
        let mut report = StepReport::new(Value::Null, Vec::new());
        let points = told("2024-03-01", &[("swap_kind", "points"), ("swap_short", "-3")], None);
        bring_specs(&mut shelf, "NZDSEK", "tarn", &points, 0, &mut report).unwrap();
        assert!(report.wants_person && report.lines[0].contains("swap_long was said, which goes with it"));
        let sheet = shelf.instrument("NZDSEK").unwrap();
        assert_eq!((sheet.values["swap_kind"].as_str(), sheet.values["swap_short"].as_str()), ("money", "0"));
        let quoted = quoted_spreads(&shelf, "NOKSEK").unwrap();
        assert_eq!(
            quoted.iter().map(|q| (q.source.as_str(), q.points.as_str())).collect::<Vec<_>>(),
            [("tarn", "18")]
        );
    }
}
