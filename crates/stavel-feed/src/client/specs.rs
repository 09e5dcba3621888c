//! Specs and costs of instruments, as a broker says them.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;
use stavel_core::model::instrument::KEYS;

use super::document::{at, scalar};

/// Where a broker says the specs and costs of an instrument.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FeedSpecs {
    /// The path of the document of an instrument, with `{instrument}` in it.
    pub path: String,
    /// Where in it stands since which day or moment they hold; else they hold from when they are asked for.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub since: Option<String>,
    /// Where the usual spread stands, in points: it is told beside the measured one, and is no fixed spread.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub quoted_spread: Option<String>,
    /// Where each value of the spec sheet stands, by its key.
    pub values: BTreeMap<String, String>,
}

/// What a broker says of an instrument.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ToldSpecs {
    /// Since when, as the document has it.
    pub since: Option<String>,
    /// The usual spread in points.
    pub quoted_spread: Option<String>,
    /// Values by the keys of the spec sheet, as they stand there.
    pub values: BTreeMap<String, String>,
}

impl FeedSpecs {
    /// Why it cannot be meant; none where it can.
    pub(super) fn fault(&self) -> Option<String> {
        if !self.path.contains("{instrument}") {
            return Some("the path of specs needs {instrument} in it".into());
        }
        let unknown = self.values.keys().find(|key| !KEYS.iter().any(|k| k.name == key.as_str()));
        unknown.map(|key| format!("specs.values: no sheet has a value {key}"))
    }

    /// The specs in a document.
    pub(super) fn read(&self, document: &Value) -> ToldSpecs {
        let text = |place: &String| at(document, place).and_then(scalar);
        let values =
            self.values.iter().filter_map(|(key, place)| Some((key.clone(), text(place)?))).collect();
        ToldSpecs {
            since: self.since.as_ref().and_then(text),
            quoted_spread: self.quoted_spread.as_ref().and_then(text),
            values,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_where_the_text_says_they_stand_and_what_is_not_there_is_not_known() {
        let specs = FeedSpecs {
            path: "/s/{instrument}".into(),
            since: Some("since".into()),
            quoted_spread: Some("spread.usual".into()),
            values: [("decimals", "digits"), ("commission", "fee"), ("margin", "margin"), ("base", "list")]
                .map(|(k, v)| (k.to_owned(), v.to_owned()))
                .into(),
        };
        let document = serde_json::json!({
            "digits": 5, "fee": "3.50", "margin": null, "list": [1], "spread": {"usual": 18}, "since": "2024-03-01"
        });
        let told = specs.read(&document);
        assert_eq!(
            told.values,
            [("decimals", "5"), ("commission", "3.50")].map(|(k, v)| (k.into(), v.into())).into()
        );
        assert_eq!((told.since.as_deref(), told.quoted_spread.as_deref()), (Some("2024-03-01"), Some("18")));
        assert_eq!(specs.fault(), None);
        let odd = FeedSpecs { values: [("digits".into(), "x".into())].into(), ..specs };
        assert!(odd.fault().is_some_and(|why| why.contains("digits")));
    }
}
