//! A text as blocks of whole lines.

use std::io::Read;

use super::bring::Member;
use crate::model::Layout;
use crate::{Error, Result};

/// Bytes of a block of lines.
const BLOCK: usize = 2 << 20;
/// A line longer than this is not a table's.
const LONGEST_LINE: usize = 1 << 20;

/// A run of whole lines and where it begins in the text.
pub struct LineBlock {
    pub text: Vec<u8>,
    pub byte: u64,
}

/// Cuts a stream into blocks of whole lines.
pub struct LineBlocks {
    from: Box<dyn Read + Send>,
    place: String,
    left_over: Vec<u8>,
    byte: u64,
    ended: bool,
    /// Of the bytes so far, where they are those of the file itself.
    hash: Option<blake3::Hasher>,
}

impl LineBlocks {
    /// Opens a member.
    ///
    /// # Errors
    /// Where it cannot be read, a sentence with its place.
    pub fn open(member: &Member) -> Result<LineBlocks> {
        Ok(LineBlocks {
            from: member.open()?,
            place: member.place(),
            left_over: Vec::new(),
            byte: 0,
            ended: false,
            hash: member.is_plain_text().then(blake3::Hasher::new),
        })
    }

    /// The BLAKE3 of the file, once all of it was read; none where the text was made from other bytes.
    pub fn hash(&self) -> Option<String> {
        let hash = self.hash.as_ref().filter(|_| self.ended && self.left_over.is_empty())?;
        Some(hash.finalize().to_hex().to_string())
    }

    /// The next block, or none at the end.
    pub fn next(&mut self) -> Result<Option<LineBlock>> {
        if self.ended && self.left_over.is_empty() {
            return Ok(None);
        }
        let mut text = std::mem::take(&mut self.left_over);
        text.reserve(BLOCK.saturating_sub(text.len()));
        let mut searched = 0;
        let cut = loop {
            if self.ended {
                break text.len();
            }
            if text.len() >= BLOCK {
                if let Some(at) = memchr::memrchr(b'\n', &text[searched..]) {
                    break searched + at + 1;
                }
                searched = text.len();
                if text.len() > BLOCK + LONGEST_LINE {
                    let line = format!("{} has a line of more than {LONGEST_LINE} bytes", self.place);
                    return Err(Error::input(format!("{line} at byte {}; it is not a table.", self.byte)));
                }
            }
            let want = BLOCK.max(text.len() + (BLOCK >> 3)) - text.len();
            let got = (&mut self.from).take(want as u64).read_to_end(&mut text).map_err(|e| {
                Error::input(format!(
                    "{} cannot be read past byte {}: {e}.",
                    self.place,
                    self.byte + text.len() as u64
                ))
            })?;
            if let Some(hash) = &mut self.hash {
                hash.update(&text[text.len() - got..]);
            }
            self.ended = got < want;
        };
        self.left_over = text.split_off(cut);
        let block = LineBlock { byte: self.byte, text };
        self.byte += block.text.len() as u64;
        Ok((!block.text.is_empty()).then_some(block))
    }
}

/// Takes a byte order mark, the header and what stands above it off the first block; gives the lines
/// taken off.
pub fn skip_head(block: &mut LineBlock, layout: &Layout) -> u64 {
    let mark = if block.text.starts_with(b"\xef\xbb\xbf") { 3 } else { 0 };
    let lines = layout.skip + usize::from(layout.header.is_some());
    let mut head = mark;
    for _ in 0..lines {
        head += memchr::memchr(b'\n', &block.text[head..]).map_or(block.text.len() - head, |n| n + 1);
    }
    block.text.drain(..head);
    block.byte += head as u64;
    lines as u64
}
