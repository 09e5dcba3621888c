//! UTF-16 text as UTF-8.

use std::io::{Read, Write};

use encoding_rs::{CoderResult, UTF_16BE, UTF_16LE};

use crate::Result;

/// Copies a text without its byte order mark; what is no character becomes the replacement character.
///
/// # Errors
/// Where `from` cannot be read. A reader of `out` that has gone ends the copy without an error.
pub fn to_utf8(mut from: impl Read, big: bool, out: &mut dyn Write) -> Result<()> {
    let encoding = if big { UTF_16BE } else { UTF_16LE };
    let mut decoder = encoding.new_decoder_with_bom_removal();
    let (mut bytes, mut text) = (vec![0; 1 << 16], vec![0; 1 << 16]);
    loop {
        let got = from.read(&mut bytes)?;
        let mut rest = &bytes[..got];
        loop {
            let (outcome, read, written, _) = decoder.decode_to_utf8(rest, &mut text, got == 0);
            if out.write_all(&text[..written]).is_err() {
                return Ok(());
            }
            rest = &rest[read..];
            if outcome == CoderResult::InputEmpty {
                break;
            }
        }
        if got == 0 {
            return Ok(());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives so many bytes at a time.
    struct Few<'a>(&'a [u8], usize);

    impl Read for Few<'_> {
        fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
            let n = self.1.min(self.0.len()).min(buffer.len());
            buffer[..n].copy_from_slice(&self.0[..n]);
            self.0 = &self.0[n..];
            Ok(n)
        }
    }

    #[test]
    fn pieces_of_any_length_give_one_text_and_halves_of_characters_are_told() {
        let text = "kurs: 9,87 kr 📈\n".repeat(40);
        for big in [false, true] {
            let unit = |u: u16| if big { u.to_be_bytes() } else { u.to_le_bytes() };
            let bytes: Vec<u8> = std::iter::once(0xfeff).chain(text.encode_utf16()).flat_map(unit).collect();
            for few in [1, 2, 3, 7, 1000] {
                let mut out = Vec::new();
                to_utf8(Few(&bytes, few), big, &mut out).unwrap();
                assert_eq!(String::from_utf8(out).unwrap(), text, "big {big}, {few} at a time");
            }
            let mut out = Vec::new();
            let half: Vec<u8> = [0x41, 0xd800, 0x42].into_iter().flat_map(unit).chain([0x43]).collect();
            to_utf8(&half[..], big, &mut out).unwrap();
            assert_eq!(String::from_utf8(out).unwrap(), "A\u{fffd}B\u{fffd}");
        }
    }
}
