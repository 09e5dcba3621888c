//! Which instrument, frame and side a file is of, by its name.

use std::path::Path;

use super::Hints;
use super::bring::Member;
use crate::model::{Frame, Side};
use crate::{Error, Result};

/// What a name says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Named {
    pub instrument: Option<String>,
    pub frame: Option<Frame>,
    pub side: Option<Side>,
}

/// Words in file names that name no instrument.
const PLAIN_WORDS: [&str; 22] = [
    "ticks", "tick", "bars", "bar", "bid", "ask", "mid", "data", "history", "quotes", "trades", "export",
    "prices", "utc", "gmt", "depth", "minute", "hour", "daily", "day", "table", "sheet",
];

/// What the name of a file says, by the pattern in the hints or by its parts. `known` are the instruments
/// on the shelf.
///
/// # Errors
/// Where the pattern does not fit or is none.
pub fn read_name(member: &Member, hints: &Hints, known: &[String]) -> Result<Named> {
    if let Some(pattern) = &hints.names {
        return by_pattern(&member.name(), pattern);
    }
    let name = member.name();
    let parts = parts_of(stem_of(&name));
    let side = |p: &&String| match p.to_ascii_lowercase().as_str() {
        "bid" => Some(Side::Bid),
        "ask" | "offer" => Some(Side::Ask),
        "mid" => Some(Side::Mid),
        _ => None,
    };
    Ok(Named {
        instrument: instrument_in(&parts, known).or_else(|| folder_named(&folders_of(&member.path), known)),
        frame: None,
        side: parts.iter().find_map(|p| side(&p)),
    })
}

/// A file's name without the endings that say what kind of file it is.
fn stem_of(name: &str) -> &str {
    let mut stem = name;
    while let Some((head, end)) = stem.rsplit_once('.') {
        let is_kind = super::bring::is_table_name(&format!(".{end}")) || ["gz", "zst"].contains(&end);
        if !is_kind || head.is_empty() {
            break;
        }
        stem = head;
    }
    stem
}

fn parts_of(stem: &str) -> Vec<String> {
    stem.split(['_', ' ', '(', ')', ',', '~']).filter(|p| !p.is_empty()).map(str::to_owned).collect()
}

fn folders_of(path: &Path) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for folder in path.ancestors().skip(1).take(3) {
        names.extend(folder.file_name().map(|n| n.to_string_lossy().into_owned()));
    }
    names
}

/// The part that names a known instrument, whatever its case, else the first that could name one.
fn instrument_in(parts: &[String], known: &[String]) -> Option<String> {
    let is_known = |p: &str| known.iter().find(|k| k.eq_ignore_ascii_case(p)).cloned();
    let finer = || parts.iter().flat_map(|p| p.split(['-', '.']));
    parts.iter().find_map(|p| is_known(p)).or_else(|| finer().find_map(is_known)).or_else(|| {
        let could = |p: &&String| {
            let word = p.to_ascii_lowercase();
            let letters = p.chars().filter(char::is_ascii_alphabetic).count();
            letters >= 1 && !PLAIN_WORDS.contains(&word.as_str()) && word.parse::<Frame>().is_err()
        };
        parts.iter().find(could).map(|p| cleaned(p))
    })
}

/// The folder that names a known instrument, or is written as one: in capitals.
fn folder_named(folders: &[String], known: &[String]) -> Option<String> {
    let is_written_so = |p: &String| {
        p.chars().filter(char::is_ascii_uppercase).count() >= 3 && !p.chars().any(|c| c.is_ascii_lowercase())
    };
    let fits = |p: &&String| known.iter().any(|k| k.eq_ignore_ascii_case(p)) || is_written_so(p);
    folders.iter().find(fits).map(|p| cleaned(p))
}

/// A name without the marks that no instrument's name may have.
pub fn cleaned(name: &str) -> String {
    let kept: String = name.chars().filter(|c| c.is_ascii_alphanumeric() || "._-+".contains(*c)).collect();
    kept.trim_matches(['.', '_', '-', '+']).to_owned()
}

/// Reads a name by a pattern such as `{instrument}-{frame}.csv`; `*` stands for anything.
fn by_pattern(name: &str, pattern: &str) -> Result<Named> {
    let mut pieces: Vec<(Option<&str>, &str)> = Vec::new();
    let mut rest = pattern;
    let mut hole = None;
    loop {
        let next = rest.find(['{', '*']).unwrap_or(rest.len());
        pieces.push((hole, &rest[..next]));
        if next == rest.len() {
            break;
        }
        if rest[next..].starts_with('*') {
            (hole, rest) = (Some("*"), &rest[next + 1..]);
            continue;
        }
        let Some(end) = rest[next..].find('}') else {
            return Err(Error::arguments(format!(
                "'{pattern}' has a {{ without a }}; write {{instrument}}, {{frame}}, {{side}} or *."
            )));
        };
        (hole, rest) = (Some(&rest[next + 1..next + end]), &rest[next + end + 1..]);
    }
    let misfit = || Error::input(format!("The file name {name} does not fit the pattern '{pattern}'."));
    let mut named = Named::default();
    let mut left = name;
    for (i, (hole, text)) in pieces.iter().enumerate() {
        let at = match (hole, i + 1 == pieces.len()) {
            (None, _) => {
                if left.starts_with(text) {
                    0
                } else {
                    return Err(misfit());
                }
            }
            (Some(_), true) => left
                .len()
                .checked_sub(text.len())
                .filter(|&at| left.is_char_boundary(at) && left[at..] == **text)
                .ok_or_else(misfit)?,
            (Some(_), false) => left.find(text).ok_or_else(misfit)?,
        };
        let value = &left[..at];
        match *hole {
            None | Some("*") => {}
            Some("instrument") => named.instrument = Some(cleaned(value)),
            Some("frame") => named.frame = Some(value.parse()?),
            Some("side") => named.side = Some(value.to_ascii_lowercase().parse()?),
            Some(other) => {
                return Err(Error::arguments(format!(
                    "'{{{other}}}' names nothing; write {{instrument}}, {{frame}}, {{side}} or *."
                )));
            }
        }
        left = &left[at + text.len()..];
    }
    if left.is_empty() { Ok(named) } else { Err(misfit()) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_patterns() {
        let known = ["NOKSEK".to_owned()];
        let read = |name: &str| instrument_in(&parts_of(stem_of(name)), &known);
        assert_eq!(read("quill_noksek-2024.csv.gz").as_deref(), Some("NOKSEK"));
        assert_eq!(read("NZDSEK_1m_bid.csv").as_deref(), Some("NZDSEK"));
        assert_eq!(read("BLY-2024-03_1h.csv").as_deref(), Some("BLY-2024-03"));
        assert_eq!(read("ticks_2024-03.csv"), None);
        let by = |name: &str, pattern: &str| {
            by_pattern(name, pattern)
                .map(|n| (n.instrument.unwrap_or_default(), n.frame.map(|f| f.to_string()), n.side))
        };
        assert_eq!(
            by("q.NZDSEK.1m.ask.csv", "q.{instrument}.{frame}.{side}.csv").unwrap(),
            ("NZDSEK".into(), Some("1m".into()), Some(Side::Ask))
        );
        assert_eq!(by("2024-03 NOK-SEK.txt", "* {instrument}.txt").unwrap().0, "NOK-SEK");
        assert!(
            by("a.csv", "{instrument}.txt").is_err()
                && by("a.csv", "{what}.csv").is_err()
                && by("a", "{x").is_err()
        );
    }
}
