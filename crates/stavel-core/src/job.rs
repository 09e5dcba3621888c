//! Progress and cancellation of long work, through one small handle.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::{Error, Result};

/// Where a piece of long work stands. Shared between the thread that works and the one that watches.
#[derive(Debug, Default)]
pub struct Job {
    done: AtomicU64,
    total: AtomicU64,
    stop: AtomicBool,
    held: AtomicBool,
    doing: Mutex<String>,
    lines: Mutex<Vec<WorkLine>>,
}

/// A part of long work that stands in a queue with others.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WorkLine {
    /// What it is of.
    pub name: String,
    /// Pieces that are done.
    pub done: u64,
    /// All pieces there are.
    pub total: u64,
    /// Pieces that failed, also after they were tried again.
    pub failed: u64,
    /// What went wrong last, and what is done about it.
    pub trouble: Option<String>,
    /// True where the person does not want the rest of it.
    pub is_left: bool,
}

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
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
        *locked(&self.doing) = doing;
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
        let doing = locked(&self.doing).clone();
        (doing, self.done.load(Ordering::Relaxed), self.total.load(Ordering::Relaxed))
    }

    /// Says which parts the work has, in their order: name and number of pieces.
    pub fn queue(&self, parts: impl IntoIterator<Item = (String, u64)>) {
        let line = |(name, total)| WorkLine { name, total, ..WorkLine::default() };
        *locked(&self.lines) = parts.into_iter().map(line).collect();
    }

    /// The parts of the work, in the order in which they are done; none where it has no queue.
    pub fn lines(&self) -> Vec<WorkLine> {
        locked(&self.lines).clone()
    }

    /// Changes a part.
    pub fn change_line(&self, name: &str, change: impl FnOnce(&mut WorkLine)) {
        if let Some(line) = locked(&self.lines).iter_mut().find(|line| line.name == name) {
            change(line);
        }
    }

    /// Does a part before all others.
    pub fn bring_forward(&self, name: &str) {
        let mut lines = locked(&self.lines);
        if let Some(at) = lines.iter().position(|line| line.name == name) {
            lines[..=at].rotate_right(1);
        }
    }

    /// Holds the queue, or lets it go on.
    pub fn hold(&self, held: bool) {
        self.held.store(held, Ordering::Relaxed);
    }

    /// True while the queue is held.
    pub fn is_held(&self) -> bool {
        self.held.load(Ordering::Relaxed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_of_a_queue_change_their_places_and_keep_what_is_known_of_them() {
        let job = Job::unwatched();
        job.queue(["a", "b", "c"].map(|name| (name.to_owned(), 3)));
        job.change_line("c", |line| line.done += 1);
        job.change_line("nobody", |line| line.done += 1);
        job.bring_forward("c");
        job.bring_forward("nobody");
        job.change_line("a", |line| line.is_left = true);
        let told: Vec<(String, u64, bool)> =
            job.lines().into_iter().map(|line| (line.name, line.done, line.is_left)).collect();
        assert_eq!(told, [("c".into(), 1, false), ("a".into(), 0, true), ("b".into(), 0, false)]);
        assert!(!job.is_held());
        job.hold(true);
        assert!(job.is_held() && job.advance(1).is_ok());
        job.stop();
        assert!(job.advance(0).unwrap_err().is_cancelled());
    }
}
