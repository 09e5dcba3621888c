//! Bringing bytes in: files, folders, archives and tables of other kinds, each as a stream of lines.

mod html;
mod json;
mod lines;
mod open;
mod table;
mod utf16;

#[cfg(any(test, fuzzing))]
pub(super) use self::{
    html::to_lines as html_to_lines, json::to_lines as json_to_lines, utf16::to_utf8 as utf16_to_utf8,
};
use std::fs::File;
use std::io::{Read, Seek};
use std::path::{Path, PathBuf};
use std::time::SystemTime;

use crate::{Error, Result};

/// How the bytes are packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Packing {
    None,
    Gzip,
    Zstd,
}

/// What the unpacked bytes are.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Form {
    Text,
    Utf16 {
        big: bool,
    },
    Json,
    Parquet,
    /// A sheet of a workbook (XLSX, ODS).
    Sheet(String),
    /// A table of a page, counted from 0.
    Html(usize),
}

/// A table to read: a file, a file inside an archive, a sheet, a table of a page.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// The file, or the archive it lies in.
    pub path: PathBuf,
    /// Its place and name in the archive, where it is in one.
    inside: Option<(usize, String)>,
    packing: Packing,
    form: Form,
    /// Bytes of text where they are known, else of the file; for progress.
    pub bytes: u64,
    /// True where the file was named by itself: it must be understood. One of many may be passed over.
    pub is_named: bool,
    /// Size and time of the file when it was found.
    found: (u64, Option<SystemTime>),
}

impl Member {
    /// Its own name, without folders.
    pub fn name(&self) -> String {
        let full = match &self.inside {
            Some((_, name)) => name.as_str(),
            None => &self.path.to_string_lossy(),
        };
        let own = full.rsplit(['/', '\\']).next().unwrap_or(full);
        match &self.form {
            Form::Sheet(sheet) => format!("{own} {sheet}"),
            _ => own.to_owned(),
        }
    }

    /// Where it is, for messages.
    pub fn place(&self) -> String {
        let file = self.path.display();
        let place = match &self.inside {
            Some((_, name)) => format!("{name} in {file}"),
            None => file.to_string(),
        };
        match &self.form {
            Form::Sheet(sheet) => format!("sheet {sheet} of {place}"),
            Form::Html(n) if *n > 0 => format!("table {} of {place}", n + 1),
            _ => place,
        }
    }

    /// What kind of table it is, for messages.
    pub fn kind(&self) -> &'static str {
        match self.form {
            Form::Text => "text",
            Form::Utf16 { .. } => "UTF-16 text",
            Form::Json => "JSON",
            Form::Parquet => "Parquet",
            Form::Sheet(_) => "a sheet",
            Form::Html(_) => "a table of a page",
        }
    }

    /// True where the lines are those of the file itself, so that a line number means the same in both.
    pub fn is_plain(&self) -> bool {
        self.form == Form::Text && self.packing == Packing::None && self.inside.is_none()
    }

    /// Says no where the file is not the one that was found any more.
    ///
    /// # Errors
    /// One sentence with the path.
    pub fn must_be_unchanged(&self) -> Result<()> {
        let meta = std::fs::metadata(&self.path).map_err(|e| unreadable(&self.path, &e))?;
        if (meta.len(), meta.modified().ok()) == self.found {
            return Ok(());
        }
        Err(Error::input(format!(
            "{} was changed while it was read; nothing was taken. Take it again when it is complete.",
            self.path.display()
        )))
    }

    /// A file that is known to be plain text.
    ///
    /// # Errors
    /// Where the file cannot be opened.
    pub fn plain(path: &Path) -> Result<Member> {
        Member::of_file(path, true)
    }

    fn of_file(path: &Path, is_named: bool) -> Result<Member> {
        let meta = std::fs::metadata(path).map_err(|e| unreadable(path, &e))?;
        Ok(Member {
            path: path.into(),
            inside: None,
            packing: Packing::None,
            form: Form::Text,
            bytes: meta.len(),
            is_named,
            found: (meta.len(), meta.modified().ok()),
        })
    }
}

