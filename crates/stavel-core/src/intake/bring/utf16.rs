//! UTF-16 text as UTF-8.

use std::io::{Read, Write};

use crate::Result;

/// Copies a text; what is no character becomes the replacement character.
pub fn to_utf8(mut from: impl Read, big: bool, out: &mut dyn Write) -> Result<()> {
    let mut buffer = vec![0u8; 1 << 16];
    let mut have = 0;
    let mut high: Option<u16> = None;
    let mut first = true;
    loop {
        let got = from.read(&mut buffer[have..])?;
        let whole = (have + got) / 2 * 2;
        let units = buffer[..whole].chunks_exact(2).map(|b| match big {
            true => u16::from_be_bytes([b[0], b[1]]),
            false => u16::from_le_bytes([b[0], b[1]]),
        });
        // A pair of surrogates may lie across two pieces.
        let mut units: Vec<u16> = high.take().into_iter().chain(units).collect();
        if got > 0 && units.last().is_some_and(|u| (0xd800..0xdc00).contains(u)) {
            high = units.pop();
        }
        if std::mem::take(&mut first) && units.first() == Some(&0xfeff) {
            units.remove(0);
        }
        let text: String =
            char::decode_utf16(units).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect();
        if out.write_all(text.as_bytes()).is_err() || got == 0 {
            return Ok(());
        }
        buffer.copy_within(whole..have + got, 0);
        have = have + got - whole;
    }
}
