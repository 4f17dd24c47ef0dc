//! Bytes to text.

use std::borrow::Cow;

use encoding_rs::{Encoding, UTF_16BE, UTF_16LE, WINDOWS_1252};
use thiserror::Error;

/// Why a file is no text that a logger wrote.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum DecodeError {
    /// No bytes, or nothing but blanks.
    #[error("the file is empty: copy it from the logger once more")]
    Empty,
    /// A picture, an archive or a workbook.
    #[error("this is {0}, not a text file from a logger: export it as delimited text (CSV) first")]
    Foreign(&'static str),
    /// Bytes that are no text in any common encoding.
    #[error("this file is not text: export the logger's data as delimited text (CSV)")]
    Binary,
}

const FOREIGN: [(&[u8], &str); 7] = [
    (b"\x89PNG", "a picture (PNG)"),
    (b"\xff\xd8\xff", "a picture (JPEG)"),
    (b"GIF8", "a picture (GIF)"),
    (b"%PDF", "a PDF document"),
    (b"PK\x03\x04", "a zip archive or a workbook"),
    (b"\xd0\xcf\x11\xe0", "a workbook"),
    (b"SQLite format 3", "a database"),
];

/// Turns bytes into text: by byte-order mark, else UTF-8, UTF-16 by its zero bytes, else the Western single-byte set.
///
/// # Errors
/// [`DecodeError`] for empty files, pictures, archives and other bytes that are no text.
pub fn decode<'b>(bytes: impl Into<Cow<'b, [u8]>>) -> Result<String, DecodeError> {
    let bytes: Cow<'b, [u8]> = bytes.into();
    if let Some((_, what)) = FOREIGN.iter().find(|(magic, _)| bytes.starts_with(magic)) {
        return Err(DecodeError::Foreign(what));
    }
    let head = &bytes[..bytes.len().min(4096)];
    let zeros = |offset: usize| head.iter().skip(offset).step_by(2).filter(|b| **b == 0).count() * 4 > head.len();
    let encoding = match Encoding::for_bom(&bytes) {
        Some((encoding, _)) => Some(encoding),
        None if zeros(1) => Some(UTF_16LE),
        None if zeros(0) => Some(UTF_16BE),
        None => None,
    };
    let text = match encoding {
        Some(encoding) => encoding.decode(&bytes).0.into_owned(),
        // Bytes that are text already are not copied: a file may be large.
        None => {
            String::from_utf8(bytes.into_owned()).unwrap_or_else(|e| WINDOWS_1252.decode(e.as_bytes()).0.into_owned())
        }
    };
    let odd = text.chars().take(4096).filter(|c| (c.is_control() && !c.is_whitespace()) || *c == '\u{fffd}').count();
    if odd * 50 > text.chars().take(4096).count() {
        return Err(DecodeError::Binary);
    }
    if text.trim().is_empty() { Err(DecodeError::Empty) } else { Ok(text) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn text_is_read_in_any_common_encoding() {
        let text = "Zeit;Boden 5 cm [°C]\n";
        let utf16: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let with_mark: Vec<u8> = [0xff, 0xfe].into_iter().chain(utf16.iter().copied()).collect();
        let latin: Vec<u8> = text.chars().map(|c| c as u8).collect();
        for bytes in [text.as_bytes(), &utf16[..], &with_mark, &latin, format!("\u{feff}{text}").as_bytes()] {
            assert_eq!(decode(bytes).unwrap(), text);
        }
    }

    #[test]
    fn what_is_no_text_is_named() {
        assert_eq!(decode(&b""[..]), Err(DecodeError::Empty));
        assert_eq!(decode(&b" \r\n \n"[..]), Err(DecodeError::Empty));
        assert!(decode(&b"\x89PNG\r\n\x1a\n...."[..]).unwrap_err().to_string().contains("a picture (PNG)"));
        let noise: Vec<u8> = (0..4000u32).map(|i| (i * i % 31) as u8).collect();
        assert_eq!(decode(noise), Err(DecodeError::Binary));
    }
}
