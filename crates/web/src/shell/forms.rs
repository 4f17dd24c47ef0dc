//! Fields of a form, with the error that stands at one.

use ebrel_core::units::Range;

/// A field as it was typed, and what is wrong with it.
#[derive(Debug, Clone, Default)]
pub struct Field {
    /// The text as typed.
    pub text: String,
    /// What to do about it.
    pub error: Option<String>,
}

impl Field {
    /// A field without an error.
    #[must_use]
    pub fn of(text: &str) -> Self {
        Self { text: text.to_owned(), error: None }
    }

    /// The typed text with its error.
    #[must_use]
    pub fn wrong(text: &str, error: impl Into<String>) -> Self {
        Self { text: text.to_owned(), error: Some(error.into()) }
    }

    /// The class of the input.
    #[must_use]
    pub fn class(&self) -> &'static str {
        if self.error.is_some() { "is-invalid" } else { "" }
    }
}

/// Reads a number as people type it: blanks cut, a decimal comma or a true minus taken.
///
/// # Errors
/// A sentence that says what to do.
pub fn number(text: &str) -> Result<f64, String> {
    let tidy = text.trim().replace(['\u{a0}', '\u{202f}', ' '], "").replace('−', "-");
    let tidy = if tidy.contains(',') && !tidy.contains('.') { tidy.replacen(',', ".", 1) } else { tidy };
    match tidy.parse::<f64>() {
        Ok(value) if value.is_finite() => Ok(value),
        _ => Err(format!("“{}” is no number: write it like 12.5", text.trim())),
    }
}

/// Reads a number within a legal range, or nothing from an empty field.
///
/// # Errors
/// A sentence that says what to do.
pub fn optional(text: &str, range: Range) -> Result<Option<f64>, String> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let value = number(text)?;
    range.check(value).map(Some).map_err(|e| e.to_string())
}

/// Reads words of at most `most` characters.
///
/// # Errors
/// A sentence that says what to do.
pub fn words(text: &str, name: &str, most: usize) -> Result<String, String> {
    let text = text.trim();
    match text.chars().count() {
        0 => Err(format!("Give {name}.")),
        n if n > most => Err(format!("Shorten {name} to {most} characters; it has {n}.")),
        _ => Ok(text.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::units::ranges;

    #[test]
    fn numbers_are_read_as_people_type_them() {
        assert_eq!(number(" 12,5 "), Ok(12.5));
        assert_eq!(number("−3.2"), Ok(-3.2));
        assert_eq!(number("1\u{202f}250"), Ok(1250.0));
        assert!(number("12,5,1").is_err());
        assert!(number("inf").is_err());
        assert_eq!(number("twelve").unwrap_err(), "“twelve” is no number: write it like 12.5");
    }

    #[test]
    fn legal_ranges_and_lengths_speak() {
        assert_eq!(optional("", ranges::DEPTH_CM), Ok(None));
        assert!(optional("4000", ranges::DEPTH_CM).unwrap_err().starts_with("depth must lie between"));
        assert!(words(&"x".repeat(300), "the study's name", 120).unwrap_err().contains("it has 300"));
    }
}
