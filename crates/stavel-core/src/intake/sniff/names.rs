//! What the words of a header mean.

use super::marks::CellShape;
use crate::model::layout::Use;
use crate::model::{Field, Side};

/// A name without its brackets, units, blanks and case: `[Bid Price (SEK)]` is `bidprice`.
pub fn plain_word(name: &str) -> String {
    let name = name.trim_matches(|c: char| "<>[](){}#\"' \t".contains(c)).to_lowercase();
    let without_unit = name.split(['(', '[']).next().filter(|t| !t.trim().is_empty()).unwrap_or(&name);
    without_unit.chars().filter(|c| c.is_alphanumeric()).collect()
}

/// True for the names of columns that say when a row is.
pub fn is_time_word(word: &str) -> bool {
    let word = word
        .trim_end_matches("utc")
        .trim_end_matches("gmt")
        .trim_start_matches("utc")
        .trim_start_matches("gmt");
    const WORDS: [&str; 29] = [
        "",
        "time",
        "date",
        "datetime",
        "dateandtime",
        "timestamp",
        "ts",
        "t",
        "moment",
        "opentime",
        "closetime",
        "bartime",
        "day",
        "when",
        "at",
        "tradetime",
        "ticktime",
        "quotetime",
        "localtime",
        "servertime",
        "timestampms",
        "timems",
        "epoch",
        "unix",
        "unixtime",
        "dt",
        "exdate",
        "reportdate",
        "timems",
    ];
    WORDS.contains(&word)
}

/// True where most cells of a line name columns.
pub fn are_names(cells: &[String]) -> bool {
    let known = |c: &&String| is_time_word(&plain_word(c)) || field_named(&plain_word(c)).is_some();
    cells.iter().filter(known).count() * 2 > cells.len()
}

fn is_tick_volume(word: &str) -> bool {
    matches!(word, "tickvolume" | "tickvol" | "volumeticks")
}

/// True where one of the names of columns is that of a volume of trades, not of a count of ticks.
fn has_traded_volume(words: &[String]) -> bool {
    let is_volume =
        |w: &String| field_named(w).is_some_and(|(f, _)| f == Field::Volume) && !is_tick_volume(w);
    words.iter().any(is_volume)
}

/// True for the names of columns that say of which instrument a row is.
pub fn is_symbol_word(word: &str) -> bool {
    ["symbol", "ticker", "instrument", "pair", "market", "contract", "code", "sym", "currencypair", "product"]
        .contains(&word)
}

/// The field a name means, and the side it is of where it says so.
pub fn field_named(word: &str) -> Option<(Field, Option<Side>)> {
    if let Some(field) = plain_field(word) {
        return Some((field, None));
    }
    for (mark, side) in [("bid", Side::Bid), ("ask", Side::Ask), ("mid", Side::Mid), ("offer", Side::Ask)] {
        let rest = word.strip_prefix(mark).or_else(|| word.strip_suffix(mark));
        if let Some(field @ (Field::Open | Field::High | Field::Low | Field::Close)) =
            rest.and_then(plain_field)
        {
            return Some((field, Some(side)));
        }
    }
    None
}

fn plain_field(word: &str) -> Option<Field> {
    Some(match word {
        "open" | "o" | "openprice" | "first" | "openingprice" => Field::Open,
        "high" | "h" | "highprice" | "max" | "highest" => Field::High,
        "low" | "l" | "lowprice" | "min" | "lowest" => Field::Low,
        "close" | "c" | "closeprice" | "closingprice" | "settle" | "settlement" => Field::Close,
        "volume" | "vol" | "v" | "qty" | "quantity" | "realvolume" | "totalvolume" | "contracts" | "lots" => {
            Field::Volume
        }
        word if is_tick_volume(word) => Field::Volume,
        "tickcount" | "ticks" | "trades" | "numberoftrades" | "numticks" | "tradecount" | "count" => {
            Field::TickCount
        }
        "openinterest" | "openint" | "oi" => Field::OpenInterest,
        "adjclose" | "adjustedclose" | "closeadjusted" | "closeadj" => Field::AdjustedClose,
        "spread" | "spreadpoints" => Field::Spread,
        "bid" | "bidprice" | "bestbid" | "b" => Field::Bid,
        "ask" | "askprice" | "offer" | "bestask" | "offerprice" | "a" => Field::Ask,
        "bidvolume" | "bidvol" | "bidsize" | "bidqty" | "bidquantity" => Field::BidVolume,
        "askvolume" | "askvol" | "asksize" | "askqty" | "askquantity" | "offersize" => Field::AskVolume,
        "last" | "price" | "trade" | "tradeprice" | "lastprice" | "px" => Field::Last,
        "size" | "lastsize" | "tradesize" | "amount" | "lastvolume" => Field::Size,
        "side" | "takerside" | "aggressor" | "aggressorside" | "direction" | "buysell" => Field::Taker,
        "level" | "depth" | "position" | "lvl" => Field::Level,
        "arrived" => Field::Arrived,
        "act" | "action" | "operation" | "updatetype" | "updateaction" => Field::Act,
        _ => return None,
    })
}

/// True for the names of what is known about an instrument on a date: actions, statements, events.
pub fn is_fact_word(word: &str) -> bool {
    const WORDS: [&str; 34] = [
        "dividend",
        "dividends",
        "split",
        "splits",
        "splitratio",
        "ratio",
        "factor",
        "event",
        "events",
        "title",
        "description",
        "announcement",
        "eps",
        "earnings",
        "revenue",
        "sales",
        "netincome",
        "assets",
        "liabilities",
        "equity",
        "cashflow",
        "importance",
        "impact",
        "actual",
        "forecast",
        "consensus",
        "previous",
        "rate",
        "interestrate",
        "corporateaction",
        "statement",
        "period",
        "quarter",
        "fiscalyear",
    ];
    WORDS.contains(&word)
}

