//! Values of a spec sheet held against each other.

use rust_decimal::Decimal;

use super::instrument::{KEYS, applies};
use super::{Instrument, Standing};

/// How far, as a share, a tick value may be from what size and contract give: what rounding to cents makes.
const ROUNDING: Decimal = Decimal::from_parts(1, 0, 0, false, 3);

impl Instrument {
    /// What does not fit together in the sheet, in sentences without a full stop; empty where all does. A value
    /// that is only assumed speaks against none.
    pub fn doubts(&self) -> Vec<String> {
        let is_known = |key: &str| self.standing(key) != Standing::Assumed;
        let number = |key: &str| self.values.get(key).and_then(|v| v.parse::<Decimal>().ok());
        let sheet = &self.sheet;
        let mut out = Vec::new();
        if let (true, true, Some(size)) =
            (is_known("tick_value"), is_known("contract_size"), number("contract_size"))
        {
            let made = (size * sheet.tick_size).normalize();
            if (made - sheet.tick_value).abs() > made.abs() * ROUNDING {
                out.push(format!(
                    "a tick of {} in a contract of {size} is worth {made}, but tick_value is {}: one is wrong, or it is in another currency than {}",
                    sheet.tick_size, sheet.tick_value, sheet.quote
                ));
            }
        }
        if let Some(at) = sheet.session.week.said_twice() {
            out.push(format!("the hours say {at} twice: two of their parts overlap"));
        }
        for key in KEYS.iter().map(|k| k.name) {
            let is_said = self.own.said.contains_key(key);
            if is_said && !applies(key, sheet.kind) && !is_empty_of(key, &self.values[key]) {
                out.push(format!("{key} is said, but a thing of kind {} has none", self.values["kind"]));
            }
        }
        if let [Some(least), _, Some(most)] = sheet.lots
            && least > most
        {
            out.push(format!("lot_min {least} is more than lot_max {most}"));
        }
        let places = sheet.tick_size.normalize().scale();
        if is_known("tick_size") && is_known("decimals") && places > u32::from(sheet.decimals) {
            out.push(format!(
                "a tick_size of {} is finer than the {} decimals of the prices",
                sheet.tick_size, sheet.decimals
            ));
        }
        if let Some(day) = sheet.swap_triple.filter(|_| is_known("swap_triple"))
            && !(0..4).any(|week| sheet.session.opens_on(19_723 + 7 * week + day))
        {
            out.push("swap_triple is a day on which there is no session".into());
        }
        out
    }
}

/// True where a value says that there is nothing.
fn is_empty_of(key: &str, value: &str) -> bool {
    match key {
        "swap_long" | "swap_short" => value.parse::<Decimal>().is_ok_and(|v| v.is_zero()),
        _ => value.is_empty() || value == "none",
    }
}

#[cfg(test)]
mod tests {
    use crate::model::{Instrument, OwnValues};

    fn doubts(name: &str, values: &[(&str, &str)]) -> Vec<String> {
        let said = values.iter().map(|(k, v)| ((*k).to_owned(), (*v).to_owned())).collect();
        Instrument::resolve(name, None, OwnValues { said, ..OwnValues::default() }).unwrap().doubts()
    }

    #[test]
    fn values_that_do_not_fit_together_are_told() {
        let told = |values: &[(&str, &str)], words: &str| {
            let all = doubts("BLY", values);
            assert!(all.len() == 1 && all[0].contains(words), "{values:?}: {all:?}");
        };
        told(&[("tick_size", "0.25"), ("contract_size", "50"), ("tick_value", "10")], "is worth 12.5");
        told(&[("tick_size", "0.0025"), ("decimals", "2")], "finer than the 2 decimals");
        told(&[("kind", "futures"), ("swap_long", "-3")], "swap_long is said, but a thing of kind futures");
        told(&[("lot_min", "1"), ("lot_max", "0.5")], "lot_min 1 is more than lot_max 0.5");
        told(&[("swap_triple", "sun"), ("hours", "mon-fri 08:00-17:00 UTC")], "no session");
        for values in [
            &[("tick_size", "0.25"), ("contract_size", "50"), ("tick_value", "12.50")][..],
            // Size alone: what a tick is worth follows from it.
            &[("contract_size", "12.5")],
            &[("tick_value", "10")],
            &[("decimals", "3"), ("tick_size", "0.005"), ("swap_triple", "fri")],
        ] {
            assert!(doubts("BLY", values).is_empty(), "{values:?}");
        }
    }
}
