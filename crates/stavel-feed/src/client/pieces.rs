//! Histories cut into the pieces that a service hands out.

use super::{Feed, FeedSeries, PieceLength};
use stavel_core::model::Span;
use stavel_core::model::time::{DAY, civil_from_days, date, day_of, days_from_civil};

/// A piece of a history: what one request gives.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Piece {
    /// Its span on the wall of the feed, whole days.
    pub span: Span,
    /// Its name: `2024-03-05`, `2024-03` or `2024`.
    pub label: String,
}

impl Piece {
    /// The piece that a day lies in.
    fn of(day: i64, by: PieceLength) -> Piece {
        let (year, month, _) = civil_from_days(day);
        let text = date(day);
        let (from, to, label) = match by {
            PieceLength::Day => (day, day + 1, text),
            PieceLength::Month => {
                let next = if month == 12 { (year + 1, 1) } else { (year, month + 1) };
                let label = text[..text.len() - 3].to_owned();
                (days_from_civil(year, month, 1), days_from_civil(next.0, next.1, 1), label)
            }
            PieceLength::Year => {
                let label = text[..text.len() - 6].to_owned();
                (days_from_civil(year, 1, 1), days_from_civil(year + 1, 1, 1), label)
            }
        };
        Piece { span: Span::new(from * DAY, to * DAY), label }
    }

    /// The address of the piece of an instrument.
    pub fn address(&self, feed: &Feed, kind: &FeedSeries, instrument: &str) -> String {
        let path = kind
            .path
            .replace("{instrument}", &encoded(instrument))
            .replace("{date}", &date(day_of(self.span.from)))
            .replace("{month}", self.label.get(..7).unwrap_or(&self.label))
            .replace("{year}", self.label.split('-').next().unwrap_or_default());
        joined(&feed.address, &path)
    }
}

/// The pieces that a span (on the wall of the feed) touches, in order of time.
pub fn pieces(span: Span, by: PieceLength) -> Vec<Piece> {
    let mut out: Vec<Piece> = Vec::new();
    let mut day = day_of(span.from);
    while day * DAY < span.to {
        let piece = Piece::of(day, by);
        day = day_of(piece.span.to);
        out.push(piece);
    }
    out
}

/// An address and a path with one stroke between them.
pub fn joined(address: &str, path: &str) -> String {
    format!("{}/{}", address.trim_end_matches('/'), path.trim_start_matches('/'))
}

/// A name as it stands in an address (RFC 3986).
fn encoded(name: &str) -> String {
    let mut out = String::new();
    for byte in name.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => out.push(byte as char),
            other => out.push_str(&format!("%{other:02X}")),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use stavel_core::model::time::parse;

    fn labels(from: &str, to: &str, by: PieceLength) -> Vec<String> {
        let span = Span::new(parse(from).unwrap(), parse(to).unwrap());
        pieces(span, by).into_iter().map(|p| p.label).collect()
    }

    #[test]
    fn a_span_is_cut_into_whole_days_months_and_years() {
        assert_eq!(
            labels("2024-02-28 23:00", "2024-03-01 00:00:01", PieceLength::Day),
            ["2024-02-28", "2024-02-29", "2024-03-01"]
        );
        assert_eq!(labels("2023-12-31", "2024-01-02", PieceLength::Month), ["2023-12", "2024-01"]);
        assert_eq!(labels("2023-12-31", "2024-01-01", PieceLength::Year), ["2023"]);
        assert_eq!(labels("2024-03-05", "2024-03-05", PieceLength::Day), [""; 0]);
    }

    #[test]
    fn names_are_written_into_addresses_so_that_nothing_in_them_is_a_path() {
        let text = "name = 'q'\naddress = 'http://localhost/a/'\n[instruments]\npath = '/i'\n\
                    [[series]]\nframe = '1m'\nby = 'month'\npath = '/m/{instrument}/{month}/{year}'\n";
        let feed = Feed::from_toml(text).unwrap();
        let piece = Piece::of(day_of(parse("2024-03-05").unwrap()), PieceLength::Month);
        assert_eq!(
            piece.address(&feed, &feed.series[0], "A/../B?x"),
            "http://localhost/a/m/A%2F..%2FB%3Fx/2024-03/2024"
        );
    }
}
