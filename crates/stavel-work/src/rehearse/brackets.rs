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
    let path = file_of(shelf);
    let text = match std::fs::read_to_string(&path) {
        Ok(text) => text,
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(BTreeMap::new()),
        Err(e) => return Err(Error::io("Cannot read", &path, &e)),
    };
    let wrong = |what: String| Error::input(format!("The brackets {}: {what}.", path.display()));
    let brackets: BTreeMap<String, String> =
        toml::from_str(&text).map_err(|e| wrong(printable(e.message())))?;
    for (name, words) in &brackets {
        order_in_line(&format!("buy 1 with {words}"), "1")
            .map_err(|why| wrong(format!("'{}': {why}", printable(name))))?;
    }
    Ok(brackets)
}

/// Names a bracket, or takes its name away; the others of the file stay as they are.
///
/// # Errors
/// Where the file is not understood, and so is not written over, or cannot be written.
pub fn keep_bracket(shelf: &Path, name: &str, words: Option<&str>) -> Result<()> {
    let mut brackets = read_brackets(shelf)?;
    match words {
        Some(words) => brackets.insert(name.to_owned(), words.to_owned()),
        None => brackets.remove(name),
    };
    let text = toml::to_string(&brackets)
        .map_err(|e| Error::storage(format!("The bracket {} cannot be kept: {e}.", printable(name))))?;
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
