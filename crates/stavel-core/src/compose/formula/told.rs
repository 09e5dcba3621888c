//! What is told of a formula's rows.

use super::plan::FormulaPlan;
use super::request::FormulaRequest;
use crate::formula::LegPrice;
use crate::model::provenance::LegsLeft;
use crate::model::time::length_in_words;
use crate::model::{Decision, Instrument, Standing};
use crate::store::SeriesInfo;

impl FormulaPlan {
    /// What made no row, in a few words each.
    pub fn left_in_words(&self, left: &LegsLeft) -> Vec<String> {
        let mut told = Vec::new();
        let is_ticks = self.legs.frame.is_ticks();
        let mut tell = |count: u64, what: String| {
            if count > 0 {
                told.push(format!("{count} {what}"));
            }
        };
        for (leg, series) in self.legs.series.iter().enumerate() {
            let name = &series.name;
            tell(left.outside[leg], format!("before it begins or after it ends ({name})"));
            let missing = if is_ticks { "before it has both sides" } else { "where it has no bar" };
            tell(left.missing[leg], format!("{missing} ({name})"));
            tell(
                left.stale[leg],
                format!("with a price older than {} ({name})", length_in_words(self.stale)),
            );
            tell(left.one_sided[leg], format!("without a known spread ({name})"));
        }
        tell(left.by_zero, "divided by 0".into());
        tell(left.no_number, "without such a number".into());
        tell(left.waiting, "before a window was full".into());
        told
    }

    pub fn doubts(&self, instrument: &Instrument, series: &SeriesInfo, left: &LegsLeft) -> Vec<String> {
        let mut doubts: Vec<String> =
            self.unit.doubts.iter().map(|doubt| format!("the formula, {doubt}")).collect();
        for (leg, info) in self.legs.series.iter().enumerate() {
            let is_open = self.formula.prices_of(leg).any(|price| price == LegPrice::Both);
            if self.is_two_sided && is_open && !self.two_sided[leg] {
                doubts.push(format!(
                    "{} has one price alone, which stands for its bid and its ask: the spread is too narrow by its",
                    info.name
                ));
            }
        }
        for (count, what) in [
            (left.by_zero, "divided by 0 and make no row"),
            (left.no_number, "without such a number and make no row"),
        ] {
            if count > 0 {
                doubts.push(format!("{count} moments are {what}"));
            }
        }
        // Some moments are always lost; where many are, the legs do not go together. That one begins later is another matter.
        let by_leg = |all: &[u64]| all.iter().sum::<u64>();
        let lost = by_leg(&left.missing) + by_leg(&left.stale) + by_leg(&left.one_sided);
        if lost * 10 > series.edition.rows + lost {
            doubts.push(format!(
                "{lost} of {} moments make no row: {}",
                series.edition.rows + lost,
                self.left_in_words(&LegsLeft { outside: vec![0; left.outside.len()], ..left.clone() })
                    .join(", ")
            ));
        }
        if let Some((base, quote)) = self.unit.unit.as_ref().and_then(|unit| unit.as_pair())
            && (instrument.sheet.base.as_str(), instrument.sheet.quote.as_str()) != (base, quote)
        {
            doubts.push(format!(
                "the formula gives {quote} for one {base}, and the sheet of {} says {} for one {}",
                instrument.name, instrument.sheet.quote, instrument.sheet.base
            ));
        }
        doubts
    }

    pub fn assumed(
        &self,
        request: &FormulaRequest,
        instrument: &Instrument,
        series: &SeriesInfo,
    ) -> Vec<Decision> {
        let mut assumed = Vec::new();
        let mut assume = |what: &str, value: String, why: String| {
            assumed.push(Decision::new(what, value, Standing::Assumed, why));
        };
        if request.stale.is_none() && self.legs.frame.is_ticks() && self.legs.series.len() > 1 {
            let why = "nobody said how long a price of a leg holds; say --stale";
            assume("stale", length_in_words(self.stale), why.into());
        }
        if self.legs.is_frame_chosen {
            assume(
                "frame",
                self.legs.frame.to_string(),
                "the shortest that all legs have; say --frame".into(),
            );
        }
        if self.legs.is_source_chosen {
            let source = series.name.source.clone();
            assume("source", source, "the only one that all legs have; say --source".into());
        }
        if !instrument.own.said.contains_key("decimals") {
            let why = "as fine as a point of the legs; say --set decimals=N";
            assume("decimals", series.edition.scale.price.to_string(), why.into());
        }
        if self.legs.frame.is_bars() && self.legs.series.len() > 1 {
            let why = "when the legs had their highs and lows within a bar is not known; ticks or shorter bars tell more";
            assume("high and low", "of open and close".into(), why.into());
        }
        if self.legs.frame.is_bars() && !self.is_two_sided && !self.two_sided.iter().any(|two| *two) {
            let is_open = |leg: usize| self.formula.prices_of(leg).any(|price| price == LegPrice::Both);
            if (0..self.legs.series.len()).any(is_open) {
                assume("side", "one price".into(), "the legs do not know their spreads".into());
            }
        }
        assumed
    }
}
