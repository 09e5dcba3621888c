//! Finding the layout of a text from its first lines, with the evidence for it.

mod dates;
mod marks;
mod names;
mod shapes;

pub use dates::{DateEvidence, Decided};
pub use names::plain_word;

use marks::{CellShape, find_delimiter, find_number_marks, shape_of};

use super::cells;
use super::moment;
use crate::model::DateOrder;
use crate::model::layout::{Delimiter, Layout, Since1970, SpreadUnit, Use};
use crate::model::number_marks::{NumberMarks, decimals_of};
use crate::model::price::{MAX_DECIMALS, parse_scaled, significant_decimals};
use crate::model::time_marks::Marks;
use crate::model::{Field, Side};
use crate::{Advice, Error, Result, Setting};

/// Lines looked at.
const LINES: usize = 200;

/// What the first lines of a text say.
#[derive(Debug, Clone)]
pub struct Sniffed {
    pub layout: Layout,
    /// The order of day and month, where the sample decides it.
    pub dates: Option<Decided>,
    /// Why each column is what it is, in a few words.
    pub why: Vec<String>,
    /// The sides whose bars the columns hold; more than one where bid and ask bars stand side by side.
    pub sides: Vec<Side>,
    /// What only a person can say, as sentences; none where all is clear.
    pub question: Option<String>,
}

/// One line of the sample, cut into cells.
type CellRow = Vec<Vec<u8>>;

/// Finds the layout from whole lines of a file. `name` is the file's own name, in which a date may stand;
/// `side` is the side wanted where the columns hold more than one.
///
/// # Errors
/// One sentence with `place` where the sample is no table of prices.
pub fn sniff(sample: &[u8], place: &str, name: &str, side: Option<Side>) -> Result<Sniffed> {
    let sample = sample.strip_prefix(b"\xef\xbb\xbf").unwrap_or(sample);
    refuse_other_than_text(sample, place)?;
    let lines: Vec<&[u8]> = sample.split(|&c| c == b'\n').map(<[u8]>::trim_ascii_end).take(LINES).collect();
    let comment = find_comment(&lines);
    let is_row = |l: &&[u8]| !l.is_empty() && (comment.is_none() || l.first() != comment.as_ref());
    let full: Vec<&[u8]> = lines.iter().copied().filter(|l| is_row(l)).collect();
    if full.is_empty() {
        return Err(Error::input(format!("{place} has only blank lines; there is nothing to take in.")));
    }
    let delimiter = find_delimiter(&full);
    let split = |line: &[u8]| -> CellRow { cells::of(line, delimiter).map(<[u8]>::to_vec).collect() };
    let body = &full[full.len() / 3..];
    let numbers = find_number_marks(body.iter().flat_map(|l| cells::of(l, delimiter)), delimiter);
    let begin = match first_row(&lines, comment, delimiter, numbers) {
        Some(begin) => begin,
        None if full.len() == 1 && names::are_names(&names_of(full[0], delimiter, comment)) => {
            return Err(Error::input(format!(
                "{place} has a header but no rows; there is nothing to take in."
            )));
        }
        None => 0,
    };
    let (header_at, header) = find_header(&lines, begin, comment, delimiter, numbers);
    let rows: Vec<CellRow> = lines[begin..].iter().filter(|l| is_row(l)).map(|l| split(l)).collect();
    let (columns, why, sides) = columns_of(header.as_deref(), &rows, numbers, name, side);
    let mut layout = Layout {
        delimiter,
        skip: header_at.unwrap_or(begin),
        header,
        comment,
        numbers,
        ..Layout::plain(&columns)
    };
    require_prices(&layout, place, lines[header_at.unwrap_or(begin).min(lines.len() - 1)])?;
    let dates = describe(&mut layout, &rows, name);
    let spreads = layout.place_of(&Use::Field(Field::Spread)).map(|at| {
        let text: Vec<&[u8]> = column(&rows, at).collect();
        spreads_of(&text, &layout, &rows)
    });
    let mut question = None;
    match spreads.transpose() {
        Ok(found) => {
            layout.spreads = found.unwrap_or_default();
            // The tenth of a pip is a decimal finer than prices of four or two decimals.
            let is_finer = layout.spreads == SpreadUnit::Pips && layout.price_decimals.is_multiple_of(2);
            layout.price_decimals += u8::from(is_finer);
        }
        Err(open) => question = Some(open),
    }
    let cells = |wanted: Use| -> Vec<&[u8]> {
        layout.place_of(&wanted).map_or(Vec::new(), |at| column(&rows, at).collect())
    };
    layout.marks = Marks::of(layout.dates, &cells(Use::Date), &cells(Use::Time), &cells(Use::Moment));
    Ok(Sniffed { layout, dates, why, sides, question })
}

