//! Characters of a file as bytes.

use std::borrow::Cow;

use encoding_rs::{UTF_16LE, WINDOWS_1252};

use crate::model::layout::TextEncoding;

const MARK: &[u8] = b"\xef\xbb\xbf";

/// A text (UTF-8) in an encoding; at the beginning of a file behind its byte order mark, where it has one.
pub fn encoded(text: Vec<u8>, encoding: TextEncoding, at_the_beginning: bool) -> Vec<u8> {
    match encoding {
        TextEncoding::Utf8 => text,
        TextEncoding::Utf8Bom if at_the_beginning => [MARK, &text].concat(),
        TextEncoding::Utf8Bom => text,
        TextEncoding::Utf16 => {
            let words = String::from_utf8_lossy(&text);
            let mut out: Vec<u8> = if at_the_beginning { vec![0xff, 0xfe] } else { Vec::new() };
            out.extend(words.encode_utf16().flat_map(u16::to_le_bytes));
            out
        }
        TextEncoding::Windows1252 => WINDOWS_1252.encode(&String::from_utf8_lossy(&text)).0.into_owned(),
    }
}

/// A text back as UTF-8; None where the bytes are none of the encoding.
pub fn decoded(bytes: &[u8], encoding: TextEncoding) -> Option<Cow<'_, [u8]>> {
    match encoding {
        TextEncoding::Utf8 | TextEncoding::Utf8Bom => Some(Cow::Borrowed(bytes)),
        TextEncoding::Utf16 => {
            let text = UTF_16LE.decode_without_bom_handling_and_without_replacement(bytes)?;
            Some(Cow::Owned(text.into_owned().into_bytes()))
        }
        TextEncoding::Windows1252 => {
            let text = WINDOWS_1252.decode_without_bom_handling(bytes).0;
            Some(Cow::Owned(text.into_owned().into_bytes()))
        }
    }
}

/// True where a text can be written in an encoding.
pub fn can_write(text: &str, encoding: TextEncoding) -> bool {
    encoding != TextEncoding::Windows1252 || !WINDOWS_1252.encode(text).2
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_encoded_is_decoded_again() {
        let text = "Größe;1,5\r\n";
        for encoding in <TextEncoding as strum::VariantArray>::VARIANTS {
            let bytes = encoded(text.into(), *encoding, false);
            assert_eq!(decoded(&bytes, *encoding).as_deref(), Some(text.as_bytes()), "{encoding:?}");
        }
        assert_eq!(encoded(b"a".to_vec(), TextEncoding::Utf16, true), [0xff, 0xfe, b'a', 0]);
        assert_eq!(encoded(b"a".to_vec(), TextEncoding::Utf8Bom, true), b"\xef\xbb\xbfa");
        assert_eq!(encoded("ö".into(), TextEncoding::Windows1252, true), [0xf6]);
        assert_eq!(decoded(&[b'a', 0, 1], TextEncoding::Utf16), None);
        assert!(can_write("Größe", TextEncoding::Windows1252) && !can_write("値", TextEncoding::Windows1252));
    }
}
