//! Which instrument, frame and side a file is of, by its name.

use std::path::Path;

use super::Hints;
use super::bring::Member;
use crate::model::instrument::is_pair;
use crate::model::{Frame, Side};
use crate::{Advice, Error, Result, Setting};

/// What a name says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Named {
    pub instrument: Option<String>,
    pub frame: Option<Frame>,
    pub side: Option<Side>,
    /// The parts of the name that could each be the instrument; where there are several, other files or a
    /// person have to say which it is.
    pub candidates: Vec<String>,
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
    let candidates = candidates_in(&parts, &hints.source);
    let instrument = instrument_in(&parts, known)
        .or_else(|| candidates.first().cloned())
        .or_else(|| folder_named(&folders_of(&member.path), known));
    let is_known = instrument.as_ref().is_some_and(|i| known.contains(i));
    Ok(Named {
        instrument,
        frame: None,
        side: parts.iter().find_map(|p| side(&p)),
        candidates: if is_known { Vec::new() } else { candidates },
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

/// The part that names a known instrument, whatever its case.
fn instrument_in(parts: &[String], known: &[String]) -> Option<String> {
    let is_known = |p: &str| known.iter().find(|k| k.eq_ignore_ascii_case(p)).cloned();
    let finer = || parts.iter().flat_map(|p| p.split(['-', '.']));
    parts.iter().find_map(|p| is_known(p)).or_else(|| finer().find_map(is_known))
}

/// The parts that could name an instrument. A pair of currencies leaves no doubt; else a part in capitals
/// stands before words.
fn candidates_in(parts: &[String], source: &str) -> Vec<String> {
    let could = |p: &&String| {
        let word = p.to_ascii_lowercase();
        let letters = p.chars().filter(char::is_ascii_alphabetic).count();
        letters >= 1
            && !PLAIN_WORDS.contains(&word.as_str())
            && word.parse::<Frame>().is_err()
            && !word.eq_ignore_ascii_case(source)
    };
    let all: Vec<String> = parts.iter().filter(could).map(|p| cleaned(p)).collect();
    // A pair is one however its name is written.
    let capitals = |p: &str| Some(p.to_ascii_uppercase()).filter(|p| is_pair(p));
    let pairs: Vec<String> = all.iter().flat_map(|p| p.split(['-', '.'])).filter_map(capitals).collect();
    if pairs.len() == 1 {
        return pairs;
    }
    // Short marks such as M1 or v2 beside a longer name are marks.
    let long: Vec<String> =
        all.iter().filter(|p| p.chars().filter(char::is_ascii_alphabetic).count() >= 2).cloned().collect();
    let long = if long.is_empty() { all } else { long };
    let in_capitals = |p: &String| !p.chars().any(|c| c.is_ascii_lowercase());
    let capitals: Vec<String> = long.iter().filter(|p| in_capitals(p)).cloned().collect();
    if capitals.is_empty() { long } else { capitals }
}

/// Settles names of which several parts could be the instrument: where files differ in just one of these
/// parts, that part is it. Others are left for a person to say.
///
/// # Errors
/// A question, where neither other files nor the name itself tell.
pub fn settle(named: &mut [(String, &mut Named)]) -> Result<()> {
    let lists: Vec<Vec<String>> = named.iter().map(|(_, n)| n.candidates.clone()).collect();
    for (i, (place, name)) in named.iter_mut().enumerate() {
        if name.candidates.len() < 2 {
            continue;
        }
        let alike = lists.iter().enumerate().filter(|(j, list)| *j != i && list.len() == lists[i].len());
        let mut places: Vec<usize> = alike
            .filter_map(|(_, list)| {
                let mut differ = (0..list.len()).filter(|&k| list[k] != lists[i][k]);
                differ.next().filter(|_| differ.next().is_none())
            })
            .collect();
        places.sort_unstable();
        places.dedup();
        let [at] = places[..] else {
            let parts = name.candidates.join(" or ");
            return Err(Error::undecided(format!(
                "The name of {place} does not tell which instrument it is of: {parts}. Say the instrument, or a pattern of the names with {{instrument}} at its place."
            )).advise(Advice::SayEither(Setting::Instrument, Setting::Names)));
        };
        name.instrument = Some(name.candidates[at].clone());
    }
    Ok(())
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

    fn settled(names: &[&str]) -> Result<Vec<Option<String>>> {
        let named = |name: &&str| {
            let candidates = candidates_in(&parts_of(stem_of(name)), "quill");
            Named { instrument: candidates.first().cloned(), candidates, ..Named::default() }
        };
        let mut all: Vec<Named> = names.iter().map(named).collect();
        let mut places: Vec<(String, &mut Named)> =
            names.iter().map(ToString::to_string).zip(&mut all).collect();
        settle(&mut places)?;
        Ok(all.into_iter().map(|n| n.instrument).collect())
    }

    #[test]
    fn files_that_differ_in_one_part_of_their_names_differ_in_instrument() {
        let pairs = settled(&["PRE_AAABBB_M1_2024.csv", "PRE_CCCDDD_M1_2024.csv"]).unwrap();
        assert_eq!(pairs, [Some("AAABBB".into()), Some("CCCDDD".into())]);
        let error = settled(&["PRE_AAABBB_M1_2024.csv"]).unwrap_err();
        assert!(error.is_undecided() && error.to_string().contains("PRE or AAABBB"), "{error}");
        assert!(settled(&["AAA_BBB.csv", "CCC_DDD.csv"]).unwrap_err().is_undecided());
        assert!(settled(&["AAA_BBB.csv", "AAA_DDD.csv", "CCC_BBB.csv"]).unwrap_err().is_undecided());
        assert_eq!(settled(&["NOKSEK_2023.csv", "NOKSEK_2024.csv"]).unwrap()[1], Some("NOKSEK".into()));
    }

    #[test]
    fn names_and_patterns() {
        let known = ["NOKSEK".to_owned()];
        let read = |name: &str| {
            let parts = parts_of(stem_of(name));
            instrument_in(&parts, &known).or_else(|| candidates_in(&parts, "quill").first().cloned())
        };
        assert_eq!(read("quill_noksek-2024.csv.gz").as_deref(), Some("NOKSEK"));
        assert_eq!(read("NZDSEK_1m_bid.csv").as_deref(), Some("NZDSEK"));
        assert_eq!(read("BLY-2024-03_1h.csv").as_deref(), Some("BLY-2024-03"));
        assert_eq!(read("ticks_2024-03.csv"), None);
        let candidates = |name: &str| candidates_in(&parts_of(stem_of(name)), "quill");
        assert_eq!(candidates("PRE_AAABBB_M1_2024.csv"), ["PRE", "AAABBB"]);
        assert_eq!(candidates("quill_NZDSEK_x.csv"), ["NZDSEK"]);
        assert_eq!(candidates("my BLY export v2.csv"), ["BLY"]);
        assert_eq!(candidates("nzdsek_h1_utc.txt"), ["NZDSEK"]);
        assert_eq!(candidates("NZDSEK.tarn.csv"), ["NZDSEK"]);
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
