//! The named brackets of a shelf: a line each in `rehearsals/brackets.toml`, as `tight = "stop 20pt target 40pt"`.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use stavel_core::error::printable;
use stavel_core::rehearse::order_in_line;
use stavel_core::{Error, Result};

use super::kept::FOLDER;

fn file_of(shelf: &Path) -> PathBuf {
    shelf.join(FOLDER).join("brackets.toml")
}

/// The brackets by name, each as it is typed behind an order; none where nobody has named any.
///
/// # Errors
/// Where the file cannot be read, or says something that is no bracket.
pub fn read_brackets(shelf: &Path) -> Result<BTreeMap<String, String>> {
    brackets_in(&text_of(shelf)?)
        .map_err(|what| Error::input(format!("The brackets {}: {what}.", file_of(shelf).display())))
}

/// The text of the file; empty where there is none.
fn text_of(shelf: &Path) -> Result<String> {
    let path = file_of(shelf);
    match std::fs::read_to_string(&path) {
        Ok(text) => Ok(text),
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
        Err(e) => Err(Error::io("Cannot read", &path, &e)),
    }
}

fn brackets_in(text: &str) -> Result<BTreeMap<String, String>, String> {
    let brackets: BTreeMap<String, String> = toml::from_str(text).map_err(|e| printable(e.message()))?;
    for (name, words) in &brackets {
        order_in_line(&format!("buy 1 with {words}"), "1")
            .map_err(|why| format!("'{}': {why}", printable(name)))?;
    }
    Ok(brackets)
}

/// Names a bracket, or takes its name away; every other line of the file, also what a person noted there, stays as it is.
///
/// # Errors
/// Where the file is not understood, and so is not written over, or cannot be written.
pub fn keep_bracket(shelf: &Path, name: &str, words: Option<&str>) -> Result<()> {
    read_brackets(shelf)?;
    let is_other = |line: &&str| !brackets_in(line).is_ok_and(|all| all.contains_key(name));
    let mut text: String = text_of(shelf)?.lines().filter(is_other).map(|line| format!("{line}\n")).collect();
    let cannot = |what: &str| {
        Error::input(format!(
            "The bracket {} cannot be kept in {}: {what}.",
            printable(name),
            file_of(shelf).display()
        ))
    };
    if let Some(words) = words {
        let one = BTreeMap::from([(name, words)]);
        text += &toml::to_string(&one).map_err(|e| cannot(&e.to_string()))?;
    }
    // What a person wrote over several lines may be left; two of a name are not.
    brackets_in(&text).map_err(|what| cannot(&what))?;
    let path = file_of(shelf);
    let beside = path.with_extension("toml.new");
    let failed = |path: &Path, e: &std::io::Error| Error::io("Cannot write", path, e);
    std::fs::create_dir_all(shelf.join(FOLDER)).map_err(|e| failed(&path, &e))?;
    std::fs::write(&beside, text).map_err(|e| failed(&beside, &e))?;
    std::fs::rename(&beside, &path).map_err(|e| failed(&path, &e))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn brackets_are_kept_by_name_and_a_file_that_is_not_understood_is_left_alone() {
        let dir = tempfile::tempdir().unwrap();
        let shelf = dir.path();
        assert_eq!(read_brackets(shelf).unwrap().len(), 0);
        keep_bracket(shelf, "tight", Some("stop 20pt target 40pt")).unwrap();
        keep_bracket(shelf, "very wide", Some("stop trail 90pt")).unwrap();
        keep_bracket(shelf, "tight", Some("stop 25pt")).unwrap();
        let all: Vec<(String, String)> = read_brackets(shelf).unwrap().into_iter().collect();
        let pair = |name: &str, words: &str| (name.to_owned(), words.to_owned());
        assert_eq!(all, [pair("tight", "stop 25pt"), pair("very wide", "stop trail 90pt")]);
        keep_bracket(shelf, "tight", None).unwrap();
        assert_eq!(read_brackets(shelf).unwrap().len(), 1);
        let own = "# Mine.\nwide = \"stop 90pt\" # for news\n\ntight = \"stop 5pt\"\n";
        std::fs::write(file_of(shelf), own).unwrap();
        keep_bracket(shelf, "tight", Some("stop 7pt target 9pt")).unwrap();
        let kept = std::fs::read_to_string(file_of(shelf)).unwrap();
        assert_eq!(kept, own.replace("stop 5pt", "stop 7pt target 9pt"), "what a person noted stays");
        for (text, why) in [
            ("tight = 20\n", "invalid type"),
            ("tight = \"stop soon\"\n", "'tight': "),
            ("tight stop 20pt", "brackets.toml"),
        ] {
            std::fs::write(file_of(shelf), text).unwrap();
            let told = keep_bracket(shelf, "new", Some("stop 5pt")).unwrap_err().to_string();
            assert!(told.contains(why), "{told}");
            assert_eq!(std::fs::read_to_string(file_of(shelf)).unwrap(), text);
        }
    }
}
