//! Orders as CSV: `time,instrument,side,type,lots,price,stop,target,until`, of which `time`, `side` and `lots` are needed.

use std::path::Path;

use rust_decimal::Decimal;

use super::acts::parse_lots;
use super::order::{Direction, Exit, LOT, OrderKind, Size, Ticket, Until};
use crate::model::price::unit;
use crate::model::{Micros, time};
use crate::{Error, Result};

/// Every column that an order may have.
const COLUMNS: [&str; 9] = ["time", "instrument", "side", "type", "lots", "price", "stop", "target", "until"];

/// Those that hold numbers.
const NUMBERS: [&str; 4] = ["lots", "price", "stop", "target"];

/// An order of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FileOrder {
    /// The line of the file.
    pub line: u64,
    /// When it is given.
    pub time: Micros,
    /// True where its time names its distance from UTC; else it is taken for UTC.
    pub is_zoned: bool,
    /// The instrument, or a series of it; empty where only one is played.
    pub instrument: String,
    /// Buy or sell.
    pub direction: Direction,
    /// How much.
    pub size: Size,
    kind: FileKind,
    stop: Option<FilePrice>,
    target: Option<FilePrice>,
    /// How long it waits.
    pub until: Until,
}

/// A price as it is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FilePrice {
    At(Decimal),
    Away(i64),
    Trail(i64),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FileKind {
    Market,
    Limit(Decimal),
    Stop(Decimal),
    StopLimit(Decimal, Decimal),
    Trailing(i64),
}

impl FileOrder {
    /// The order for an instrument that stands at a place and whose prices have so many decimals.
    ///
    /// # Errors
    /// A sentence for a price that has more decimals than the instrument.
    pub fn ticket(&self, of: usize, decimals: u8) -> Result<Ticket> {
        let points =
            |price: Decimal| points_of(price, decimals).ok_or_else(|| self.too_fine(price, decimals));
        let exit = |price: FilePrice| -> Result<Exit> {
            Ok(match price {
                FilePrice::At(price) => Exit::At(points(price)?),
                FilePrice::Away(points) => Exit::Away(points),
                FilePrice::Trail(points) => Exit::Trail(points),
            })
        };
        let kind = match self.kind {
            FileKind::Market => OrderKind::Market,
            FileKind::Limit(price) => OrderKind::Limit(points(price)?),
            FileKind::Stop(price) => OrderKind::Stop(points(price)?),
            FileKind::StopLimit(stop, limit) => {
                OrderKind::StopLimit { stop: points(stop)?, limit: points(limit)? }
            }
            FileKind::Trailing(distance) => OrderKind::Trailing(distance),
        };
        Ok(Ticket {
            of,
            direction: self.direction,
            size: self.size,
            kind,
            stop: self.stop.map(exit).transpose()?,
            target: self.target.map(exit).transpose()?,
            until: self.until,
            tag: String::new(),
        })
    }

    fn too_fine(&self, price: Decimal, decimals: u8) -> Error {
        Error::input(format!(
            "line {}: the price {price} has more decimals than the {decimals} that are played.",
            self.line
        ))
    }
}

/// A price in points; none where it has more decimals.
pub(super) fn points_of(price: Decimal, decimals: u8) -> Option<i64> {
    let points = price.checked_mul(Decimal::from(unit(decimals)))?.normalize();
    if points.scale() > 0 { None } else { i64::try_from(points).ok() }
}

/// Reads orders from a file.
///
/// # Errors
/// A sentence with the line that makes no sense.
pub fn read_orders(path: &Path) -> Result<Vec<FileOrder>> {
    let file = std::fs::File::open(path)
        .map_err(|e| Error::input(format!("The orders {} cannot be read: {e}.", path.display())))?;
    orders_in(std::io::BufReader::new(file), &path.display().to_string())
}

