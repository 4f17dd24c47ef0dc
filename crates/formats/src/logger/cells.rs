//! One line to its cells.
//!
//! Lines are split one by one and not by a CSV reader over the whole file: a quote that a power loss left open must
//! not swallow the lines behind it.

use super::recipe::{Cells, Separator};
use std::borrow::Cow;
use thiserror::Error;

/// One cell, blanks around it cut, quotes taken off.
pub(super) type Cell<'a> = Cow<'a, str>;

/// Why a line has no cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Error)]
pub enum Torn {
    /// A quote that nothing closes.
    #[error("a quote is left open: the line looks cut off")]
    OpenQuote,
    /// Something between a closing quote and the next separator: which of the two is the field?
    #[error("something stands between a closing quote and the next field")]
    AfterQuote,
}

/// Parts a line into cells, for a `key=value` line with its keys in it.
pub(super) fn split<'a>(line: &'a str, cells: &Cells, out: &mut Vec<Cell<'a>>) -> Result<(), Torn> {
    out.clear();
    match cells {
        Cells::Delimited(separator) | Cells::Tagged { between: separator, .. } => delimited(line, *separator, out),
        Cells::Fixed(starts) => {
            fixed(line, starts, out);
            Ok(())
        }
    }
}

const BLANKS: [char; 2] = [' ', '\u{a0}'];

fn delimited<'a>(line: &'a str, separator: Separator, out: &mut Vec<Cell<'a>>) -> Result<(), Torn> {
    let quotes = memchr::memchr(b'"', line.as_bytes()).is_some();
    if separator == Separator::Blanks && !quotes {
        out.extend(line.split_whitespace().map(Cow::Borrowed));
        return Ok(());
    }
    let mark = separator.char();
    if !quotes {
        let (bytes, mut start) = (line.as_bytes(), 0);
        for end in memchr::memchr_iter(mark as u8, bytes) {
            out.push(Cow::Borrowed(trimmed(&line[start..end])));
            start = end + 1;
        }
        out.push(Cow::Borrowed(trimmed(&line[start..])));
        return Ok(());
    }
    // Where blanks part the cells, each kind of white space does.
    let bare = |text: &'a str| match separator {
        Separator::Blanks => text.trim_start(),
        _ => text.trim_start_matches(BLANKS),
    };
    let mut rest = line;
    loop {
        let start = bare(rest);
        if separator == Separator::Blanks && start.is_empty() {
            return Ok(());
        }
        if let Some(quoted) = start.strip_prefix('"') {
            let (text, after) = unquote(quoted).ok_or(Torn::OpenQuote)?;
            out.push(text);
            let trimmed = bare(after);
            match trimmed.strip_prefix(mark) {
                Some(next) => rest = next,
                None if trimmed.trim().is_empty() => return Ok(()),
                None if separator == Separator::Blanks && trimmed.len() < after.len() => rest = trimmed,
                None => return Err(Torn::AfterQuote),
            }
        } else if separator == Separator::Blanks {
            let end = start.find(char::is_whitespace).unwrap_or(start.len());
            out.push(Cow::Borrowed(&start[..end]));
            rest = &start[end..];
        } else if let Some((field, next)) = rest.split_once(mark) {
            out.push(Cow::Borrowed(trimmed(field)));
            rest = next;
        } else {
            out.push(Cow::Borrowed(trimmed(rest)));
            return Ok(());
        }
    }
}

/// Without blanks around it, and without what a power loss leaves of unwritten blocks.
fn trimmed(cell: &str) -> &str {
    let bytes = cell.as_bytes();
    match (bytes.first(), bytes.last()) {
        (Some(33..=126), Some(33..=126)) => cell,
        _ => cell.trim_matches(|c: char| c.is_whitespace() || c == '\0'),
    }
}

fn fixed<'a>(line: &'a str, starts: &[usize], out: &mut Vec<Cell<'a>>) {
    let at = |n: usize| {
        if line.is_ascii() { n.min(line.len()) } else { line.char_indices().nth(n).map_or(line.len(), |(i, _)| i) }
    };
    let places: Vec<usize> = starts.iter().map(|s| at(*s)).collect();
    for (i, start) in places.iter().enumerate() {
        let end = places.get(i + 1).copied().unwrap_or(line.len());
        // A line that ends before a column begins does not have it.
        if *start >= line.len() && i > 0 {
            return;
        }
        out.push(Cow::Borrowed(trimmed(&line[*start..end])));
    }
}