/// What spreads are written in. Whole numbers are points; as many decimals as the prices have, or several of
/// a number that is small beside them, make differences of prices; one decimal beside prices of five or
/// three makes pips, and so it does beside four or two where it is too large to be a difference of prices.
fn spreads_of(cells: &[&[u8]], layout: &Layout, rows: &[CellRow]) -> std::result::Result<SpreadUnit, String> {
    let read = |c: &[u8]| parse_scaled(layout.numbers.plain(c, &mut Vec::new()), MAX_DECIMALS).ok();
    let places = |c: &&[u8]| significant_decimals(layout.numbers.plain(c, &mut Vec::new()));
    let decimals = cells.iter().filter(|c| read(c).is_some()).map(places).max().unwrap_or(0);
    let largest = cells.iter().filter_map(|c| read(c)).max().unwrap_or(0);
    let price = layout.columns.iter().position(|u| matches!(u, Use::Field(f) if f.is_price()));
    let least = price.and_then(|at| column(rows, at).filter_map(read).map(i64::abs).min()).unwrap_or(0);
    match (decimals, layout.price_decimals) {
        (0, _) => Ok(SpreadUnit::Points),
        (own, prices) if own == prices || own > 1 && largest < least / 50 => Ok(SpreadUnit::Prices),
        (1, 3 | 5) => Ok(SpreadUnit::Pips),
        // Too large to be a difference of prices.
        (1, 2 | 4) if largest > least / 50 => Ok(SpreadUnit::Pips),
        _ => Err(format!(
            "Its spreads, such as {}, may be points, pips or differences of prices; say a layout with spreads = \"points\", \"pips\" or \"prices\" (docs/layouts.md).",
            String::from_utf8_lossy(cells.iter().max_by_key(|c| places(c)).copied().unwrap_or_default())
        )),
    }
}

/// Fills in what a layout leaves to the file: decimals, zones, the order of dates as far as the rows
/// decide it.
fn describe(layout: &mut Layout, rows: &[CellRow], name: &str) -> Option<Decided> {
    let numbers = layout.numbers;
    let decimals = |is: fn(Field) -> bool| {
        let wanted = layout.columns.iter().enumerate().filter(|(_, u)| matches!(u, Use::Field(f) if is(*f)));
        wanted
            .flat_map(|(i, _)| column(rows, i).map(|c| decimals_of(numbers.plain(c, &mut Vec::new()))))
            .filter(|places| *places <= MAX_DECIMALS)
            .max()
            .unwrap_or(0)
    };
    layout.price_decimals = decimals(Field::is_price).min(MAX_DECIMALS);
    layout.volume_decimals = decimals(Field::is_volume).min(MAX_DECIMALS);
    let dated: Vec<usize> =
        (0..layout.columns.len()).filter(|&i| matches!(layout.columns[i], Use::Moment | Use::Date)).collect();
    let evidence = DateEvidence::of(dated.iter().flat_map(|&i| column(rows, i)));
    let decided = evidence.by_numbers();
    if let Some(d) = &decided {
        layout.dates = d.order;
    }
    let named_utc = layout.header.iter().flatten().any(|n| {
        let upper = n.to_ascii_uppercase();
        (upper.contains("UTC") || upper.contains("GMT")) && !upper.contains('+')
    });
    layout.is_zoned = dated.iter().any(|&i| !rows.is_empty() && column(rows, i).all(moment::is_zoned));
    let counted = layout.columns.iter().any(|u| matches!(u, Use::Unix(_)));
    layout.says_utc = named_utc || layout.is_zoned || counted;
    layout.day = match layout
        .columns
        .iter()
        .any(|u| matches!(u, Use::Moment | Use::Date | Use::Unix(_) | Use::DayNumber))
    {
        true => None,
        false => day_in_name(name),
    };
    decided
        .or_else(|| dated.is_empty().then(|| Decided { order: DateOrder::YearFirst, why: "no dates".into() }))
}

