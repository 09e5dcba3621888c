//! Words of a step that stand for several things: frames, sides.

use serde::{Deserialize, Serialize};
use stavel_core::bars::can_build;
use stavel_core::model::series::check_name;
use stavel_core::model::{Frame, Side};
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};

/// One price side, or bid and ask at once; written `ask` or `both`.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SidesWanted {
    /// This one.
    One(Side),
    /// Bars of the bid and bars of the ask, each a series of its own.
    Both,
}

impl SidesWanted {
    /// The sides it means.
    pub fn sides(self) -> &'static [Side] {
        match self {
            SidesWanted::One(Side::Bid) => &[Side::Bid],
            SidesWanted::One(Side::Ask) => &[Side::Ask],
            SidesWanted::One(Side::Mid) => &[Side::Mid],
            SidesWanted::One(Side::Last) => &[Side::Last],
            SidesWanted::Both => &[Side::Bid, Side::Ask],
        }
    }
}

impl std::str::FromStr for SidesWanted {
    type Err = Error;
    fn from_str(text: &str) -> Result<SidesWanted> {
        if text == "both" { Ok(SidesWanted::Both) } else { text.parse().map(SidesWanted::One) }
    }
}

impl std::fmt::Display for SidesWanted {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            SidesWanted::Both => f.write_str("both"),
            SidesWanted::One(side) => side.fmt(f),
        }
    }
}

/// One frame, the usual ones, or those of a frame set; written `4h`, `all` or `swing`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FramesWanted {
    /// Every usual frame that can be built.
    Usual,
    /// This one.
    One(Frame),
    /// Those saved under a name.
    Set(String),
}

impl FramesWanted {
    /// The frames it means for rows of a frame.
    ///
    /// # Errors
    /// Where no frame set has that name.
    pub fn built_from(&self, from: Frame, shelf: &Shelf) -> Result<Vec<Frame>> {
        Ok(match self {
            FramesWanted::One(frame) => vec![*frame],
            FramesWanted::Set(name) => shelf.frame_set(name)?,
            FramesWanted::Usual => {
                let usual = Frame::USUAL.iter().filter_map(|f| f.parse().ok());
                usual.filter(|to| can_build(from, *to)).collect()
            }
        })
    }
}

impl std::str::FromStr for FramesWanted {
    type Err = Error;
    fn from_str(text: &str) -> Result<FramesWanted> {
        if text == "all" {
            return Ok(FramesWanted::Usual);
        }
        let is_name = text.starts_with(|c: char| c.is_ascii_alphabetic());
        match text.parse() {
            Err(_) if is_name => check_name("frame set", text).map(|()| FramesWanted::Set(text.to_owned())),
            frame => frame.map(FramesWanted::One),
        }
    }
}

impl std::fmt::Display for FramesWanted {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            FramesWanted::Usual => f.write_str("all"),
            FramesWanted::One(frame) => frame.fmt(f),
            FramesWanted::Set(name) => f.write_str(name),
        }
    }
}

macro_rules! as_text {
    ($($name:ty),*) => {$(
        impl Serialize for $name {
            fn serialize<S: serde::Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
                to.collect_str(self)
            }
        }

        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
                String::deserialize(from)?.parse().map_err(serde::de::Error::custom)
            }
        }
    )*};
}

pub(super) use as_text;

as_text!(FramesWanted, SidesWanted);