/// The uses of columns by the words of a header, with the side the prices are of where the words say it.
/// The shapes tell dates and times apart.
pub fn by_names(names: &[String], shapes: &[CellShape], wanted: Option<Side>) -> (Vec<Use>, Vec<Side>) {
    let words: Vec<String> = names.iter().map(|n| plain_word(n)).collect();
    let mut sides: Vec<Side> = words.iter().filter_map(|w| field_named(w)?.1).collect();
    // Prices that say no side, beside others of the same kind that say they are the ask, are the bid.
    let is_plain_bid = !sides.is_empty()
        && !sides.contains(&Side::Bid)
        && words.iter().any(|w| matches!(field_named(w), Some((f, None)) if f.is_of_a_bar()));
    if is_plain_bid {
        sides.push(Side::Bid);
    }
    sides.sort_unstable();
    sides.dedup();
    let side = wanted.filter(|s| sides.contains(s)).or(sides.first().copied());
    let mut uses: Vec<Use> = Vec::new();
    for (i, word) in words.iter().enumerate() {
        let found = match shapes.get(i) {
            Some(CellShape::Moment) if is_time_word(word) => Use::Moment,
            Some(CellShape::Date) if is_time_word(word) => Use::Date,
            Some(CellShape::Time) if is_time_word(word) => Use::Time,
            _ if is_symbol_word(word) => Use::Symbol,
            _ => match field_named(word) {
                Some((_, of)) if of.is_some() && of != side => Use::Skip,
                Some((field, None)) if field.is_of_a_bar() && is_plain_bid && side != Some(Side::Bid) => {
                    Use::Skip
                }
                Some((field, _)) => Use::Field(field),
                None => Use::Skip,
            },
        };
        // A tick count is called a volume where no other is: beside a traded volume it is what it is.
        let found = match found {
            Use::Field(Field::Volume) if is_tick_volume(word) && has_traded_volume(&words) => {
                Use::Field(Field::TickCount)
            }
            found => found,
        };
        let taken = found != Use::Skip && uses.contains(&found);
        uses.push(if taken { Use::Skip } else { found });
    }
    if sides.len() > 1 {
        take_volume_of(side, &mut uses);
    }
    settle_words(&mut uses);
    name_times_by_shape(&mut uses, shapes);
    (uses, sides)
}

/// Where bars of two sides stand in one table, a volume that names the side is that of its bars.
fn take_volume_of(side: Option<Side>, uses: &mut [Use]) {
    let own = match side {
        Some(Side::Bid) => Field::BidVolume,
        Some(Side::Ask) => Field::AskVolume,
        _ => return,
    };
    let Some(at) = uses.iter().position(|u| *u == Use::Field(own)) else { return };
    uses.iter_mut().filter(|u| **u == Use::Field(Field::Volume)).for_each(|u| *u = Use::Skip);
    uses[at] = Use::Field(Field::Volume);
}

/// Where no name means a time, as in other languages, the cells say which columns are times.
fn name_times_by_shape(uses: &mut [Use], shapes: &[CellShape]) {
    if uses.iter().any(Use::is_time) {
        return;
    }
    for (shape, used) in
        [(CellShape::Moment, Use::Moment), (CellShape::Date, Use::Date), (CellShape::Time, Use::Time)]
    {
        if let Some(at) = (0..uses.len()).find(|&i| uses[i] == Use::Skip && shapes.get(i) == Some(&shape)) {
            uses[at] = used;
            if shape == CellShape::Moment {
                return;
            }
        }
    }
}

/// Words that mean one thing in one table and another in the next.
fn settle_words(uses: &mut [Use]) {
    let has = |uses: &[Use], f: Field| uses.contains(&Use::Field(f));
    let place = |uses: &[Use], f: Field| uses.iter().position(|u| *u == Use::Field(f));
    // `l` is low among bars, last among quotes; `price` and `size` belong to the book where there are levels.
    if has(uses, Field::Level) {
        if let Some(at) = place(uses, Field::Last) {
            uses[at] = Use::Field(Field::Price);
        }
        if let Some(at) = place(uses, Field::Volume).filter(|_| !has(uses, Field::Size)) {
            uses[at] = Use::Field(Field::Size);
        }
        return;
    }
    if let Some(at) = place(uses, Field::Size) {
        uses[at] = if has(uses, Field::Volume) { Use::Skip } else { Use::Field(Field::Volume) };
    }
    let bars = [Field::Open, Field::High, Field::Low].iter().any(|f| has(uses, *f));
    if bars {
        // Bars whose close is called last, and quotes beside them, which bars do not keep.
        if let Some(at) = place(uses, Field::Last) {
            uses[at] = if has(uses, Field::Close) { Use::Skip } else { Use::Field(Field::Close) };
        }
        for used in uses.iter_mut() {
            if matches!(
                used,
                Use::Field(Field::Bid | Field::Ask | Field::BidVolume | Field::AskVolume | Field::Taker)
            ) {
                *used = Use::Skip;
            }
        }
    }
    for used in uses.iter_mut().filter(|u| **u == Use::Field(Field::Act)) {
        *used = Use::Skip;
    }
}
