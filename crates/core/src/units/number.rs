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
