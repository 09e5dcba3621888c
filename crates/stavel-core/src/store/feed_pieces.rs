//! What was asked of feeds: which pieces of a history are here, and of which a feed had nothing.
//!
//! The table is made when the first piece is noted. A catalog that is made anew begins without it: pieces are then
//! asked for again, and their rows are already there.

use std::collections::BTreeMap;

use rusqlite::{Connection, params};

use super::Shelf;
use super::sql::has_table;
use crate::Result;
use crate::model::{Micros, SeriesName};

const TABLE: &str = "CREATE TABLE IF NOT EXISTS feed_piece (
    series TEXT NOT NULL, label TEXT NOT NULL, state TEXT NOT NULL, edition INTEGER NOT NULL, etag TEXT, asked INTEGER NOT NULL,
    PRIMARY KEY (series, label)) STRICT";

/// What is known of a piece.
#[derive(Debug, Clone, Copy, PartialEq, Eq, strum::EnumString, strum::IntoStaticStr)]
#[strum(serialize_all = "lowercase")]
pub enum PieceState {
    /// It is here as a whole.
    Whole,
    /// It is here, and more of it may come.
    Open,
    /// The feed had nothing there.
    Empty,
    /// It was asked for and did not come.
    Failed,
}

/// A piece of a history that was asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FeedPiece {
    /// Whether it is here.
    pub state: PieceState,
    /// The id of the edition that has its rows; 0 for a piece without any.
    pub edition: i64,
    /// What tells whether the feed has another one by now.
    pub etag: Option<String>,
    /// When it was asked for, in the time of the feed: the end of what it had then.
    pub asked: Micros,
}

fn read(db: &Connection, of: &str) -> Result<BTreeMap<String, FeedPiece>> {
    if !has_table(db, "feed_piece")? {
        return Ok(BTreeMap::new());
    }
    let mut query =
        db.prepare("SELECT label, state, edition, etag, asked FROM feed_piece WHERE series = ?1")?;
    let mut rows = query.query([of])?;
    let mut out = BTreeMap::new();
    while let Some(row) = rows.next()? {
        let state: String = row.get(1)?;
        // A state that is not known is that of a piece to ask for.
        let Ok(state) = state.parse() else { continue };
        let edition = row.get(2)?;
        out.insert(row.get(0)?, FeedPiece { state, edition, etag: row.get(3)?, asked: row.get(4)? });
    }
    Ok(out)
}

/// Forgets which documents of a feed were asked for: what they said is not here any more.
pub fn forget_documents(db: &Connection, feed: &str) -> Result<()> {
    if has_table(db, "feed_piece")? {
        db.execute("DELETE FROM feed_piece WHERE series = ?1", [feed])?;
    }
    Ok(())
}

impl Shelf {
    /// The pieces of a series that were asked for, by their labels.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn feed_pieces(&self, series: &SeriesName) -> Result<BTreeMap<String, FeedPiece>> {
        read(&self.db, &series.to_string())
    }

    /// The documents of a feed that were asked for, by their paths.
    ///
    /// # Errors
    /// Where the catalog cannot be read.
    pub fn feed_documents(&self, feed: &str) -> Result<BTreeMap<String, FeedPiece>> {
        read(&self.db, feed)
    }

    /// Notes pieces that were asked for, in the place of what was noted of them before.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn note_feed_pieces(&mut self, series: &SeriesName, pieces: &[(String, FeedPiece)]) -> Result<()> {
        self.note_asked(&series.to_string(), pieces)
    }

    /// Notes documents of a feed that were asked for, in the place of what was noted of them before.
    ///
    /// # Errors
    /// Where the catalog cannot be written.
    pub fn note_feed_documents(&mut self, feed: &str, documents: &[(String, FeedPiece)]) -> Result<()> {
        self.note_asked(feed, documents)
    }

    fn note_asked(&mut self, of: &str, pieces: &[(String, FeedPiece)]) -> Result<()> {
        self.must_write()?;
        self.db.execute_batch(TABLE)?;
        let noted = self.db.transaction()?;
        for (label, piece) in pieces {
            let state: &str = piece.state.into();
            noted.execute(
                "INSERT OR REPLACE INTO feed_piece (series, label, state, edition, etag, asked) VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
                params![of, label, state, piece.edition, piece.etag, piece.asked],
            )?;
        }
        noted.commit()?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_piece_is_known_as_it_was_noted_last() {
        let dir = tempfile::tempdir().unwrap();
        let (a, b): (SeriesName, SeriesName) =
            ("NOKSEK@quill:ticks".parse().unwrap(), "NOKSEK@quill:1m.ask".parse().unwrap());
        let mut shelf = Shelf::open_to_write(dir.path()).unwrap();
        assert!(shelf.feed_pieces(&a).unwrap().is_empty());
        let piece = |state, edition| FeedPiece { state, edition, etag: Some("\"x\"".into()), asked: 7 };
        let noted = |state, edition| [("2024-03-05".to_owned(), piece(state, edition))];
        shelf.note_feed_pieces(&a, &noted(PieceState::Open, 3)).unwrap();
        shelf.note_feed_pieces(&a, &noted(PieceState::Whole, 5)).unwrap();
        shelf.note_feed_pieces(&b, &noted(PieceState::Empty, 0)).unwrap();
        drop(shelf);
        let shelf = Shelf::open(dir.path()).unwrap();
        assert_eq!(shelf.feed_pieces(&a).unwrap()["2024-03-05"], piece(PieceState::Whole, 5));
        assert_eq!(shelf.feed_pieces(&b).unwrap()["2024-03-05"], piece(PieceState::Empty, 0));
        let mut reading = shelf;
        assert!(reading.note_feed_pieces(&a, &noted(PieceState::Whole, 1)).is_err(), "opened to read");
    }
}
