//! Work on other threads: what was read or done comes back as a message of its own type.

use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::mpsc::{Receiver, Sender, TryRecvError, channel};
use std::time::Instant;

use stavel_core::job::Job;
use stavel_core::model::Layout;
use stavel_core::store::Shelf;
use stavel_core::{Error, Result};
use stavel_work::{Step, StepReport, as_act};

/// Reads and writes a shelf on other threads.
pub struct Threads {
    root: PathBuf,
    /// Messages sent so far, by all threads.
    sent: Arc<AtomicU64>,
}

impl Threads {
    pub fn new(root: PathBuf) -> Threads {
        Threads { root, sent: Arc::default() }
    }

    /// How many messages were sent so far: where it has grown, there is something to collect.
    pub fn sent(&self) -> u64 {
        self.sent.load(Ordering::Acquire)
    }

    /// True where no thread is at work.
    pub fn is_idle(&self) -> bool {
        // Each thread holds the count until it ends.
        Arc::strong_count(&self.sent) == 1
    }

    /// Reads something of the shelf. Where files were moved away while they were read, it is read once more.
    fn read<T: Send + 'static>(
        &self,
        job: Arc<Job>,
        work: impl Fn(&Shelf, &Job) -> Result<T> + Send + 'static,
    ) -> Receiver<Result<T>> {
        let root = self.root.clone();
        self.thread(move |to_bench| {
            let once = || Shelf::open(&root).and_then(|shelf| work(&shelf, &job));
            let outcome = caught(|| match once() {
                Err(err) if err.is_storage() => once(),
                outcome => outcome,
            });
            // A bench that wants something else by now needs no answer.
            let _ = to_bench.send(outcome);
        })
    }

    /// Does a step, and saves a layout before it, as one act.
    pub fn start(&self, step: Step, layout: Option<(String, Box<Layout>)>) -> Running {
        let (root, job) = (self.root.clone(), Arc::new(Job::unwatched()));
        let (doing, watched) = (step.clone(), job.clone());
        let outcome = self.thread(move |to_bench| {
            let outcome = caught(|| {
                let mut shelf =
                    if doing.writes() { Shelf::open_to_write(&root)? } else { Shelf::open(&root)? };
                as_act(&mut shelf, &doing, |shelf| {
                    if let Some((name, layout)) = &layout {
                        shelf.save_layout(name, layout)?;
                    }
                    stavel_work::apply(shelf, &doing, &watched)
                })
            });
            if let (Step::Deliver(_), Ok(report)) = (&doing, &outcome) {
                note_delivery(&root, &doing, report);
            }
            let _ = to_bench.send(outcome);
        });
        Running { job, step, begun: Instant::now(), outcome }
    }

    /// The folder of the shelf.
    pub fn root(&self) -> &std::path::Path {
        &self.root
    }

    fn thread<M: Send + 'static>(&self, work: impl FnOnce(Sender<M>) + Send + 'static) -> Receiver<M> {
        let (to_bench, from_thread) = channel();
        let sent = self.sent.clone();
        std::thread::spawn(move || {
            work(to_bench);
            sent.fetch_add(1, Ordering::Release);
        });
        from_thread
    }
}

/// Notes a proved delivery in the journal, so that the bench knows of it on another day. While another program writes to
/// the shelf there is no note.
fn note_delivery(root: &std::path::Path, step: &Step, report: &StepReport) {
    let is_proved = report.json["files"].as_array().is_some_and(|f| f.iter().all(|f| f["proved"] == true));
    let text = toml::to_string(step).ok().filter(|_| is_proved);
    let noted = text.zip(Shelf::open_to_write(root).ok()).map(|(text, mut shelf)| {
        let line = report.lines.first().map(String::as_str).unwrap_or_default();
        let series = report.json["files"][0]["series"].as_str().unwrap_or_default();
        shelf.note(series, &text, line)
    });
    if let Some(Err(why)) = noted {
        tracing::warn!(%why, "the delivery is not noted in the journal");
    }
}

/// A step that runs.
pub struct Running {
    pub job: Arc<Job>,
    pub step: Step,
    pub begun: Instant,
    outcome: Receiver<Result<StepReport>>,
}

impl Running {
    /// What the step did, once it is done.
    pub fn outcome(&self) -> Option<Result<StepReport>> {
        received(&self.outcome)
    }
}

/// A message, where one has come.
fn received<T>(from: &Receiver<Result<T>>) -> Option<Result<T>> {
    match from.try_recv() {
        Ok(message) => Some(message),
        Err(TryRecvError::Empty) => None,
        Err(TryRecvError::Disconnected) => Some(Err(broken())),
    }
}

fn broken() -> Error {
    Error::storage("Something in Stavel broke while doing this; the shelf is as it was.")
}

/// A thread that panics must still say so: nothing waits for ever.
fn caught<T>(work: impl FnOnce() -> Result<T>) -> Result<T> {
    std::panic::catch_unwind(std::panic::AssertUnwindSafe(work)).unwrap_or_else(|panic| {
        let said = panic.downcast_ref::<&str>().map(ToString::to_string);
        let said = said.or_else(|| panic.downcast_ref::<String>().cloned());
        tracing::error!(said, "a thread panicked");
        Err(broken())
    })
}

/// Something that is read for a key.
pub struct Slot<T> {
    key: String,
    reading: Option<(Arc<Job>, Receiver<Result<T>>)>,
    pub value: Option<Result<Arc<T>>>,
}

