//! One line to its fields.
//!
//! Lines are split one by one and not by a CSV reader over the whole file: a quote that a power loss left open must
//! not swallow the lines behind it. Logger files never carry a line break within a field.

use super::recipe::Separator;
use std::borrow::Cow;

/// The fields of a line, blanks around them cut, quotes taken off. `None` if a quote is left open.
pub(super) fn fields(line: &str, separator: Separator) -> Option<Vec<Cow<'_, str>>> {
    if separator == Separator::Blanks {
        return Some(line.split_whitespace().map(Cow::Borrowed).collect());
    }
    let mark = separator.char();
    let mut out = Vec::with_capacity(16);
    let mut rest = line;
    loop {
        let start = rest.trim_start_matches([' ', '\u{a0}']);
        if let Some(quoted) = start.strip_prefix('"') {
            let (text, after) = unquote(quoted)?;
            out.push(text);
            let after = after.trim_start_matches(' ');
            match after.strip_prefix(mark) {
                Some(next) => rest = next,
                None => return Some(out),
            }
        } else if let Some((field, next)) = rest.split_once(mark) {
            out.push(Cow::Borrowed(field.trim()));
            rest = next;
        } else {
            out.push(Cow::Borrowed(rest.trim()));
            return Some(out);
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
        assert_eq!(fields("\"2026-03-0", Separator::Comma), None);
    }
}
