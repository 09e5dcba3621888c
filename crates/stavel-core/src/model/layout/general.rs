//! Layouts for everyone, named by what they are. They hold whatever columns a series has.

use super::Layout;

/// A layout that ships.
#[derive(Debug, Clone, Copy)]
pub struct General {
    /// What it is called.
    pub name: &'static str,
    /// What it looks like, for people.
    pub about: &'static str,
    toml: &'static str,
}

/// The layouts that ship, the usual one first.
pub const GENERAL: &[General] = &[
    General {
        name: "rfc3339",
        about: "commas, a header, times as 2024-03-05T13:45:00Z",
        toml: r#"delimiter = ","
header = ["time", "values"]
columns = ["moment", "values"]
dates = "year-first"
between = "T"
offsets = true"#,
    },
    General {
        name: "plain-times",
        about: "commas, a header, times as 2024-03-05 13:45:00",
        toml: r#"delimiter = ","
header = ["time", "values"]
columns = ["moment", "values"]
dates = "year-first""#,
    },
    General {
        name: "date-and-time",
        about: "commas, a header, the date and the time in columns of their own",
        toml: r#"delimiter = ","
header = ["date", "time", "values"]
columns = ["date", "time", "values"]
dates = "year-first""#,
    },
    General {
        name: "dotted-minutes",
        about: "commas, no header, date and time apart as 2024.03.05 and 13:45",
        toml: r#"delimiter = ","
columns = ["date", "time", "values"]
dates = "year-first"
date_mark = "."
precision = "minutes""#,
    },
    General {
        name: "digits",
        about: "commas, no header, date and time apart in digits only: 20240305, 134500",
        toml: r#"delimiter = ","
columns = ["date", "time", "values"]
dates = "year-first"
date_mark = "none"
time_mark = "none""#,
    },
    General {
        name: "dates-only",
        about: "commas, a header, days as 2024-03-05; for bars of days and longer ones",
        toml: r#"delimiter = ","
header = ["date", "values"]
columns = ["date", "values"]
dates = "year-first""#,
    },
    General {
        name: "day-first",
        about: "commas, a header, times as 05.03.2024 13:45:00",
        toml: r#"delimiter = ","
header = ["time", "values"]
columns = ["moment", "values"]
dates = "day-first""#,
    },
    General {
        name: "month-first",
        about: "commas, a header, times as 03/05/2024 13:45:00",
        toml: r#"delimiter = ","
header = ["time", "values"]
columns = ["moment", "values"]
dates = "month-first""#,
    },
    General {
        name: "decimal-comma",
        about: "semicolons, decimal commas, times as 05.03.2024 13:45:00, for spreadsheets of such countries",
        toml: r#"delimiter = ";"
header = ["time", "values"]
columns = ["moment", "values"]
decimal = ","
dates = "day-first"
line_end = "crlf"
encoding = "utf-8-bom""#,
    },
    General {
        name: "tabs",
        about: "tabs, a header, times as 2024-03-05 13:45:00",
        toml: r#"delimiter = "tab"
header = ["time", "values"]
columns = ["moment", "values"]
dates = "year-first""#,
    },
    General {
        name: "unix-seconds",
        about: "commas, a header, times in seconds since 1970",
        toml: r#"delimiter = ","
header = ["time", "values"]
columns = ["unix-s", "values"]
dates = "year-first""#,
    },
    General {
        name: "unix-millis",
        about: "commas, a header, times in milliseconds since 1970",
        toml: r#"delimiter = ","
header = ["time", "values"]
columns = ["unix-ms", "values"]
dates = "year-first""#,
    },
];

/// The general layout of a name.
pub fn general(name: &str) -> Option<Layout> {
    let found = GENERAL.iter().find(|g| g.name == name)?;
    Layout::from_toml(found.toml).ok().map(|layout| Layout { name: Some(name.to_owned()), ..layout })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Use;

    #[test]
    fn every_general_layout_is_one_and_holds_any_columns() {
        for g in GENERAL {
            let layout = general(g.name).unwrap_or_else(|| panic!("{}", g.name));
            assert!(layout.columns.contains(&Use::Values), "{}", g.name);
            assert_eq!(Layout::from_toml(&layout.to_toml()).unwrap().writing, layout.writing);
        }
        assert!(general("nobody's").is_none());
    }
}
