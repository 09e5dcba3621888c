//! How series are to be joined: what a person says, and what is kept of it with a joined series.

use super::{Level, SpliceRule};
use crate::model::{Made, SeriesName};
use crate::store::SeriesInfo;
use crate::{Error, Result};

/// How series are to be joined.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpliceWishes {
    /// Which source owns which time.
    pub rule: SpliceRule,
    /// Whether later sources are brought to the level of the first.
    pub level: Level,
    /// Put the first source's spread by hour of the week on rows that do not know theirs.
    pub carry_spread: bool,
    /// Keep ticks as ticks and minutes as minutes, in one series; else ticks beside bars are framed first.
    pub layered: bool,
    /// Measure levels and spreads again, where the series was joined like this before: rows of the past then change.
    pub anew: bool,
}

impl SpliceWishes {
    /// By a rule, prices and spreads as they are.
    pub fn by(rule: SpliceRule) -> SpliceWishes {
        SpliceWishes { rule, level: Level::None, carry_spread: false, layered: false, anew: false }
    }
}

/// How a series was joined, to do it again.
///
/// # Errors
/// Where it was not joined, or was changed since.
pub fn ask_of(info: &SeriesInfo) -> Result<(Vec<SeriesName>, SpliceWishes)> {
    let provenance = &info.edition.provenance;
    let Made::Splice(joining) = &provenance.made else {
        return Err(Error::input(format!(
            "{} was last made by {}, not by a splice; name its sources and the source {} to join them into.",
            info.name,
            provenance.made.act(),
            info.name.source
        )));
    };
    let ask = SpliceWishes {
        rule: joining.rule.parse()?,
        level: joining.level.parse()?,
        carry_spread: joining.carry_spread,
        layered: joining.layered,
        anew: false,
    };
    Ok((provenance.parents().map(|p| p.1.clone()).collect(), ask))
}
