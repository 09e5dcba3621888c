//! Rows out of the messages of a live stream. Nothing in a message is trusted: what is no quote is counted and passed over.

use std::borrow::Cow;
use std::collections::BTreeMap;

use serde_json::value::RawValue;
use stavel_core::model::Clock;
use stavel_core::model::time::{Micros, parse_moment};

use super::live_text::FeedLive;

/// A row of a live stream, with its numbers as they were sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LiveRow {
    /// The instrument as the service names it.
    pub symbol: String,
    /// The time, on the wall of the feed.
    pub time: Micros,
    pub what: LiveValues,
}

/// What a row says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LiveValues {
    /// Bid, ask and their sizes; empty where they were not sent.
    Quote([String; 4]),
    /// The levels of bids and asks, the best first: price and size.
    Book { bids: Vec<[String; 2]>, asks: Vec<[String; 2]> },
}

/// What a message held.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct LiveRows {
    pub rows: Vec<LiveRow>,
    /// Entries that are no rows.
    pub junk: u64,
}

type Entry<'m> = BTreeMap<Cow<'m, str>, &'m RawValue>;

impl FeedLive {
    /// The rows of a message. A time that says its own zone is put on the wall of the feed by `clock`, where that is known.
    pub fn rows(&self, message: &str, clock: Option<&Clock>) -> LiveRows {
        let mut out = LiveRows::default();
        let list = match self.list.is_empty() {
            true => Some(message.trim()),
            false => entry_of(message).and_then(|entry| place(&entry, &self.list)),
        };
        match list {
            Some(list) if list.starts_with('[') => match serde_json::from_str::<Vec<&RawValue>>(list) {
                Ok(entries) => entries.iter().for_each(|entry| self.read(entry.get(), clock, &mut out)),
                Err(_) => out.junk += 1,
            },
            Some(entry) => self.read(entry, clock, &mut out),
            None => out.junk += 1,
        }
        out
    }

    fn read(&self, text: &str, clock: Option<&Clock>, out: &mut LiveRows) {
        let rows_before = out.rows.len();
        if let Some(entry) = entry_of(text) {
            self.rows_of(&entry, clock, out);
        }
        out.junk += u64::from(out.rows.len() == rows_before);
    }

    fn rows_of(&self, entry: &Entry<'_>, clock: Option<&Clock>, out: &mut LiveRows) {
        let time = place(entry, &self.time).and_then(|raw| time_of(raw, clock));
        let head = place(entry, &self.symbol).and_then(text_of).zip(time);
        let Some((symbol, time)) = head else { return };
        let number = |key: &str| place(entry, key).and_then(number_of);
        let size = |key: &Option<String>| key.as_ref().and_then(|key| number(key)).unwrap_or_default();
        let (bid, ask) = (number(&self.bid), number(&self.ask));
        if bid.is_some() || ask.is_some() {
            let values = [
                bid.unwrap_or_default(),
                ask.unwrap_or_default(),
                size(&self.bid_size),
                size(&self.ask_size),
            ];
            out.rows.push(LiveRow { symbol: symbol.clone(), time, what: LiveValues::Quote(values) });
        }
        let levels = |key: &Option<String>| key.as_ref().and_then(|key| levels_of(place(entry, key)?));
        if let (Some(bids), Some(asks)) = (levels(&self.bids), levels(&self.asks))
            && bids.len() + asks.len() > 0
        {
            out.rows.push(LiveRow { symbol, time, what: LiveValues::Book { bids, asks } });
        }
    }
}

fn entry_of(text: &str) -> Option<Entry<'_>> {
    serde_json::from_str(text).ok()
}

/// What stands at a place in an entry.
fn place<'m>(entry: &Entry<'m>, path: &str) -> Option<&'m str> {
    match path.split_once('.') {
        None => Some(entry.get(path)?.get()),
        Some((first, rest)) => place(&entry_of(entry.get(first)?.get())?, rest),
    }
}

fn text_of(raw: &str) -> Option<String> {
    let text: Cow<'_, str> = serde_json::from_str(raw).ok()?;
    let is_usable = !text.is_empty() && text.len() <= 64 && !text.chars().any(char::is_control);
    is_usable.then(|| text.into_owned())
}

/// A number as it was sent, in plain digits; also one in quotation marks.
fn number_of(raw: &str) -> Option<String> {
    let text = raw.trim().trim_matches('"').trim();
    let digits = text.strip_prefix('-').unwrap_or(text);
    let is_plain = digits.len() <= 24
        && digits.starts_with(|c: char| c.is_ascii_digit())
        && digits.bytes().filter(|c| *c == b'.').count() <= 1
        && !digits.ends_with('.')
        && digits.bytes().all(|c| c.is_ascii_digit() || c == b'.');
    if is_plain {
        return Some(text.to_owned());
    }
    let value = text.parse::<f64>().ok().filter(|value| value.is_finite() && value.abs() < 1e15)?;
    let has_digits = text.bytes().any(|c| c.is_ascii_digit());
    Some(format!("{value}")).filter(|text| has_digits && text.len() <= 24)
}

