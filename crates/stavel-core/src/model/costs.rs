//! What a trade costs, as spec sheets say it: commission, swap, margin.

use std::fmt;
use std::str::FromStr;

use rust_decimal::Decimal;

use crate::{Error, Result};

/// A commission.
///
/// Written `3.50` (money a lot and side, in the quote currency), `7.00 round` (for both sides together), `0.01%` (of the
/// value of a side), each with a least amount a side where there is one: `0.01% min 2.50`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Commission {
    /// Money a lot and side, or a share of the value of a side.
    rate: Rate,
    /// The least that a side costs.
    least: Option<Decimal>,
    text: String,
}

/// A sum of money, or a share of a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Rate {
    Money(Decimal),
    /// One is all of it.
    Share(Decimal),
}

impl Default for Rate {
    fn default() -> Rate {
        Rate::Money(Decimal::ZERO)
    }
}

fn number(text: &str) -> Option<Decimal> {
    text.parse().ok()
}

fn rate(text: &str) -> Option<Rate> {
    match text.strip_suffix('%') {
        Some(percent) => number(percent.trim()).map(|p| Rate::Share(p / Decimal::ONE_HUNDRED)),
        None => number(text).map(Rate::Money),
    }
}

impl Commission {
    /// What one side of so many lots costs, where they are worth `value` in the quote currency.
    pub fn of_side(&self, lots: Decimal, value: Decimal) -> Decimal {
        let plain = match self.rate {
            Rate::Money(a_lot) => a_lot * lots,
            Rate::Share(share) => share * value.abs(),
        };
        match self.least {
            Some(least) if !lots.is_zero() => plain.max(least),
            _ => plain,
        }
    }

    /// True where nothing is ever charged.
    pub fn is_none(&self) -> bool {
        matches!(self.rate, Rate::Money(r) | Rate::Share(r) if r.is_zero()) && self.least.is_none()
    }
}

impl fmt::Display for Commission {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(if self.text.is_empty() { "0" } else { &self.text })
    }
}

impl FromStr for Commission {
    type Err = Error;

    fn from_str(text: &str) -> Result<Commission> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a commission; write money a lot and side as 3.50, both sides as 7.00 round, or a share as 0.01% min 2.50."
            ))
        };
        let (plain, least) = match text.split_once("min") {
            Some((plain, least)) => (plain.trim(), Some(number(least.trim()).ok_or_else(bad)?)),
            None => (text.trim(), None),
        };
        let (plain, sides) = match plain.strip_suffix("round") {
            Some(plain) => (plain.trim(), Decimal::TWO),
            None => (plain, Decimal::ONE),
        };
        let rate = match rate(plain).ok_or_else(bad)? {
            Rate::Money(money) => Rate::Money(money / sides),
            Rate::Share(share) => Rate::Share(share / sides),
        };
        if least.is_some_and(|least| least < Decimal::ZERO) {
            return Err(bad());
        }
        Ok(Commission { rate, least, text: text.trim().to_owned() })
    }
}

/// How the swaps of a sheet are told.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, strum::EnumString, strum::Display)]
#[strum(serialize_all = "lowercase", parse_err_ty = Error, parse_err_fn = not_a_swap_kind)]
pub enum SwapKind {
    /// Money a lot and night, in the quote currency.
    #[default]
    Money,
    /// Points of the price a night.
    Points,
    /// Per cent a year of the value, a night being a 360th of a year as money markets count it.
    Rate,
}

fn not_a_swap_kind(text: &str) -> Error {
    Error::arguments(format!("'{text}' is not a kind of swap; write money, points or rate."))
}

impl SwapKind {
    /// Money of one night of a lot: `swap` as the sheet has it, `a_point` what a point of a lot earns, `value` what a lot
    /// is worth, both in the quote currency.
    pub fn money(self, swap: Decimal, a_point: Decimal, value: Decimal) -> Decimal {
        match self {
            SwapKind::Money => swap,
            SwapKind::Points => swap * a_point,
            SwapKind::Rate => swap / Decimal::ONE_HUNDRED * value.abs() / Decimal::from(360),
        }
    }
}

/// What a position binds.
///
/// Written `500` (money a lot), `3.33%` (of its value), or in steps by lots: `2% to 10, 5% to 50, 10%`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Margin {
    /// Up to how many lots each rate holds, none for all above; in order.
    steps: Vec<(Option<Decimal>, Rate)>,
}

