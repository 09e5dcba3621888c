//! What a formula would make, before anything is written.

use std::collections::BTreeMap;

use super::join::LeftByMonth;
use super::plan::{FormulaPlan, LegJoin};
use super::request::FormulaRequest;
use super::values::FormulaRows;
use crate::Result;
use crate::formula::UnitTold;
use crate::model::provenance::LegsLeft;
use crate::model::time::{HOUR, MINUTE};
use crate::model::{Columns, Micros, Scale, SeriesName};
use crate::store::Shelf;

/// Rows that are shown.
const SHOWN: usize = 240;

/// Moments that are looked at for them.
const LOOKED_AT: usize = 16 * 1024;

/// The last rows of a formula.
pub struct FormulaPreview {
    /// The series it would make.
    pub target: SeriesName,
    /// The formula as it is worked out.
    pub told: String,
    /// The series of the legs, in order.
    pub legs: Vec<SeriesName>,
    /// What its values are measured in.
    pub unit: UnitTold,
    /// The last rows, in order of time.
    pub rows: Columns,
    /// What made no row among the moments looked at.
    pub left: LegsLeft,
}

/// The rows that a formula has at the end of what all its legs have; nothing is written.
///
/// # Errors
/// As [`super::compose_formula`].
pub fn preview_formula(shelf: &Shelf, request: &FormulaRequest) -> Result<FormulaPreview> {
    let mut plan = FormulaPlan::of(shelf, request)?;
    plan.measure(shelf)?;
    let said = request.instrument.own.get("decimals").and_then(|text| text.parse().ok());
    let scale = Scale { price: said.map_or_else(|| plan.decimals(shelf), Ok)?, volume: 0 };
    let frame = plan.legs.frame;
    let end = plan.legs.series.iter().map(|leg| leg.edition.last).min().unwrap_or(Micros::MAX);
    // Ticks are dense in one market and rare in another: where a few minutes have few, hours are looked at.
    let looks: &[Micros] = match frame.is_bars() {
        true => &[frame.length() * (SHOWN + 2 * plan.formula.rows_before()) as Micros * 2],
        false => &[10 * MINUTE, 4 * HOUR],
    };
    let mut values = FormulaRows::of(&plan.formula, plan.is_two_sided, frame.is_bars(), scale);
    let legs = plan.legs.series.len();
    let (mut rows, mut sum) = (Columns::empty(&values.fields(), scale), LegsLeft::of(legs));
    for back in looks {
        if rows.len() >= SHOWN / 2 {
            break;
        }
        let from = end.saturating_sub(*back);
        let mut left = LeftByMonth::after(BTreeMap::new(), from, legs);
        let joined =
            LegJoin::of(shelf, &plan, from.saturating_sub(plan.stale))?.next(LOOKED_AT, from, &mut left)?;
        rows = values.rows(&joined, from, &mut left);
        sum = LegsLeft::of(legs);
        left.finish().values().for_each(|month| sum.add(month));
    }
    Ok(FormulaPreview {
        target: plan.target.clone(),
        told: plan.formula.to_string(),
        legs: plan.legs.series.iter().map(|leg| leg.name.clone()).collect(),
        unit: plan.unit.clone(),
        rows: rows.rows(rows.len().saturating_sub(SHOWN)..rows.len()),
        left: sum,
    })
}
