//! Instruments and their spec sheets.
//!
//! A sheet is a list of keys with values. An instrument owns some of them and takes the others from
//! the one it is like; what nobody owns has a default by kind. One table, [`KEYS`], names every key.

use std::collections::BTreeMap;

use iso_currency::Currency;
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::clock::Clock;
use super::contract_month::ContractMonth;
use super::costs::{Commission, Margin, SwapKind};
use super::price::{MAX_DECIMALS, unit};
use super::provenance::Input;
use super::session::{Holiday, Session, SessionWeek, Settlement, SundayPart};
use super::standing::Standing;
use super::time;
use crate::{Error, Result};

/// One line of a spec sheet.
pub struct Key {
    /// As it is written.
    pub name: &'static str,
    /// What it says, with its unit.
    pub about: &'static str,
    check: fn(&str) -> Result<()>,
}

/// Every key of a spec sheet, in the order they are shown.
pub const KEYS: [Key; 25] = [
    Key {
        name: "kind",
        about: "forex, metal, futures, index, cfd, share, crypto or other",
        check: |v| v.parse::<InstrumentKind>().map(drop),
    },
    Key { name: "base", about: "what is bought: a currency or a good", check: short_word },
    Key { name: "quote", about: "currency of price, costs and P&L", check: short_word },
    Key { name: "decimals", about: "decimals of the price", check: |v| decimals(v).map(drop) },
    Key { name: "tick_size", about: "smallest price step", check: positive },
    Key { name: "tick_value", about: "money one step of one lot is worth, in quote", check: positive },
    Key { name: "contract_size", about: "units in one lot", check: positive },
    Key { name: "lot_min", about: "least lots of an order", check: positive_or_none },
    Key { name: "lot_step", about: "step of the lots of an order", check: positive_or_none },
    Key { name: "lot_max", about: "most lots of an order", check: positive_or_none },
    Key {
        name: "commission",
        about: "money a lot and side in quote (3.50), both sides (7.00 round) or a share (0.01% min 2.50)",
        check: |v| v.parse::<Commission>().map(drop),
    },
    Key { name: "swap_long", about: "a lot and night held long, told as swap_kind says", check: number },
    Key { name: "swap_short", about: "a lot and night held short, told as swap_kind says", check: number },
    Key {
        name: "swap_kind",
        about: "how swaps are told: money in quote, points, or rate (per cent a year)",
        check: |v| v.parse::<SwapKind>().map(drop),
    },
    Key {
        name: "swap_triple",
        about: "day that pays three nights' swap, for the weekend: mon … sun, or none",
        check: |v| triple(v).map(drop),
    },
    Key {
        name: "margin",
        about: "what a lot binds: money in quote (500), a share (3.33%) or steps by lots (2% to 10, 5%)",
        check: |v| v.parse::<Margin>().map(drop),
    },
    Key {
        name: "spread",
        about: "fixed spread in points; 'data' takes what the data say",
        check: |v| spread(v).map(drop),
    },
    Key { name: "clock", about: "clock of the session days", check: |v| v.parse::<Clock>().map(drop) },
    Key { name: "hours", about: "session week", check: |v| v.parse::<SessionWeek>().map(drop) },
    Key {
        name: "holidays",
        about: "session days without trading, or with other hours (2024-12-24 -13:00), divided by commas",
        check: |v| dates(v).map(drop),
    },
    Key {
        name: "sunday",
        about: "a Sunday's hours before Monday's session day: own (a short day of its own) or monday",
        check: |v| v.parse::<SundayPart>().map(drop),
    },
    Key {
        name: "settlement",
        about: "time of the daily close (14:30 Europe/Oslo); none takes the last price",
        check: |v| settlement(v).map(drop),
    },
    Key {
        name: "month",
        about: "month of a futures contract (2024-03), where its name does not tell it",
        check: |v| contract_month(v).map(drop),
    },
    Key {
        name: "expiry",
        about: "last day on which a contract trades (2024-03-15)",
        check: |v| expiry(v).map(drop),
    },
    Key { name: "description", about: "what it is, in your own words", check: description },
];

