//! How the rows of a variant differ from those of its base.

use std::str::FromStr;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::actions::Actions;
use super::session::Weekdays;
use super::stress::Stress;
use super::time::{Micros, Span};
use super::{SeriesName, Side};
use crate::{Error, Result};

/// Changes of rows on their way from a base to a variant, in the order in which they are done. The hours, the holidays and
/// a fixed spread are values of the variant's spec sheet.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Variation {
    /// Added to every time.
    #[serde(skip_serializing_if = "is_zero")]
    pub shift: Micros,
    /// Only rows at or after this moment, after the shift.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub since: Option<Micros>,
    /// Only rows before this moment, after the shift.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub until: Option<Micros>,
    /// Only session days of these weekdays.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub days: Option<Weekdays>,
    /// One divided by each price: the pair the other way round. Its bid is made of the ask and its ask of the bid.
    #[serde(skip_serializing_if = "is_false")]
    pub inverse: bool,
    /// Each price is multiplied by it, after it was turned over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scale: Option<Factor>,
    /// What becomes of the spreads.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub spread: Option<SpreadChange>,
    /// The price that is left of bid and ask.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub side: Option<Side>,
    /// Prices before splits and dividends are brought to the level after them.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub adjusted: Option<Actions>,
    /// What is made worse, or made up, to see what a test stands; before all else.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stress: Option<Box<Stress>>,
    /// Rows that were edited elsewhere and stand in for those of the base.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub edits: Option<SeriesName>,
}

fn is_zero(value: &Micros) -> bool {
    *value == 0
}

fn is_false(value: &bool) -> bool {
    !*value
}

impl Variation {
    /// Rows that are only moved in time.
    pub fn moved(shift: Micros) -> Variation {
        Variation { shift, ..Variation::default() }
    }

    /// The span of rows that are wanted, after the shift.
    pub fn span(&self) -> Span {
        Span::new(self.since.unwrap_or(Micros::MIN), self.until.unwrap_or(Micros::MAX))
    }

    /// True where each price is turned over or multiplied.
    pub fn maps_prices(&self) -> bool {
        self.inverse || self.scale.is_some()
    }

    /// True where prices become others.
    pub fn changes_prices(&self) -> bool {
        let moves = |stress: &Stress| {
            stress.mirror || stress.noise > 0 || stress.slippage > 0 || stress.shuffle.is_some()
        };
        self.maps_prices() || self.adjusted.is_some() || self.stress.as_deref().is_some_and(moves)
    }

    /// Added to every time in all.
    pub fn moved_by(&self) -> Micros {
        self.shift.saturating_add(self.stress.as_ref().map_or(0, |stress| stress.delay))
    }
}

/// A number above 0 to multiply by, as `0.01` or `1.5`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Factor(pub Decimal);

impl std::fmt::Display for Factor {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.fmt(f)
    }
}

impl FromStr for Factor {
    type Err = Error;
    fn from_str(text: &str) -> Result<Factor> {
        let value = text.parse::<Decimal>().ok().map(|d| d.normalize());
        // More places than this would not leave a price eighteen digits.
        let fits = |d: &Decimal| *d > Decimal::ZERO && d.scale() <= 9 && *d <= Decimal::from(1_000_000_000);
        value.filter(fits).map(Factor).ok_or_else(|| {
            Error::arguments(format!("'{text}' is not a number above 0 to multiply by, such as 0.01 or 1.5."))
        })
    }
}

/// What becomes of the spreads of a variant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum SpreadChange {
    /// So many points more, or less.
    Added(i64),
    /// So many times as wide.
    Times(Factor),
    /// That of the hour of the week in another series: the spread that a share of its rows does not exceed.
    Hours {
        /// The other series.
        of: SeriesName,
        /// From 0 to 1; a half is the median.
        share: SpreadShare,
    },
}

/// Which spread of an hour is taken.
#[derive(
    Debug,
    Clone,
    Copy,
    Default,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[strum(serialize_all = "lowercase")]
#[serde(rename_all = "lowercase")]
pub enum SpreadShare {
    /// The median.
    #[default]
    Median,
    /// The spread that nine of ten rows do not exceed: for a cautious test.
    P90,
    /// The spread that 99 of a hundred rows do not exceed.
    P99,
}

impl SpreadShare {
    /// The share of rows that do not exceed it.
    pub fn share(self) -> f64 {
        match self {
            SpreadShare::Median => 0.5,
            SpreadShare::P90 => 0.9,
            SpreadShare::P99 => 0.99,
        }
    }
}
