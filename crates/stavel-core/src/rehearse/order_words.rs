//! An order as a line of words: `buy 1.00 limit 1.02500 with stop 50pt target 105pt until day tag breakout`.
//!
//! The side comes first, then the size, then how it waits (`limit P`, `stop P`, `stop-limit P/P`, `trailing Npt`; a market order
//! says nothing), then its bracket after `with`, then `until` and `tag`. Prices and distances are written as in a file of orders.

use super::orders_file::{FileOrder, order_of};

/// An order of words, with its tag. A size that is not said is the usual one.
///
/// # Errors
/// What is not understood, in words.
pub fn order_in_line(text: &str, usual: &str) -> Result<(FileOrder, String), String> {
    let mut words = text.split_whitespace().peekable();
    let mut cells: Vec<(&str, String)> = vec![("time", "1970-01-01T00:00Z".to_owned())];
    cells.push(("side", words.next().unwrap_or_default().to_owned()));
    let is_size = |word: &&str| word.starts_with(|c: char| c.is_ascii_digit() || c == '.');
    cells.push(("lots", words.next_if(is_size).unwrap_or(usual).to_owned()));
    let kinds = ["market", "limit", "stop", "stop-limit", "trailing"];
    if let Some(kind) = words.next_if(|word| kinds.contains(word)) {
        cells.push(("type", kind.to_owned()));
        if kind != "market" {
            cells.push(("price", words.next().unwrap_or_default().to_owned()));
        }
    }
    let mut tag = String::new();
    let mut is_bracket = false;
    while let Some(word) = words.next() {
        let mut value =
            || words.next().map(str::to_owned).ok_or_else(|| format!("'{word}' says nothing after it"));
        match word {
            "with" => is_bracket = true,
            "stop" | "target" if is_bracket => {
                let first = value()?;
                let exit = if first == "trail" { format!("trail {}", value()?) } else { first };
                cells.push((word, exit));
            }
            "until" => {
                let first = value()?;
                // A time may have a blank between day and hour.
                let is_hour = |word: &&str| word.contains(':') && first.len() == 10;
                cells.push((
                    "until",
                    match words.next_if(is_hour) {
                        Some(hour) => format!("{first} {hour}"),
                        None => first,
                    },
                ));
            }
            "tag" => tag = value()?,
            other => {
                return Err(format!(
                    "'{}' is not understood; write an order as: buy 1.00 limit 1.02500 with stop 50pt target 105pt until day",
                    crate::error::printable(other)
                ));
            }
        }
    }
    let cell = |name: &str| cells.iter().find(|(n, _)| *n == name).map_or("", |(_, value)| value.as_str());
    Ok((order_of(0, &cell)?, tag))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rehearse::{Direction, Exit, LOT, OrderKind, Size, Until};

    #[test]
    fn a_line_of_words_is_an_order_and_what_is_not_understood_is_told() {
        let ticket = |text: &str| order_in_line(text, "0.50").map(|(order, _)| order.ticket(0, 5).unwrap());
        let plain = ticket("buy").unwrap();
        assert_eq!(
            (plain.direction, plain.size, plain.kind),
            (Direction::Buy, Size::Lots(LOT / 2), OrderKind::Market)
        );
        let full = "sell 1.5 stop-limit 1.02500/1.02480 with stop trail 30pt target 1.02 until 2024-03-05 12:00 tag news";
        let full = ticket(full).unwrap();
        assert_eq!(full.kind, OrderKind::StopLimit { stop: 102_500, limit: 102_480 });
        assert_eq!((full.stop, full.target), (Some(Exit::Trail(30)), Some(Exit::At(102_000))));
        assert!(matches!(full.until, Until::Time(_)) && full.size == Size::Lots(LOT * 3 / 2));
        assert_eq!(order_in_line("buy 1% with stop 50pt tag a", "1").unwrap().1, "a");
        for (text, why) in [
            ("", "the side must be buy or sell"),
            ("buy 1 limit", "an order of type limit needs a price"),
            ("buy 1 stop 1.02 target 1.03", "'target' is not understood"),
            ("buy 1 with stop", "'stop' says nothing after it"),
            ("buy 0", "the lots must be"),
            ("buy 1 until later", "until must be day"),
        ] {
            let err = ticket(text).unwrap_err();
            assert!(err.contains(why), "{text}: {err}");
        }
    }
}