/// The text up to the closing quote, and what follows; a doubled quote is one.
fn unquote(text: &str) -> Option<(Cell<'_>, &str)> {
    let end = text.find('"')?;
    if !text[end + 1..].starts_with('"') {
        return Some((Cow::Borrowed(text[..end].trim()), &text[end + 1..]));
    }
    let mut owned = String::new();
    let mut rest = text;
    loop {
        let end = rest.find('"')?;
        owned.push_str(&rest[..end]);
        match rest[end + 1..].strip_prefix('"') {
            Some(next) => {
                owned.push('"');
                rest = next;
            }
            None => return Some((Cow::Owned(owned), &rest[end + 1..])),
        }
    }
}

/// A cell of a `key=value` line: its key, if it has one, and its value.
pub(super) fn keyed(cell: &str, mark: char) -> (Option<&str>, &str) {
    match cell.split_once(mark) {
        // A key is a word: the colon of a time stands behind digits.
        Some((key, value)) if !key.is_empty() && key.starts_with(|c: char| c.is_alphabetic() || c == '_') => {
            (Some(key.trim()), value.trim())
        }
        _ => (None, cell),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn fields(line: &str, separator: Separator) -> Result<Vec<Cell<'_>>, Torn> {
        let mut out = Vec::new();
        split(line, &Cells::Delimited(separator), &mut out)?;
        Ok(out)
    }

    #[test]
    fn quotes_and_blanks_come_off() {
        let got = fields("\"2026-03-01 00:15\", 882.2 ,\"say \"\"mouse\"\"\",", Separator::Comma).unwrap();
        assert_eq!(got, ["2026-03-01 00:15", "882.2", "say \"mouse\"", ""]);
        assert_eq!(fields("a  b\tc", Separator::Blanks).unwrap(), ["a", "b", "c"]);
        assert_eq!(fields("\"a b\"  c \"d\"", Separator::Blanks).unwrap(), ["a b", "c", "d"]);
        assert_eq!(fields("\0\0a;\u{a0}b ", Separator::Semicolon).unwrap(), ["a", "b"]);
    }

    #[test]
    fn a_tab_among_blanks_and_quotes_parts_cells_too() {
        for line in ["\ta \"b c\"\td", "a\t\"b c\"\u{2003}d\t", " a \"b c\" \t d \u{a0}"] {
            assert_eq!(fields(line, Separator::Blanks).unwrap(), ["a", "b c", "d"], "{line:?}");
        }
    }

    proptest! {
        #[test]
        fn cells_of_any_line_are_its_letters(line in "[ab,;|\" \t\r\u{a0}\u{2003}\u{0}é]{0,24}") {
            for separator in [Separator::Comma, Separator::Semicolon, Separator::Tab, Separator::Bar, Separator::Blanks] {
                let Ok(cells) = fields(&line, separator) else { continue };
                prop_assert!(cells.len() <= line.chars().count() + 1, "{} cells", cells.len());
                let letters = |text: &str| text.chars().filter(|c| ['a', 'b', 'é'].contains(c)).collect::<String>();
                prop_assert_eq!(letters(&cells.concat()), letters(&line), "{:?}: {:?}", separator, cells);
            }
        }
    }

    #[test]
    fn an_open_quote_is_no_line() {
        assert_eq!(fields("\"2026-03-0", Separator::Comma), Err(Torn::OpenQuote));
    }

    #[test]
    fn what_follows_a_closing_quote_is_no_field_and_is_not_dropped_unseen() {
        for torn in ["\"4.5\" 7,1", "1,\"a\"b", "\"a\"\"b\"c,2"] {
            assert_eq!(fields(torn, Separator::Comma), Err(Torn::AfterQuote), "{torn}");
        }
        assert_eq!(fields("1,\"4.5\" ", Separator::Comma).unwrap(), ["1", "4.5"]);
    }

    #[test]
    fn columns_by_place_may_hold_any_letters_and_end_early() {
        let mut out = Vec::new();
        split("θ12 -3.5-4.5", &Cells::Fixed(vec![0, 4, 8]), &mut out).unwrap();
        assert_eq!(out, ["θ12", "-3.5", "-4.5"]);
        split("ab", &Cells::Fixed(vec![0, 4, 8]), &mut out).unwrap();
        assert_eq!(out, ["ab"]);
    }

    #[test]
    fn a_key_is_a_word() {
        assert_eq!(keyed("m5=0.31", '='), (Some("m5"), "0.31"));
        assert_eq!(keyed("00:15", ':'), (None, "00:15"));
        assert_eq!(keyed("θ5: 1", ':'), (Some("θ5"), "1"));
    }
}