/// The tables in files, folders and archives, sorted by name within each folder. A path may be a pattern
/// with `*` and `?`.
///
/// # Errors
/// A path that is not there, cannot be read or is a damaged archive, in one sentence.
pub fn members_of(paths: &[PathBuf]) -> Result<Vec<Member>> {
    let mut out = Vec::new();
    for path in paths {
        let pattern = path.to_string_lossy();
        if !pattern.contains(['*', '?', '[']) || path.exists() {
            add_path(path, true, &mut out)?;
            continue;
        }
        let found = glob::glob(&pattern).map_err(|e| {
            Error::arguments(format!("'{}' is not a pattern: {}.", crate::error::printable(&pattern), e.msg))
        })?;
        let mut found: Vec<PathBuf> = found.flatten().collect();
        found.sort();
        if found.is_empty() {
            return Err(Error::input(format!(
                "No file matches {}; check the pattern.",
                crate::error::printable(&pattern)
            )));
        }
        found.iter().try_for_each(|p| add_path(p, false, &mut out))?;
    }
    if out.is_empty() {
        return Err(Error::input(
            "There is nothing to take in: no file is named or the folders named are empty.",
        ));
    }
    Ok(out)
}

fn add_path(path: &Path, is_named: bool, out: &mut Vec<Member>) -> Result<()> {
    let meta = std::fs::metadata(path).map_err(|e| unreadable(path, &e))?;
    if meta.is_dir() {
        let entries = std::fs::read_dir(path).map_err(|e| unreadable(path, &e))?;
        let mut inside: Vec<PathBuf> = entries.flatten().map(|e| e.path()).collect();
        inside.retain(|p| p.is_dir() || is_table_name(&p.to_string_lossy()));
        inside.sort();
        return inside.iter().try_for_each(|p| add_path(p, false, out));
    }
    let member = Member::of_file(path, is_named)?;
    let mut file = File::open(path).map_err(|e| unreadable(path, &e))?;
    let head = head_of(&mut file).map_err(|e| unreadable(path, &e))?;
    if head.is_empty() {
        return match is_named {
            true => Err(Error::input(format!("{} is empty; there is nothing to take in.", path.display()))),
            false => Ok(()),
        };
    }
    if head.starts_with(b"PK") {
        let _ = file.rewind();
        return add_archive(&member, file, out);
    }
    add_unpacked(member, &head, out)
}

/// Adds a file by what its first bytes say; looks into it where it is packed.
fn add_unpacked(mut member: Member, head: &[u8], out: &mut Vec<Member>) -> Result<()> {
    member.packing = match head {
        [0x1f, 0x8b, ..] => Packing::Gzip,
        [0x28, 0xb5, 0x2f, 0xfd, ..] => Packing::Zstd,
        _ => Packing::None,
    };
    let unpacked = match member.packing {
        Packing::None => head.to_vec(),
        _ => {
            let mut stream = member.open()?;
            head_of(&mut stream)
                .map_err(|e| Error::input(format!("{} cannot be unpacked: {e}.", member.place())))?
        }
    };
    let start = unpacked.trim_ascii_start();
    let start = start.strip_prefix(b"\xef\xbb\xbf").unwrap_or(start).trim_ascii_start();
    member.form = match start {
        [b'P', b'A', b'R', b'1', ..] => Form::Parquet,
        [b'P', b'K', ..] => {
            let place = member.place();
            return Err(Error::input(format!("{place} is an archive within an archive; unpack it first.")));
        }
        [0xff, 0xfe, ..] => Form::Utf16 { big: false },
        [0xfe, 0xff, ..] => Form::Utf16 { big: true },
        [a, 0, b, 0, ..] if *a != 0 && *b != 0 => Form::Utf16 { big: false },
        [0, a, 0, b, ..] if *a != 0 && *b != 0 => Form::Utf16 { big: true },
        [b'{' | b'[', ..] if is_json(start) => Form::Json,
        [b'<', ..] if is_page(start) => {
            let tables = html::count_tables(&member)?;
            let is_named = member.is_named && tables == 1;
            out.extend((0..tables).map(|n| Member { form: Form::Html(n), is_named, ..member.clone() }));
            return Ok(());
        }
        _ => Form::Text,
    };
    out.push(member);
    Ok(())
}

/// True for a text that begins as JSON does: a bracket, and behind it a value or a name in quotes. A header
/// with its names in brackets does not.
fn is_json(start: &[u8]) -> bool {
    match start[1..].trim_ascii_start() {
        [] | [b'"' | b'{' | b'[' | b']' | b'}' | b'-' | b'0'..=b'9', ..] => true,
        word => [&b"null"[..], b"true", b"false"].iter().any(|w| word.starts_with(w)),
    }
}

