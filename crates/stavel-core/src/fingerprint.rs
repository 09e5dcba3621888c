//! SHA-256, by which files are known again.

use std::io::{Read, Write};
use std::path::Path;

use ring::digest::{Context, SHA256};

/// A running SHA-256; what is written to it is hashed.
pub struct Sha256(Context);

impl Default for Sha256 {
    fn default() -> Sha256 {
        Sha256(Context::new(&SHA256))
    }
}

impl Sha256 {
    /// Hashes more bytes.
    pub fn update(&mut self, bytes: impl AsRef<[u8]>) {
        self.0.update(bytes.as_ref());
    }

    /// The hash in hexadecimal.
    pub fn hex(self) -> String {
        self.0.finish().as_ref().iter().map(|b| format!("{b:02x}")).collect()
    }
}

impl Write for Sha256 {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        self.update(bytes);
        Ok(bytes.len())
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// Size and SHA-256 of a file; `seen` is told the bytes of each piece read and may stop it.
///
/// # Errors
/// What reading it, or `seen`, gives.
pub fn of_file(
    path: &Path,
    mut seen: impl FnMut(u64) -> std::io::Result<()>,
) -> std::io::Result<(u64, String)> {
    let mut file = std::fs::File::open(path)?;
    let mut hash = Sha256::default();
    let mut buffer = vec![0; 1 << 20];
    let mut bytes = 0;
    loop {
        let got = file.read(&mut buffer)?;
        if got == 0 {
            return Ok((bytes, hash.hex()));
        }
        hash.update(&buffer[..got]);
        bytes += got as u64;
        seen(got as u64)?;
    }
}
