//! Fields of a plan, with what is said of each.

use super::context::Context;
use crate::components::fields::{Answer, Choice, FigureField, TextField};
use ebrel_core::planning::{Figure, Typed};

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