/// True for a text with the tags of a page, not just names between angles.
fn is_page(start: &[u8]) -> bool {
    let lower = start.to_ascii_lowercase();
    let has = |tag: &[u8]| memchr::memmem::find(&lower, tag).is_some();
    [&b"<!doctype"[..], b"<?xml", b"<html", b"<head", b"<body", b"<table", b"<!--"]
        .iter()
        .any(|t| lower.starts_with(t))
        || has(b"<table")
        || has(b"</")
}

fn add_archive(member: &Member, file: File, out: &mut Vec<Member>) -> Result<()> {
    let path = member.path.clone();
    let bad = |e: zip::result::ZipError| bad_archive(&path, &e);
    let mut archive = zip::ZipArchive::new(file).map_err(bad)?;
    let is_book = archive.index_for_name("xl/workbook.xml").is_some()
        || archive.index_for_name("content.xml").is_some() && archive.index_for_name("mimetype").is_some();
    if is_book {
        let sheets = table::sheets_of(&path)?;
        let alone = sheets.len() == 1;
        out.extend(sheets.into_iter().map(|s| Member {
            form: Form::Sheet(s),
            is_named: member.is_named && alone,
            ..member.clone()
        }));
        return Ok(());
    }
    let alone = archive.len() == 1;
    for index in 0..archive.len() {
        let (name, bytes) = {
            let entry = archive.by_index_raw(index).map_err(bad)?;
            if !entry.is_file() {
                continue;
            }
            (String::from_utf8_lossy(entry.name_raw()).into_owned(), entry.size())
        };
        if reaches_out(&name) {
            return Err(Error::input(format!(
                "The archive {} names a file outside itself ({}); nothing was taken from it.",
                path.display(),
                crate::error::printable(&name)
            )));
        }
        let is_named = member.is_named && alone;
        if bytes == 0 || !(is_named || is_table_name(&name)) {
            continue;
        }
        let inner = Member { inside: Some((index, name)), bytes, is_named, ..member.clone() };
        let mut stream = inner.open()?;
        let head = head_of(&mut stream)
            .map_err(|e| Error::input(format!("{} cannot be unpacked: {e}.", inner.place())))?;
        drop(stream);
        add_unpacked(inner, &head, out)?;
    }
    Ok(())
}

/// True for names that lead out of the folder an archive would be unpacked in.
fn reaches_out(name: &str) -> bool {
    name.starts_with(['/', '\\']) || name.contains(':') || name.split(['/', '\\']).any(|part| part == "..")
}

/// The first bytes of a stream, up to a few thousand.
fn head_of(stream: &mut impl Read) -> std::io::Result<Vec<u8>> {
    let mut head = Vec::new();
    stream.take(4096).read_to_end(&mut head)?;
    Ok(head)
}

/// True for names that a folder's or an archive's intake looks at.
pub fn is_table_name(name: &str) -> bool {
    let lower = name.to_ascii_lowercase();
    let plain = lower.strip_suffix(".gz").or_else(|| lower.strip_suffix(".zst")).unwrap_or(&lower);
    const ENDS: [&str; 15] = [
        ".csv", ".txt", ".tsv", ".tab", ".psv", ".prn", ".json", ".jsonl", ".ndjson", ".parquet", ".xlsx",
        ".ods", ".html", ".htm", ".zip",
    ];
    ENDS.iter().any(|end| plain.ends_with(end))
}

/// Why a file cannot be read, in one sentence.
pub fn unreadable(path: &Path, err: &std::io::Error) -> Error {
    let place = crate::error::printable(&path.to_string_lossy());
    match err.kind() {
        std::io::ErrorKind::NotFound => Error::input(format!("There is no file {place}; check the path.")),
        std::io::ErrorKind::PermissionDenied => {
            Error::input(format!("{place} may not be read by you; change its permissions."))
        }
        _ => Error::input(format!("{place} cannot be read: {err}.")),
    }
}

fn bad_archive(path: &Path, err: &zip::result::ZipError) -> Error {
    Error::input(format!("The archive {} is damaged or cut short ({err}); fetch it again.", path.display()))
}

#[cfg(test)]
mod tests;
