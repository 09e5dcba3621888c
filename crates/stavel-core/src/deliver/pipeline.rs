//! Rows written as text on every core, and proved while they are written.
//!
//! Each turn of the loop does four things side by side: it reads the next rows of the series, turns the rows read
//! in the turn before into text, writes and hashes the text of the turn before that, and reads back from the file
//! what the turn before that has written, to compare it with the rows. So memory holds a few pieces of each
//! kind, however long the series is.

use std::cell::RefCell;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::ops::Range;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{SyncSender, sync_channel};
use std::thread::JoinHandle;

use rayon::prelude::*;

use super::Begun;
use super::packing::{FilePacking, Packed};
use crate::fingerprint::{Sha256, sha256_of};
use crate::job::Job;
use crate::model::Columns;
use crate::{Error, Result};

/// Rows that become one block of text.
const BLOCK_ROWS: usize = 16 * 1024;
/// Pieces of the series read together; a piece is a row group of the shelf.
const TOGETHER: usize = 3;

/// A way to write rows as text, and to read them back.
pub trait RowsAsText: Sync {
    /// What stands before the rows.
    fn head(&self) -> Vec<u8>;

    /// Appends some rows to a text; `is_first` where none stand before them. Gives how many values were rounded.
    fn push_rows(&self, rows: &Columns, range: Range<usize>, is_first: bool, out: &mut Vec<u8>) -> u64;

    /// What stands after the rows.
    fn tail(&self, has_rows: bool) -> Vec<u8>;

    /// True where a text, read by other code than wrote it, is just these rows.
    fn holds(&self, text: &[u8], rows: &Columns, range: Range<usize>, is_first: bool) -> bool;
}

/// A file that was written.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct WrittenText {
    /// Rows in it.
    pub rows: u64,
    /// Its length.
    pub bytes: u64,
    /// SHA-256 of its bytes, in hexadecimal digits.
    pub sha256: String,
    /// True where the file, read back, holds exactly the rows.
    pub proved: bool,
    /// Values that have fewer decimals in the file.
    pub rounded: u64,
}

/// Some rows and what became of them.
struct Block {
    rows: Arc<Columns>,
    range: Range<usize>,
    is_first: bool,
    text: Vec<u8>,
    /// Where the text stands in the file.
    place: Range<u64>,
}

/// Writes rows to a file and proves them; behind the beginning of another file, where one is given.
///
/// # Errors
/// Where the rows cannot be read or the file cannot be written.
pub fn write_and_prove(
    path: &Path,
    begun: Option<(&Path, &Begun)>,
    mut pieces: impl Iterator<Item = Result<Columns>> + Send,
    text: &dyn RowsAsText,
    packing: &FilePacking,
    job: &Job,
) -> Result<WrittenText> {
    let mut target = Target::create(path, packing)?;
    let mut done = WrittenText { proved: true, ..WrittenText::default() };
    let mut head = text.head();
    match begun {
        None => target.put(&head)?,
        Some((from, begun)) => {
            // The rows in it were proved when they were written: it is enough that its bytes are those.
            done.proved = target.begin_with(from, begun)?;
            done.rows = begun.rows;
            head.truncate(begun.bytes as usize);
        }
    }
    let mut fresh: Vec<Arc<Columns>> = Vec::new();
    let mut texts: Vec<Block> = Vec::new();
    let mut written: Vec<Block> = Vec::new();
    loop {
        let mut next = Ok(Vec::new());
        let mut put = Ok(());
        let mut proved = Ok(true);
        let mut blocks = blocks_of(&fresh, done.rows == 0, &mut target.spare);
        let mut rounded = vec![0; blocks.len()];
        let in_memory = packing.is_packed();
        rayon::scope(|s| {
            s.spawn(|_| put = texts.iter_mut().try_for_each(|block| target.put_block(block)));
            s.spawn(|_| next = pieces.by_ref().take(TOGETHER).collect::<Result<Vec<Columns>>>());
            s.spawn(|_| proved = all_hold(path, &written, text, in_memory));
            for (block, rounded) in blocks.iter_mut().zip(&mut rounded) {
                s.spawn(move |_| {
                    *rounded =
                        text.push_rows(&block.rows, block.range.clone(), block.is_first, &mut block.text);
                });
            }
        });
        put?;
        done.proved &= proved?;
        let (read, proved_rows): (usize, usize) =
            (fresh.iter().map(|p| p.len()).sum(), written.iter().map(|b| b.range.len()).sum());
        job.advance((read + proved_rows) as u64)?;
        done.rows += read as u64;
        done.rounded += rounded.iter().sum::<u64>();
        written = std::mem::replace(&mut texts, blocks);
        fresh = next?.into_iter().filter(|p| !p.is_empty()).map(Arc::new).collect();
        if fresh.is_empty() && texts.is_empty() && written.is_empty() {
            break;
        }
    }
    let tail = text.tail(done.rows > 0);
    target.put(&tail)?;
    let (bytes, sha256, is_whole) = target.end(&head, &tail)?;
    done.proved &= is_whole;
    Ok(WrittenText { bytes, sha256, ..done })
}

