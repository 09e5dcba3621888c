//! Calendars of a feed: what it says of dates, beside its histories.

use serde::{Deserialize, Serialize};

/// What a calendar tells.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Tells {
    /// What is announced or decided, of a currency, a product or an instrument.
    Events,
    /// Session days without trading, or with other hours.
    Holidays,
    /// Splits and dividends.
    Actions,
    /// What a company or an authority reported.
    Statements,
}

/// How a calendar is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum CalendarForm {
    /// A list of entries in a document of JSON.
    #[default]
    Json,
    /// An iCalendar (RFC 5545).
    Ics,
}

/// A calendar of a feed.
///
/// The keys say where in an entry of JSON each thing stands. An iCalendar has places of its own for them: UID, DTSTART,
/// SUMMARY, PRIORITY, and CATEGORIES for what it is about.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FeedDates {
    /// What it tells.
    pub tells: Tells,
    /// Its path; with `{year}` in it, each year is asked for.
    pub path: String,
    /// How it is written.
    #[serde(default)]
    pub form: CalendarForm,
    /// Where in the document the list stands.
    #[serde(default)]
    pub list: String,
    /// What an entry is about: an instrument, the product of contracts, or a currency; a text, or a list of them.
    #[serde(default = "about_key")]
    pub about: String,
    /// Its day or moment.
    #[serde(default = "time_key")]
    pub time: String,
    /// What tells it apart from the others, whatever else of it changes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
    /// Of a holiday: where the time stands at which trading begins late, or ends early, on the wall of the session.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub opens: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub closes: Option<String>,
    /// The zone of these times, where it is not that of the session.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Where stands `true` for an entry that does not take place.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cancelled: Option<String>,
}

fn about_key() -> String {
    "about".into()
}

fn time_key() -> String {
    "time".into()
}

impl FeedDates {
    /// The paths to ask for, and the year of each; `years` are those that matter.
    pub fn paths(&self, years: std::ops::RangeInclusive<i64>) -> Vec<(String, Option<i64>)> {
        match self.path.contains("{year}") {
            true => {
                years.map(|year| (self.path.replace("{year}", &format!("{year:04}")), Some(year))).collect()
            }
            false => vec![(self.path.clone(), None)],
        }
    }
}
