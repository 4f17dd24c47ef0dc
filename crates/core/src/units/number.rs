//! Numbers as people type them.

/// Reads a number as people type it: blanks cut, a decimal comma or a true minus taken.
///
/// # Errors
/// A sentence that says what to do.
pub fn read_number(text: &str) -> Result<f64, String> {
    let tidy = text.trim().replace(['\u{a0}', '\u{202f}', ' '], "").replace('−', "-");
    let tidy = if tidy.contains(',') && !tidy.contains('.') { tidy.replacen(',', ".", 1) } else { tidy };
    match tidy.parse::<f64>() {
        Ok(value) if value.is_finite() => Ok(value),
        _ => Err(format!("“{}” is no number: write it like 12.5", text.trim())),
    }
}

/// Reads an offset from UTC as people write it, in minutes: `+01:00`, `UTC+1`, `-3:30`, `5.5` (hours), `60` (minutes).
///
/// ```
/// use ebrel_core::units::read_offset;
/// assert_eq!(read_offset("+01:00"), Ok(60));
/// assert_eq!(read_offset("UTC−3:30"), Ok(-210));
/// assert_eq!(read_offset("5.5"), Ok(330));
/// assert_eq!(read_offset("60"), Ok(60));
/// assert!(read_offset("noon").unwrap_err().contains("+01:00"));
/// ```
///
/// # Errors
/// A sentence that says what to do.
pub fn read_offset(text: &str) -> Result<i64, String> {
    /// No place is further from UTC than this, so a larger figure counts minutes.
    const MOST_HOURS: f64 = 14.0;
    let wrong = || format!("“{}” is no offset from UTC: write it like +01:00", text.trim());
    let plain = text.trim().to_uppercase().replace('−', "-").replace(' ', "");
    let plain = plain.trim_start_matches("UTC").trim_start_matches("GMT");
    let (sign, rest) = match plain.strip_prefix('-') {
        Some(rest) => (-1.0, rest),
        None => (1.0, plain.strip_prefix('+').unwrap_or(plain)),
    };
    if rest.is_empty() && plain.is_empty() {
        return Ok(0);
    }
    if !rest.starts_with(|c: char| c.is_ascii_digit()) {
        return Err(wrong());
    }
    let minutes = match rest.split_once(':') {
        Some((hours, minutes)) => {
            let (hours, minutes): (u8, u8) =
                hours.parse().ok().zip(minutes.parse().ok()).filter(|(_, m)| *m < 60).ok_or_else(wrong)?;
            f64::from(hours) * 60.0 + f64::from(minutes)
        }
        None => {
            let value = read_number(rest).map_err(|_| wrong())?;
            if value <= MOST_HOURS { value * 60.0 } else { value }
        }
    };
    let minutes = super::ranges::UTC_OFFSET_MINUTES.check(sign * minutes).map_err(|_| wrong())?;
    Ok(minutes.round() as i64)
}

/// An offset from UTC as people write it: `+01:00`.
#[must_use]
pub fn format_offset(minutes: i64) -> String {
    let sign = if minutes < 0 { '−' } else { '+' };
    format!("{sign}{:02}:{:02}", minutes.abs() / 60, minutes.abs() % 60)
}

/// A number with a fixed count of decimals, a true minus, and no minus before a zero; a dash where there is no number.
/// What no soil or instrument gives (from 1e12) stands as a power of ten.
///
/// ```
/// use ebrel_core::units::format_value;
/// assert_eq!(format_value(-0.0125, 2), "−0.01");
/// assert_eq!(format_value(-0.001, 2), "0.00");
/// assert_eq!(format_value(f64::NAN, 2), "–");
/// ```
#[must_use]
pub fn format_value(value: f64, decimals: usize) -> String {
    if !value.is_finite() {
        return "–".to_owned();
    }
    if value.abs() >= 1e12 {
        return format!("{value:.3e}").replace('-', "−");
    }
    let text = format!("{value:.decimals$}");
    let zero = text.bytes().all(|b| matches!(b, b'-' | b'0' | b'.'));
    if zero { text.trim_start_matches('-').to_owned() } else { text.replace('-', "−") }
}

/// A number without idle zeros, at most two decimals, with a true minus.
///
/// ```
/// use ebrel_core::units::format_short;
/// assert_eq!([format_short(4.5), format_short(-20.0), format_short(-0.001)], ["4.5", "−20", "0"]);
/// ```
#[must_use]
pub fn format_short(value: f64) -> String {
    let text = format!("{value:.2}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".into() } else { text.replace('-', "−") }
}

/// A number with the digits that it was given with, and a true minus; very small and very large ones as powers of ten.
///
/// ```
/// use ebrel_core::units::format_plain;
/// assert_eq!([format_plain(-0.5), format_plain(8.0), format_plain(1e-9), format_plain(-0.0)], ["−0.5", "8", "1e−9", "0"]);
/// assert_eq!(format_plain(f64::NAN), "what is no number");
/// ```
#[must_use]
pub fn format_plain(value: f64) -> String {
    if !value.is_finite() {
        return "what is no number".to_owned();
    }
    let usual = value == 0.0 || (1e-4..1e12).contains(&value.abs());
    let text = if usual { (value + 0.0).to_string() } else { format!("{value:e}") };
    text.replace('-', "−")
}

/// [`format_value`] with its sign, also a plus; none where it rounds to nothing.
///
/// ```
/// use ebrel_core::units::signed;
/// assert_eq!([signed(0.25, 1), signed(-0.25, 2), signed(0.04, 1)], ["+0.2", "−0.25", "0.0"]);
/// ```
#[must_use]
pub fn signed(value: f64, decimals: usize) -> String {
    let text = format_value(value, decimals);
    let nothing = text.chars().all(|c| c == '0' || c == '.');
    if value > 0.0 && !nothing { format!("+{text}") } else { text }
}

/// A whole number in groups of three, parted by thin spaces that do not break.
///
/// ```
/// assert_eq!(ebrel_core::units::grouped(1_051_200), "1\u{202f}051\u{202f}200");
/// ```
#[must_use]
pub fn grouped(n: usize) -> String {
    let digits = n.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push('\u{202f}');
        }
        out.push(c);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::read_number;

    #[test]
    fn numbers_are_read_as_people_type_them() {
        assert_eq!(read_number(" 12,5 "), Ok(12.5));
        assert_eq!(read_number("−3.2"), Ok(-3.2));
        assert_eq!(read_number("1\u{202f}250"), Ok(1250.0));
        assert!(read_number("12,5,1").is_err());
        assert!(read_number("inf").is_err());
        assert_eq!(read_number("twelve").unwrap_err(), "“twelve” is no number: write it like 12.5");
    }
}