/// A time on the wall of the feed: a text, or a number since 1970 in the unit that its size tells.
fn time_of(raw: &str, clock: Option<&Clock>) -> Option<Micros> {
    /// 1990 and 2200, in seconds: a time outside of them is none of a quote.
    const USUAL: std::ops::Range<i64> = 631_152_000..7_258_118_400;
    let of_number = |count: f64| {
        let units = [1_000_000.0, 1_000.0, 1.0, 0.001];
        let micros = units.iter().map(|unit| count * unit);
        micros.map(|micros| micros as Micros).find(|micros| USUAL.contains(&micros.div_euclid(1_000_000)))
    };
    match serde_json::from_str::<Cow<'_, str>>(raw) {
        Ok(text) => match text.trim().parse::<f64>() {
            Ok(count) => of_number(count),
            Err(_) => {
                let (time, is_utc) = parse_moment(&text).ok()?;
                let time = clock.filter(|_| is_utc).map_or(time, |clock| clock.to_wall(time));
                Some(time).filter(|time| USUAL.contains(&time.div_euclid(1_000_000)))
            }
        },
        Err(_) => raw.parse::<f64>().ok().and_then(of_number),
    }
}

fn levels_of(raw: &str) -> Option<Vec<[String; 2]>> {
    let levels: Vec<Vec<&RawValue>> = serde_json::from_str(raw).ok()?;
    let level = |cells: &Vec<&RawValue>| match cells.as_slice() {
        [price, size, ..] => Some([number_of(price.get())?, number_of(size.get())?]),
        _ => None,
    };
    levels.iter().map(level).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn live() -> FeedLive {
        let text =
            "path = '/live'\nbid_size = 'sizes.bid'\nask_size = 'sizes.ask'\nbids = 'bids'\nasks = 'asks'\n";
        toml::from_str(text).unwrap()
    }

    fn quote(values: [&str; 4]) -> LiveValues {
        LiveValues::Quote(values.map(str::to_owned))
    }

    #[test]
    fn quotes_and_books_are_read_with_the_digits_they_were_sent_with() {
        let told = live().rows(
            r#"[{"symbol":"NOK/SEK","time":"2024-04-05T00:00:01.25","bid":1.02550,"ask":"1.02569","sizes":{"bid":2.5}},
                {"symbol":"BLY","time":1712275201250,"bids":[["231.25",4],[231.00,9]],"asks":[[231.5,3]]}]"#,
            None,
        );
        let time = parse_moment("2024-04-05 00:00:01.25").unwrap().0;
        assert_eq!(told.junk, 0);
        assert_eq!(
            told.rows[0],
            LiveRow { symbol: "NOK/SEK".into(), time, what: quote(["1.02550", "1.02569", "2.5", ""]) }
        );
        let level = |price: &str, size: &str| [price.to_owned(), size.to_owned()];
        let what = LiveValues::Book {
            bids: vec![level("231.25", "4"), level("231.00", "9")],
            asks: vec![level("231.5", "3")],
        };
        assert_eq!(told.rows[1], LiveRow { symbol: "BLY".into(), time, what });
    }

    #[test]
    fn a_time_that_says_its_zone_is_put_on_the_wall_of_the_feed() {
        let at = |text: &str, clock: Option<&str>| {
            let clock: Option<Clock> = clock.map(|clock| clock.parse().unwrap());
            let message = format!(r#"{{"symbol":"A","time":"{text}","bid":1,"ask":2}}"#);
            live().rows(&message, clock.as_ref()).rows[0].time
        };
        let wall = |text: &str| parse_moment(text).unwrap().0;
        assert_eq!(at("2024-07-05T10:00:00Z", Some("Europe/Oslo")), wall("2024-07-05 12:00"));
        assert_eq!(at("2024-07-05T10:00:00+02:00", Some("UTC")), wall("2024-07-05 08:00"));
        assert_eq!(at("2024-07-05T10:00:00", Some("Europe/Oslo")), wall("2024-07-05 10:00"));
        // Where nobody knows the clock, UTC is as it is written.
        assert_eq!(at("2024-07-05T10:00:00Z", None), wall("2024-07-05 10:00"));
    }

    #[test]
    fn a_side_that_was_not_sent_is_empty_and_what_is_no_quote_is_counted() {
        let row = |text: &str| live().rows(text, None);
        let one = row(r#"{"symbol":"A","time":"2024-04-05","bid":null,"ask":1e-2}"#);
        assert_eq!(one.rows[0].what, quote(["", "0.01", "", ""]));
        for junk in [
            "",
            "hello",
            "[1, 2",
            "{}",
            r#"{"symbol":"A","bid":1,"ask":2}"#,
            r#"{"symbol":"A","time":"soon","bid":1,"ask":2}"#,
            r#"{"symbol":"A","time":7,"bid":1,"ask":2}"#,
            r#"{"symbol":"A","time":"2024-04-05","bid":"NaN","ask":"inf"}"#,
            r#"{"symbol":"A\u001b[2J","time":"2024-04-05","bid":1,"ask":2}"#,
            r#"{"symbol":"","time":"2024-04-05","bid":1,"ask":2}"#,
            r#"{"symbol":"A","time":"2024-04-05","bids":[[1]],"asks":[]}"#,
        ] {
            assert_eq!(row(junk), LiveRows { rows: Vec::new(), junk: 1 }, "{junk}");
        }
        assert_eq!(row("[]"), LiveRows::default());
    }
}
