//! Finding the layout of a text file from its first lines.

use super::layout::{DateOrder, Layout, Use};
use super::moment;
use super::parse::bare;
use crate::model::Field;
use crate::model::price::{MAX_DECIMALS, parse_scaled, written_decimals};
use crate::{Error, Result};

/// Lines looked at.
const LINES: usize = 200;

/// Finds the layout from whole lines of a file. `None` for the date order means that every day and
/// month in the sample is under 13 and more of the file has to be read.
///
/// # Errors
/// One sentence with `place` where the sample is no table of prices.
pub fn sniff(sample: &[u8], place: &str) -> Result<(Layout, Option<DateOrder>)> {
    let sample = sample.strip_prefix(b"\xef\xbb\xbf").unwrap_or(sample);
    let odd = sample.iter().filter(|&&c| c < 32 && !matches!(c, b'\n' | b'\r' | b'\t')).count();
    if odd * 50 > sample.len() || sample.contains(&0) {
        return Err(Error::input(format!(
            "{place} is not a text table; Stavel takes CSV files and zip archives of them."
        )));
    }
    let lines: Vec<&[u8]> = sample
        .split(|&c| c == b'\n')
        .map(<[u8]>::trim_ascii_end)
        .filter(|l| !l.is_empty())
        .take(LINES)
        .collect();
    let Some(&first) = lines.first() else {
        return Err(Error::input(format!("{place} has only blank lines; there is nothing to take in.")));
    };
    let delimiter = find_delimiter(&lines);
    let split =
        |line: &[u8]| -> Vec<Vec<u8>> { line.split(|&c| c == delimiter).map(|c| bare(c).to_vec()).collect() };
    let names = split(first);
    let header = names.iter().all(|c| shape_of(c) == CellShape::Words);
    let rows: Vec<Vec<Vec<u8>>> = lines[usize::from(header)..].iter().map(|l| split(l)).collect();
    if rows.is_empty() {
        return Err(Error::input(format!("{place} has a header but no rows; there is nothing to take in.")));
    }
    let width = rows.iter().map(Vec::len).max().unwrap_or(0);
    let shapes: Vec<CellShape> = (0..width).map(|c| column_shape(&rows, c)).collect();
    let columns = if header { by_names(&names, &shapes) } else { by_shapes(&rows, &shapes) };
    require_prices(&columns, place, first)?;
    let decimals = |is: fn(Field) -> bool| {
        let wanted = columns.iter().enumerate().filter(|(_, u)| matches!(u, Use::Field(f) if is(*f)));
        wanted.flat_map(|(i, _)| column(&rows, i).map(written_decimals)).max().unwrap_or(0).min(MAX_DECIMALS)
    };
    let dates = DateEvidence::of(
        columns
            .iter()
            .enumerate()
            .filter(|(_, u)| matches!(u, Use::Moment | Use::Date))
            .flat_map(|(i, _)| column(&rows, i)),
    );
    let upper = first.to_ascii_uppercase();
    let moments = columns.iter().position(|u| *u == Use::Moment);
    let says_utc = header && [&b"UTC"[..], b"GMT"].iter().any(|z| memchr::memmem::find(&upper, z).is_some())
        || moments.is_some_and(|i| !rows.is_empty() && column(&rows, i).all(|c| c.ends_with(b"Z")));
    let layout = Layout {
        delimiter,
        header,
        price_decimals: decimals(Field::is_price),
        volume_decimals: decimals(|f| matches!(f, Field::Volume | Field::BidVolume | Field::AskVolume)),
        columns,
        dates: dates.order().unwrap_or(DateOrder::DayFirst),
        says_utc,
    };
    Ok((layout, dates.order()))
}

fn column(rows: &[Vec<Vec<u8>>], at: usize) -> impl Iterator<Item = &[u8]> {
    rows.iter().filter_map(move |r| r.get(at)).map(Vec::as_slice)
}

