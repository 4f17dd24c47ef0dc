//! A file's bytes as lines of text.

use encoding_rs::{DecoderResult, Encoding, UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use encoding_rs_io::{DecodeReaderBytes, DecodeReaderBytesBuilder};
use flate2::read::MultiGzDecoder;
use std::borrow::Cow;
use std::fs::File;
use std::io::{self, BufRead, BufReader, Cursor, ErrorKind, Read};
use std::path::PathBuf;
use std::sync::Arc;
use thiserror::Error;

/// Why a file is no text that a logger wrote.
#[derive(Debug, Error)]
pub enum TextError {
    /// No bytes, or nothing but blanks.
    #[error("the file is empty: copy it from the logger once more")]
    Empty,
    /// A picture, an archive or a workbook.
    #[error("this is {0}, not a text file from a logger: export it as delimited text (CSV) first")]
    Foreign(&'static str),
    /// Bytes that are no text in any common encoding.
    #[error("this file is not text: export the logger's data as delimited text (CSV)")]
    Binary,
    /// More than [`MOST_BYTES`] once unpacked.
    #[error("this file unpacks to more than 4 GB: unpack it, and give its parts one by one")]
    TooLarge,
    /// The file went away, or the disk fails.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] io::Error),
}

/// How a gzip member begins.
const GZIP: &[u8] = b"\x1f\x8b";

const FOREIGN: [(&[u8], &str); 7] = [
    (b"\x89PNG", "a picture (PNG)"),
    (b"\xff\xd8\xff", "a picture (JPEG)"),
    (b"GIF8", "a picture (GIF)"),
    (b"%PDF", "a PDF document"),
    (b"PK\x03\x04", "a zip archive or a workbook within another file"),
    (b"\xd0\xcf\x11\xe0", "a workbook"),
    (b"SQLite format 3", "a database"),
];

/// The longest line that is read, bytes; of a longer one only its beginning is shown.
pub const LONGEST_LINE: usize = 1 << 20;

/// The most bytes that a packed file may unpack to.
pub const MOST_BYTES: u64 = 4 << 30;

#[derive(Debug, Clone)]
enum Source {
    Bytes(Arc<[u8]>),
    File(PathBuf),
}

/// A file's text. It stays where it is and is read line by line, as often as wanted, so that a file of any size takes no
/// memory.
#[derive(Debug, Clone)]
pub struct Text {
    source: Source,
    encoding: &'static Encoding,
    lines: usize,
}

impl Text {
    /// The text of a file on the disk, unpacked if it is gzip: by byte-order mark, else UTF-16 by its zero bytes, else UTF-8 if
    /// all of it is, else the Western single-byte set.
    ///
    /// # Errors
    /// [`TextError`] for empty files, pictures, archives, other bytes that are no text, and files that cannot be read.
    pub fn of_file(path: impl Into<PathBuf>) -> Result<Self, TextError> {
        Self::of(Source::File(path.into()))
    }

    /// The text of bytes at hand, as [`Text::of_file`].
    ///
    /// # Errors
    /// As [`Text::of_file`].
    pub fn of_bytes(bytes: impl Into<Arc<[u8]>>) -> Result<Self, TextError> {
        Self::of(Source::Bytes(bytes.into()))
    }

    fn of(source: Source) -> Result<Self, TextError> {
        let (encoding, lines) = survey_bytes(source.open()?)?;
        let text = Self { source, encoding, lines };
        let mut lines = text.lines()?;
        let (mut seen, mut odd, mut blank) = (0, 0, true);
        while seen < 4096 || blank {
            let Some(line) = lines.next_line()? else { break };
            // What a power loss leaves of unwritten blocks is no sign against the rest.
            let said = |c: &char| *c != '\0';
            blank &= line.text.trim().chars().all(|c| c == '\0');
            for c in line.text.chars().filter(said).take(4096 - seen.min(4096)) {
                seen += 1;
                odd += usize::from((c.is_control() && !c.is_whitespace()) || c == '\u{fffd}');
            }
        }
        match (odd * 50 > seen, blank) {
            (true, _) => Err(TextError::Binary),
            (_, true) => Err(TextError::Empty),
            _ => Ok(text),
        }
    }

    /// About how many lines there are: ends of lines, counted on the bytes.
    #[must_use]
    pub const fn about_lines(&self) -> usize {
        self.lines
    }

    /// What the bytes were taken for, by its usual name.
    #[must_use]
    pub fn encoding(&self) -> &'static str {
        self.encoding.name()
    }

    /// The bytes of a line as they stand in the file.
    pub(super) fn bytes_of<'l>(&self, line: &'l str) -> Cow<'l, [u8]> {
        self.encoding.encode(line).0
    }

    /// The lines from the first on.
    ///
    /// # Errors
    /// If the file cannot be opened.
    pub fn lines(&self) -> io::Result<Lines> {
        let decoder = DecodeReaderBytesBuilder::new().encoding(Some(self.encoding)).build(self.source.open()?);
        let from = BufReader::with_capacity(1 << 16, decoder);
        Ok(Lines { from, line: Vec::new(), number: 0, after_return: false, long: false, broken: None })
    }

    /// The first `n` lines.
    ///
    /// # Errors
    /// If the file cannot be read.
    pub fn head(&self, n: usize) -> io::Result<Vec<String>> {
        let (mut lines, mut head) = (self.lines()?, Vec::new());
        while head.len() < n {
            let Some(line) = lines.next_line()? else { break };
            head.push(line.text.to_owned());
        }
        Ok(head)
    }
}

