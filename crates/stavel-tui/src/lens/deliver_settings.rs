//! The settings of a delivery, as lines that can be chosen and changed: each is an option of the command.

use stavel_core::deliver::{Compress, Split};
use stavel_core::model::layout::{LineEnd, Quotes, TextEncoding};
use stavel_core::model::{Clock, Stamp};
use stavel_work::{DeliverStep, SidesAsked};
use strum::VariantNames;

/// A setting: what it is called, what it says, what can be said.
pub struct DeliverSetting {
    pub name: &'static str,
    /// What is done where nothing is said.
    pub usual: &'static str,
    /// True where a layout says it, when nothing else is said.
    pub is_of_layout: bool,
    pub about: &'static str,
    /// What is said; empty for the usual way.
    pub said: fn(&DeliverStep) -> String,
    /// What there is to choose from beside the usual way; nothing where a value is typed.
    pub choices: Choices,
    /// Says it; an empty text says the usual way. A sentence where it cannot be said.
    pub say: fn(&mut DeliverStep, &str) -> Result<(), String>,
}

/// What there is to choose from.
pub enum Choices {
    Words(&'static [&'static str]),
    /// Layouts that ship and those that were saved.
    Layouts,
    /// UTC and the clock of the instrument's session days.
    Clocks,
    /// Yes or no.
    Flag,
}

fn text<T: ToString>(value: Option<&T>) -> String {
    value.map_or_else(String::new, ToString::to_string)
}

fn word<T: Copy + Into<&'static str>>(value: Option<T>) -> String {
    value.map_or_else(String::new, |v| v.into().to_owned())
}

fn optional<T: std::str::FromStr>(said: &str) -> Result<Option<T>, String>
where
    T::Err: ToString,
{
    if said.is_empty() { Ok(None) } else { said.parse().map(Some).map_err(|e: T::Err| e.to_string()) }
}

fn flag(is_set: bool) -> String {
    if is_set { "yes".into() } else { String::new() }
}

fn list(said: &str) -> Vec<String> {
    said.split(',').map(str::trim).filter(|w| !w.is_empty()).map(str::to_owned).collect()
}

fn wish(said: &str) -> Option<String> {
    Some(said.to_owned()).filter(|s| !s.is_empty())
}