fn blocks_of(pieces: &[Arc<Columns>], at_the_beginning: bool, spare: &mut Vec<Vec<u8>>) -> Vec<Block> {
    let cut = |rows: &Arc<Columns>| {
        let rows = rows.clone();
        (0..rows.len()).step_by(BLOCK_ROWS).map(move |from| {
            let range = from..(from + BLOCK_ROWS).min(rows.len());
            Block { rows: rows.clone(), range, is_first: false, text: Vec::new(), place: 0..0 }
        })
    };
    let mut blocks: Vec<Block> = pieces.iter().flat_map(cut).collect();
    for block in &mut blocks {
        block.text = spare.pop().unwrap_or_default();
    }
    if let Some(first) = blocks.first_mut() {
        first.is_first = at_the_beginning;
    }
    blocks
}

/// True where the file holds the rows of each block at the block's place.
fn all_hold(path: &Path, blocks: &[Block], text: &dyn RowsAsText, in_memory: bool) -> Result<bool> {
    let holds = |block: &Block| {
        let (rows, range) = (&block.rows, block.range.clone());
        if in_memory {
            return Ok(text.holds(&block.text, rows, range, block.is_first));
        }
        READ_BACK.with_borrow_mut(|back| {
            read_place(path, &block.place, back).map_err(|e| Error::io("Cannot read back", path, &e))?;
            Ok(text.holds(back, rows, range, block.is_first))
        })
    };
    let all: Vec<bool> = blocks.par_iter().map(holds).collect::<Result<_>>()?;
    Ok(all.into_iter().all(|holds| holds))
}

thread_local! {
    /// Room for what is read back.
    static READ_BACK: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

fn read_place(path: &Path, place: &Range<u64>, bytes: &mut Vec<u8>) -> std::io::Result<()> {
    let mut file = File::open(path)?;
    file.seek(SeekFrom::Start(place.start))?;
    let length = place.end - place.start;
    bytes.clear();
    bytes.reserve(length as usize);
    file.take(length).read_to_end(bytes)?;
    Ok(())
}

/// The file that is written, packed or not.
struct Target<'p> {
    path: &'p Path,
    file: Packed,
    /// Of what was put in, before it is packed.
    hash: Sha256,
    at: u64,
    syncer: Syncer,
    /// Texts that were written, empty now.
    spare: Vec<Vec<u8>>,
}

