//! Frame sets: frames that are often built together, saved under a name.
//!
//! The table is made when the first set is saved.

use std::collections::BTreeMap;

use rusqlite::{Connection, params};

use super::Shelf;
use super::sql::has_table;
use crate::model::Frame;
use crate::model::series::check_name;
use crate::{Error, Result};

const TABLE: &str =
    "CREATE TABLE IF NOT EXISTS frame_set (name TEXT PRIMARY KEY, frames TEXT NOT NULL) STRICT";

fn read(db: &Connection) -> Result<BTreeMap<String, Vec<Frame>>> {
    if !has_table(db, "frame_set")? {
        return Ok(BTreeMap::new());
    }
    let mut query = db.prepare("SELECT name, frames FROM frame_set")?;
    let rows = query.query_map([], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?)))?;
    let mut sets = BTreeMap::new();
    for row in rows {
        let (name, text) = row?;
        let frames: Result<Vec<Frame>> = text.split(' ').map(str::parse).collect();
        let frames = frames.map_err(|e| {
            Error::storage(format!("The frame set {name} cannot be read ({e}); save it again."))
        })?;
        sets.insert(name, frames);
    }
    Ok(sets)
}

impl Shelf {
    /// The frame sets that are saved, by name.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn frame_sets(&self) -> Result<BTreeMap<String, Vec<Frame>>> {
        read(&self.db)
    }

    /// Saves frames under a name; gives those that stood under it before.
    ///
    /// # Errors
    /// Where the name is none, or can be taken for a frame.
    pub fn save_frame_set(&mut self, name: &str, frames: &[Frame]) -> Result<Option<Vec<Frame>>> {
        self.must_write()?;
        check_name("frame set", name)?;
        if name == "all" || !name.starts_with(|c: char| c.is_alphabetic()) || name.parse::<Frame>().is_ok() {
            return Err(Error::arguments(format!(
                "A frame set cannot be called {name}, which means something else; take a name that begins with a letter."
            )));
        }
        let before = read(&self.db)?.remove(name);
        let text = frames.iter().map(Frame::to_string).collect::<Vec<_>>().join(" ");
        self.db.execute_batch(TABLE)?;
        self.db.execute(
            "INSERT OR REPLACE INTO frame_set (name, frames) VALUES (?1, ?2)",
            params![name, text],
        )?;
        Ok(before)
    }

    /// Takes a frame set away; gives the frames it had. What was built by it stays.
    ///
    /// # Errors
    /// Where none of that name is saved.
    pub fn remove_frame_set(&mut self, name: &str) -> Result<Vec<Frame>> {
        self.must_write()?;
        let frames = read(&self.db)?.remove(name).ok_or_else(|| no_such_set(name))?;
        self.db.execute("DELETE FROM frame_set WHERE name = ?1", [name])?;
        Ok(frames)
    }

    /// The frames of a set.
    ///
    /// # Errors
    /// Where none of that name is saved.
    pub fn frame_set(&self, name: &str) -> Result<Vec<Frame>> {
        read(&self.db)?.remove(name).ok_or_else(|| no_such_set(name))
    }
}

fn no_such_set(name: &str) -> Error {
    Error::arguments(format!(
        "'{name}' is neither a frame such as 4h nor a frame set that is saved; stavel frame-set list names those that are."
    ))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_set_is_kept_replaced_and_removed_and_cannot_be_taken_for_a_frame() {
        let dir = tempfile::tempdir().unwrap();
        let frames = |text: &str| text.split(' ').map(|f| f.parse().unwrap()).collect::<Vec<Frame>>();
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        assert!(shelf.frame_sets().unwrap().is_empty());
        assert_eq!(shelf.save_frame_set("swing", &frames("4h 1d 500t")).unwrap(), None);
        assert_eq!(shelf.save_frame_set("swing", &frames("1h")).unwrap(), Some(frames("4h 1d 500t")));
        drop(shelf);
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        assert_eq!(shelf.frame_set("swing").unwrap(), frames("1h"));
        for bad in ["all", "4h", "500t", "9th", "ticks", "a b", ""] {
            assert!(shelf.save_frame_set(bad, &frames("1h")).is_err(), "{bad}");
        }
        assert_eq!(shelf.remove_frame_set("swing").unwrap(), frames("1h"));
        assert!(shelf.frame_set("swing").unwrap_err().to_string().contains("frame-set list"));
    }
}
