//! Many pieces, as many at once as the service permits. The parts of the job are the series: whoever watches it may hold
//! them, bring one forward, or leave the rest of one away.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use super::download::{Fetched, fetch};
use super::pieces::QueuedPiece;
use super::{Service, Spool};
use stavel_core::Result;
use stavel_core::job::Job;

/// What became of a piece.
#[derive(Debug)]
pub struct FetchOutcome {
    pub queued: QueuedPiece,
    /// The piece, or a sentence on why there is none.
    pub outcome: std::result::Result<Fetched, String>,
}

/// Pieces by series, each in order.
struct PendingPieces(Mutex<Vec<(String, VecDeque<QueuedPiece>)>>);

impl PendingPieces {
    fn of(queue: Vec<QueuedPiece>) -> PendingPieces {
        let mut by_series: Vec<(String, VecDeque<QueuedPiece>)> = Vec::new();
        for piece in queue {
            let name = piece.series.to_string();
            match by_series.iter_mut().find(|(known, _)| *known == name) {
                Some((_, pieces)) => pieces.push_back(piece),
                None => by_series.push((name, [piece].into())),
            }
        }
        PendingPieces(Mutex::new(by_series))
    }

    /// The parts as the job shows them.
    fn parts(&self) -> Vec<(String, u64)> {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.iter().map(|(name, pieces)| (name.clone(), pieces.len() as u64)).collect()
    }

    /// The next piece in the order of the job's parts. Of a part that is left away nothing comes any more.
    fn next(&self, job: &Job) -> Option<QueuedPiece> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        for line in job.lines() {
            let Some((_, pieces)) = all.iter_mut().find(|(name, _)| *name == line.name) else { continue };
            if line.is_left {
                // What does not come counts as done with.
                let _ = job.advance(pieces.len() as u64);
                pieces.clear();
            }
            if let Some(piece) = pieces.pop_front() {
                return Some(piece);
            }
        }
        None
    }
}

/// Fetches pieces into the spool, in the order of their series, and tells what became of each as it comes. Pieces of series
/// that are left away on the way are not told of.
///
/// # Errors
/// Where the service cannot be used at all, where `done` fails, or where the job is stopped. What was fetched before
/// stays in the spool.
pub fn fetch_all(
    service: &Service,
    queue: Vec<QueuedPiece>,
    spool: &Spool,
    job: &Job,
    done: &mut dyn FnMut(FetchOutcome) -> Result<()>,
) -> Result<()> {
    let waiting = PendingPieces::of(queue);
    job.queue(waiting.parts());
    let is_over = AtomicBool::new(false);
    let (send, receive) = channel();
    std::thread::scope(|scope| {
        for _ in 0..service.feed.limits.at_once {
            let send = send.clone();
            let (waiting, is_over) = (&waiting, &is_over);
            scope.spawn(move || {
                let is_cancelled = || is_over.load(Ordering::Relaxed);
                while !is_cancelled() {
                    if job.is_held() {
                        std::thread::sleep(Duration::from_millis(50));
                        continue;
                    }
                    let Some(queued) = waiting.next(job) else { break };
                    let name = queued.series.to_string();
                    let label = queued.piece.label.clone();
                    let told = |why: &str| {
                        job.change_line(&name, |line| line.trouble = Some(format!("{label}: {why}")));
                    };
                    let told = fetch(service, &queued, spool, &told, &is_cancelled)
                        .map(|outcome| FetchOutcome { queued, outcome });
                    if let Ok(told) = &told {
                        job.change_line(&name, |line| {
                            line.done += 1;
                            line.failed += u64::from(told.outcome.is_err());
                        });
                    }
                    if send.send(told).is_err() {
                        break;
                    }
                }
            });
        }
        drop(send);
        let outcome = loop {
            match receive.recv_timeout(Duration::from_millis(100)) {
                Ok(told) => {
                    if let Err(error) = told.and_then(&mut *done).and_then(|()| job.advance(1)) {
                        break Err(error);
                    }
                }
                Err(RecvTimeoutError::Timeout) => {
                    if let Err(error) = job.advance(0) {
                        break Err(error);
                    }
                }
                Err(RecvTimeoutError::Disconnected) => break Ok(()),
            }
        };
        is_over.store(true, Ordering::Relaxed);
        outcome
    })
}
