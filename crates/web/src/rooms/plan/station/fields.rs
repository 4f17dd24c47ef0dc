//! Fields of a plan as they stand on a page: the text as typed, the default and its source, what is said.

use super::context::{Context, Said};
use ebrel_core::planning::{Figure, Typed};

/// A number.
pub struct FigureField {
    /// Its path in the draft.
    pub path: String,
    /// Its name.
    pub name: &'static str,
    /// Its unit.
    pub unit: &'static str,
    /// As typed; empty: the default.
    pub text: String,
    /// The default.
    pub default: String,
    /// Where the default comes from.
    pub source: &'static str,
    /// What is said.
    pub says: Vec<Said>,
}

/// Words.
pub struct TextField {
    /// Path in the draft.
    pub path: String,
    /// As typed.
    pub text: String,
    /// What is said.
    pub says: Vec<Said>,
}

impl TextField {
    /// A field with what is said of it.
    pub fn of(path: impl Into<String>, typed: &Typed, says: Vec<Said>) -> Self {
        Self { path: path.into(), text: typed.to_string(), says }
    }
}

/// One answer of a choice.
pub struct Answer {
    /// Code.
    pub code: String,
    /// In words.
    pub words: String,
    /// Whether it is taken.
    pub taken: bool,
}

/// A choice among a few.
pub struct Choice {
    /// Path in the draft.
    pub path: String,
    /// The question.
    pub name: &'static str,
    /// The answers.
    pub answers: Vec<Answer>,
    /// What is said.
    pub says: Vec<Said>,
}

impl Context {
    /// The field of a number.
    pub fn figure(&self, figure: Figure) -> FigureField {
        let spec = figure.spec();
        let path = format!("figures.{}", spec.code);
        FigureField {
            text: self.draft.figure(spec.code).to_owned(),
            name: spec.range.name,
            unit: spec.range.unit,
            default: spec.default.to_string().replace('-', "−"),
            source: spec.source,
            says: self.says(&path),
            path,
        }
    }

    /// The fields of several numbers.
    pub fn figures(&self, figures: &[Figure]) -> Vec<FigureField> {
        figures.iter().map(|f| self.figure(*f)).collect()
    }

    /// A field of words.
    pub fn text(&self, path: impl Into<String>, typed: &Typed) -> TextField {
        let path = path.into();
        let says = self.says(&path);
        TextField::of(path, typed, says)
    }

    /// A choice of the draft among answers of (code, words); the first stands where nothing was chosen.
    pub fn choice(&self, question: &str, name: &'static str, answers: &[(&str, &str)]) -> Choice {
        let path = format!("choices.{question}");
        let taken = self.draft.choice(question);
        let known = answers.iter().any(|(code, _)| *code == taken);
        let answers = answers.iter().enumerate().map(|(i, (code, words))| Answer {
            code: (*code).to_owned(),
            words: (*words).to_owned(),
            taken: if known { *code == taken } else { i == 0 },
        });
        Choice { answers: answers.collect(), name, says: self.says(&path), path }
    }
}
