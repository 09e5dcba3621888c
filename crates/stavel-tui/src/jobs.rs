//! Work on other threads: what was read comes back as a reply, what was done as an outcome.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, Sender, channel};
use std::time::Instant;

use stavel_core::job::Job;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_work::{Report, Step, as_act};

use crate::app::App;

/// What a thread hands to the bench: a change of its state.
pub type Reply = Box<dyn FnOnce(&mut App) + Send>;

/// A step that runs.
pub struct Running {
    pub job: Arc<Job>,
    pub step: Step,
    pub begun: Instant,
}

/// The threads' way back to the bench.
pub struct Threads {
    root: PathBuf,
    to_bench: Sender<Reply>,
    pub from_threads: Receiver<Reply>,
}

impl Threads {
    pub fn new(root: PathBuf) -> Threads {
        let (to_bench, from_threads) = channel();
        Threads { root, to_bench, from_threads }
    }

    /// Reads something of the shelf; the reply is called with what was read.
    pub fn read<T: Send + 'static>(
        &self,
        job: Arc<Job>,
        work: impl FnOnce(&Shelf, &Job) -> Result<T> + Send + 'static,
        reply: impl FnOnce(&mut App, Result<T>) + Send + 'static,
    ) {
        let (root, to_bench) = (self.root.clone(), self.to_bench.clone());
        std::thread::spawn(move || {
            let outcome = caught(|| Shelf::open(&root).and_then(|shelf| work(&shelf, &job)));
            // A bench that is gone needs no reply.
            let _ = to_bench.send(Box::new(move |app| reply(app, outcome)));
        });
    }

    /// Changes the shelf outside of a step; the reply is called when it is done.
    pub fn write(
        &self,
        work: impl FnOnce(&mut Shelf) -> Result<()> + Send + 'static,
        reply: impl FnOnce(&mut App, Result<()>) + Send + 'static,
    ) {
        let (root, to_bench) = (self.root.clone(), self.to_bench.clone());
        std::thread::spawn(move || {
            let outcome = caught(|| Shelf::open_to_write(&root).and_then(|mut shelf| work(&mut shelf)));
            let _ = to_bench.send(Box::new(move |app| reply(app, outcome)));
        });
    }

    /// Does a step, after what goes `first`, as one act; the reply is called with what it did.
    pub fn act(
        &self,
        step: Step,
        first: impl FnOnce(&mut Shelf) -> Result<()> + Send + 'static,
        job: Arc<Job>,
        reply: impl FnOnce(&mut App, Result<Report>) + Send + 'static,
    ) {
        let (root, to_bench) = (self.root.clone(), self.to_bench.clone());
        std::thread::spawn(move || {
            let outcome = caught(|| {
                let mut shelf =
                    if step.writes() { Shelf::open_to_write(&root)? } else { Shelf::open(&root)? };
                as_act(&mut shelf, &step, |shelf| {
                    first(shelf)?;
                    stavel_work::apply(shelf, &step, &job)
                })
            });
            let _ = to_bench.send(Box::new(move |app| reply(app, outcome)));
        });
    }
}

/// A thread that panics must still say so: nothing waits for ever.
fn caught<T>(work: impl FnOnce() -> Result<T>) -> Result<T> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|_| {
        Err(Error::storage("Something in Stavel broke while doing this; the shelf is as it was."))
    })
}

/// Something a lens shows, with the key of what it was read for.
pub struct Slot<T> {
    key: String,
    job: Option<Arc<Job>>,
    pub value: Option<Result<Arc<T>>>,
}

impl<T> Default for Slot<T> {
    fn default() -> Self {
        Slot { key: String::new(), job: None, value: None }
    }
}

impl<T: Send + Sync + 'static> Slot<T> {
    /// True while what is wanted is still being read.
    pub fn is_reading(&self) -> bool {
        self.job.is_some()
    }

    /// What was read, if it went well.
    pub fn get(&self) -> Option<&Arc<T>> {
        self.value.as_ref().and_then(|v| v.as_ref().ok())
    }

    /// True where what is there was read for this key.
    pub fn is_for(&self, key: &str) -> bool {
        self.key == key && self.job.is_none()
    }

    /// Forgets what was read for, so that it is read again.
    pub fn forget(&mut self) {
        self.key.clear();
    }

    /// Has something read, unless it was read (or is being read) for the same key. What is being read
    /// for another key is stopped; what was read stays to be shown until the new is there.
    pub fn want(
        &mut self,
        key: String,
        threads: &Threads,
        place: fn(&mut App) -> Option<&mut Slot<T>>,
        work: impl FnOnce(&Shelf, &Job) -> Result<T> + Send + 'static,
    ) {
        if self.key == key {
            return;
        }
        if let Some(job) = self.job.take() {
            job.stop();
        }
        let job = Arc::new(Job::unwatched());
        self.job = Some(job.clone());
        self.key = key.clone();
        threads.read(job, work, move |app, outcome| {
            // What was closed meanwhile, or wants something else by now, needs no answer.
            if let Some(slot) = place(app).filter(|slot| slot.key == key) {
                slot.value = Some(outcome.map(Arc::new));
                slot.job = None;
            }
        });
    }
}
