//! What a pattern of contracts names, and what is known of an instrument on dates.

use super::{SeriesInfo, Shelf};
use crate::Result;
use crate::model::contract_month::ContractName;
use crate::model::{SeriesPattern, Side};

impl Shelf {
    /// The contracts that a pattern names, by name: ticks and bars of instruments whose month is told, by their names or
    /// their sheets. Where a source has bars of its own and some that were built, its own.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn contracts(&self, pattern: &SeriesPattern) -> Result<Vec<SeriesInfo>> {
        let mut found: Vec<SeriesInfo> = Vec::new();
        for info in self.series()? {
            let (name, frame) = (&info.name, info.name.frame);
            let is_usable = frame.is_ticks() || frame.is_bars() && !frame.is_counted();
            if !is_usable || name.side != Side::Bid || !pattern.matches(&name.with_built(false)) {
                continue;
            }
            let is_told = ContractName::read(&name.instrument).is_some()
                || self.instrument(&name.instrument)?.sheet.month.is_some();
            if is_told {
                found.push(info);
            }
        }
        found.sort_by(|a, b| {
            (a.name.with_built(false), a.name.built).cmp(&(b.name.with_built(false), b.name.built))
        });
        found.dedup_by(|a, b| a.name.with_built(false) == b.name.with_built(false));
        Ok(found)
    }

    /// A fingerprint of the splits and dividends of an instrument: BLAKE3, in hexadecimal.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn facts_hash(&self, instrument: &str) -> Result<String> {
        let text = serde_json::to_vec(&self.actions(instrument)?).unwrap_or_default();
        Ok(blake3::hash(&text).to_hex().to_string())
    }
}