impl<T> Default for Slot<T> {
    fn default() -> Self {
        Slot { key: String::new(), reading: None, value: None }
    }
}

impl<T: Send + Sync + 'static> Slot<T> {
    /// What was read, if it went well.
    pub fn get(&self) -> Option<&Arc<T>> {
        self.value.as_ref().and_then(|v| v.as_ref().ok())
    }

    /// True while what is wanted is still being read.
    pub fn is_reading(&self) -> bool {
        self.reading.is_some()
    }

    /// How far what is being read is, and how far it goes; none where nothing is read.
    pub fn progress(&self) -> Option<(u64, u64)> {
        let (_, done, total) = self.reading.as_ref()?.0.state();
        Some((done, total))
    }

    /// True where what is there was read for this key.
    pub fn is_for(&self, key: &str) -> bool {
        self.key == key && self.reading.is_none()
    }

    /// Forgets what was read for, so that it is read again.
    pub fn forget(&mut self) {
        self.key.clear();
    }

    /// Has something read, unless it was read, or is being read, for the same key. What is being read for another
    /// key is stopped; what was read stays to be shown until the new is there.
    pub fn want(
        &mut self,
        key: String,
        threads: &Threads,
        work: impl Fn(&Shelf, &Job) -> Result<T> + Send + 'static,
    ) {
        if self.key == key {
            return;
        }
        if let Some((job, _)) = self.reading.take() {
            job.stop();
        }
        let job = Arc::new(Job::unwatched());
        self.reading = Some((job.clone(), threads.read(job, work)));
        self.key = key;
    }

    /// Takes what was read, where it has come; true then.
    pub fn collect(&mut self) -> bool {
        let Some(outcome) = self.reading.as_ref().and_then(|(_, from)| received(from)) else { return false };
        self.value = Some(outcome.map(Arc::new));
        self.reading = None;
        true
    }
}

impl<T> Drop for Slot<T> {
    fn drop(&mut self) {
        if let Some((job, _)) = &self.reading {
            job.stop();
        }
    }
}

/// Something that is read once, because a person asked.
pub struct Errand<T> {
    reading: Option<Receiver<Result<T>>>,
}

impl<T> Default for Errand<T> {
    fn default() -> Self {
        Errand { reading: None }
    }
}

impl<T: Send + 'static> Errand<T> {
    /// Has it read; what was asked for before is let go.
    pub fn send(&mut self, threads: &Threads, work: impl Fn(&Shelf, &Job) -> Result<T> + Send + 'static) {
        self.reading = Some(threads.read(Arc::new(Job::unwatched()), work));
    }

    /// What was read, once.
    pub fn collect(&mut self) -> Option<Result<T>> {
        let outcome = self.reading.as_ref().and_then(received)?;
        self.reading = None;
        Some(outcome)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn threads() -> (tempfile::TempDir, Threads) {
        let dir = tempfile::tempdir().unwrap();
        let threads = Threads::new(dir.path().join("shelf"));
        Shelf::open_to_write(&dir.path().join("shelf")).unwrap();
        (dir, threads)
    }

    /// Waits for a slot; messages of other keys never come.
    fn wait<T: Send + Sync + 'static>(slot: &mut Slot<T>) {
        while !slot.collect() {
            std::thread::yield_now();
        }
    }

    #[test]
    fn a_stale_reply_is_never_shown() {
        let (_dir, threads) = threads();
        let mut slot = Slot::<u32>::default();
        let (release, gate) = channel::<()>();
        let gate = std::sync::Mutex::new(gate);
        slot.want("first".into(), &threads, move |_, _| {
            gate.lock().unwrap().recv().ok();
            Ok(1)
        });
        slot.want("second".into(), &threads, |_, _| Ok(2));
        wait(&mut slot);
        drop(release);
        assert_eq!((slot.get().map(|v| **v), slot.is_for("second")), (Some(2), true));
        while threads.sent() < 2 {
            std::thread::yield_now();
        }
        assert!(!slot.collect());
        assert_eq!(slot.get().map(|v| **v), Some(2));
        // The same key is not read again; a forgotten one is.
        slot.want("second".into(), &threads, |_, _| Ok(3));
        assert!(slot.reading.is_none());
        slot.forget();
        slot.want("second".into(), &threads, |_, _| Ok(3));
        wait(&mut slot);
        assert_eq!(slot.get().map(|v| **v), Some(3));
    }

    #[test]
    fn work_that_panics_or_fails_says_so_and_a_moved_file_is_read_again() {
        let (_dir, threads) = threads();
        let mut slot = Slot::<u32>::default();
        slot.want("panics".into(), &threads, |_, _| panic!("on purpose"));
        wait(&mut slot);
        let told = |slot: &Slot<u32>| slot.value.as_ref().unwrap().as_ref().unwrap_err().to_string();
        assert!(told(&slot).contains("broke while doing this"));
        slot.want("fails".into(), &threads, |_, _| Err(Error::input("No such thing.")));
        wait(&mut slot);
        assert_eq!(told(&slot), "No such thing.");
        let tries = AtomicU64::new(0);
        slot.want("moved".into(), &threads, move |_, _| match tries.fetch_add(1, Ordering::Relaxed) {
            0 => Err(Error::storage("The rows were moved away.")),
            n => Ok(n as u32),
        });
        wait(&mut slot);
        assert_eq!(slot.get().map(|v| **v), Some(1));
    }
}
