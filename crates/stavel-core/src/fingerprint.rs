//! Hashes: BLAKE3, by which files that were taken in are known again, and SHA-256, which a delivery
//! shows so that others can check it with the tools they have.

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

/// Bytes read at once.
const PIECE: usize = 1 << 20;

/// Reads a file through; `seen` is given each piece and may stop it. Gives the bytes.
fn read_through(path: &Path, mut seen: impl FnMut(&[u8]) -> std::io::Result<()>) -> std::io::Result<u64> {
    let mut file = std::fs::File::open(path)?;
    let mut buffer = vec![0; PIECE];
    let mut bytes = 0;
    loop {
        let got = file.read(&mut buffer)?;
        if got == 0 {
            return Ok(bytes);
        }
        seen(&buffer[..got])?;
        bytes += got as u64;
    }
}

/// Size and SHA-256 of a file.
///
/// # Errors
/// What reading it gives.
pub fn sha256_of(path: &Path) -> std::io::Result<(u64, String)> {
    let mut hash = Sha256::default();
    let bytes = read_through(path, |piece| {
        hash.update(piece);
        Ok(())
    })?;
    Ok((bytes, hash.hex()))
}

/// Size and BLAKE3 of a file, in hexadecimal.
///
/// # Errors
/// What reading it gives.
pub fn blake3_of(path: &Path) -> std::io::Result<(u64, String)> {
    let mut hash = blake3::Hasher::new();
    let bytes = read_through(path, |piece| {
        hash.update(piece);
        Ok(())
    })?;
    Ok((bytes, hash.finalize().to_hex().to_string()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_hashes_of_known_bytes() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("abc");
        std::fs::write(&path, "abc").unwrap();
        let sha256 = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        let blake3 = "6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85";
        assert_eq!(sha256_of(&path).unwrap(), (3, sha256.into()));
        assert_eq!(blake3_of(&path).unwrap(), (3, blake3.into()));
    }
}
