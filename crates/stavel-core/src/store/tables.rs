//! The tables of the catalog.

/// Version of the tables below; a catalog with a higher one was written by a newer Stavel.
pub const VERSION: i64 = 3;

/// The tables. A series keeps its row, and its instrument may be missing, while it can be brought back.
pub const TABLES: &str = "
CREATE TABLE shelf (id TEXT NOT NULL) STRICT;
CREATE TABLE counter (name TEXT PRIMARY KEY, value INTEGER NOT NULL) STRICT;
INSERT INTO counter VALUES ('edition', 0);
CREATE TABLE instrument (name TEXT PRIMARY KEY, parent TEXT, said TEXT NOT NULL, found TEXT NOT NULL) STRICT;
CREATE TABLE series (
    id INTEGER PRIMARY KEY AUTOINCREMENT, instrument TEXT NOT NULL, source TEXT NOT NULL, frame TEXT NOT NULL,
    built INTEGER NOT NULL, current INTEGER REFERENCES edition(id), numbered INTEGER NOT NULL DEFAULT 0,
    UNIQUE (instrument, source, frame, built)) STRICT;
CREATE TABLE edition (
    id INTEGER PRIMARY KEY, series INTEGER NOT NULL REFERENCES series(id), number INTEGER NOT NULL,
    before INTEGER REFERENCES edition(id), provenance TEXT NOT NULL, fingerprint TEXT NOT NULL, made INTEGER NOT NULL,
    clock TEXT, price_decimals INTEGER NOT NULL, volume_decimals INTEGER NOT NULL, fields TEXT NOT NULL,
    rows INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL, bytes INTEGER NOT NULL,
    UNIQUE (series, number)) STRICT;
CREATE TABLE segment (
    id INTEGER PRIMARY KEY AUTOINCREMENT, path TEXT NOT NULL UNIQUE, rows INTEGER NOT NULL, first INTEGER NOT NULL,
    last INTEGER NOT NULL, bytes INTEGER NOT NULL, hash TEXT, days BLOB, format INTEGER NOT NULL) STRICT;
CREATE TABLE holding (
    edition INTEGER NOT NULL REFERENCES edition(id), place INTEGER NOT NULL,
    segment INTEGER NOT NULL REFERENCES segment(id), PRIMARY KEY (edition, place)) STRICT, WITHOUT ROWID;
CREATE TABLE doomed (path TEXT PRIMARY KEY) STRICT;
CREATE TABLE renaming (old TEXT PRIMARY KEY, new TEXT NOT NULL) STRICT;
CREATE TABLE journal (id INTEGER PRIMARY KEY AUTOINCREMENT, made INTEGER NOT NULL, series TEXT NOT NULL,
    step TEXT NOT NULL, text TEXT NOT NULL) STRICT;
CREATE TABLE change (
    id INTEGER PRIMARY KEY AUTOINCREMENT, act INTEGER NOT NULL REFERENCES journal(id), subject TEXT NOT NULL,
    before TEXT, after TEXT,
    -- 0 stands; 1 undone, and nothing was done since; 2 undone, and only its own series steps forth over it
    undone INTEGER NOT NULL DEFAULT 0) STRICT;
CREATE INDEX change_of_subject ON change (subject);
CREATE TABLE done (key TEXT PRIMARY KEY, report TEXT NOT NULL) STRICT;
CREATE TABLE layout (name TEXT PRIMARY KEY, text TEXT NOT NULL) STRICT;
CREATE TABLE fact (
    id INTEGER PRIMARY KEY, instrument TEXT NOT NULL, source TEXT NOT NULL,
    time INTEGER NOT NULL, kind TEXT NOT NULL, value TEXT NOT NULL,
    UNIQUE (instrument, source, time, kind, value)) STRICT;
";