/// Every setting, in the order of the lens.
pub const SETTINGS: &[DeliverSetting] = &[
    DeliverSetting {
        name: "format",
        usual: "csv",
        is_of_layout: false,
        about: "csv where nothing is said; json, json-columns, ndjson, html, xlsx, parquet, dataset",
        said: |s| s.format.first().map_or(String::new(), |f| f.word().into()),
        choices: Choices::Words(&["json", "json-columns", "ndjson", "html", "xlsx", "parquet", "dataset"]),
        say: |s, said| {
            s.format = optional(said)?.into_iter().collect();
            if !s.format.is_empty() {
                s.layout.clear();
            }
            Ok(())
        },
    },
    DeliverSetting {
        name: "layout",
        usual: "rfc3339",
        is_of_layout: false,
        about: "how lines are written: a general layout, or one you saved (w saves what is set here)",
        said: |s| s.layout.join(","),
        choices: Choices::Layouts,
        say: |s, said| {
            s.layout = list(said);
            if !s.layout.is_empty() {
                s.format.clear();
            }
            Ok(())
        },
    },
    DeliverSetting {
        name: "clock",
        usual: "UTC",
        is_of_layout: false,
        about: "the clock of the times that are written; UTC where nothing is said",
        said: |s| text(s.clock.as_ref()),
        choices: Choices::Clocks,
        say: |s, said| {
            s.clock = optional::<Clock>(said)?.filter(|c| *c != Clock::utc());
            Ok(())
        },
    },
    DeliverSetting {
        name: "dates",
        usual: "2024-03-05T13:45:00Z",
        is_of_layout: true,
        about: "an order; date and time apart; days only; a count since 1970; or type a form as %d %b %Y %H:%M",
        said: |s| s.dates.clone().unwrap_or_default(),
        choices: Choices::Words(&[
            "year-first",
            "day-first",
            "month-first",
            "year-first,apart",
            "day-first,apart",
            "only",
            "unix-s",
            "unix-ms",
            "unix-us",
            "rfc3339",
        ]),
        say: |s, said| {
            s.dates = wish(said);
            Ok(())
        },
    },
    DeliverSetting {
        name: "columns",
        usual: "all",
        is_of_layout: true,
        about: "type the columns in their order, each perhaps with a name: time=Date,open,close=Last",
        said: |s| s.columns.join(","),
        choices: Choices::Words(&[]),
        say: |s, said| {
            s.columns = list(said);
            Ok(())
        },
    },
    DeliverSetting {
        name: "decimals",
        usual: "as the series",
        is_of_layout: true,
        about: "of prices; what has more is rounded, and counted. As many as the series has where nothing is said",
        said: |s| text(s.decimals.as_ref()),
        choices: Choices::Words(&["0", "1", "2", "3", "4", "5", "6"]),
        say: |s, said| {
            s.decimals = optional(said).map_err(|_| format!("'{said}' is no number of decimals"))?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "decimal mark",
        usual: ".",
        is_of_layout: true,
        about: ". where nothing is said",
        said: |s| text(s.decimal_mark.as_ref()),
        choices: Choices::Words(&[","]),
        say: |s, said| {
            s.decimal_mark = said.chars().next();
            Ok(())
        },
    },
    DeliverSetting {
        name: "delimiter",
        usual: "comma",
        is_of_layout: true,
        about: "what stands between cells: comma, semicolon, tab, pipe, blanks, or one mark",
        said: |s| s.delimiter.clone().unwrap_or_default(),
        choices: Choices::Words(&["comma", "semicolon", "tab", "pipe", "blanks"]),
        say: |s, said| {
            s.delimiter = wish(said);
            Ok(())
        },
    },
    DeliverSetting {
        name: "no header",
        usual: "no",
        is_of_layout: false,
        about: "write no names of columns above the rows",
        said: |s| flag(s.no_header),
        choices: Choices::Flag,
        say: |s, said| {
            s.no_header = !said.is_empty();
            Ok(())
        },
    },
    DeliverSetting {
        name: "quotes",
        usual: "needed",
        is_of_layout: true,
        about: "which cells stand in quotes: those that need them, texts, all",
        said: |s| word(s.quotes),
        choices: Choices::Words(Quotes::VARIANTS),
        say: |s, said| {
            s.quotes = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "absent",
        usual: "nothing",
        is_of_layout: true,
        about: "what stands for a value that is not known; nothing where nothing is said",
        said: |s| s.absent.clone().unwrap_or_default(),
        choices: Choices::Words(&["-", "NA", "NaN", "null", "none"]),
        say: |s, said| {
            s.absent = wish(said);
            Ok(())
        },
    },
    DeliverSetting {
        name: "line end",
        usual: "lf",
        is_of_layout: true,
        about: "what ends a line: lf, crlf",
        said: |s| word(s.line_end),
        choices: Choices::Words(LineEnd::VARIANTS),
        say: |s, said| {
            s.line_end = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "encoding",
        usual: "utf-8",
        is_of_layout: true,
        about: "how characters become bytes",
        said: |s| word(s.encoding),
        choices: Choices::Words(TextEncoding::VARIANTS),
        say: |s, said| {
            s.encoding = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "stamp",
        usual: "open",
        is_of_layout: true,
        about: "which end of a bar its time names: open, close",
        said: |s| word(s.stamp),
        choices: Choices::Words(Stamp::VARIANTS),
        say: |s, said| {
            s.stamp = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "sides",
        usual: "as the series",
        is_of_layout: false,
        about: "the bid and the ask together in one file, or apart in two",
        said: |s| word(s.sides),
        choices: Choices::Words(SidesAsked::VARIANTS),
        say: |s, said| {
            s.sides = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "origins",
        usual: "no",
        is_of_layout: false,
        about: "write of each row where it comes from: what was filled, and which spreads are estimates",
        said: |s| flag(s.origin),
        choices: Choices::Flag,
        say: |s, said| {
            s.origin = !said.is_empty();
            Ok(())
        },
    },
    DeliverSetting {
        name: "details",
        usual: "no",
        is_of_layout: false,
        about: "of bars also tick counts, the volumes of both sides and the ends of spreads, where they have them",
        said: |s| flag(s.details),
        choices: Choices::Flag,
        say: |s, said| {
            s.details = !said.is_empty();
            Ok(())
        },
    },
    DeliverSetting {
        name: "whole bars",
        usual: "no",
        is_of_layout: false,
        about: "leave a first and a last bar away that are partial",
        said: |s| flag(s.complete_only),
        choices: Choices::Flag,
        say: |s, said| {
            s.complete_only = !said.is_empty();
            Ok(())
        },
    },
    DeliverSetting {
        name: "last rows",
        usual: "all",
        is_of_layout: false,
        about: "only so many rows, the last ones; by frame as 1m=100000,1d=5000",
        said: |s| text(s.last.as_ref()),
        choices: Choices::Words(&["1000", "10000", "100000", "1000000"]),
        say: |s, said| {
            s.last = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "split",
        usual: "one file",
        is_of_layout: false,
        about: "a file a year, a month or a day",
        said: |s| word(s.split),
        choices: Choices::Words(Split::VARIANTS),
        say: |s, said| {
            s.split = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "packing",
        usual: "none",
        is_of_layout: false,
        about: "gz, zst or zip; else as the ending of the file's name says",
        said: |s| word(s.compress),
        choices: Choices::Words(Compress::VARIANTS),
        say: |s, said| {
            s.compress = optional(said)?;
            Ok(())
        },
    },
    DeliverSetting {
        name: "names",
        usual: "{instrument}_{source}_{frame}",
        is_of_layout: false,
        about: "names of files in a folder: {instrument}_{source}_{frame}_{from}_{to}, {layout} too",
        said: |s| s.names.clone().unwrap_or_default(),
        choices: Choices::Words(&["{instrument}_{frame}", "{instrument}_{source}_{frame}_{from}_{to}"]),
        say: |s, said| {
            s.names = wish(said);
            Ok(())
        },
    },
    DeliverSetting {
        name: "costs",
        usual: "no",
        is_of_layout: false,
        about: "also write what trading it costs, as a table beside the file",
        said: |s| flag(s.costs),
        choices: Choices::Flag,
        say: |s, said| {
            s.costs = !said.is_empty();
            Ok(())
        },
    },
];

/// The place of a setting.
pub fn place_of(name: &str) -> usize {
    SETTINGS.iter().position(|s| s.name == name).unwrap_or(0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_choice_can_be_said_and_unsaid() {
        for setting in SETTINGS {
            let choices: Vec<&str> = match setting.choices {
                Choices::Words(words) => words.to_vec(),
                Choices::Layouts => vec!["tabs"],
                Choices::Clocks => vec!["Europe/Oslo"],
                Choices::Flag => vec!["yes"],
            };
            for choice in choices {
                let mut step = DeliverStep::default();
                (setting.say)(&mut step, choice).unwrap_or_else(|e| panic!("{}: {e}", setting.name));
                assert_eq!((setting.said)(&step), choice, "{}", setting.name);
                (setting.say)(&mut step, "").unwrap();
                assert_eq!(step, DeliverStep::default(), "{}", setting.name);
            }
        }
        let mut step = DeliverStep::default();
        let bad = (SETTINGS[place_of("decimals")].say)(&mut step, "few").unwrap_err();
        assert!(bad.contains("'few'"), "{bad}");
    }

    #[test]
    fn a_layout_and_another_format_exclude_each_other() {
        let mut step = DeliverStep::default();
        (SETTINGS[place_of("format")].say)(&mut step, "json").unwrap();
        (SETTINGS[place_of("layout")].say)(&mut step, "tabs").unwrap();
        assert!(step.format.is_empty());
        (SETTINGS[place_of("format")].say)(&mut step, "xlsx").unwrap();
        assert!(step.layout.is_empty());
    }
}
