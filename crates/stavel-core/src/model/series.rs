//! Names of series: `NOKSEK@quill:ticks`, `NOKSEK@tarn:1m.ask`, `NOKSEK@tarn:1d.built`.

use std::fmt;
use std::str::FromStr;

use super::frame::Frame;
use crate::{Error, Result};

/// Which price a series of bars follows. The first side needs no word in a series' name.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Default,
    strum::Display,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[strum(serialize_all = "lowercase", parse_err_ty = Error, parse_err_fn = not_a_side)]
pub enum Side {
    /// Bid prices where there are two sides, else the only price there is.
    #[default]
    Bid,
    /// Ask prices.
    Ask,
    /// Half way between bid and ask.
    Mid,
    /// Prices of trades.
    Last,
}

impl Side {
    /// The word for it.
    pub fn word(self) -> &'static str {
        self.into()
    }
}

fn not_a_side(text: &str) -> Error {
    Error::arguments(format!("'{text}' is not a price side; write bid, ask, mid or last."))
}

/// One instrument from one source at one frame.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SeriesName {
    /// What is traded.
    pub instrument: String,
    /// Where the history came from.
    pub source: String,
    /// The frame of its rows.
    pub frame: Frame,
    /// Only ask and mid are part of the written name.
    pub side: Side,
    /// Bars that were built, where the source also has bars of its own at this frame. Where only one of
    /// both is on the shelf, its name goes without this.
    pub built: bool,
}

/// The ending of a name and a folder of bars that were built.
const BUILT: &str = "built";

impl SeriesName {
    /// A name from its parts, with the first side.
    pub fn new(instrument: &str, source: &str, frame: Frame) -> SeriesName {
        SeriesName {
            instrument: instrument.into(),
            source: source.into(),
            frame,
            side: Side::Bid,
            built: false,
        }
    }

    /// The same instrument from another source.
    pub fn with_source(&self, source: &str) -> SeriesName {
        SeriesName { source: source.into(), ..self.clone() }
    }

    /// The same at another frame.
    pub fn with_frame(&self, frame: Frame) -> SeriesName {
        SeriesName { frame, built: false, ..self.clone() }
    }

    /// The same, as the bars that were built or as the source's own.
    pub fn with_built(&self, built: bool) -> SeriesName {
        SeriesName { built, ..self.clone() }
    }

    /// The frame and side: `1m`, `1m.ask`.
    pub fn frame_and_side(&self) -> String {
        match self.side {
            Side::Ask | Side::Mid => format!("{}.{}", self.frame, self.side.word()),
            Side::Bid | Side::Last => self.frame.to_string(),
        }
    }

    /// What is written after the colon: `1m`, `1m.ask`, `1d.built`.
    pub fn frame_text(&self) -> String {
        let plain = self.frame_and_side();
        if self.built { format!("{plain}.{BUILT}") } else { plain }
    }

    /// The part after the instrument: `quill:1m`.
    pub fn short(&self) -> String {
        format!("{}:{}", self.source, self.frame_text())
    }
}

impl fmt::Display for SeriesName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}@{}:{}", self.instrument, self.source, self.frame_text())
    }
}

impl FromStr for SeriesName {
    type Err = Error;
    fn from_str(text: &str) -> Result<SeriesName> {
        let bad = || {
            Error::arguments(format!(
                "'{text}' is not a series; write INSTRUMENT@source:frame as in NOKSEK@quill:1m."
            ))
        };
        let (instrument, rest) = text.split_once('@').ok_or_else(bad)?;
        let (source, frame) = rest.split_once(':').ok_or_else(bad)?;
        let (frame, built) = match frame.strip_suffix(BUILT).and_then(|f| f.strip_suffix('.')) {
            Some(frame) => (frame, true),
            None => (frame, false),
        };
        let (frame, side) = match frame.split_once('.') {
            Some((frame, side)) => (frame, side.parse()?),
            None => (frame, Side::Bid),
        };
        check_name("instrument", instrument)?;
        check_name("source", source)?;
        let side = if side == Side::Last { Side::Bid } else { side };
        let (instrument, source) = (instrument.into(), source.into());
        Ok(SeriesName { instrument, source, frame: frame.parse()?, side, built })
    }
}

/// Names become folders, so they are letters, digits and `. _ + -`, and begin with a letter or digit.
///
/// # Errors
/// One sentence where the name is anything else.
pub fn check_name(what: &str, name: &str) -> Result<()> {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-' | '+');
    if name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name.chars().all(plain)
        && name.len() <= 40
        && !name.ends_with('.')
    {
        Ok(())
    } else {
        Err(Error::arguments(format!(
            "'{name}' cannot name a{} {what}; use up to 40 letters, digits, '.', '_', '+' or '-', a letter or digit first.",
            if what.starts_with('i') { "n" } else { "" }
        )))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_read_as_written() {
        for text in [
            "NOKSEK@quill:ticks",
            "NOKSEK@tarn:1m.ask",
            "BLY-2024-03@quill:4h",
            "NOKSEK@tarn:1d.built",
            "NOKSEK@tarn:1d.mid.built",
        ] {
            assert_eq!(text.parse::<SeriesName>().unwrap().to_string(), text);
        }
        for bad in ["NOKSEK", "@quill:1m", "NOKSEK@:1m", "NOKSEK@../x:1m", "NOKSEK@quill:1m.left", "a/b@c:1m"]
        {
            assert!(bad.parse::<SeriesName>().is_err(), "{bad}");
        }
    }
}
