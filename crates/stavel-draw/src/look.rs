//! How pictures look: dark for screens, light for paper, and their size.

use plotters::style::RGBColor;
use serde::{Deserialize, Serialize};

use crate::picture::colour;

/// The colours of a picture.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Default,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::Display,
    strum::VariantNames,
)]
#[serde(rename_all = "lowercase")]
#[strum(serialize_all = "lowercase")]
pub enum Ground {
    /// Light on dark, as on the bench.
    #[default]
    Dark,
    /// Dark on white, to be printed.
    Paper,
}

/// How a picture looks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PictureLook {
    pub ground: Ground,
    /// Width and height in points.
    pub size: (u32, u32),
}

impl Default for PictureLook {
    fn default() -> PictureLook {
        PictureLook { ground: Ground::Dark, size: (1200, 720) }
    }
}

/// The colours that a picture is drawn with.
pub struct GroundColours {
    pub ground: RGBColor,
    pub words: RGBColor,
    pub faint: RGBColor,
    pub rule: RGBColor,
    /// Behind hours that are told apart.
    pub shade: RGBColor,
    pub rising: RGBColor,
    pub falling: RGBColor,
    pub columns: RGBColor,
    /// Averages.
    pub lines: [RGBColor; 2],
    /// A second series.
    pub second: RGBColor,
    pub event: RGBColor,
    pub wrong: RGBColor,
    pub good: RGBColor,
}

const DARK: GroundColours = GroundColours {
    ground: colour(0x0d1117),
    words: colour(0xc8c2b0),
    faint: colour(0x6b7280),
    rule: colour(0x2a303c),
    shade: colour(0x151b24),
    rising: colour(0xe6c384),
    falling: colour(0x7e9cd8),
    columns: colour(0x54546d),
    lines: [colour(0x98bb6c), colour(0x7fb4ca)],
    second: colour(0xd27e99),
    event: colour(0xb48ead),
    wrong: colour(0xe46876),
    good: colour(0x98bb6c),
};

const PAPER: GroundColours = GroundColours {
    ground: colour(0xffffff),
    words: colour(0x1c2128),
    faint: colour(0x6a7280),
    rule: colour(0xdfe3e9),
    shade: colour(0xf3f4f7),
    rising: colour(0xc08a1e),
    falling: colour(0x3d5fa8),
    columns: colour(0xb4b9c6),
    lines: [colour(0x4f7a28), colour(0x2f7f8c)],
    second: colour(0xa83d66),
    event: colour(0x7d4f8f),
    wrong: colour(0xc0392b),
    good: colour(0x4f7a28),
};

impl Ground {
    pub(crate) fn palette(self) -> &'static GroundColours {
        match self {
            Ground::Dark => &DARK,
            Ground::Paper => &PAPER,
        }
    }
}
