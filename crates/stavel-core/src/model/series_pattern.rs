//! Several series by one name: `NOK*@joined`, `*@tarn:1m`.

use std::fmt;
use std::str::FromStr;

use super::series::SeriesName;
use crate::{Error, Result};

/// A series, or a pattern of series in which `*` stands for any letters and `?` for one. Without a frame it means each
/// source's finest history.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeriesPattern(String);

impl SeriesPattern {
    /// The one series it names; none where it is a pattern or has no frame.
    pub fn exact(&self) -> Option<SeriesName> {
        if self.0.contains(['*', '?']) { None } else { self.0.parse().ok() }
    }

    /// True where it says which frame.
    pub fn has_frame(&self) -> bool {
        self.0.contains(':')
    }

    /// True for an instrument of which it may name series.
    pub fn names_instrument(&self, instrument: &str) -> bool {
        let own = self.0.split('@').next().unwrap_or_default();
        glob::Pattern::new(own).is_ok_and(|pattern| pattern.matches(instrument))
    }

    /// True for a series that it names.
    pub fn matches(&self, name: &SeriesName) -> bool {
        let text = name.to_string();
        let compared =
            if self.has_frame() { text.as_str() } else { text.split(':').next().unwrap_or_default() };
        // `from_str` has seen that it is a pattern.
        glob::Pattern::new(&self.0).is_ok_and(|pattern| pattern.matches(compared))
    }
}

impl From<SeriesName> for SeriesPattern {
    fn from(name: SeriesName) -> SeriesPattern {
        SeriesPattern(name.to_string())
    }
}

impl fmt::Display for SeriesPattern {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for SeriesPattern {
    type Err = Error;

    fn from_str(text: &str) -> Result<SeriesPattern> {
        let is_pattern = text.contains(['*', '?']);
        if !is_pattern && text.contains(':') {
            return text.parse::<SeriesName>().map(|name| SeriesPattern(name.to_string()));
        }
        let is_written_so = |c: char| c.is_alphanumeric() || "*?@:._-".contains(c);
        let parts = text.split_once('@').filter(|(instrument, rest)| {
            let source = rest.split(':').next().unwrap_or_default();
            !instrument.is_empty() && !source.is_empty() && !rest.contains('@') && !instrument.contains(':')
        });
        if parts.is_none() || !text.chars().all(is_written_so) || glob::Pattern::new(text).is_err() {
            return Err(Error::arguments(format!(
                "'{text}' names no series; write INSTRUMENT@source:frame as in NOKSEK@quill:1m, or a pattern as in NOK*@joined."
            )));
        }
        Ok(SeriesPattern(text.to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pattern_names_what_it_spells_and_no_more() {
        let names = |pattern: &str, name: &str| {
            let pattern: SeriesPattern = pattern.parse().unwrap();
            pattern.matches(&name.parse().unwrap())
        };
        assert!(names("NOK*@joined", "NOKSEK@joined:1m") && names("NOK*@joined", "NOKSEK@joined:ticks"));
        assert!(names("*@*:1m.ask", "NOKSEK@tarn:1m.ask") && names("BLY?@quill:1?", "BLYZ@quill:1d"));
        assert!(!names("NOK*@joined", "NOKSEK@joined2:1m") && !names("*@tarn:1m", "NOKSEK@tarn:1m.ask"));
        assert!(names("NOKSEK@quill", "NOKSEK@quill:5m") && !names("NOKSEK@quill", "NOKSEK.day@quill:5m"));
        let of = |text: &str, name: &str| text.parse::<SeriesPattern>().unwrap().names_instrument(name);
        assert!(
            of("NOK*@tarn:1m", "NOKSEK") && !of("NOK*@tarn:1m", "NZDSEK") && of("NOKSEK@tarn:1m", "NOKSEK")
        );
        let exact = |text: &str| text.parse::<SeriesPattern>().unwrap().exact().map(|n| n.to_string());
        assert_eq!(exact("NOKSEK@quill:60m").as_deref(), Some("NOKSEK@quill:60m"));
        assert_eq!((exact("NOKSEK@quill"), exact("NOK*@quill:1m")), (None, None));
        for bad in
            ["", "NOKSEK", "@quill", "NOKSEK@", "NOKSEK@quill:7x", "a b@c", "N*@q@r", "***a@q", "N[A]@q"]
        {
            assert!(bad.parse::<SeriesPattern>().is_err(), "{bad}");
        }
    }
}