type Bytes = Box<dyn Read + Send>;

impl Source {
    fn open(&self) -> io::Result<Bytes> {
        let plain: Bytes = match self {
            Self::Bytes(bytes) => Box::new(Cursor::new(Arc::clone(bytes))),
            Self::File(path) => Box::new(File::open(path)?),
        };
        let mut buffered = BufReader::with_capacity(1 << 16, plain);
        let packed = buffered.fill_buf()?.starts_with(GZIP);
        Ok(if packed { Box::new(MultiGzDecoder::new(buffered)) } else { Box::new(buffered) })
    }
}

/// One physical line.
#[derive(Debug, Clone, Copy)]
pub struct Line<'l> {
    /// Counted from 1.
    pub number: usize,
    /// Without its end and without a byte-order mark; the beginning, if it is too long.
    pub text: &'l str,
    /// It is longer than [`LONGEST_LINE`].
    pub long: bool,
}

/// Lines of a [`Text`], one at a time.
pub struct Lines {
    from: BufReader<DecodeReaderBytes<Bytes, Vec<u8>>>,
    line: Vec<u8>,
    number: usize,
    /// Whether the last line ended in a carriage return: a line feed behind it belongs to it.
    after_return: bool,
    long: bool,
    /// Why the file ends here although more was due.
    broken: Option<String>,
}

impl Lines {
    /// The next line.
    ///
    /// # Errors
    /// If the file cannot be read on.
    pub fn next_line(&mut self) -> io::Result<Option<Line<'_>>> {
        if !self.read_line()? {
            return Ok(None);
        }
        self.number += 1;
        let text = match std::str::from_utf8(&self.line) {
            Ok(text) => text,
            // A line that was cut at its greatest length may end within a letter.
            Err(e) if self.long => std::str::from_utf8(&self.line[..e.valid_up_to()]).unwrap_or_default(),
            Err(e) => return Err(io::Error::other(e)),
        };
        let text = if self.number == 1 { text.trim_start_matches('\u{feff}') } else { text };
        Ok(Some(Line { number: self.number, text, long: self.long }))
    }

    /// Why the file ended before its end: a gzip member that was cut off.
    #[must_use]
    pub fn broken(&self) -> Option<&str> {
        self.broken.as_deref()
    }

    /// Reads one physical line into `line`, whether it ends in a line feed, a carriage return, or both; loggers that were
    /// restarted with another program mix them. False at the end.
    fn read_line(&mut self) -> io::Result<bool> {
        self.line.clear();
        self.long = false;
        let mut any = false;
        loop {
            let buffer = match self.from.fill_buf() {
                Ok(buffer) => buffer,
                Err(e)
                    if matches!(
                        e.kind(),
                        ErrorKind::UnexpectedEof | ErrorKind::InvalidInput | ErrorKind::InvalidData
                    ) =>
                {
                    self.broken = Some(format!("the packed file is damaged or cut off after this line ({e})"));
                    return Ok(any);
                }
                Err(e) => return Err(e),
            };
            let Some(first) = buffer.first() else { return Ok(any) };
            if std::mem::take(&mut self.after_return) && *first == b'\n' {
                self.from.consume(1);
                continue;
            }
            any = true;
            let end = memchr::memchr2(b'\n', b'\r', buffer);
            let piece = &buffer[..end.unwrap_or(buffer.len())];
            let room = LONGEST_LINE - self.line.len();
            self.long |= piece.len() > room;
            self.line.extend_from_slice(&piece[..piece.len().min(room)]);
            let Some(end) = end else {
                let n = buffer.len();
                self.from.consume(n);
                continue;
            };
            self.after_return = buffer[end] == b'\r';
            self.from.consume(end + 1);
            return Ok(true);
        }
    }
}

