//! Opening a member as a stream of text: unpacking and converting happen on a thread of their own.

use std::fs::File;
use std::io::{BufReader, BufWriter, PipeReader, Read, Seek, Write};
use std::thread::JoinHandle;

use super::{Form, Member, Packing, bad_archive, html, json, table, unreadable, utf16};
use crate::{Error, Result};

/// What unpacks to more than this many times its size, and to more than [`ALWAYS`] bytes, is refused.
const LARGEST_RATIO: u64 = 250;
const ALWAYS: u64 = 256 << 20;

impl Member {
    /// True where the text is the bytes of the file as they are.
    pub fn is_plain_text(&self) -> bool {
        matches!(self.form, Form::Text) && self.packing == Packing::None && self.inside.is_none()
    }

    /// The text as a stream of lines.
    ///
    /// # Errors
    /// Where the file or archive cannot be opened, a sentence with its place; what goes wrong later is
    /// told by the stream.
    pub fn open(&self) -> Result<Box<dyn Read + Send>> {
        match &self.form {
            Form::Text => self.unpacked(),
            Form::Utf16 { big } => {
                let (from, big) = (self.unpacked()?, *big);
                piped(move |out| utf16::to_utf8(BufReader::new(from), big, out))
            }
            Form::Json => {
                let again = self.clone();
                piped(move |out| json::to_lines(&|| again.unpacked(), out))
            }
            Form::Parquet => {
                let file = self.whole_file()?;
                piped(move |out| table::parquet_to_lines(file, out))
            }
            Form::Sheet(name) => {
                let (path, name) = (self.path.clone(), name.clone());
                piped(move |out| table::sheet_to_lines(&path, &name, out))
            }
            Form::Html(n) => {
                let (from, n) = (self.unpacked()?, *n);
                piped(move |out| html::to_lines(from, n, out))
            }
        }
    }

    /// The bytes, unpacked, whatever they are.
    pub(super) fn unpacked(&self) -> Result<Box<dyn Read + Send>> {
        let file = File::open(&self.path).map_err(|e| unreadable(&self.path, &e))?;
        let Some((index, _)) = self.inside.clone() else {
            return self.unpack(file);
        };
        let (path, member) = (self.path.clone(), self.clone());
        piped(move |out| {
            let mut archive = zip::ZipArchive::new(file).map_err(|e| bad_archive(&path, &e))?;
            let mut entry = archive.by_index(index).map_err(|e| bad_archive(&path, &e))?;
            let packed = entry.compressed_size();
            match member.packing {
                Packing::None => copy(&mut entry, packed, out),
                Packing::Gzip => copy(&mut flate2::read::MultiGzDecoder::new(entry), packed, out),
                Packing::Zstd => copy(&mut zstd::Decoder::new(entry)?, packed, out),
            }
        })
    }

    fn unpack(&self, file: File) -> Result<Box<dyn Read + Send>> {
        let packed = self.found.0;
        match self.packing {
            Packing::None => Ok(Box::new(file)),
            Packing::Gzip => piped(move |out| {
                copy(&mut flate2::bufread::MultiGzDecoder::new(BufReader::new(file)), packed, out)
            }),
            Packing::Zstd => piped(move |out| copy(&mut zstd::Decoder::new(file)?, packed, out)),
        }
    }

    /// The unpacked bytes as a file that can be read anywhere.
    fn whole_file(&self) -> Result<File> {
        if self.packing == Packing::None && self.inside.is_none() {
            return File::open(&self.path).map_err(|e| unreadable(&self.path, &e));
        }
        let mut file = tempfile::tempfile()?;
        std::io::copy(&mut self.unpacked()?, &mut file)
            .map_err(|e| Error::input(format!("{} cannot be unpacked: {e}.", self.place())))?;
        file.rewind()?;
        Ok(file)
    }
}

/// Copies an unpacking stream, but not without end.
fn copy(from: &mut impl Read, packed: u64, out: &mut dyn Write) -> Result<()> {
    let limit = ALWAYS.max(packed.saturating_mul(LARGEST_RATIO));
    let damaged = |e: std::io::Error| match e.kind() {
        std::io::ErrorKind::BrokenPipe => Error::cancelled(),
        _ => Error::input(format!("it is damaged or cut short ({e}); fetch it again")),
    };
    let copied = std::io::copy(&mut from.take(limit + 1), out).map_err(damaged)?;
    if copied > limit {
        return Err(Error::input(format!(
            "it unpacks to more than {LARGEST_RATIO} times its size, so it is left alone"
        )));
    }
    Ok(())
}

/// A stream that another thread writes.
struct Piped {
    reader: PipeReader,
    worker: Option<JoinHandle<Result<()>>>,
}

fn piped(write: impl FnOnce(&mut dyn Write) -> Result<()> + Send + 'static) -> Result<Box<dyn Read + Send>> {
    let (reader, writer) = std::io::pipe()?;
    let worker = std::thread::spawn(move || {
        let mut out = BufWriter::with_capacity(1 << 16, writer);
        write(&mut out)?;
        // A reader that has seen enough closes its end; that is no failure.
        let _ = out.flush();
        Ok(())
    });
    Ok(Box::new(Piped { reader, worker: Some(worker) }))
}

impl Read for Piped {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let got = self.reader.read(buffer)?;
        if got == 0
            && !buffer.is_empty()
            && let Some(worker) = self.worker.take()
        {
            // The end of the pipe is the end of the text only if the other side says so.
            match worker.join() {
                Ok(Ok(())) => {}
                Ok(Err(e)) => {
                    return Err(std::io::Error::other(e.to_string().trim_end_matches('.').to_owned()));
                }
                Err(_) => return Err(std::io::Error::other("its reader failed")),
            }
        }
        Ok(got)
    }
}
