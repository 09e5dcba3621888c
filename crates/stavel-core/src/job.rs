//! Progress and cancellation of long work, through one small handle.

use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};

use crate::{Error, Result};

/// Where a piece of long work stands. Shared between the thread that works and the one that watches.
#[derive(Debug, Default)]
pub struct Job {
    done: AtomicU64,
    total: AtomicU64,
    stop: AtomicBool,
    doing: Mutex<String>,
}

impl Job {
    /// A job that nobody watches.
    pub fn unwatched() -> Self {
        Self::default()
    }

    /// Names what is being done now and sets how much of it there is (in any unit; 0 = not known).
    pub fn begin(&self, doing: impl Into<String>, total: u64) {
        let doing = crate::error::printable(&doing.into());
        tracing::debug!(doing, total, "work begins");
        if let Ok(mut text) = self.doing.lock() {
            *text = doing;
        }
        self.done.store(0, Ordering::Relaxed);
        self.total.store(total, Ordering::Relaxed);
    }

    /// Adds to what is done.
    ///
    /// # Errors
    /// Fails as cancelled once [`Job::stop`] was called, so that `?` ends the work.
    pub fn advance(&self, by: u64) -> Result<()> {
        self.done.fetch_add(by, Ordering::Relaxed);
        if self.stop.load(Ordering::Relaxed) { Err(Error::cancelled()) } else { Ok(()) }
    }

    /// Asks the work to end at its next step.
    pub fn stop(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    /// What is being done, how much of it is done, and how much there is.
    pub fn state(&self) -> (String, u64, u64) {
        let doing = self.doing.lock().map(|t| t.clone()).unwrap_or_default();
        (doing, self.done.load(Ordering::Relaxed), self.total.load(Ordering::Relaxed))
    }
}