/// The broad sort of an instrument; it decides defaults.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::VariantNames)]
#[strum(serialize_all = "lowercase", parse_err_ty = Error, parse_err_fn = not_a_kind)]
pub enum InstrumentKind {
    /// A pair of currencies.
    Forex,
    /// A metal in a currency.
    Metal,
    /// A contract with a month.
    Futures,
    /// An index, or a contract on one.
    Index,
    /// A contract for the difference of a price, on anything.
    Cfd,
    /// A share of a company.
    Share,
    /// A coin.
    Crypto,
    /// Nobody has said.
    Other,
}

impl InstrumentKind {
    /// True where a price of zero or below cannot be. Futures, and what is made of differences, may have one.
    pub fn is_positive(self) -> bool {
        matches!(
            self,
            InstrumentKind::Forex | InstrumentKind::Metal | InstrumentKind::Share | InstrumentKind::Crypto
        )
    }
}

fn not_a_kind(text: &str) -> Error {
    let words = <InstrumentKind as strum::VariantNames>::VARIANTS.join(", ");
    Error::arguments(format!("'{text}' is not a kind of instrument; write one of {words}."))
}

/// What an instrument says of itself, and what it takes from another.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct OwnValues {
    /// The instrument it is like, whose values it takes where it has none.
    pub like: Option<String>,
    /// Values that were said, as written.
    pub said: BTreeMap<String, String>,
    /// Values that were found in its rows, as written.
    pub found: BTreeMap<String, String>,
}

/// What is traded: a name, the values it owns, and the sheet they resolve to.
#[derive(Debug, Clone)]
pub struct Instrument {
    /// As it is written.
    pub name: String,
    /// The values it owns.
    pub own: OwnValues,
    /// Every value in force, as written.
    pub values: BTreeMap<String, String>,
    /// How each value in force is known; what is inherited is known as it is there.
    pub standings: BTreeMap<String, Standing>,
    /// The values in force, as numbers.
    pub sheet: SpecSheet,
}

/// The values in force, typed.
#[derive(Debug, Clone)]
pub struct SpecSheet {
    /// The broad sort.
    pub kind: InstrumentKind,
    /// The currency or good that is traded.
    pub base: String,
    /// The currency of price, costs and P&L.
    pub quote: String,
    /// Decimals of the price.
    pub decimals: u8,
    /// The smallest step of the price.
    pub tick_size: Decimal,
    /// What one step of one lot is worth, in the quote currency.
    pub tick_value: Decimal,
    /// What a side costs.
    pub commission: Commission,
    /// A lot and night held long, told as `swap_kind` says.
    pub swap_long: Decimal,
    /// A lot and night held short, told as `swap_kind` says.
    pub swap_short: Decimal,
    /// How the swaps are told.
    pub swap_kind: SwapKind,
    /// What a position binds.
    pub margin: Margin,
    /// Least, step and most lots of an order; none where nobody has said it.
    pub lots: [Option<Decimal>; 3],
    /// The weekday (0 is Monday) whose session day pays three nights of swap; none pays one each.
    pub swap_triple: Option<i64>,
    /// Fixed spread in points, where the sheet has one.
    pub spread: Option<i64>,
    /// When it trades.
    pub session: Session,
    /// Of a contract, the month that was said.
    pub month: Option<ContractMonth>,
    /// Of a contract, the last session day on which it trades, in days since 1970-01-01, where that was said.
    pub expiry: Option<i64>,
}

/// Keys that are of one contract alone: whatever is like it has its own.
const OF_ITSELF: [&str; 2] = ["month", "expiry"];

/// True where instruments of a kind have a value of that key: a share pays no swap, a currency is not settled at a time of
/// its own.
pub fn applies(key: &str, kind: InstrumentKind) -> bool {
    use InstrumentKind::*;
    match key {
        "swap_long" | "swap_short" | "swap_kind" | "swap_triple" => !matches!(kind, Futures | Share),
        "settlement" => !matches!(kind, Forex | Metal | Crypto),
        "month" | "expiry" => matches!(kind, Futures | Other),
        _ => true,
    }
}

