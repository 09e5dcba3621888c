//! Where the quotes of a stream stand in its messages.

use serde::{Deserialize, Serialize};

/// Where a service sends its quotes, and where in a message each thing stands. Keys go deeper by points.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FeedLive {
    /// The path of the WebSocket at the address of the feed.
    pub path: String,
    /// What is sent for each instrument once the connection stands, with `{instrument}` in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub subscribe: Option<String>,
    /// Where in a message the list of quotes stands; else a message is a quote, or a list of them.
    #[serde(default)]
    pub list: String,
    #[serde(default = "symbol_key")]
    pub symbol: String,
    /// The time, on the clock of the feed: a text, or a number of seconds, milliseconds, … since 1970.
    #[serde(default = "time_key")]
    pub time: String,
    #[serde(default = "bid_key")]
    pub bid: String,
    #[serde(default = "ask_key")]
    pub ask: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bid_size: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ask_size: Option<String>,
    /// Where the levels of the book stand, the best first, each a list of price and size.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub bids: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asks: Option<String>,
}

fn symbol_key() -> String {
    "symbol".into()
}

fn time_key() -> String {
    "time".into()
}

fn bid_key() -> String {
    "bid".into()
}

fn ask_key() -> String {
    "ask".into()
}

impl FeedLive {
    /// Why it cannot be meant; none where it can.
    pub(super) fn fault(&self) -> Option<String> {
        if self.bids.is_some() != self.asks.is_some() {
            return Some("live: bids and asks go together".into());
        }
        let is_missing = self.subscribe.as_ref().is_some_and(|text| !text.contains("{instrument}"));
        is_missing.then(|| "live: subscribe needs {instrument} in it".into())
    }
}
