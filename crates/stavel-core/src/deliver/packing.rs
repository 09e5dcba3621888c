//! Text files packed as they are written.

use std::fs::File;
use std::io::{BufReader, Read, Write};
use std::path::{Path, PathBuf};

use flate2::Compression;
use flate2::read::MultiGzDecoder;
use flate2::write::GzEncoder;
use zip::write::{SimpleFileOptions, StreamWriter};

use crate::Error;

/// How a file is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
#[derive(strum::EnumString, strum::IntoStaticStr, strum::VariantArray, strum::VariantNames)]
#[strum(serialize_all = "lowercase", parse_err_ty = Error, parse_err_fn = not_a_packing)]
pub enum Compress {
    /// Not at all.
    #[default]
    None,
    /// gzip (RFC 1952).
    Gz,
    /// Zstandard (RFC 8878).
    Zst,
    /// A ZIP archive with one file in it.
    Zip,
}

impl Compress {
    /// Its word, which is also the ending of its files.
    pub fn word(self) -> &'static str {
        self.into()
    }

    /// The packing that the ending of a file's name asks for.
    pub fn of_name(path: &Path) -> Compress {
        match path.extension().and_then(|e| e.to_str()) {
            Some(ending) => match ending.to_ascii_lowercase().as_str() {
                "gz" => Compress::Gz,
                "zst" => Compress::Zst,
                "zip" => Compress::Zip,
                _ => Compress::None,
            },
            None => Compress::None,
        }
    }
}

fn not_a_packing(text: &str) -> Error {
    let words = <Compress as strum::VariantNames>::VARIANTS.join(", ");
    Error::arguments(format!("'{text}' is no packing; say one of {words}."))
}

/// How a file is packed, and what it is called inside.
#[derive(Debug, Clone, Default)]
pub struct FilePacking {
    /// How.
    pub by: Compress,
    /// The name of the file in a ZIP archive.
    pub inside: String,
}

impl FilePacking {
    /// Of a file that will have this path.
    pub fn of(by: Compress, path: &Path) -> FilePacking {
        let stem = if by == Compress::None { PathBuf::new() } else { path.with_extension("") };
        let inside = stem.file_name().map_or("rows".into(), |n| n.to_string_lossy().into_owned());
        FilePacking { by, inside }
    }

    /// False for a file that is as it was put in.
    pub fn is_packed(&self) -> bool {
        self.by != Compress::None
    }

    /// What a packed file holds.
    ///
    /// # Errors
    /// What opening it gives.
    pub fn open(&self, path: &Path) -> std::io::Result<Box<dyn Read>> {
        let file = BufReader::new(File::open(path)?);
        Ok(match self.by {
            Compress::None => Box::new(file),
            Compress::Gz => Box::new(MultiGzDecoder::new(file)),
            Compress::Zst => Box::new(zstd::Decoder::new(file)?),
            Compress::Zip => {
                // The archive is read as a stream: its one file stands at its beginning.
                let mut archive = zip::ZipArchive::new(File::open(path)?).map_err(std::io::Error::other)?;
                let mut room = tempfile::tempfile()?;
                std::io::copy(&mut archive.by_index(0).map_err(std::io::Error::other)?, &mut room)?;
                std::io::Seek::rewind(&mut room)?;
                Box::new(BufReader::new(room))
            }
        })
    }
}

/// A file that packs what is written to it.
pub struct Packed {
    packing: FilePacking,
    file: PackedFile,
}

enum PackedFile {
    Plain(File),
    Gz(GzEncoder<File>),
    Zst(zstd::Encoder<'static, File>),
    Zip(Box<zip::ZipWriter<StreamWriter<File>>>),
}

impl Packed {
    /// A file to write to.
    ///
    /// # Errors
    /// What writing to it gives.
    pub fn new(file: File, packing: &FilePacking) -> std::io::Result<Packed> {
        let file = match packing.by {
            Compress::None => PackedFile::Plain(file),
            Compress::Gz => PackedFile::Gz(GzEncoder::new(file, Compression::default())),
            Compress::Zst => PackedFile::Zst(zstd::Encoder::new(file, 3)?),
            Compress::Zip => {
                let mut archive = zip::ZipWriter::new_stream(file);
                let options = SimpleFileOptions::default().large_file(true);
                archive.start_file(packing.inside.as_str(), options).map_err(std::io::Error::other)?;
                PackedFile::Zip(Box::new(archive))
            }
        };
        Ok(Packed { packing: packing.clone(), file })
    }

    /// True where what is written is not what was put in.
    pub fn is_packed(&self) -> bool {
        self.packing.is_packed()
    }

    /// How it packs.
    pub fn packing(&self) -> FilePacking {
        self.packing.clone()
    }

    /// Writes what is left.
    ///
    /// # Errors
    /// What writing gives.
    pub fn finish(self) -> std::io::Result<()> {
        match self.file {
            PackedFile::Plain(_) => Ok(()),
            PackedFile::Gz(gz) => gz.finish().map(drop),
            PackedFile::Zst(zst) => zst.finish().map(drop),
            PackedFile::Zip(archive) => archive.finish().map(drop).map_err(std::io::Error::other),
        }
    }
}

impl Write for Packed {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match &mut self.file {
            PackedFile::Plain(file) => file.write(bytes),
            PackedFile::Gz(gz) => gz.write(bytes),
            PackedFile::Zst(zst) => zst.write(bytes),
            PackedFile::Zip(archive) => archive.write(bytes),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        match &mut self.file {
            PackedFile::Plain(file) => file.flush(),
            PackedFile::Gz(gz) => gz.flush(),
            PackedFile::Zst(zst) => zst.flush(),
            PackedFile::Zip(archive) => archive.flush(),
        }
    }
}