impl Instrument {
    /// An instrument out of its own values and the instrument it is like.
    ///
    /// # Errors
    /// One sentence for a key or value that makes no sense.
    pub fn resolve(name: &str, like: Option<&Instrument>, own: OwnValues) -> Result<Instrument> {
        for (key, value) in own.said.iter().chain(&own.found) {
            check(key, value).map_err(|e| Error::arguments(format!("{name}: {e}")))?;
        }
        let (mut values, mut standings) = match like {
            Some(like) => (like.values.clone(), like.standings.clone()),
            None => Default::default(),
        };
        // What the one above only assumes is assumed anew from what this one says: a tick size from its
        // decimals, say. What kind of thing it is and in which currencies stays.
        let follows = |key: &str| !["kind", "base", "quote"].contains(&key);
        values.retain(|key, _| standings.get(key) != Some(&Standing::Assumed) || !follows(key));
        values.retain(|key, _| !OF_ITSELF.contains(&key.as_str()));
        standings.retain(|key, _| values.contains_key(key));
        for (from, standing) in [(&own.found, Standing::Found), (&own.said, Standing::Said)] {
            for (key, value) in from {
                values.insert(key.clone(), value.clone());
                standings.insert(key.clone(), standing);
            }
        }
        for (key, value) in defaults(name, &values) {
            values.entry(key.to_owned()).or_insert(value);
            standings.entry(key.to_owned()).or_insert(Standing::Assumed);
        }
        let sheet = SpecSheet::read(&values)?;
        Ok(Instrument { name: name.into(), own, values, standings, sheet })
    }

    /// The keys that make the session: its week, the clock of its days and its holidays.
    pub const SESSION: [&str; 3] = ["hours", "clock", "holidays"];

    /// The keys that say where session days begin and end and what their close is: those of the session, what becomes
    /// of its Sundays, and the settlement.
    pub const DAYS: [&str; 5] = ["hours", "clock", "holidays", "sunday", "settlement"];

    /// Values of the sheet as inputs of an act that reads them.
    pub fn inputs(&self, keys: &[&str]) -> Vec<Input> {
        let input = |key: &&str| Input::Sheet {
            instrument: self.name.clone(),
            key: (*key).to_owned(),
            value: self.values.get(*key).cloned(),
        };
        keys.iter().map(input).collect()
    }

    /// How a value of the sheet is known.
    pub fn standing(&self, key: &str) -> Standing {
        self.standings.get(key).copied().unwrap_or(Standing::Assumed)
    }

    /// Where the value of a key comes from: the instrument itself, the one it is like, or a default; none where there is
    /// no value.
    pub fn origin(&self, key: &str) -> &'static str {
        if self.own.said.contains_key(key) {
            "own"
        } else if self.own.found.contains_key(key) {
            "found"
        } else if self.standing(key) == Standing::Assumed {
            // Nothing is assumed where nothing stands.
            if self.values.get(key).is_none_or(String::is_empty) { "not known" } else { "assumed" }
        } else {
            "inherited"
        }
    }
}

impl SpecSheet {
    fn read(values: &BTreeMap<String, String>) -> Result<SpecSheet> {
        let text = |key: &str| values.get(key).map(String::as_str).unwrap_or_default();
        let decimals = decimals(text("decimals"))?;
        let lots = |key: &str| Some(text(key)).filter(|v| !v.is_empty()).map(decimal).transpose();
        Ok(SpecSheet {
            kind: text("kind").parse()?,
            base: text("base").into(),
            quote: text("quote").into(),
            decimals,
            tick_size: decimal(text("tick_size"))?,
            tick_value: decimal(text("tick_value"))?,
            commission: text("commission").parse()?,
            swap_long: decimal(text("swap_long"))?,
            swap_short: decimal(text("swap_short"))?,
            swap_kind: text("swap_kind").parse()?,
            margin: text("margin").parse()?,
            lots: [lots("lot_min")?, lots("lot_step")?, lots("lot_max")?],
            swap_triple: triple(text("swap_triple"))?,
            spread: spread(text("spread"))?,
            session: Session {
                week: text("hours").parse()?,
                clock: text("clock").parse()?,
                holidays: dates(text("holidays"))?,
                sunday: text("sunday").parse()?,
                settlement: settlement(text("settlement"))?,
            },
            month: contract_month(text("month"))?,
            expiry: expiry(text("expiry"))?,
        })
    }