/// Reads orders from the text of such a file, which lies at `place`; in order of time. Where its names are set apart by semicolons
/// or tabs, so are its cells; behind semicolons numbers may have a decimal comma.
///
/// # Errors
/// As [`read_orders`].
pub fn orders_in(mut text: impl std::io::Read, place: &str) -> Result<Vec<FileOrder>> {
    let mut bytes = Vec::new();
    text.read_to_end(&mut bytes)
        .map_err(|e| Error::input(format!("The orders {place} cannot be read: {e}.")))?;
    // The reader counts a line too few before an end of two bytes.
    let bytes: Vec<u8> = bytes.into_iter().filter(|byte| *byte != b'\r').collect();
    let first = bytes.split(|c| *c == b'\n').next().unwrap_or_default();
    let mark = [b',', b';', b'\t'].into_iter().find(|mark| first.contains(mark)).unwrap_or(b',');
    let mut reader = csv::ReaderBuilder::new()
        .trim(csv::Trim::All)
        .delimiter(mark)
        .flexible(true)
        .from_reader(bytes.as_slice());
    let cannot = |e: csv::Error| Error::input(format!("The orders {place} cannot be read: {e}."));
    let header = reader.headers().map_err(cannot)?;
    let names: Vec<String> =
        header.iter().map(|n| n.trim_start_matches('\u{feff}').to_ascii_lowercase()).collect();
    if let Some(odd) = names.iter().find(|n| !COLUMNS.contains(&n.as_str())) {
        return Err(Error::input(format!(
            "The orders {place} have a column '{}' that is not understood, and an order may not be played without what it says; its columns are {}.",
            crate::error::printable(odd),
            COLUMNS.join(", ")
        )));
    }
    if let Some(twice) = names.iter().enumerate().find(|(i, n)| names[..*i].contains(n)) {
        return Err(Error::input(format!("The orders {place} have two columns '{}'.", twice.1)));
    }
    if !["time", "side", "lots"].iter().all(|needed| names.iter().any(|n| n == needed)) {
        return Err(Error::input(format!(
            "The orders {place} need a line of names with the columns time, side and lots at least."
        )));
    }
    let mut orders = Vec::new();
    for record in reader.records() {
        let record = record.map_err(cannot)?;
        let line = record.position().map_or(0, csv::Position::line);
        if record.len() != names.len() {
            return Err(Error::input(format!(
                "{place}, line {line}: it has {} cells, and the line of names has {}.",
                record.len(),
                names.len()
            )));
        }
        let record: Vec<String> = names
            .iter()
            .zip(&record)
            .map(|(name, cell)| match NUMBERS.contains(&name.as_str()) && mark == b';' {
                true => cell.replace(',', "."),
                false => cell.to_owned(),
            })
            .collect();
        let cell = |name: &str| {
            let at = names.iter().position(|n| n == name);
            at.and_then(|at| record.get(at)).map(String::as_str).unwrap_or_default()
        };
        let order =
            order_of(line, &cell).map_err(|what| Error::input(format!("{place}, line {line}: {what}.")))?;
        orders.push(order);
    }
    if orders.is_empty() {
        return Err(Error::input(format!("The orders {place} are a line of names without any order.")));
    }
    orders.sort_by_key(|o| o.time);
    Ok(orders)
}

pub(super) fn order_of<'a>(line: u64, cell: &impl Fn(&str) -> &'a str) -> Result<FileOrder, String> {
    let direction = match cell("side").to_ascii_lowercase().as_str() {
        "buy" => Direction::Buy,
        "sell" => Direction::Sell,
        _ => return Err("the side must be buy or sell".to_owned()),
    };
    let time = time::parse(cell("time")).map_err(|_| "the time must be written as 2024-03-05T10:00Z")?;
    Ok(FileOrder {
        line,
        time,
        is_zoned: names_zone(cell("time")),
        instrument: cell("instrument").to_owned(),
        direction,
        size: size_of(cell("lots"))?,
        kind: kind_of(cell("type"), cell("price"))?,
        stop: exit_of("stop", cell("stop"))?,
        target: exit_of("target", cell("target"))?,
        until: until_of(cell("until"))?,
    })
}

/// True for a time with `Z`, or a distance as `+01:00`, behind its time of day.
fn names_zone(text: &str) -> bool {
    let of_day = text.get(10..).unwrap_or_default();
    of_day.ends_with(['Z', 'z']) || of_day.contains(['+', '-'])
}

pub(super) fn size_of(text: &str) -> Result<Size, String> {
    if let Some(share) = text.strip_suffix('%') {
        let share = share.trim().parse().ok().filter(|s| *s > Decimal::ZERO && *s <= Decimal::ONE_HUNDRED);
        return share.map(Size::Risk).ok_or_else(|| "the risk must be above 0% and at most 100%".to_owned());
    }
    let lots = parse_lots(text).filter(|l| (1..=100_000 * LOT).contains(l));
    lots.map(Size::Lots).ok_or_else(|| "the lots must be 0.01 to 100000, or a risk as 1%".to_owned())
}

fn price_of(text: &str) -> Result<Decimal, String> {
    text.trim().parse().map_err(|_| format!("'{}' is not a price", crate::error::printable(text)))
}

/// A distance, as `50pt`.
fn distance_of(text: &str) -> Option<i64> {
    text.trim().strip_suffix("pt")?.trim().parse().ok().filter(|points: &i64| *points > 0)
}

