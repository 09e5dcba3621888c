//! Recording live streams until the program is ended.

use std::io::{IsTerminal, Write};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use stavel_core::job::Job;
use stavel_work::{RecordWish, record};

use crate::args::RecordArgs;
use crate::output::{Ending, tell};

/// Keeps the memory of a program that runs for months small: one thread takes logs in, however many cores there are, and
/// what is free goes back to the system at once.
fn stay_small() {
    // Where another pool is there already, that one stays.
    let _ = rayon::ThreadPoolBuilder::new().num_threads(1).build_global();
    /// How many milliseconds free memory is kept: `mi_option_purge_delay` of mimalloc.h, which the crate does not name.
    const PURGE_DELAY: libmimalloc_sys::mi_option_t = 15;
    // SAFETY: it sets a number within the allocator, which any thread may do at any time.
    unsafe { libmimalloc_sys::mi_option_set(PURGE_DELAY, 0) };
}

/// Records; a signal to end (Ctrl-C, or that of a service manager) ends it in good order.
pub fn run(folder: &Path, args: &RecordArgs, as_json: bool) -> Result<Ending> {
    stay_small();
    let ended = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
        signal_hook::flag::register(signal, ended.clone()).context("The program cannot listen to signals")?;
    }
    let time = args.seconds.map(|seconds| Duration::from_secs(seconds.into()));
    let wish = RecordWish { series: args.series.clone(), time };
    let job = Arc::new(Job::unwatched());
    let is_done = Arc::new(AtomicBool::new(false));
    let watch = std::thread::spawn({
        let (job, ended, is_done) = (job.clone(), ended.clone(), is_done.clone());
        move || watch(&job, &ended, &is_done)
    });
    let report = record(folder, &wish, &job);
    is_done.store(true, Ordering::Relaxed);
    // The thread only watches: however it ended, the report stands.
    let _ = watch.join();
    let report = report?;
    tell(&report, as_json)?;
    Ok(if report.wants_person { Ending::WantsPerson } else { Ending::Done })
}

/// Passes a signal on, and shows how many rows came where standard error is a terminal.
fn watch(job: &Job, ended: &AtomicBool, is_done: &AtomicBool) {
    let (begun, is_shown) = (Instant::now(), std::io::stderr().is_terminal());
    while !is_done.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
        if ended.load(Ordering::Relaxed) {
            job.stop();
        }
        let (doing, rows, _) = job.state();
        if is_shown && doing == "record" {
            let rate = rows as f64 / begun.elapsed().as_secs_f64().max(0.1);
            let end = if ended.load(Ordering::Relaxed) { "ending …" } else { "Ctrl-C ends it" };
            let _ = write!(std::io::stderr(), "\r\x1b[K{rows} rows recorded, {rate:.0} a second; {end}");
        }
    }
    if is_shown {
        let _ = write!(std::io::stderr(), "\r\x1b[K");
    }
}
