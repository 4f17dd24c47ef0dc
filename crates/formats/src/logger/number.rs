//! A cell as a number.

/// How numbers are written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Numbers {
    /// Decimals stand behind a comma: `0,31`.
    pub decimal_comma: bool,
    /// `1.234,5` or `1 234.5`
    pub thousands: Option<char>,
}

impl Numbers {
    /// The number in a cell, or `None`; one too large for any computer is none.
    pub fn read(self, cell: &str) -> Option<f64> {
        let first = *cell.as_bytes().first()?;
        if !self.decimal_comma
            && self.thousands.is_none()
            && let Some(value) = plain_decimal(cell.as_bytes())
        {
            return Some(value);
        }
        // "inf", "nan" and other words that a parser would take.
        if first.is_ascii_alphabetic() || cell.len() > 40 {
            return None;
        }
        let plain = !self.decimal_comma && self.thousands.is_none() && cell.is_ascii();
        let value: f64 = if plain {
            let cell = cell.strip_prefix('+').filter(|c| !c.starts_with(['-', '+'])).unwrap_or(cell);
            // A parser also takes "-inf" and "-nan".
            if cell.as_bytes().get(1).is_some_and(|b| b.is_ascii_alphabetic() && !matches!(b, b'e' | b'E')) {
                return None;
            }
            cell.parse().ok()?
        } else {
            self.tidied(cell)?.parse().ok()?
        };
        value.is_finite().then_some(value)
    }

    /// The cell with a point for its decimal mark, a plain minus, and no marks between thousands.
    fn tidied(self, cell: &str) -> Option<String> {
        let mut out = String::with_capacity(cell.len());
        let (mut grouped, mut since, mut decimals) = (false, 0, false);
        for c in cell.chars() {
            match c {
                '−' | '–' => out.push('-'),
                '+' if out.is_empty() => {}
                c if Some(c) == self.thousands
                    || (self.thousands == Some(' ') && matches!(c, '\u{a0}' | '\u{202f}')) =>
                {
                    // A group has three digits, and one to three stand before the first.
                    if decimals || since == 0 || since > 3 || (grouped && since != 3) {
                        return None;
                    }
                    (grouped, since) = (true, 0);
                    continue;
                }
                ',' if self.decimal_comma && !decimals => {
                    if grouped && since != 3 {
                        return None;
                    }
                    decimals = true;
                    out.push('.');
                }
                c if c.is_ascii_alphabetic() && !matches!(c, 'e' | 'E') => return None,
                c => {
                    decimals |= c == '.';
                    out.push(c);
                }
            }
            since += usize::from(c.is_ascii_digit());
        }
        (!grouped || decimals || since == 3).then_some(out)
    }
}

/// Reads `-12.345` without an exponent. The digits as a whole number and the power of ten are both exact in an f64 up to 15 digits and
/// 10^22, so that their quotient is the nearest f64 to the decimal (Clinger 1990, "How to read floating point numbers accurately").
fn plain_decimal(cell: &[u8]) -> Option<f64> {
    const POWERS: [f64; 16] = [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15];
    let (negative, digits) = match cell {
        [b'-', rest @ ..] => (true, rest),
        rest => (false, rest),
    };
    if digits.is_empty() || digits.len() > 16 {
        return None;
    }
    let (mut whole, mut n, mut point) = (0_u64, 0_usize, None);
    for (i, byte) in digits.iter().enumerate() {
        match byte {
            b'0'..=b'9' => {
                whole = whole * 10 + u64::from(byte - b'0');
                n += 1;
            }
            b'.' if point.is_none() => point = Some(i),
            _ => return None,
        }
    }
    if n == 0 || n > 15 {
        return None;
    }
    let decimals = point.map_or(0, |at| digits.len() - 1 - at);
    let value = whole as f64 / POWERS[decimals];
    Some(if negative { -value } else { value })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn the_short_way_gives_the_same_bits_as_the_long_one(digits in "-?[0-9]{0,9}(\\.[0-9]{0,9})?") {
            let long: Option<f64> = digits.parse().ok();
            let short = plain_decimal(digits.as_bytes());
            prop_assert!(short.is_none() || short.map(f64::to_bits) == long.map(f64::to_bits), "{digits}");
        }
    }

    #[test]
    fn numbers_in_every_dress() {
        let point = Numbers::default();
        let comma = Numbers { decimal_comma: true, thousands: None };
        let both = Numbers { decimal_comma: true, thousands: Some('.') };
        let blank = Numbers { decimal_comma: false, thousands: Some(' ') };
        let quote = Numbers { decimal_comma: false, thousands: Some('\'') };
        for (numbers, cell, value) in [
            (point, "12.5", Some(12.5)),
            (point, "+12.5", Some(12.5)),
            (point, "−3.25", Some(-3.25)),
            (point, ".5", Some(0.5)),
            (point, "1e-3", Some(0.001)),
            (point, "12,5", None),
            (point, "inf", None),
            (point, "-inf", None),
            (point, "-nan", None),
            (point, "+-5", None),
            (point, "1e999", None),
            (point, "", None),
            (point, "12.3*", None),
            (comma, "0,318", Some(0.318)),
            (comma, "-12,5", Some(-12.5)),
            (comma, "1,2,3", None),
            (both, "1.234,5", Some(1234.5)),
            (both, "12.345.678", Some(12_345_678.0)),
            (both, "1.23,5", None),
            (both, "1234,5", Some(1234.5)),
            (blank, "1 234.5", Some(1234.5)),
            (blank, "1\u{202f}234.5", Some(1234.5)),
            (blank, "1 2", None),
            (quote, "1'234", Some(1234.0)),
        ] {
            assert_eq!(numbers.read(cell), value, "{cell} by {numbers:?}");
        }
    }
}