impl Margin {
    /// What so many lots bind, of which one is worth `value` in the quote currency: each part of them by its own rate. None
    /// where nobody has said it.
    pub fn of(&self, lots: Decimal, value: Decimal) -> Option<Decimal> {
        let mut left = lots.abs();
        let mut from = Decimal::ZERO;
        let mut bound = Decimal::ZERO;
        for (to, rate) in &self.steps {
            let part = to.map_or(left, |to| left.min(to - from));
            bound += match rate {
                Rate::Money(a_lot) => *a_lot * part,
                Rate::Share(share) => *share * value.abs() * part,
            };
            left -= part;
            from = to.unwrap_or(from);
        }
        (!self.steps.is_empty()).then_some(bound)
    }
}

impl FromStr for Margin {
    type Err = Error;

    fn from_str(text: &str) -> Result<Margin> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a margin; write money a lot as 500, a share as 3.33%, or steps by lots as 2% to 10, 5%."
            ))
        };
        let mut steps = Vec::new();
        let mut from = Decimal::ZERO;
        for part in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
            if steps.last().is_some_and(|(to, _): &(Option<Decimal>, Rate)| to.is_none()) {
                return Err(bad());
            }
            let (plain, to) = match part.split_once("to") {
                Some((plain, to)) => {
                    (plain.trim(), Some(number(to.trim()).filter(|to| *to > from).ok_or_else(bad)?))
                }
                None => (part, None),
            };
            let rate = rate(plain).ok_or_else(bad)?;
            if matches!(rate, Rate::Money(r) | Rate::Share(r) if r < Decimal::ZERO) {
                return Err(bad());
            }
            from = to.unwrap_or(from);
            steps.push((to, rate));
        }
        match steps.last() {
            Some((Some(_), _)) => Err(bad()),
            _ => Ok(Margin { steps }),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn d(text: &str) -> Decimal {
        text.parse().unwrap()
    }

    #[test]
    fn a_commission_is_money_or_a_share_of_one_side_or_both_with_a_least() {
        let of = |text: &str, lots: &str, value: &str| {
            text.parse::<Commission>().unwrap().of_side(d(lots), d(value)).normalize().to_string()
        };
        assert_eq!(of("3.50", "2", "0"), "7");
        assert_eq!(of("7.00 round", "2", "0"), "7");
        assert_eq!(of("0.01%", "1", "102500"), "10.25");
        assert_eq!(of("0.01% min 2.50", "0.01", "-1025"), "2.5");
        assert_eq!(of("0.5 min 1", "0", "0"), "0", "nothing traded costs nothing");
        assert_eq!("0.02% round min 1".parse::<Commission>().unwrap().to_string(), "0.02% round min 1");
        assert!(
            "0".parse::<Commission>().unwrap().is_none()
                && !"0 min 1".parse::<Commission>().unwrap().is_none()
        );
        for bad in ["", "much", "3.50 USD", "1% of", "2 min", "1 min -1", "round"] {
            assert!(bad.parse::<Commission>().is_err(), "{bad}");
        }
    }

    #[test]
    fn a_swap_is_money_points_or_a_rate_a_year() {
        let night = |kind: SwapKind| kind.money(d("-3.6"), d("0.5"), d("100000")).normalize().to_string();
        assert_eq!([SwapKind::Money, SwapKind::Points, SwapKind::Rate].map(night), ["-3.6", "-1.8", "-10"]);
        assert!("nightly".parse::<SwapKind>().is_err());
    }

    #[test]
    fn margin_goes_by_steps_of_lots() {
        let of = |text: &str, lots: &str| {
            text.parse::<Margin>().unwrap().of(d(lots), d("1000")).map(|m| m.normalize().to_string())
        };
        assert_eq!(of("500", "2").as_deref(), Some("1000"));
        assert_eq!(of("2% to 10, 5% to 20, 10%", "25").as_deref(), Some("1200"));
        assert_eq!(of("2% to 10, 5%", "-4").as_deref(), Some("80"));
        assert_eq!(of("", "4"), None, "not known is not nothing");
        for bad in ["2% to 10", "5%, 2%", "2% to 10, 3% to 5, 4%", "-1", "lots"] {
            assert!(bad.parse::<Margin>().is_err(), "{bad}");
        }
    }
}
