//! A progress line on standard error, where that is a terminal.

use std::io::{IsTerminal, Write};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use stavel_core::job::Job;
use stavel_core::model::time::length_in_words;

/// Shows a job's progress until it is dropped.
pub struct ProgressLine {
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl ProgressLine {
    /// Watches a job; shows nothing where standard error is no terminal.
    pub fn watch(job: Arc<Job>) -> ProgressLine {
        let stop = Arc::new(AtomicBool::new(false));
        let thread = std::io::stderr().is_terminal().then(|| {
            let stop = stop.clone();
            std::thread::spawn(move || show(&job, &stop))
        });
        ProgressLine { stop, thread }
    }
}

fn show(job: &Job, stop: &AtomicBool) {
    let begun = Instant::now();
    let mut shown = false;
    let mut since = (String::new(), Instant::now());
    while !stop.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
        let (doing, done, total) = job.state();
        // What is over at once needs no line.
        if total > 0 && begun.elapsed() > Duration::from_millis(400) {
            if since.0 != doing {
                since = (doing.clone(), Instant::now());
            }
            let share = (done as f64 / total as f64).min(1.0);
            let left = time_left(share, since.1.elapsed());
            let _ = write!(std::io::stderr(), "\r\x1b[K{doing}  {:3.0} %{left}", share * 100.0);
            shown = true;
        }
    }
    if shown {
        let _ = write!(std::io::stderr(), "\r\x1b[K");
    }
}

/// How long the rest takes at the pace so far, once that can be told.
fn time_left(share: f64, so_far: Duration) -> String {
    if share <= 0.0 || share >= 1.0 || so_far < Duration::from_secs(2) {
        return String::new();
    }
    let left = so_far.as_secs_f64() * (1.0 - share) / share;
    format!(", {} left", length_in_words((left.ceil() * 1e6) as i64))
}

impl Drop for ProgressLine {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}
