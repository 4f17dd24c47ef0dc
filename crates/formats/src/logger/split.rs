//! One line to its fields.
//!
//! Lines are split one by one and not by a CSV reader over the whole file: a quote that a power loss left open must
//! not swallow the lines behind it. Logger files never carry a line break within a field.

use super::recipe::Separator;
use std::borrow::Cow;
use thiserror::Error;

/// Why a line has no fields.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub(super) enum Torn {
    /// A quote that nothing closes.
    #[error("a quote is left open: the line looks cut off")]
    OpenQuote,
    /// Something between a closing quote and the next separator: which of the two is the field?
    #[error("something stands between a closing quote and the next field")]
    AfterQuote,
}

/// The fields of a line, blanks around them cut, quotes taken off.
pub(super) fn fields(line: &str, separator: Separator) -> Result<Vec<Cow<'_, str>>, Torn> {
    if separator == Separator::Blanks {
        return Ok(line.split_whitespace().map(Cow::Borrowed).collect());
    }
    let mark = separator.char();
    let mut out = Vec::with_capacity(16);
    let mut rest = line;
    loop {
        let start = rest.trim_start_matches([' ', '\u{a0}']);
        if let Some(quoted) = start.strip_prefix('"') {
            let (text, after) = unquote(quoted).ok_or(Torn::OpenQuote)?;
            out.push(text);
            let after = after.trim_start_matches([' ', '\u{a0}']);
            match after.strip_prefix(mark) {
                Some(next) => rest = next,
                None if after.trim().is_empty() => return Ok(out),
                None => return Err(Torn::AfterQuote),
            }
        } else if let Some((field, next)) = rest.split_once(mark) {
            out.push(Cow::Borrowed(field.trim()));
            rest = next;
        } else {
            out.push(Cow::Borrowed(rest.trim()));
            return Ok(out);
        }
    }
}

/// The text up to the closing quote, and what follows; a doubled quote is one.
fn unquote(text: &str) -> Option<(Cow<'_, str>, &str)> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quotes_and_blanks_come_off() {
        let got = fields("\"2026-03-01 00:15\", 882.2 ,\"say \"\"mouse\"\"\",", Separator::Comma).unwrap();
        assert_eq!(got, ["2026-03-01 00:15", "882.2", "say \"mouse\"", ""]);
        assert_eq!(fields("a  b\tc", Separator::Blanks).unwrap(), ["a", "b", "c"]);
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
}
