//! One piece, from the service into the spool: tried again where that may help, gone on with where it was cut.

use std::fs::{File, OpenOptions};
use std::io::{Read, Write};
use std::path::{Path, PathBuf};

use super::http::{Conditions, Failure, MOST_PAUSES, Reply, Service, pause};
use super::pieces::QueuedPiece;
use super::spool::{AboutPiece, Spool};
use stavel_core::fingerprint::sha256_of;
use stavel_core::{Error, Result};

/// What no piece is longer than: a service that goes on sending is not to fill the disk.
const LONGEST: u64 = 16 << 30;

/// What asking for a piece gave.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fetched {
    /// The file lies in the spool.
    There { path: PathBuf, etag: Option<String>, sha256: String },
    /// The service has nothing there.
    Empty,
    /// It has what it had before.
    Unchanged,
}

/// Fetches a piece; `told` gets each failed try.
///
/// # Errors
/// The whole feed cannot be used, or it was stopped. What is wrong with this piece alone is the inner sentence.
pub fn fetch(
    service: &Service,
    queued: &QueuedPiece,
    spool: &Spool,
    told: &dyn Fn(&str),
    is_cancelled: &dyn Fn() -> bool,
) -> Result<std::result::Result<Fetched, String>> {
    let path = spool.path(&queued.series, &queued.kind, &queued.piece);
    if path.exists() {
        let about = Spool::about(&path).unwrap_or_default();
        let sha256 = sum_of(&path)?;
        return Ok(Ok(Fetched::There { path, etag: about.etag, sha256 }));
    }
    let (mut tries, mut pauses, mut why) = (0, 0, String::new());
    while tries < service.feed.limits.tries {
        match once(service, queued, &path, is_cancelled) {
            Ok(fetched) => return Ok(Ok(fetched)),
            Err(Failure::Missing) => return Ok(Ok(Fetched::Empty)),
            Err(Failure::Unchanged) => return Ok(Ok(Fetched::Unchanged)),
            Err(Failure::Final(error)) => return Err(error),
            Err(Failure::Cancelled) => return Err(Error::cancelled()),
            Err(Failure::Later(time)) => {
                pauses += 1;
                told(&format!("it asks for a pause of {} s", time.as_secs()));
                service.pace.hold(time);
                if pauses > MOST_PAUSES {
                    return Ok(Err("it keeps asking for pauses".into()));
                }
                continue;
            }
            Err(Failure::Broken(fault)) => why = fault,
        }
        let until = std::time::Instant::now() + pause(tries);
        tries += 1;
        told(&match tries < service.feed.limits.tries {
            true => format!("{why}; asked again in {:.1} s", pause(tries - 1).as_secs_f64()),
            false => format!("{why}; given up after {tries} tries"),
        });
        if tries < service.feed.limits.tries && !super::pace::sleep_until(until, is_cancelled) {
            return Err(Error::cancelled());
        }
    }
    if why.ends_with("refuses the connection") {
        let name = &service.feed.name;
        return Err(Error::input(format!(
            "The service of the feed {name} is not there: {why}; is it running?"
        )));
    }
    Ok(Err(why))
}

fn sum_of(path: &Path) -> Result<String> {
    Ok(sha256_of(path).map_err(|e| Error::io("Cannot read", path, &e))?.1)
}

/// Asks once for a piece, or for the rest of it.
fn once(
    service: &Service,
    queued: &QueuedPiece,
    path: &Path,
    is_cancelled: &dyn Fn() -> bool,
) -> std::result::Result<Fetched, Failure> {
    let part = Spool::part_path(path);
    let begun = std::fs::metadata(&part).map_or(0, |about| about.len());
    let about = Spool::about(path).filter(|_| begun > 0);
    let known = about.as_ref().and_then(|about| about.etag.as_deref());
    let conditions = Conditions { unless: queued.etag.as_deref(), rest_of: known.map(|etag| (begun, etag)) };
    let address = queued.piece.address(&service.feed, &queued.kind, &queued.symbol);
    let reply = service.ask(&address, conditions, queued.kind.sum.as_deref(), is_cancelled)?;
    let expected = reply.length;
    let from = if reply.is_rest { begun } else { 0 };
    let now = AboutPiece { etag: reply.etag.clone(), sha256: reply.sum.clone() };
    Spool::remember(path, &now).map_err(Failure::Final)?;
    let written = write_body(reply, &part, is_cancelled)?;
    if expected.is_some_and(|expected| written < expected) {
        return Err(Failure::Broken("it is cut short".into()));
    }
    let bytes = std::fs::metadata(&part).map_or(0, |about| about.len());
    let sha256 = sum_of(&part).map_err(Failure::Final)?;
    let is_sound = now.sha256.as_deref().is_none_or(|said| said.eq_ignore_ascii_case(&sha256));
    if !is_sound || bytes != from + written {
        Spool::forget(path);
        return Err(Failure::Broken("its sum is not the one the service says".into()));
    }
    Spool::complete(path).map_err(Failure::Final)?;
    Ok(Fetched::There { path: path.into(), etag: now.etag, sha256 })
}

/// Writes a body behind what is there, or anew; gives its bytes. What came before it broke off stays, and is gone on
/// with.
fn write_body(
    reply: Reply,
    part: &Path,
    is_cancelled: &dyn Fn() -> bool,
) -> std::result::Result<u64, Failure> {
    let failed = |e: std::io::Error| Failure::Final(Error::io("Cannot write", part, &e));
    let mut file: File = match reply.is_rest {
        true => OpenOptions::new().append(true).open(part).map_err(failed)?,
        false => File::create(part).map_err(failed)?,
    };
    let mut body = reply.body;
    let (mut bytes, mut written) = (vec![0; 64 * 1024], 0u64);
    loop {
        if is_cancelled() {
            return Err(Failure::Cancelled);
        }
        let read = match body.read(&mut bytes) {
            Ok(0) => break,
            Ok(read) => read,
            Err(_) => return Err(Failure::Broken("it is cut short".into())),
        };
        file.write_all(&bytes[..read]).map_err(failed)?;
        written += read as u64;
        if written > LONGEST {
            return Err(Failure::Final(Error::input(format!(
                "A piece is longer than {} GB; the service goes on sending.",
                LONGEST >> 30
            ))));
        }
    }
    file.sync_all().map_err(failed)?;
    Ok(written)
}
