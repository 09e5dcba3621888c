//! A file that several threads read at once, each from places of its own.

use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom};
use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use parquet::errors::{ParquetError, Result};
use parquet::file::reader::{ChunkReader, Length};

/// A file with one place to read at; whoever reads says from where. (The clones of a [`File`] share their place, so two
/// threads cannot read through them.)
#[derive(Clone)]
pub(super) struct SharedFile {
    file: Arc<Mutex<File>>,
    length: u64,
}

impl SharedFile {
    pub fn new(file: File) -> SharedFile {
        let length = file.metadata().map_or(0, |m| m.len());
        SharedFile { file: Arc::new(Mutex::new(file)), length }
    }

    fn at<T>(&self, start: u64, read: impl FnOnce(&mut File) -> std::io::Result<T>) -> std::io::Result<T> {
        let mut file = self.file.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(start))?;
        read(&mut file)
    }
}

/// Reads a shared file on from a place.
pub(super) struct ReadFrom {
    file: SharedFile,
    at: u64,
}

impl Read for ReadFrom {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.file.at(self.at, |file| file.read(into))?;
        self.at += read as u64;
        Ok(read)
    }
}

impl Length for SharedFile {
    fn len(&self) -> u64 {
        self.length
    }
}

impl ChunkReader for SharedFile {
    type T = BufReader<ReadFrom>;

    fn get_read(&self, start: u64) -> Result<Self::T> {
        // What is read so is the head of a page, a few dozen bytes.
        Ok(BufReader::with_capacity(512, ReadFrom { file: self.clone(), at: start }))
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<Bytes> {
        // A damaged file may claim any length.
        if start.saturating_add(length as u64) > self.length {
            return Err(ParquetError::EOF(format!(
                "{length} bytes at {start} reach beyond the end of the file"
            )));
        }
        let mut bytes = vec![0; length];
        self.at(start, |file| file.read_exact(&mut bytes))?;
        Ok(bytes.into())
    }
}