    /// The fixed spread, where the sheet has one, as a difference of prices with `decimals`. The sheet gives it
    /// in points of the instrument's own decimals; what a coarser price cannot hold is rounded up.
    pub fn spread_at(&self, decimals: u8) -> Option<i64> {
        let points = self.spread?;
        Some(match decimals.checked_sub(self.decimals) {
            Some(more) => points.saturating_mul(unit(more)),
            None => {
                let fewer = unit(self.decimals - decimals);
                points.div_euclid(fewer) + i64::from(points.rem_euclid(fewer) > 0)
            }
        })
    }

    /// Points of `decimals` in one tick size.
    ///
    /// # Errors
    /// Where a tick size is no whole number of them.
    pub fn tick_points(&self, decimals: u8) -> Result<i64> {
        let points = self.tick_size * Decimal::from(unit(decimals));
        let whole = i64::try_from(points).ok().filter(|whole| *whole > 0 && Decimal::from(*whole) == points);
        whole.ok_or_else(|| {
            Error::arguments(format!(
                "its tick size {} is no whole number of points at {decimals} decimals; say the right one with compose --set tick_size=….",
                self.tick_size.normalize()
            ))
        })
    }

    /// Money made by one lot when the price rises by `points` units of its last decimal (`decimals` of them).
    pub fn money(&self, points: i64, decimals: u8) -> Decimal {
        Decimal::new(points, decimals as u32) / self.tick_size * self.tick_value
    }
}

/// Checks one key and value.
///
/// # Errors
/// One sentence where there is no such key or the value does not fit it.
pub fn check(key: &str, value: &str) -> Result<()> {
    (known(key)?.check)(value)
}

/// The key of that name.
///
/// # Errors
/// One sentence where there is none.
pub fn known(key: &str) -> Result<&'static Key> {
    KEYS.iter().find(|k| k.name == key).ok_or_else(|| {
        let names: Vec<&str> = KEYS.iter().map(|k| k.name).collect();
        Error::arguments(format!("a spec sheet has no key '{key}'; its keys are {}.", names.join(", ")))
    })
}

/// The two currencies that a name of six capitals is made of, if it is, and whether the first is a metal.
/// The codes are those of ISO 4217, which has codes for gold, silver, platinum and palladium.
fn pair(name: &str) -> Option<(&str, &str, InstrumentKind)> {
    let is_currency = |code: &str| Currency::from_code(code).is_some();
    let (base, quote) = name.split_at_checked(3).filter(|_| name.len() == 6)?;
    let is_metal = ["XAU", "XAG", "XPT", "XPD"].contains(&base);
    let kind = if is_metal { InstrumentKind::Metal } else { InstrumentKind::Forex };
    ((is_metal || is_currency(base)) && is_currency(quote)).then_some((base, quote, kind))
}

/// True for the name of a pair of currencies, or of a metal in a currency.
pub fn is_pair(name: &str) -> bool {
    pair(name).is_some()
}

/// Values for what nobody set, by kind and name.
fn defaults(name: &str, values: &BTreeMap<String, String>) -> Vec<(&'static str, String)> {
    let pair = pair(name);
    let by_name = match pair {
        Some((_, _, InstrumentKind::Metal)) => "metal",
        Some(_) => "forex",
        None => "other",
    };
    let kind = values.get("kind").cloned().unwrap_or_else(|| by_name.into());
    let forex = kind == "forex";
    let places: u32 =
        values.get("decimals").and_then(|d| d.parse().ok()).unwrap_or(if forex { 5 } else { 2 });
    let places = places.min(MAX_DECIMALS as u32);
    let usual_size = Decimal::from(if forex { 100_000 } else { 1 });
    let size: Decimal = values.get("contract_size").and_then(|v| v.parse().ok()).unwrap_or(usual_size);
    let tick_size: Decimal =
        values.get("tick_size").and_then(|v| v.parse().ok()).unwrap_or_else(|| Decimal::new(1, places));
    let (base, quote) = pair.map_or((name, ""), |(base, quote, _)| (base, quote));
    let hours = if forex { "sun 17:00 - fri 17:00 America/New_York" } else { "mon-fri 00:00-24:00 UTC" };
    vec![
        ("kind", kind.clone()),
        ("base", base.into()),
        ("quote", quote.into()),
        ("decimals", places.to_string()),
        ("tick_size", tick_size.to_string()),
        ("tick_value", (tick_size * size).normalize().to_string()),
        ("contract_size", size.to_string()),
        ("commission", "0".into()),
        ("lot_min", String::new()),
        ("lot_step", String::new()),
        ("lot_max", String::new()),
        ("swap_long", "0".into()),
        ("swap_short", "0".into()),
        // Two nights of settlement for the weekend are paid on Wednesday for most pairs.
        ("swap_triple", if forex || kind == "metal" { "wed" } else { "none" }.into()),
        ("swap_kind", "money".into()),
        ("margin", String::new()),
        ("spread", "data".into()),
        ("clock", if forex { "America/New_York+7h" } else { "UTC" }.into()),
        ("hours", hours.into()),
        ("holidays", String::new()),
        ("sunday", "own".into()),
        ("settlement", "none".into()),
        ("month", String::new()),
        ("expiry", String::new()),
        ("description", String::new()),
    ]
}