/// A line without the zero bytes that a power loss leaves at its ends.
pub(super) fn without_zeros(line: &str) -> &str {
    let edge = [line.as_bytes().first(), line.as_bytes().last()];
    if edge.contains(&Some(&0)) { line.trim_matches('\0') } else { line }
}

/// The encoding of all of a file, and the number of its line ends.
fn survey_bytes(mut from: Bytes) -> Result<(&'static Encoding, usize), TextError> {
    let mut bytes = vec![0; 1 << 16];
    let (mut encoding, mut filled, mut lines) = (None, 0_u64, 1);
    let mut utf8 = Some(UTF_8.new_decoder_without_bom_handling());
    let mut decoded = vec![0; (1 << 16) * 3];
    let mut returned = false;
    loop {
        let n = match from.read(&mut bytes) {
            Ok(n) => n,
            // What was unpacked before the damage is read; where it ends is said then.
            Err(_) if filled > 0 => 0,
            Err(e) => return Err(e.into()),
        };
        let part = &bytes[..n];
        if filled == 0 {
            if let Some((_, what)) = FOREIGN.iter().find(|(magic, _)| part.starts_with(magic)) {
                return Err(TextError::Foreign(what));
            }
            encoding = by_first_bytes(part);
        }
        filled += n as u64;
        if filled > MOST_BYTES {
            return Err(TextError::TooLarge);
        }
        for at in memchr::memchr2_iter(b'\n', b'\r', part) {
            let after_return = if at == 0 { returned } else { part[at - 1] == b'\r' };
            lines += usize::from(part[at] == b'\r' || !after_return);
        }
        returned = part.last() == Some(&b'\r');
        let whole = utf8.as_mut().is_some_and(|decoder| {
            let (result, ..) = decoder.decode_to_utf8_without_replacement(part, &mut decoded, n == 0);
            result == DecoderResult::InputEmpty
        });
        if !whole {
            utf8 = None;
        }
        if n == 0 {
            return Ok((encoding.unwrap_or(if utf8.is_some() { UTF_8 } else { WINDOWS_1252 }), lines));
        }
    }
}

