//! Reading ahead: the next pieces are made on another thread while one is worked on.

use std::sync::mpsc::{Receiver, sync_channel};
use std::thread::JoinHandle;

use crate::model::Columns;
use crate::{Advice, Error, Result};

/// Pieces that wait for whoever works on them.
const WAITING: usize = 1;

/// Pieces that come from another thread, in the same order.
pub struct ReadAhead {
    take: Receiver<Result<Columns>>,
    thread: Option<JoinHandle<()>>,
}

/// Takes pieces from another thread. Whoever drops it has had enough; the thread then ends.
pub fn ahead(pieces: impl Iterator<Item = Result<Columns>> + Send + 'static) -> ReadAhead {
    let (give, take) = sync_channel(WAITING);
    let thread = std::thread::spawn(move || {
        for piece in pieces {
            if give.send(piece).is_err() {
                break;
            }
        }
    });
    ReadAhead { take, thread: Some(thread) }
}

impl Iterator for ReadAhead {
    type Item = Result<Columns>;
    fn next(&mut self) -> Option<Self::Item> {
        if let Ok(piece) = self.take.recv() {
            return Some(piece);
        }
        // A thread that broke off must not pass for the end of the rows.
        let broke = self.thread.take()?.join().is_err();
        broke.then(|| {
            Err(Error::storage("Reading broke off; compare the files with the catalog.")
                .advise(Advice::VerifyShelf))
        })
    }
}
