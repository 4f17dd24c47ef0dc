//! Fields of a form, with the error that stands at one.

use super::errors::Problem;
use ebrel_core::units::{Range, read_number};

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

/// Reads a number within a legal range, or nothing from an empty field.
///
/// # Errors
/// A sentence that says what to do.
pub fn optional(text: &str, range: Range) -> Result<Option<f64>, String> {
    if text.trim().is_empty() {
        return Ok(None);
    }
    let value = read_number(text)?;
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

/// Words of at most `most` characters, or none.
///
/// # Errors
/// [`Problem::Refused`] with the count: nothing is cut unseen.
pub fn at_most(text: &str, name: &str, most: usize) -> Result<String, Problem> {
    let text = text.trim();
    match text.chars().count() {
        n if n > most => Err(Problem::Refused(format!(
            "Shorten {name} to {most} characters; it has {n}. Go back and send it again: nothing was cut."
        ))),
        _ => Ok(text.to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::units::ranges;

    #[test]
    fn legal_ranges_and_lengths_speak() {
        assert_eq!(optional("", ranges::DEPTH_CM), Ok(None));
        assert!(optional("4000", ranges::DEPTH_CM).unwrap_err().starts_with("depth must lie between"));
        assert!(words(&"x".repeat(300), "the study's name", 120).unwrap_err().contains("it has 300"));
    }
}