/// The encoding that a mark or the zero bytes of plain letters give away.
fn by_first_bytes(part: &[u8]) -> Option<&'static Encoding> {
    let head = &part[..part.len().min(4096)];
    let zeros = |offset: usize| head.iter().skip(offset).step_by(2).filter(|b| **b == 0).count();
    let (even, odd) = (zeros(0), zeros(1));
    match Encoding::for_bom(part) {
        Some((encoding, _)) => Some(encoding),
        None if odd * 4 > head.len() && even * 8 < head.len() => Some(UTF_16LE),
        None if even * 4 > head.len() && odd * 8 < head.len() => Some(UTF_16BE),
        None => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn all(bytes: &[u8]) -> Vec<String> {
        Text::of_bytes(bytes).unwrap().head(usize::MAX).unwrap()
    }

    #[test]
    fn a_line_ends_in_a_feed_a_return_or_both_and_the_three_may_be_mixed() {
        assert_eq!(all(b"a\rb\r\nc\nd\r"), ["a", "b", "c", "d"]);
        assert_eq!(all(b"a\n\nb\r\rc\r\n\r\nd"), ["a", "", "b", "", "c", "", "d"], "blank lines are lines");
        let returns = "2026-03-01 00:15,900\r".repeat(80_000);
        assert_eq!(all(returns.as_bytes()).len(), 80_000, "no line of it is too long");
        // A feed that begins the next piece of the file belongs to the return before it.
        let wide = format!("{}\r\nb\r\n", "x".repeat((1 << 16) - 1));
        assert_eq!(all(wide.as_bytes())[1..], ["b"]);
        let utf16: Vec<u8> = "a\rb\r\nc".encode_utf16().flat_map(u16::to_le_bytes).collect();
        assert_eq!(all(&[&[0xff, 0xfe], &utf16[..]].concat()), ["a", "b", "c"]);
    }

    #[test]
    fn text_is_read_in_any_common_encoding() {
        let text = "Zeit;Boden 5 cm [°C]\r\n1;\u{b0}\n";
        let utf16: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let with_mark: Vec<u8> = [0xff, 0xfe].into_iter().chain(utf16.iter().copied()).collect();
        let big_endian: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
        let latin: Vec<u8> = text.chars().map(|c| c as u8).collect();
        let marked = format!("\u{feff}{text}");
        for bytes in [text.as_bytes(), &utf16[..], &with_mark, &big_endian, &latin, marked.as_bytes()] {
            assert_eq!(all(bytes), ["Zeit;Boden 5 cm [°C]", "1;°"]);
        }
    }

    #[test]
    fn one_odd_byte_far_down_decides_for_the_whole_file() {
        // A letter of two bytes lies across the border of two reads; then the same file with one byte that is no UTF-8.
        let mut text = "x".repeat((1 << 16) - 1);
        text.push_str("°\n");
        assert_eq!(all(text.as_bytes()), [text.trim_end()]);
        let mut bytes = "1,2\n".repeat(40_000).into_bytes();
        bytes.extend(b"caf\xe9\n");
        assert_eq!(all(&bytes).last().unwrap(), "café");
    }

    #[test]
    fn what_is_no_text_is_named() {
        let refused = |bytes: &[u8]| Text::of_bytes(bytes).unwrap_err();
        assert!(matches!(refused(b""), TextError::Empty));
        assert!(matches!(refused(b" \r\n \n"), TextError::Empty));
        assert!(matches!(refused("\n".repeat(10_000).as_bytes()), TextError::Empty));
        assert!(refused(b"\x89PNG\r\n\x1a\n....").to_string().contains("a picture (PNG)"));
        let noise: Vec<u8> = (0..4000u32).map(|i| (i * i % 31) as u8).collect();
        assert!(matches!(refused(&noise), TextError::Binary));
    }

    #[test]
    fn a_line_beyond_any_bound_costs_itself_and_no_other() {
        let endless = "θ,".repeat(LONGEST_LINE);
        let text = Text::of_bytes(format!("a\n{endless}\nb\n").into_bytes()).unwrap();
        let mut lines = text.lines().unwrap();
        let mut told = Vec::new();
        while let Some(line) = lines.next_line().unwrap() {
            told.push((line.number, line.text.len() <= LONGEST_LINE, line.long));
        }
        assert_eq!(told, [(1, true, false), (2, true, true), (3, true, false)]);
    }

    #[test]
    fn blocks_of_nothing_that_a_power_loss_leaves_do_not_make_a_file_binary() {
        let text = format!("{}time,v\n1,2\n", "\0".repeat(4096));
        assert_eq!(all(text.as_bytes()).len(), 2);
        assert!(matches!(Text::of_bytes(vec![0; 9000]).unwrap_err(), TextError::Empty));
    }

    #[test]
    fn a_packed_file_is_read_like_any_other_and_one_cut_off_up_to_there() {
        let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        let plain: String = (0..20_000).map(|i| format!("{i},{}\n", i * 7919 % 1000)).collect();
        io::Write::write_all(&mut packer, plain.as_bytes()).unwrap();
        let packed = packer.finish().unwrap();
        assert_eq!(all(&packed).len(), 20_000);
        let cut = Text::of_bytes(&packed[..packed.len() / 2]).unwrap();
        let mut lines = cut.lines().unwrap();
        let mut n = 0;
        while lines.next_line().unwrap().is_some() {
            n += 1;
        }
        assert!((5_000..20_000).contains(&n), "{n}");
        assert!(lines.broken().unwrap().contains("cut off"));
    }

    #[test]
    fn a_file_is_read_as_its_bytes() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("a.csv");
        std::fs::write(&path, "time,v\n1,2").unwrap();
        let text = Text::of_file(&path).unwrap();
        assert_eq!(text.head(9).unwrap(), ["time,v", "1,2"]);
        std::fs::remove_file(&path).unwrap();
        assert!(text.lines().is_err(), "and one that went away is said, not read as empty");
    }
}