fn short_word(value: &str) -> Result<()> {
    if value.len() <= 20 && value.chars().all(|c| c.is_alphanumeric() || c == '-') {
        Ok(())
    } else {
        Err(Error::arguments(format!("'{value}' is not a short word.")))
    }
}

fn decimals(value: &str) -> Result<u8> {
    value.parse().ok().filter(|&d| d <= MAX_DECIMALS).ok_or_else(|| {
        Error::arguments(format!("'{value}' is not a number of decimals from 0 to {MAX_DECIMALS}."))
    })
}

fn decimal(value: &str) -> Result<Decimal> {
    value.parse().map_err(|_| Error::arguments(format!("'{value}' is not a plain number such as 12.50.")))
}

/// A weekday, from Monday on; none for none.
fn triple(value: &str) -> Result<Option<i64>> {
    if value == "none" || value.is_empty() {
        return Ok(None);
    }
    let days = ["mon", "tue", "wed", "thu", "fri", "sat", "sun"];
    let day = days.iter().position(|d| *d == value).map(|d| Some(d as i64));
    day.ok_or_else(|| Error::arguments(format!("'{value}' is not a day; write {} or none.", days.join(", "))))
}

fn settlement(value: &str) -> Result<Option<Settlement>> {
    if value == "none" || value.is_empty() { Ok(None) } else { value.parse().map(Some) }
}

fn contract_month(value: &str) -> Result<Option<ContractMonth>> {
    Some(value).filter(|v| !v.is_empty()).map(str::parse).transpose()
}

fn expiry(value: &str) -> Result<Option<i64>> {
    let day = |text: &str| match text.len() {
        10 => time::parse(text).map(time::day_of),
        _ => Err(Error::arguments(format!("'{text}' is not a day; write it as 2024-03-15."))),
    };
    Some(value).filter(|v| !v.is_empty()).map(day).transpose()
}

fn number(value: &str) -> Result<()> {
    decimal(value).map(drop)
}

fn positive(value: &str) -> Result<()> {
    if decimal(value)? > Decimal::ZERO {
        Ok(())
    } else {
        Err(Error::arguments(format!("'{value}' must be above zero.")))
    }
}

fn positive_or_none(value: &str) -> Result<()> {
    if value.is_empty() { Ok(()) } else { positive(value) }
}

fn description(value: &str) -> Result<()> {
    if value.chars().count() <= 200 && !value.chars().any(char::is_control) {
        Ok(())
    } else {
        Err(Error::arguments("A description is one line of up to 200 letters."))
    }
}

fn spread(value: &str) -> Result<Option<i64>> {
    if value == "data" || value.is_empty() {
        return Ok(None);
    }
    match value.parse() {
        Ok(points) if (0..=unit(9)).contains(&points) => Ok(Some(points)),
        _ => Err(Error::arguments(format!("'{value}' is not a spread; write whole points, or data."))),
    }
}

