//! Histories cut into the pieces that a service hands out.

use super::{Feed, FeedSeries, PieceLength};
use stavel_core::model::time::{DAY, civil_from_days, date, day_of, days_from_civil};
use stavel_core::model::{SeriesName, Span};

/// A piece of a history: what one request gives.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Piece {
    /// Its span on the wall of the feed, whole days.
    pub span: Span,
    /// Its name: `2024-03-05`, `2024-03` or `2024`.
    pub label: String,
}

/// A piece that is to be fetched.
#[derive(Debug, Clone)]
pub struct QueuedPiece {
    pub series: SeriesName,
    /// The instrument as the service names it.
    pub symbol: String,
    pub kind: FeedSeries,
    pub piece: Piece,
    /// What it was when it was fetched before.
    pub etag: Option<String>,
}

impl Piece {
    /// The piece that a day lies in.
    fn of(day: i64, kind: &FeedSeries) -> Piece {
        let (year, month, _) = civil_from_days(day);
        let text = date(day);
        let (from, to, label) = match kind.by {
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
            // Counted from 1970, so that a piece is the same whatever span is asked for.
            PieceLength::Rows => {
                let days = kind.days_a_piece().max(1);
                let from = day.div_euclid(days) * days;
                (from, from + days, date(from))
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
            .replace("{year}", self.label.split('-').next().unwrap_or_default())
            .replace("{rows}", &kind.rows.unwrap_or_default().to_string())
            .replace("{from}", &format!("{}T00:00:00", date(day_of(self.span.from))))
            .replace("{to}", &format!("{}T00:00:00", date(day_of(self.span.to))));
        joined(&feed.address, &path)
    }
}

/// The pieces that a span (on the wall of the feed) touches, in order of time.
pub fn pieces(span: Span, kind: &FeedSeries) -> Vec<Piece> {
    let mut out: Vec<Piece> = Vec::new();
    let mut day = day_of(span.from);
    while day * DAY < span.to {
        let piece = Piece::of(day, kind);
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
pub fn encoded(name: &str) -> String {
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

    fn kind(by: PieceLength, rows: Option<u32>) -> FeedSeries {
        let text = "frame = '1m'\nby = 'month'\npath = '/m/{instrument}/{month}/{year}'\n";
        FeedSeries { by, rows, ..toml::from_str(text).unwrap() }
    }

    fn labels(from: &str, to: &str, by: PieceLength) -> Vec<String> {
        let span = Span::new(parse(from).unwrap(), parse(to).unwrap());
        pieces(span, &kind(by, None)).into_iter().map(|p| p.label).collect()
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
    fn a_limit_of_rows_is_kept_by_asking_for_as_many_days_as_fit_into_it() {
        // 5,000 minutes are three days and a half.
        let by_rows = kind(PieceLength::Rows, Some(5000));
        let span = Span::new(parse("2024-03-05 13:00").unwrap(), parse("2024-03-10").unwrap());
        let all = pieces(span, &by_rows);
        assert!(all.iter().all(|p| p.span.length() == 3 * DAY), "{all:?}");
        assert!(all[0].span.holds(span.from) && all.last().unwrap().span.to >= span.to);
        assert!(all.windows(2).all(|two| two[0].span.to == two[1].span.from));
        // The same pieces, whatever is asked for.
        let later = Span::new(span.from + DAY, span.to);
        assert!(pieces(later, &by_rows).iter().all(|piece| all.contains(piece)));
    }

    #[test]
    fn names_are_written_into_addresses_so_that_nothing_in_them_is_a_path() {
        let text = "name = 'q'\naddress = 'http://localhost/a/'\n[instruments]\npath = '/i'\n\
                    [[series]]\nframe = '1m'\nby = 'month'\npath = '/m/{instrument}/{month}/{year}'\n";
        let feed = Feed::from_toml(text).unwrap();
        let piece = Piece::of(day_of(parse("2024-03-05").unwrap()), &feed.series[0]);
        assert_eq!(
            piece.address(&feed, &feed.series[0], "A/../B?x"),
            "http://localhost/a/m/A%2F..%2FB%3Fx/2024-03/2024"
        );
    }
}
