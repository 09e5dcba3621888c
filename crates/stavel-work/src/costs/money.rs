//! Costs in money: of a round turn by hour, of a night, of a tick.

use rust_decimal::Decimal;
use stavel_core::Result;
use stavel_core::crosses::{CrossRate, cross_rate, last_price};
use stavel_core::model::costs::SwapKind;
use stavel_core::model::{Instrument, Micros, Standing};
use stavel_core::store::Shelf;

use super::MeasuredSpreads;
use crate::account_money::AccountWish;

/// What buying and selling one lot costs: the spread, and the commission of both sides where it is known.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RoundTurn {
    /// In points of the last decimal of the instrument.
    pub points: Decimal,
    /// In the currency of the costs; none where that is not known.
    pub money: Option<Decimal>,
}

/// What holding one lot over a night brings (or, below 0, costs).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NightCost {
    /// In the currency of the costs.
    pub money: Decimal,
    /// In points of the last decimal of the instrument; none where a point has no value.
    pub points: Option<Decimal>,
}

/// Costs in money, a lot each. What is not known is none.
#[derive(Debug, Clone, Default)]
pub struct CostMoney {
    /// The currency they are in; empty where nobody has said it.
    pub currency: String,
    /// The way from the quote currency to that of the account, and its rate; none where they are the same.
    pub cross: Option<CrossRate>,
    /// A point of the last decimal of the instrument.
    pub point: Option<Decimal>,
    /// A step of the price.
    pub tick: Option<Decimal>,
    /// Commission of a side.
    pub commission: Option<Decimal>,
    /// A night held long and short.
    pub nights: [Option<NightCost>; 2],
    /// What a lot binds.
    pub margin: Option<Decimal>,
    /// A round turn at the usual spread, and at the spread proposed for tests.
    pub usual: Option<RoundTurn>,
    /// The same at the spread that is proposed for tests.
    pub cautious: Option<RoundTurn>,
    /// A round turn in each hour of the day, at its usual spread.
    pub by_hour: Vec<Option<RoundTurn>>,
}