/// Fits a saved layout to a file: what the layout leaves open is read off the rows.
pub fn fit(saved: &Layout, sample: &[u8], name: &str) -> Sniffed {
    let sample = sample.strip_prefix(b"\xef\xbb\xbf").unwrap_or(sample);
    let mut layout = saved.clone();
    let lead = saved.skip + usize::from(saved.header.is_some());
    let rows: Vec<CellRow> = sample
        .split(|&c| c == b'\n')
        .skip(lead)
        .map(<[u8]>::trim_ascii_end)
        .filter(|l| !l.is_empty() && (saved.comment.is_none() || l.first() != saved.comment.as_ref()))
        .take(LINES)
        .map(|l| cells::of(l, saved.delimiter).map(<[u8]>::to_vec).collect())
        .collect();
    describe(&mut layout, &rows, name);
    layout.dates = saved.dates;
    let why = saved.columns.iter().map(|_| "the layout says so".to_owned()).collect();
    let dates = Some(Decided { order: saved.dates, why: "the layout says so".into() });
    Sniffed { layout, dates, why, sides: Vec::new(), question: None }
}

/// The names in the header line of a sample under a layout, as they stand there.
pub fn header_under(layout: &Layout, sample: &[u8]) -> Vec<String> {
    let sample = sample.strip_prefix(b"\xef\xbb\xbf").unwrap_or(sample);
    let line = sample.split(|&c| c == b'\n').nth(layout.skip).unwrap_or_default().trim_ascii_end();
    names_of(line, layout.delimiter, layout.comment)
}

fn refuse_other_than_text(sample: &[u8], place: &str) -> Result<()> {
    let odd = sample
        .iter()
        .filter(|&&c| c < 32 && !matches!(c, b'\n' | b'\r' | b'\t' | crate::model::layout::CELLS))
        .count();
    if odd * 50 > sample.len() || sample.iter().filter(|c| **c == 0).count() * 100 > sample.len() {
        return Err(Error::input(format!(
            "{place} is not a table Stavel reads; it takes text tables, JSON, Parquet, XLSX, ODS and HTML, and .zip .gz .zst of them."
        )));
    }
    Ok(())
}

/// The mark with which some lines begin that are no rows.
fn find_comment(lines: &[&[u8]]) -> Option<u8> {
    [b'#', b'%'].into_iter().find(|m| lines.iter().any(|l| l.first() == Some(m)))
}

/// The place of the first line that has a time or a date, and a number or another word beside it.
fn first_row(
    lines: &[&[u8]],
    comment: Option<u8>,
    delimiter: Delimiter,
    numbers: NumberMarks,
) -> Option<usize> {
    let is_data = |line: &&[u8]| {
        if line.is_empty() || comment.is_some() && line.first() == comment.as_ref() {
            return false;
        }
        let shapes: Vec<CellShape> = cells::of(line, delimiter).map(|c| shape_of(c, numbers)).collect();
        let figures = shapes.iter().filter(|s| **s == CellShape::Number).count();
        let times = shapes
            .iter()
            .filter(|s| matches!(s, CellShape::Moment | CellShape::Date | CellShape::Time))
            .count();
        times > 0 && shapes.len() > 1 || figures > 1 && figures * 2 >= shapes.len()
    };
    lines.iter().position(is_data)
}

/// The line of names above the first row, where there is one; it may stand behind a comment's mark.
fn find_header(
    lines: &[&[u8]],
    begin: usize,
    comment: Option<u8>,
    delimiter: Delimiter,
    numbers: NumberMarks,
) -> (Option<usize>, Option<Vec<String>>) {
    let Some(at) = (0..begin).rev().find(|&i| !lines[i].is_empty()) else { return (None, None) };
    let names = names_of(lines[at], delimiter, comment);
    let width = cells::of(lines[begin], delimiter).count();
    let words = names.iter().filter(|n| shape_of(n.as_bytes(), numbers) == CellShape::Words).count();
    let fits = names.len() > 1 && names.len().abs_diff(width) <= 1 && words * 2 > names.len();
    if fits { (Some(at), Some(names)) } else { (None, None) }
}