/// The delimiter that cuts most lines into the same number of cells, more than one.
fn find_delimiter(lines: &[&[u8]]) -> u8 {
    let score = |d: u8| {
        let mut counts: Vec<usize> = lines.iter().map(|l| l.iter().filter(|&&c| c == d).count()).collect();
        counts.sort_unstable();
        let usual = counts[counts.len() / 2];
        if usual == 0 { 0 } else { counts.iter().filter(|&&c| c == usual).count() * 100 + usual }
    };
    // Of equals the last wins, so the more telling marks come last.
    b" ,|;\t".iter().copied().max_by_key(|&d| score(d) / if d == b' ' { 4 } else { 1 }).unwrap_or(b',')
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum CellShape {
    Moment,
    Date,
    Time,
    Number,
    Words,
    Nothing,
}

fn shape_of(cell: &[u8]) -> CellShape {
    let orders = [DateOrder::YearFirst, DateOrder::DayFirst, DateOrder::MonthFirst];
    let dated = orders.iter().find_map(|&o| moment::date(cell, o));
    match dated {
        _ if cell.is_empty() => CellShape::Nothing,
        Some((_, [])) => CellShape::Date,
        Some(_) if orders.iter().any(|&o| moment::moment(cell, o).is_some()) => CellShape::Moment,
        _ if cell.contains(&b':') && moment::time_of_day(cell).is_some() => CellShape::Time,
        _ if parse_scaled(cell, MAX_DECIMALS).is_ok() => CellShape::Number,
        _ => CellShape::Words,
    }
}

/// The shape most cells of a column have.
fn column_shape(rows: &[Vec<Vec<u8>>], at: usize) -> CellShape {
    use CellShape::*;
    let shapes: Vec<CellShape> = column(rows, at).map(shape_of).collect();
    [Moment, Date, Time, Number, Nothing, Words]
        .into_iter()
        .max_by_key(|s| shapes.iter().filter(|x| *x == s).count())
        .unwrap_or(Words)
}

/// Columns by the words of a header; the shapes tell dates and times apart.
fn by_names(names: &[Vec<u8>], shapes: &[CellShape]) -> Vec<Use> {
    let mut uses: Vec<Use> = Vec::new();
    for (i, name) in names.iter().enumerate() {
        let word = plain_word(name);
        let found = match (word.as_str(), shapes.get(i)) {
            (w, Some(CellShape::Moment)) if is_time_word(w) => Use::Moment,
            (w, Some(CellShape::Date)) if is_time_word(w) => Use::Date,
            (w, Some(CellShape::Time)) if is_time_word(w) => Use::Time,
            _ => field_named(&word).map_or(Use::Skip, Use::Field),
        };
        let taken = found != Use::Skip && uses.contains(&found);
        uses.push(if taken { Use::Skip } else { found });
    }
    settle_dates(uses)
}

/// A date column without a time column is the whole moment (daily bars).
fn settle_dates(mut uses: Vec<Use>) -> Vec<Use> {
    if !uses.contains(&Use::Time)
        && let Some(date) = uses.iter().position(|u| *u == Use::Date)
    {
        uses[date] = Use::Moment;
    }
    uses
}

fn plain_word(name: &[u8]) -> String {
    let text = String::from_utf8_lossy(name).to_ascii_lowercase();
    let without_unit =
        text.split(['(', '[']).next().filter(|t| !t.trim().is_empty()).unwrap_or(&text).to_owned();
    without_unit.chars().filter(char::is_ascii_alphanumeric).collect()
}

fn is_time_word(word: &str) -> bool {
    [
        "time",
        "date",
        "datetime",
        "timestamp",
        "moment",
        "utc",
        "gmt",
        "timeutc",
        "utctime",
        "gmttime",
        "opentime",
    ]
    .contains(&word)
}

fn field_named(word: &str) -> Option<Field> {
    Some(match word {
        "open" | "o" => Field::Open,
        "high" | "h" => Field::High,
        "low" | "l" => Field::Low,
        "close" | "c" => Field::Close,
        "volume" | "vol" | "v" | "tickvolume" => Field::Volume,
        "spread" => Field::Spread,
        "bid" | "bidprice" => Field::Bid,
        "ask" | "askprice" | "offer" => Field::Ask,
        "bidvolume" | "bidvol" | "bidsize" => Field::BidVolume,
        "askvolume" | "askvol" | "asksize" => Field::AskVolume,
        "last" | "price" | "trade" => Field::Last,
        _ => return None,
    })
}

/// Columns of a file without a header, by what the cells look like and how the numbers relate.
fn by_shapes(rows: &[Vec<Vec<u8>>], shapes: &[CellShape]) -> Vec<Use> {
    use Field::*;
    let mut uses: Vec<Use> = Vec::new();
    let numbers: Vec<usize> = (0..shapes.len()).filter(|&i| shapes[i] == CellShape::Number).collect();
    let fields: &[Field] = match numbers.len() {
        1 => &[Last],
        2 => &[Bid, Ask],
        4 if is_ohlc(rows, &numbers) => &[Open, High, Low, Close],
        4 => &[Bid, Ask, BidVolume, AskVolume],
        5 => &[Open, High, Low, Close, Volume],
        6 => &[Open, High, Low, Close, Volume, Spread],
        _ => &[],
    };
    let mut fields = fields.iter();
    for shape in shapes {
        uses.push(match shape {
            CellShape::Moment if !uses.contains(&Use::Moment) => Use::Moment,
            CellShape::Date if !uses.contains(&Use::Date) => Use::Date,
            CellShape::Time if !uses.contains(&Use::Time) => Use::Time,
            CellShape::Number => fields.next().map_or(Use::Skip, |f| Use::Field(*f)),
            _ => Use::Skip,
        });
    }
    settle_dates(uses)
}

/// True where the second number is the highest and the third the lowest of four, in nearly every row.
fn is_ohlc(rows: &[Vec<Vec<u8>>], at: &[usize]) -> bool {
    let value = |r: &Vec<Vec<u8>>, i: usize| r.get(at[i]).and_then(|c| parse_scaled(c, MAX_DECIMALS).ok());
    let fits = rows
        .iter()
        .filter(|r| match (value(r, 0), value(r, 1), value(r, 2), value(r, 3)) {
            (Some(o), Some(h), Some(l), Some(c)) => h >= o.max(c).max(l) && l <= o.min(c),
            _ => false,
        })
        .count();
    fits * 10 >= rows.len() * 9
}

fn require_prices(columns: &[Use], place: &str, first: &[u8]) -> Result<()> {
    let has = |f: Field| columns.contains(&Use::Field(f));
    let timed = columns.iter().any(|u| matches!(u, Use::Moment))
        || columns.contains(&Use::Date) && columns.contains(&Use::Time);
    let bars = [Field::Open, Field::High, Field::Low, Field::Close].into_iter().all(has);
    let missing = match (timed, bars || has(Field::Last) || has(Field::Bid) && has(Field::Ask)) {
        (true, true) => return Ok(()),
        (false, _) => "no column of times",
        (true, false) => "no prices (open, high, low and close, or bid and ask, or last)",
    };
    let shown: String = String::from_utf8_lossy(first).chars().take(60).collect();
    Err(Error::input(format!("{place} has {missing} that Stavel recognises; its first line is '{shown}'.")))
}

/// What the dates seen so far say about the order of day and month.
#[derive(Debug, Clone, Copy, Default)]
pub struct DateEvidence {
    year_first: bool,
    first_over_12: bool,
    second_over_12: bool,
}

impl DateEvidence {
    /// The evidence of some cells that begin with a date.
    pub fn of<'a>(cells: impl Iterator<Item = &'a [u8]>) -> DateEvidence {
        let mut evidence = DateEvidence::default();
        cells.for_each(|c| evidence.see(c));
        evidence
    }

    /// Adds one cell.
    pub fn see(&mut self, cell: &[u8]) {
        let mut parts = cell.split(|c| !c.is_ascii_digit());
        let (Some(a), Some(b)) = (parts.next(), parts.next()) else { return };
        let number =
            |t: &[u8]| t.iter().fold(0u32, |v, c| v.wrapping_mul(10).wrapping_add((c - b'0') as u32));
        if a.len() >= 4 {
            self.year_first = true;
        } else {
            self.first_over_12 |= number(a) > 12;
            self.second_over_12 |= number(b) > 12;
        }
    }

    /// The order, where the values decide it.
    pub fn order(&self) -> Option<DateOrder> {
        match (self.year_first, self.first_over_12, self.second_over_12) {
            (true, false, false) => Some(DateOrder::YearFirst),
            (false, true, false) => Some(DateOrder::DayFirst),
            (false, false, true) => Some(DateOrder::MonthFirst),
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn words(text: &str) -> String {
        sniff(text.as_bytes(), "a.csv").map(|(l, _)| l.in_words()).unwrap_or_else(|e| e.to_string())
    }

    #[test]
    fn common_files_are_understood() {
        assert_eq!(
            words(
                "13.03.2024 13:45:12.345,1.02345,1.02349,1.20,0.75\n13.03.2024 13:45:13.100,1.02344,1.02348,0.2,0.7\n"
            ),
            "comma, no header, day-first dates: time bid ask bid_volume ask_volume"
        );
        assert_eq!(
            words("Time (UTC),Open,High,Low,Close,Volume\n2024-03-05 13:45:00,1,2,0.5,1.5,9\n"),
            "comma, header, year-first dates: time open high low close volume"
        );
        assert_eq!(
            words("Date;Time;Open;High;Low;Close;Volume;Spread\n2024/03/05;15:45;1;2;1;2;9;18\n"),
            "semicolon, header, year-first dates: date time open high low close volume spread"
        );
        assert_eq!(
            words("03/25/2024\t09:00\t412.25\t412.50\t412.00\t412.25\n"),
            "tab, no header, month-first dates: date time open high low close"
        );
        assert_eq!(
            words("date,close,high,low,open\n2024-03-05,1,2,1,2\n"),
            "comma, header, year-first dates: time close high low open"
        );
    }

    #[test]
    fn decimals_clock_and_undecided_dates() {
        let (layout, order) = sniff(b"time,last,volume\n05.03.2024 10:00:00Z,412.250,1.5\n", "a").unwrap();
        assert_eq!(
            (layout.price_decimals, layout.volume_decimals, layout.says_utc, order),
            (3, 1, true, None)
        );
    }

    #[test]
    fn what_is_no_table_is_told() {
        assert!(words("\u{0}\u{1}\u{2}").contains("not a text table"));
        assert!(words("\n\n").contains("only blank lines"));
        assert!(words("hello world\nthis is prose\n").contains("no column of times"));
        assert!(words("time,colour\n2024-03-05 10:00,red\n").contains("no prices"));
    }
}
