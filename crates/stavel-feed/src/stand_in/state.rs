//! What a stand-in is set to, and what it has handed out.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::{Arc, Mutex, MutexGuard};

use serde::{Deserialize, Serialize};
use stavel_core::model::Micros;

use super::counts::Counts;
use super::history::MadeUpHistory;
use super::live_tape::{LiveSwitch, LiveTape};

/// What can be changed while a stand-in runs: by `POST /switch` with a document of these.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Switch {
    /// The moment up to which it has histories, as RFC 3339.
    pub now: String,
    /// How many replies in a hundred go wrong.
    pub faults: u32,
    /// Requests a second that it permits.
    pub per_second: u32,
    /// Days or months (2024-03-05, 2024-03) that it does not have yet.
    pub late: BTreeSet<String>,
    /// Events (by the beginning of their id) that do not take place.
    pub off: BTreeSet<String>,
    /// How the stream is to be.
    pub live: LiveSwitch,
}

impl Default for Switch {
    fn default() -> Switch {
        Switch {
            now: "2024-04-05T00:00:00Z".into(),
            faults: 0,
            per_second: 20,
            late: BTreeSet::new(),
            off: BTreeSet::new(),
            live: LiveSwitch::default(),
        }
    }
}

/// Everything a stand-in knows.
pub struct State {
    pub histories: Vec<MadeUpHistory>,
    /// What whoever asks must say.
    pub token: String,
    switch: Mutex<Switch>,
    counts: Mutex<Counts>,
    tape: Mutex<LiveTape>,
    /// Files that were made, by their path.
    files: Mutex<BTreeMap<String, Arc<MadeFile>>>,
}

/// A file that is handed out.
pub struct MadeFile {
    pub bytes: Vec<u8>,
    pub sha256: String,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

impl State {
    pub fn new(histories: Vec<MadeUpHistory>, token: String, switch: Switch) -> State {
        let now = stavel_core::model::time::parse(&switch.now).unwrap_or(0);
        State {
            histories,
            token,
            switch: Mutex::new(switch),
            counts: Mutex::new(Counts::default()),
            tape: Mutex::new(LiveTape::new(now)),
            files: Mutex::new(BTreeMap::new()),
        }
    }

    pub fn switch(&self) -> Switch {
        locked(&self.switch).clone()
    }

    pub fn set(&self, switch: Switch) {
        *locked(&self.switch) = switch;
        // What it has of the last day may be more now.
        locked(&self.files).clear();
    }

    pub fn counts(&self) -> MutexGuard<'_, Counts> {
        locked(&self.counts)
    }

    /// Where the stream is.
    pub fn tape(&self) -> MutexGuard<'_, LiveTape> {
        locked(&self.tape)
    }

    /// The moment up to which it has histories.
    pub fn now(&self) -> Micros {
        stavel_core::model::time::parse(&self.switch().now).unwrap_or(Micros::MAX)
    }

    pub fn history(&self, name: &str) -> Option<&MadeUpHistory> {
        self.histories.iter().find(|h| h.name == name)
    }

    /// A file by its path, made where it was not asked for before; none where `make` has nothing.
    pub fn file(&self, path: &str, make: impl FnOnce() -> Option<Vec<u8>>) -> Option<Arc<MadeFile>> {
        if let Some(file) = locked(&self.files).get(path) {
            return Some(file.clone());
        }
        let bytes = make()?;
        let mut hash = stavel_core::fingerprint::Sha256::default();
        hash.update(&bytes);
        let file = Arc::new(MadeFile { sha256: hash.hex(), bytes });
        let mut files = locked(&self.files);
        if files.len() > 400 {
            files.clear();
        }
        files.insert(path.to_owned(), file.clone());
        Some(file)
    }
}
