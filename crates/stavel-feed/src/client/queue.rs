//! Many pieces, as many at once as the service permits.

use std::collections::VecDeque;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, channel};
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

/// Fetches pieces into the spool, in their order, and tells what became of each as it comes.
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
    let queue = Mutex::new(VecDeque::from(queue));
    let is_over = AtomicBool::new(false);
    let (send, receive) = channel();
    std::thread::scope(|scope| {
        for _ in 0..service.feed.limits.at_once {
            let send = send.clone();
            let (queue, is_over) = (&queue, &is_over);
            scope.spawn(move || {
                let is_cancelled = || is_over.load(Ordering::Relaxed);
                while !is_cancelled() {
                    let next = queue.lock().unwrap_or_else(std::sync::PoisonError::into_inner).pop_front();
                    let Some(queued) = next else { break };
                    let told = fetch(service, &queued, spool, &is_cancelled)
                        .map(|outcome| FetchOutcome { queued, outcome });
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