impl<'p> Target<'p> {
    fn create(path: &'p Path, packing: &FilePacking) -> Result<Target<'p>> {
        let failed = |e: std::io::Error| Error::io("Cannot write", path, &e);
        let file = File::create(path).map_err(failed)?;
        let syncer = Syncer::of(file.try_clone().map_err(failed)?);
        let file = Packed::new(file, packing).map_err(failed)?;
        Ok(Target { path, file, hash: Sha256::default(), at: 0, syncer, spare: Vec::new() })
    }

    fn put(&mut self, bytes: &[u8]) -> Result<()> {
        self.file.write_all(bytes).map_err(|e| Error::io("Cannot write", self.path, &e))?;
        self.hash.update(bytes);
        self.at += bytes.len() as u64;
        Ok(())
    }

    /// Copies the beginning of a file; gives whether the whole of it is as it was delivered.
    fn begin_with(&mut self, from: &Path, begun: &Begun) -> Result<bool> {
        let failed = |e: std::io::Error| Error::io("Cannot read", from, &e);
        let mut file = File::open(from).map_err(failed)?;
        let mut whole = Sha256::default();
        let mut bytes = vec![0; 1 << 20];
        loop {
            let read = file.read(&mut bytes).map_err(failed)?;
            if read == 0 {
                return Ok(whole.hex() == begun.sha256 && self.at == begun.bytes);
            }
            whole.update(&bytes[..read]);
            let wanted = (begun.bytes - self.at).min(read as u64) as usize;
            self.put(&bytes[..wanted])?;
        }
    }

    fn put_block(&mut self, block: &mut Block) -> Result<()> {
        let from = self.at;
        self.put(&block.text)?;
        block.place = from..self.at;
        if !self.file.is_packed() {
            // It is read back from the file; its room serves for another.
            let mut text = std::mem::take(&mut block.text);
            text.clear();
            self.spare.push(text);
        }
        self.syncer.soon();
        Ok(())
    }

    /// Ends the file; gives its length and hash, and whether what stands around the rows, or all that was
    /// packed, is read back as it was put in.
    fn end(self, head: &[u8], tail: &[u8]) -> Result<(u64, String, bool)> {
        let Target { path, file, hash, at, syncer, .. } = self;
        let failed = |e: std::io::Error| Error::io("Cannot write", path, &e);
        let packing = file.packing();
        file.finish().map_err(failed)?;
        syncer.end().map_err(failed)?;
        let plain = hash.hex();
        let unread = |e: std::io::Error| Error::io("Cannot read back", path, &e);
        if !packing.is_packed() {
            let length = std::fs::metadata(path).map_err(unread)?.len();
            let (mut begins, mut ends) = (Vec::new(), Vec::new());
            read_place(path, &(0..head.len() as u64), &mut begins).map_err(unread)?;
            let from = length.saturating_sub(tail.len() as u64);
            read_place(path, &(from..length), &mut ends).map_err(unread)?;
            return Ok((length, plain, begins == head && ends == tail && length == at));
        }
        let mut again = Sha256::default();
        std::io::copy(&mut packing.open(path).map_err(unread)?, &mut again).map_err(unread)?;
        let (length, sha256) = sha256_of(path).map_err(unread)?;
        Ok((length, sha256, again.hex() == plain))
    }
}

/// Has what was written reach the disk while more is written, so that the end of a long file is not waited for.
struct Syncer {
    ask: Option<SyncSender<()>>,
    thread: JoinHandle<std::io::Result<()>>,
}

impl Syncer {
    fn of(file: File) -> Syncer {
        let (ask, asked) = sync_channel(1);
        let thread = std::thread::spawn(move || {
            while asked.recv().is_ok() {
                // A disk that cannot keep up, or fails, is told by the last of them.
                let _ = file.sync_data();
            }
            file.sync_all()
        });
        Syncer { ask: Some(ask), thread }
    }

    fn soon(&self) {
        if let Some(ask) = &self.ask {
            // One that waits already covers this.
            let _ = ask.try_send(());
        }
    }

    fn end(mut self) -> std::io::Result<()> {
        self.ask = None;
        self.thread.join().unwrap_or_else(|_| Err(std::io::Error::other("syncing broke off")))
    }
}