fn names_of(line: &[u8], delimiter: Delimiter, comment: Option<u8>) -> Vec<String> {
    let line = match comment {
        Some(mark) => line.strip_prefix(&[mark]).unwrap_or(line).trim_ascii_start(),
        None => line,
    };
    cells::of(line, delimiter).map(|n| String::from_utf8_lossy(n).into_owned()).collect()
}

fn column(rows: &[CellRow], at: usize) -> impl Iterator<Item = &[u8]> {
    rows.iter().filter_map(move |r| r.get(at)).map(Vec::as_slice)
}

/// The shape most cells of a column have.
fn column_shape(rows: &[CellRow], at: usize, numbers: NumberMarks) -> CellShape {
    use CellShape::*;
    let shapes: Vec<CellShape> = column(rows, at).map(|c| shape_of(c, numbers)).collect();
    [Moment, Date, Time, Number, Nothing, Words]
        .into_iter()
        .max_by_key(|s| shapes.iter().filter(|x| *x == s).count())
        .unwrap_or(Words)
}

fn columns_of(
    header: Option<&[String]>,
    rows: &[CellRow],
    numbers: NumberMarks,
    name: &str,
    side: Option<Side>,
) -> (Vec<Use>, Vec<String>, Vec<Side>) {
    let width = rows.iter().map(Vec::len).max().unwrap_or(0);
    let shapes: Vec<CellShape> = (0..width).map(|c| column_shape(rows, c, numbers)).collect();
    let (mut uses, mut sides) = match header {
        Some(names) => names::by_names(names, &shapes, side),
        None => (shapes::by_shapes(rows, &shapes, numbers), Vec::new()),
    };
    uses.resize(width.max(uses.len()), Use::Skip);
    let mut why: Vec<String> = (0..uses.len())
        .map(|i| match (header.and_then(|h| h.get(i)), &uses[i]) {
            (Some(n), Use::Skip) => format!("nothing is read from '{n}'"),
            (Some(n), _) => format!("it is called '{n}'"),
            (None, Use::Skip) => "nothing says what it is".into(),
            (None, Use::Field(_)) => "by its place and how the numbers relate".into(),
            (None, _) => "by the look of its cells".into(),
        })
        .collect();
    let is_fact = |n: &String| names::is_fact_word(&plain_word(n));
    if header.is_some_and(|h| !h.iter().any(is_fact)) && !has_prices(&uses) {
        shapes::name_unnamed(&mut uses, &mut why, rows, &shapes, numbers);
    }
    settle_times(&mut uses, &mut why, header, rows, name);
    let priced = uses.iter().any(|u| matches!(u, Use::Field(_)));
    let known = header.is_some_and(|h| h.iter().any(is_fact));
    if let Some(names) = header.filter(|_| !priced && known || is_facts_beside_a_price(header, &uses)) {
        sides.clear();
        for (i, name) in names.iter().enumerate() {
            if !uses[i].is_time() && uses[i] != Use::Symbol {
                uses[i] = Use::Value(plain_word(name));
                why[i] = "a fact of its day".into();
            }
        }
    }
    (uses, why, sides)
}

/// A table of splits or events may hold a price or a number called amount; without bars, quotes or a last
/// price it is still a table of facts.
fn is_facts_beside_a_price(header: Option<&[String]>, uses: &[Use]) -> bool {
    let prices = uses.iter().filter(|u| matches!(u, Use::Field(f) if f.is_price())).count();
    prices == 0 && header.is_some_and(|h| h.iter().any(|n| names::is_fact_word(&plain_word(n))))
}

