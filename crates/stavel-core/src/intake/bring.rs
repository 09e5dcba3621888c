//! Bringing bytes in: plain files and zip archives as a stream of blocks of whole lines.

use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};

use crate::{Error, Result};

/// A text to read: a file, or a file inside an archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    pub path: PathBuf,
    /// Its place and name in the archive, where it is in one.
    pub inside: Option<(usize, String)>,
    /// Bytes of text, for progress.
    pub bytes: u64,
}

impl Member {
    /// Its own name, without folders.
    pub fn name(&self) -> String {
        let full = match &self.inside {
            Some((_, name)) => name.as_str(),
            None => &self.path.to_string_lossy(),
        };
        full.rsplit(['/', '\\']).next().unwrap_or(full).to_owned()
    }

    /// Where it is, for messages.
    pub fn place(&self) -> String {
        match &self.inside {
            Some((_, name)) => format!("{} in {}", name, self.path.display()),
            None => self.path.display().to_string(),
        }
    }

    /// Calls `with` on the text as a stream.
    ///
    /// # Errors
    /// Where the file or archive cannot be read, a sentence with its place.
    pub fn open<T>(&self, with: impl FnOnce(&mut dyn Read) -> Result<T>) -> Result<T> {
        let file = File::open(&self.path).map_err(|e| unreadable(&self.path, &e))?;
        match &self.inside {
            None => with(&mut { file }),
            Some((index, _)) => {
                let mut archive = zip::ZipArchive::new(file).map_err(|e| bad_archive(&self.path, &e))?;
                let mut member = archive.by_index(*index).map_err(|e| bad_archive(&self.path, &e))?;
                with(&mut member)
            }
        }
    }
}

/// The texts in files, folders and archives, sorted by name within each folder.
///
/// # Errors
/// A path that is not there, cannot be read or is a damaged archive, in one sentence.
pub fn members_of(paths: &[PathBuf]) -> Result<Vec<Member>> {
    let mut out = Vec::new();
    for path in paths {
        add_path(path, &mut out)?;
    }
    if out.is_empty() {
        return Err(Error::input(
            "There is nothing to take in: no file is named or the folders named are empty.",
        ));
    }
    Ok(out)
}

fn add_path(path: &Path, out: &mut Vec<Member>) -> Result<()> {
    let meta = std::fs::metadata(path).map_err(|e| unreadable(path, &e))?;
    if meta.is_dir() {
        let entries = std::fs::read_dir(path).map_err(|e| unreadable(path, &e))?;
        let mut inside: Vec<PathBuf> = entries.flatten().map(|e| e.path()).collect();
        inside.retain(|p| is_table_name(&p.to_string_lossy()) || p.is_dir());
        inside.sort();
        return inside.iter().try_for_each(|p| add_path(p, out));
    }
    let mut head = [0u8; 4];
    let mut file = File::open(path).map_err(|e| unreadable(path, &e))?;
    let got = file.read(&mut head).map_err(|e| unreadable(path, &e))?;
    if got == 0 {
        return Err(Error::input(format!("{} is empty; there is nothing to take in.", path.display())));
    }
    if &head[..got.min(2)] != b"PK" {
        out.push(Member { path: path.into(), inside: None, bytes: meta.len() });
        return Ok(());
    }
    let mut archive = zip::ZipArchive::new(file).map_err(|e| bad_archive(path, &e))?;
    for index in 0..archive.len() {
        let member = archive.by_index_raw(index).map_err(|e| bad_archive(path, &e))?;
        if member.is_file() {
            out.push(Member {
                path: path.into(),
                inside: Some((index, member.name().into())),
                bytes: member.size(),
            });
        }
    }
    Ok(())
}

/// True for names that a folder's intake looks at.
fn is_table_name(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    [".csv", ".txt", ".tsv", ".zip"].iter().any(|end| lower.ends_with(end))
}

fn unreadable(path: &Path, err: &std::io::Error) -> Error {
    match err.kind() {
        std::io::ErrorKind::NotFound => {
            Error::input(format!("There is no file {}; check the path.", path.display()))
        }
        std::io::ErrorKind::PermissionDenied => {
            Error::input(format!("{} may not be read by you; change its permissions.", path.display()))
        }
        _ => Error::input(format!("{} cannot be read: {err}.", path.display())),
    }
}

fn bad_archive(path: &Path, err: &zip::result::ZipError) -> Error {
    Error::input(format!("The archive {} is damaged or cut short ({err}); fetch it again.", path.display()))
}

/// Bytes of a block of lines.
const BLOCK: usize = 2 << 20;
/// A line longer than this is not a table's.
const LONGEST_LINE: usize = 1 << 20;

/// A run of whole lines and where it begins in the text.
pub struct Block {
    pub text: Vec<u8>,
    pub byte: u64,
}

/// Cuts a stream into blocks of whole lines.
pub struct Blocks<'a> {
    from: &'a mut dyn Read,
    member: &'a Member,
    left_over: Vec<u8>,
    byte: u64,
    ended: bool,
}

impl<'a> Blocks<'a> {
    /// Blocks of a member's open stream.
    pub fn new(from: &'a mut dyn Read, member: &'a Member) -> Blocks<'a> {
        Blocks { from, member, left_over: Vec::new(), byte: 0, ended: false }
    }

    /// The next block, or none at the end.
    pub fn next(&mut self) -> Result<Option<Block>> {
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
                    let line =
                        format!("{} has a line of more than {LONGEST_LINE} bytes", self.member.place());
                    return Err(Error::input(format!("{line} at byte {}; it is not a table.", self.byte)));
                }
            }
            let want = BLOCK.max(text.len() + (BLOCK >> 3)) - text.len();
            let got = self.from.take(want as u64).read_to_end(&mut text).map_err(|e| {
                Error::input(format!(
                    "{} cannot be read past byte {}: {e}; fetch it again.",
                    self.member.place(),
                    self.byte + text.len() as u64
                ))
            })?;
            self.ended = got < want;
        };
        self.left_over = text.split_off(cut);
        let block = Block { byte: self.byte, text };
        self.byte += block.text.len() as u64;
        Ok((!block.text.is_empty()).then_some(block))
    }
}