fn kind_of(kind: &str, price: &str) -> Result<FileKind, String> {
    let needs = || match price {
        "" => Err(format!("an order of type {kind} needs a price")),
        price => price_of(price),
    };
    match kind.to_ascii_lowercase().as_str() {
        "" | "market" if price.is_empty() => Ok(FileKind::Market),
        "" => Err("an order with a price needs a type: limit, stop, stop-limit or trailing".to_owned()),
        "market" => Err("a market order has no price".to_owned()),
        "limit" => needs().map(FileKind::Limit),
        "stop" => needs().map(FileKind::Stop),
        "stop-limit" => {
            let both = price.split_once('/').ok_or("a stop-limit needs two prices, as 1.02500/1.02520")?;
            Ok(FileKind::StopLimit(price_of(both.0)?, price_of(both.1)?))
        }
        "trailing" => {
            let distance = distance_of(price)
                .ok_or("a trailing stop needs a distance in points as its price, as 50pt")?;
            Ok(FileKind::Trailing(distance))
        }
        other => Err(format!(
            "'{}' is not a type of order; write market, limit, stop, stop-limit or trailing",
            crate::error::printable(other)
        )),
    }
}

fn exit_of(name: &str, text: &str) -> Result<Option<FilePrice>, String> {
    if text.is_empty() {
        return Ok(None);
    }
    let bad = || {
        format!(
            "the {name} '{}' must be a price, or a distance in points as 50pt",
            crate::error::printable(text)
        )
    };
    if let Some(behind) = text.strip_prefix("trail ") {
        return distance_of(behind).map(FilePrice::Trail).map(Some).ok_or_else(bad);
    }
    match distance_of(text) {
        Some(points) => Ok(Some(FilePrice::Away(points))),
        None => price_of(text).map(FilePrice::At).map(Some).map_err(|_| bad()),
    }
}

fn until_of(text: &str) -> Result<Until, String> {
    match text.to_ascii_lowercase().as_str() {
        "" | "cancelled" => Ok(Until::Cancelled),
        "day" => Ok(Until::Day),
        _ => {
            let time = time::parse(text);
            time.map(Until::Time)
                .map_err(|_| "until must be day, cancelled, or a time as 2024-03-05T10:00Z".to_owned())
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> Result<Vec<FileOrder>> {
        orders_in(text.as_bytes(), "o.csv")
    }

    #[test]
    fn semicolons_tabs_and_decimal_commas_are_read_as_they_are_written() {
        let comma = read("time,side,lots,type,price\n2024-03-05T09:05Z,buy,0.1,limit,1.02400\n").unwrap();
        let semicolon = "\u{feff}Time;Side;Lots;Type;Price\r\n2024-03-05T09:05Z;BUY;0,1;limit;1,02400\r\n";
        let tab = "time\tside\tlots\ttype\tprice\n2024-03-05T09:05Z\tbuy\t0.1\tlimit\t1.02400\n";
        for other in [semicolon, tab] {
            assert_eq!(read(other).unwrap(), comma, "{other}");
        }
        let told = read("time,side,lots\n2024-03-05T09:05Z,buy,\"0,1\"\n").unwrap_err().to_string();
        assert!(
            told.contains("line 2: the lots must be"),
            "a comma between commas is no decimal one: {told}"
        );
    }

    #[test]
    fn what_makes_no_sense_is_told_with_its_line() {
        for (text, why) in [
            (
                "time,side,lots\n2024-03-05T09:05Z,buy\n",
                "line 2: it has 2 cells, and the line of names has 3",
            ),
            ("time,side,lots\n2024-03-05T09:05Z,buy,1,\n", "line 2: it has 4 cells"),
            ("time,side,lots\n", "without any order"),
            ("", "need a line of names"),
            ("time,side,lots,size\n", "a column 'size' that is not understood"),
            ("time,side,side,lots\n", "two columns 'side'"),
            ("time,side,lots\n05/03/2024 09:05,buy,1\n", "line 2: the time must be written as"),
        ] {
            let told = read(text).unwrap_err().to_string();
            assert!(told.contains(why), "{told}");
        }
    }

    #[test]
    fn a_time_says_whether_it_names_its_zone() {
        let all = "time,side,lots\n2024-03-05 09:05,buy,1\n2024-03-05T10:05:00+01:00,buy,1\n2024-03-05T09:05:00Z,buy,1\n";
        let told: Vec<(bool, Micros)> =
            read(all).unwrap().iter().map(|order| (order.is_zoned, order.time)).collect();
        let time = time::parse("2024-03-05T09:05Z").unwrap();
        assert_eq!(told, [(false, time), (true, time), (true, time)]);
    }
}
