//! The feeds a shelf knows: their texts, in its folder `feeds`.

use std::path::{Path, PathBuf};

use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_feed::client::{Feed, Spool};

/// The folder of feeds below that of a shelf.
fn folder(root: &Path) -> PathBuf {
    root.join("feeds")
}

/// Where the pieces of feeds wait to be taken in.
pub fn spool_of(shelf: &Shelf) -> Spool {
    Spool::new(folder(shelf.root()).join("spool"))
}

/// The feeds of a shelf, by name.
///
/// # Errors
/// Where a text cannot be read.
pub fn feeds(shelf: &Shelf) -> Result<Vec<Feed>> {
    let folder = folder(shelf.root());
    let Ok(entries) = std::fs::read_dir(&folder) else { return Ok(Vec::new()) };
    let mut paths: Vec<PathBuf> = entries.flatten().map(|entry| entry.path()).collect();
    paths.retain(|path| path.extension().is_some_and(|ending| ending == "toml"));
    paths.sort();
    paths.iter().map(|path| read(path)).collect()
}

fn read(path: &Path) -> Result<Feed> {
    let text = std::fs::read_to_string(path).map_err(|e| Error::io("Cannot read", path, &e))?;
    Feed::from_toml(&text).map_err(|e| Error::input(format!("{}: {e}", path.display())))
}

/// Adds a feed, or says one of its name anew; gives what stood under the name before.
///
/// # Errors
/// Where the text cannot be understood, or not be kept.
pub fn add_feed(shelf: &Shelf, path: &Path) -> Result<(Feed, Option<Feed>)> {
    let mut feed = read(path)?;
    // A path in the text is meant from the text.
    let base = path.parent().unwrap_or(Path::new("")).to_path_buf();
    let place = |path: &mut PathBuf| {
        if path.is_relative() && !path.starts_with("~") {
            *path = std::path::absolute(base.join(&*path)).unwrap_or_else(|_| base.join(&*path));
        }
    };
    feed.certificates.iter_mut().for_each(place);
    feed.token.iter_mut().filter_map(|token| token.file.as_mut()).for_each(place);
    let folder = folder(shelf.root());
    std::fs::create_dir_all(&folder).map_err(|e| Error::io("Cannot make", &folder, &e))?;
    let to = folder.join(format!("{}.toml", feed.name));
    let before = if to.exists() { Some(read(&to)?) } else { None };
    let unfinished = to.with_extension("unfinished");
    std::fs::write(&unfinished, feed.to_toml()).map_err(|e| Error::io("Cannot write", &to, &e))?;
    std::fs::rename(&unfinished, &to).map_err(|e| Error::io("Cannot write", &to, &e))?;
    Ok((feed, before))
}