impl CostMoney {
    /// Works the costs out; what a careful person would look at goes to `doubts`.
    ///
    /// # Errors
    /// Where the shelf cannot be read.
    pub fn of(
        shelf: &Shelf,
        instrument: &Instrument,
        spreads: Option<&MeasuredSpreads>,
        account: Option<&AccountWish>,
        doubts: &mut Vec<String>,
    ) -> Result<CostMoney> {
        let sheet = &instrument.sheet;
        let at = account.and_then(|a| a.at);
        let wanted = account.map_or(sheet.quote.as_str(), |a| a.currency.as_str());
        let (rate, cross) = rate_to(shelf, instrument, wanted, at, doubts)?;
        let is_known = |key: &str| instrument.standing(key) != Standing::Assumed;
        let price = last_price(shelf, instrument, at)?.map(|(_, _, price)| price);
        let value = price.and_then(|price| Some(price.checked_div(sheet.tick_size)? * sheet.tick_value));
        let there = |amount: Decimal| rate.map(|rate| (amount * rate).round_dp(6).normalize());
        let a_point = sheet.money(1, sheet.decimals);
        let is_share = |key: &str| instrument.values.get(key).is_some_and(|v| v.contains('%'));
        let commission = match (is_known("commission"), value) {
            (false, _) => None,
            (true, None) if is_share("commission") => None,
            (true, value) => Some(sheet.commission.of_side(Decimal::ONE, value.unwrap_or_default())),
        };
        if commission.is_none() {
            doubts.push(format!(
                "the commission of {0} is not known, so a round turn is told without it: stavel compose {0} --set commission=… (0 where there is none)",
                instrument.name
            ));
        }
        let night = |key: &str, swap: Decimal| {
            let money = match (sheet.swap_kind, value) {
                _ if !is_known(key) => None,
                (SwapKind::Rate, None) => None,
                (kind, value) => Some(kind.money(swap, a_point, value.unwrap_or_default())),
            }?;
            let points = money.checked_div(a_point).map(|p| p.round_dp(3).normalize());
            there(money).map(|money| NightCost { money, points })
        };
        let round_turn = |points: Decimal| {
            let both_sides = commission.map_or(Decimal::ZERO, |c| c * Decimal::TWO);
            let in_points = both_sides.checked_div(a_point)?;
            Some(RoundTurn {
                points: (points + in_points).round_dp(3).normalize(),
                money: there(points * a_point + both_sides),
            })
        };
        let mut out = CostMoney {
            currency: wanted.to_owned(),
            point: there(a_point),
            tick: there(sheet.tick_value),
            commission: commission.and_then(there),
            nights: [night("swap_long", sheet.swap_long), night("swap_short", sheet.swap_short)],
            margin: value.and_then(|value| sheet.margin.of(Decimal::ONE, value)).and_then(there),
            ..CostMoney::default()
        };
        let fixed = sheet.spread.map(Decimal::from);
        // A sheet's spread is what the instrument is traded at, whatever was measured.
        out.usual = fixed.or_else(|| usual_points(spreads?, sheet.decimals)).and_then(round_turn);
        out.cautious = fixed
            .or_else(|| in_points(spreads?.profile.proposed()?, spreads?.decimals, sheet.decimals))
            .and_then(round_turn);
        out.by_hour = match (fixed, spreads) {
            (Some(fixed), _) => vec![round_turn(fixed); 24],
            (None, Some(spreads)) => {
                let of_hour = |hour: &Option<stavel_core::measures::SpreadQuantiles>| {
                    round_turn(in_points((*hour)?.median, spreads.decimals, sheet.decimals)?)
                };
                spreads.profile.by_day_hour.iter().map(of_hour).collect()
            }
            (None, None) => Vec::new(),
        };
        out.cross = cross;
        Ok(out)
    }
}

/// What one unit of the quote currency is worth in a wanted one, and the way between them; none where that is not known.
fn rate_to(
    shelf: &Shelf,
    instrument: &Instrument,
    wanted: &str,
    at: Option<Micros>,
    doubts: &mut Vec<String>,
) -> Result<(Option<Decimal>, Option<CrossRate>)> {
    let quote = instrument.sheet.quote.as_str();
    if quote.is_empty() {
        doubts
            .push(format!("nobody has said in which currency {} is priced: --set quote=…", instrument.name));
        return Ok((None, None));
    }
    if quote == wanted {
        return Ok((Some(Decimal::ONE), None));
    }
    let cross = cross_rate(shelf, quote, wanted, at)?;
    if cross.is_none() {
        doubts.push(format!(
            "no pair on the shelf leads from {quote} to {wanted}, so its money in {wanted} is not known"
        ));
    }
    Ok((cross.as_ref().map(|cross| cross.rate), cross))
}

fn usual_points(spreads: &MeasuredSpreads, decimals: u8) -> Option<Decimal> {
    in_points(spreads.profile.all?.median, spreads.decimals, decimals)
}

/// Points of a series in points of the instrument, whose last decimal may be another.
pub fn in_points(points: i64, of_series: u8, of_instrument: u8) -> Option<Decimal> {
    let price = Decimal::try_from_i128_with_scale(i128::from(points), u32::from(of_series)).ok()?;
    Some((price * Decimal::from(10i64.checked_pow(u32::from(of_instrument))?)).normalize())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn points_of_a_finer_series_are_parts_of_those_of_the_sheet() {
        let told = |points, of_series, of_instrument| {
            in_points(points, of_series, of_instrument).unwrap().to_string()
        };
        assert_eq!(told(12, 5, 5), "12");
        assert_eq!(told(12, 5, 4), "1.2");
        assert_eq!(told(3, 2, 4), "300");
    }
}
