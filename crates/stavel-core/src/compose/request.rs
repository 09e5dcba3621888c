//! What is asked of compose.

use std::collections::BTreeMap;

use crate::model::SeriesName;
use crate::model::variation::Variation;

/// The source of what is made of several sources.
pub(super) const MIXED: &str = "mixed";

/// An instrument to make or change.
#[derive(Debug, Clone, Default)]
pub struct ComposeRequest {
    /// The instrument's name.
    pub name: String,
    /// The instrument it is like; may be left out to change one that is there.
    pub like: Option<String>,
    /// Its own values; they are added to those it has.
    pub own: BTreeMap<String, String>,
    /// Keys whose own values are taken away: what the instrument it is like has counts again, or what was found.
    pub reset: Vec<String>,
    /// The series its rows come from, if it is to have rows.
    pub from: Option<SeriesName>,
    /// How those rows differ from its own.
    pub variation: Variation,
}

impl ComposeRequest {
    /// The name of the variant's series: bars of another side say so in it.
    pub fn target(&self, source: &SeriesName) -> SeriesName {
        let side = self.variation.side.filter(|_| source.frame.is_bars()).unwrap_or(source.side);
        SeriesName { instrument: self.name.clone(), built: false, side, ..source.clone() }
    }
}