fn dates(value: &str) -> Result<Vec<Holiday>> {
    let parts = value.split(',').map(str::trim).filter(|d| !d.is_empty());
    let mut days: Vec<Holiday> = parts.map(str::parse).collect::<Result<_>>()?;
    days.sort_unstable();
    days.dedup_by_key(|h| h.day);
    Ok(days)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn said(pairs: &[(&str, &str)]) -> OwnValues {
        let said = pairs.iter().map(|(k, v)| (k.to_string(), v.to_string())).collect();
        OwnValues { said, ..OwnValues::default() }
    }

    #[test]
    fn a_pair_gets_sensible_values_and_a_child_inherits() {
        let parent = Instrument::resolve("NOKSEK", None, said(&[("commission", "3.50")])).unwrap();
        assert_eq!((parent.sheet.base.as_str(), parent.sheet.quote.as_str()), ("NOK", "SEK"));
        assert_eq!(parent.sheet.money(10, 5), Decimal::new(10, 0));
        let child = Instrument::resolve("NOKSEK.day", Some(&parent), said(&[("spread", "18")])).unwrap();
        assert_eq!(child.sheet.commission.to_string(), "3.50");
        assert_eq!(child.sheet.spread, Some(18));
        assert_eq!(child.sheet.quote, "SEK");
        let origins = ["spread", "commission", "contract_size"].map(|k| child.origin(k));
        assert_eq!(origins, ["own", "inherited", "assumed"]);
    }

    #[test]
    fn each_value_tells_how_it_is_known() {
        let found = BTreeMap::from([("decimals".to_owned(), "3".to_owned())]);
        let own = OwnValues { found, ..said(&[("hours", "mon-fri 08:00-17:00 Europe/Oslo")]) };
        let parent = Instrument::resolve("NOKSEK", None, own).unwrap();
        let keys = ["hours", "decimals", "contract_size", "commission"];
        let known = |i: &Instrument| keys.map(|k| i.standing(k));
        assert_eq!(known(&parent), [Standing::Said, Standing::Found, Standing::Assumed, Standing::Assumed]);
        let child = Instrument::resolve("NOKSEK.day", Some(&parent), said(&[("decimals", "4")])).unwrap();
        assert_eq!(known(&child), [Standing::Said, Standing::Said, Standing::Assumed, Standing::Assumed]);
        assert_eq!((parent.sheet.decimals, child.sheet.decimals), (3, 4));
    }

    #[test]
    fn a_spread_of_points_is_the_same_price_at_any_decimals() {
        let sheet =
            Instrument::resolve("NOKSEK", None, said(&[("decimals", "5"), ("spread", "18")])).unwrap();
        assert_eq!([5, 6, 4].map(|d| sheet.sheet.spread_at(d)), [Some(18), Some(180), Some(2)]);
    }

    #[test]
    fn futures_money_by_tick() {
        let sheet =
            said(&[("kind", "futures"), ("tick_size", "0.25"), ("tick_value", "12.50"), ("decimals", "2")]);
        let bly = Instrument::resolve("BLY", None, sheet).unwrap();
        assert_eq!(bly.sheet.money(100, 2), Decimal::new(5000, 2));
    }

    #[test]
    fn a_contract_is_not_of_the_month_of_another() {
        let own = said(&[("kind", "futures"), ("month", "2024-03"), ("expiry", "2024-03-15")]);
        let march = Instrument::resolve("BLYH24", None, own).unwrap();
        assert_eq!(march.sheet.expiry, Some(19_797));
        let chain = Instrument::resolve("BLY.chain", Some(&march), said(&[])).unwrap();
        assert_eq!((chain.sheet.month, chain.sheet.expiry), (None, None));
        assert_eq!((chain.origin("expiry"), chain.origin("kind")), ("not known", "inherited"));
    }

    #[test]
    fn nonsense_is_refused_with_the_instrument_named() {
        for (key, value) in [
            ("colour", "red"),
            ("tick_size", "0"),
            ("decimals", "99"),
            ("spread", "-1"),
            ("holidays", "soon"),
            ("month", "march"),
            ("expiry", "2024-03-15 12:00"),
        ] {
            let err = Instrument::resolve("NOKSEK", None, said(&[(key, value)])).unwrap_err();
            assert!(err.to_string().starts_with("NOKSEK: "), "{err}");
        }
    }
}
