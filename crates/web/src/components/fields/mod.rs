//! Fields of a draft as they stand on a page: the text as typed, the default and its source, what is said.

use ebrel_core::planning::{Remark, Severity, Typed};

pub struct FigureField {
    /// Its path in the draft.
    pub path: String,
    pub name: &'static str,
    pub unit: &'static str,
    /// As typed; empty: the default.
    pub text: String,
    pub default: String,
    /// Where the default comes from.
    pub source: &'static str,
    /// What is said.
    pub says: Vec<FieldMessage>,
}

pub struct TextField {
    /// Path in the draft.
    pub path: String,
    pub text: String,
    /// What is said.
    pub says: Vec<FieldMessage>,
}

impl TextField {
    /// A field with what is said of it.
    pub fn of(path: impl Into<String>, typed: &Typed, says: Vec<FieldMessage>) -> Self {
        Self { path: path.into(), text: typed.to_string(), says }
    }
}

/// One answer of a choice.
pub struct Answer {
    pub code: String,
    pub words: String,
    /// Whether it is taken.
    pub taken: bool,
}

impl Answer {
    /// An answer, taken if it is the one of this code.
    pub fn of(code: impl Into<String>, words: impl Into<String>, taken: &str) -> Self {
        let code = code.into();
        Self { taken: code == taken, code, words: words.into() }
    }
}

/// A choice among a few.
pub struct Choice {
    /// Path in the draft.
    pub path: String,
    pub name: &'static str,
    pub answers: Vec<Answer>,
    /// What is said.
    pub says: Vec<FieldMessage>,
}

/// A sentence at a field.
#[derive(Clone)]
pub struct FieldMessage {
    /// `stop`, `weak` or `note`.
    pub class: &'static str,
    pub says: String,
}

impl FieldMessage {
    /// As it stands at its field.
    pub fn of(remark: &Remark) -> Self {
        let class = match remark.severity {
            Severity::Stop => "stop",
            Severity::Weak => "weak",
            Severity::Note => "note",
        };
        let mut letters = remark.says.chars();
        let says = letters.next().map(|c| c.to_uppercase().chain(letters).collect()).unwrap_or_default();
        Self { class, says }
    }
}