/// Finds the time among columns that do not look like one: counted times, and times of day whose date
/// stands in the file's name. A date alone is the whole moment (daily bars).
fn settle_times(
    uses: &mut [Use],
    why: &mut [String],
    header: Option<&[String]>,
    rows: &[CellRow],
    name: &str,
) {
    let timed = uses.iter().any(|u| matches!(u, Use::Moment | Use::Date));
    if !timed {
        let called =
            |i: usize| header.is_some_and(|h| h.get(i).is_some_and(|n| names::is_time_word(&plain_word(n))));
        let candidates = (0..uses.len())
            .filter(|&i| called(i))
            .chain((0..uses.len()).filter(|&i| header.is_none() && i < 2));
        for i in candidates.collect::<Vec<_>>() {
            if let Some((found, words)) = counted_time(rows, i, day_in_name(name).is_some()) {
                (uses[i], why[i]) = (found, words);
                break;
            }
        }
        if header.is_none() {
            shapes::renumber(uses, rows);
        }
    }
    if !uses.contains(&Use::Time)
        && let Some(date) = uses.iter().position(|u| *u == Use::Date)
    {
        uses[date] = Use::Moment;
    }
}

/// What a column of numbers counts, where its numbers are of the size that times have now.
fn counted_time(rows: &[CellRow], at: usize, date_in_name: bool) -> Option<(Use, String)> {
    let units = [Since1970::Seconds, Since1970::Millis, Since1970::Micros, Since1970::Nanos].map(Use::Unix);
    let fits = |u: &Use| {
        let read = |c: &[u8]| match u {
            // From 1990 on: smaller numbers are other counts.
            Use::Unix(unit) => moment::since_1970(c, *unit).filter(|t| *t > 631_152_000_000_000),
            Use::DayNumber => moment::day_number(c).filter(|_| c.len() >= 5 && !c.starts_with(b"0")),
            _ => moment::day_millis(c),
        };
        !rows.is_empty() && column(rows, at).all(|c| read(c).is_some())
    };
    let mut all: Vec<Use> = units.to_vec();
    all.extend([Use::DayNumber]);
    all.extend(date_in_name.then_some(Use::DayMillis));
    // The smaller unit reads numbers of the larger as times soon after 1970, hence the order.
    let found = all.into_iter().find(fits)?;
    let words = match &found {
        Use::Unix(_) => "numbers of the size that times since 1970 have",
        Use::DayNumber => "numbers of the size that days since 1899-12-30 have",
        _ => "milliseconds of the day; the file's name has the date",
    };
    Some((found, words.into()))
}

/// The date in a file's name: eight digits, or three numbers with marks between them, year first.
fn day_in_name(name: &str) -> Option<i64> {
    let bytes = name.as_bytes();
    (0..bytes.len()).filter(|&i| i == 0 || !bytes[i - 1].is_ascii_digit()).find_map(|i| {
        let text = &bytes[i..];
        let text: Vec<u8> = text.iter().take(10).map(|c| if *c == b'_' { b'-' } else { *c }).collect();
        let (day, rest) = moment::date(&text, DateOrder::YearFirst)
            .or_else(|| moment::date(text.get(..8)?, DateOrder::YearFirst))?;
        let ends = rest.first().is_none_or(|c| !c.is_ascii_digit());
        (ends && text.iter().take(4).all(u8::is_ascii_digit)).then_some(day)
    })
}

/// True where columns hold bars, quotes, trades or a book.
fn has_prices(uses: &[Use]) -> bool {
    let has = |f: Field| uses.contains(&Use::Field(f));
    has(Field::Close)
        || has(Field::Last)
        || has(Field::Level) && has(Field::Price)
        || has(Field::Bid) && has(Field::Ask)
}

/// Fails where a layout has no column of times, or none of prices; `first` is the file's first line, to be shown.
pub fn require_prices(layout: &Layout, place: &str, first: &[u8]) -> Result<()> {
    let timed = layout.columns.iter().any(|u| matches!(u, Use::Moment | Use::Unix(_) | Use::DayNumber))
        || layout.columns.contains(&Use::Date) && layout.columns.contains(&Use::Time)
        || layout.columns.iter().any(|u| matches!(u, Use::Time | Use::DayMillis));
    let priced = has_prices(&layout.columns) || layout.is_facts();
    let missing = match (timed, priced) {
        (true, true) => return Ok(()),
        (false, _) => "no column of times",
        (true, false) => "no prices (open, high, low and close, or bid and ask, or last)",
    };
    let shown: String = String::from_utf8_lossy(first).chars().take(60).collect();
    Err(Error::input(format!(
        "{place} has {missing} that Stavel recognises; its first line is '{shown}'. Say what its columns are."
    ))
    .advise(Advice::Say(Setting::Layout)))
}

#[cfg(test)]
mod tests;
