//! Marks in cells: what means no reading, and what stands behind a number without belonging to it.

use super::super::column::Column;
use super::super::number::Numbers;
use super::super::recipe::Recipe;
use super::cells::is_missing_word;
use std::collections::{BTreeMap, BTreeSet};

/// Puts into a recipe what the columns' whole runs tell of marks.
pub(super) fn settle(recipe: &mut Recipe, columns: &[Column], numbers: Numbers) {
    let mut words = BTreeSet::new();
    let mut notes: BTreeMap<String, usize> = BTreeMap::new();
    for column in columns {
        for (text, n) in column.texts() {
            if is_missing_word(text) {
                words.insert(text.clone());
            } else if let Some(mark) = behind_number(text, numbers) {
                *notes.entry(mark).or_default() += n;
            }
        }
    }
    // Numbers: a mark in every column where they stand, or in some only.
    let of = |c: &Column| -> Vec<(String, bool)> {
        let marks = c.marks();
        c.suspects().iter().map(|(v, _)| (v.to_string(), marks.contains(v))).collect()
    };
    let mut everywhere: BTreeMap<String, bool> = BTreeMap::new();
    for (text, mark) in columns.iter().flat_map(of) {
        everywhere.entry(text).and_modify(|all| *all &= mark).or_insert(mark);
    }
    recipe.missing =
        words.into_iter().chain(everywhere.iter().filter(|(_, all)| **all).map(|(text, _)| text.clone())).collect();
    recipe.missing.sort();
    for column in columns {
        for (text, mark) in of(column) {
            if mark && !everywhere[&text] {
                recipe.missing_in.entry(column.name.clone()).or_default().push(text);
            }
        }
    }
    recipe.notes = notes.into_iter().filter(|(_, n)| *n >= 2).map(|(mark, _)| mark).collect();
}

/// One or two signs behind a number: `12.3*`, `12.3 R`.
fn behind_number(text: &str, numbers: Numbers) -> Option<String> {
    for n in 1..=2 {
        let (at, _) = text.char_indices().rev().nth(n - 1)?;
        let (before, mark) = text.split_at(at);
        let sign = |c: char| c.is_alphabetic() || "*!?#~+<>^'\"".contains(c);
        if numbers.read(before.trim_end()).is_some() && mark.chars().all(sign) && !mark.starts_with(['e', 'E']) {
            return Some(mark.to_owned());
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signs_behind_numbers_are_notes_and_other_texts_are_not() {
        let of = |text: &str| behind_number(text, Numbers::default());
        assert_eq!(of("12.3*"), Some("*".into()));
        assert_eq!(of("12.3 R"), Some("R".into()));
        assert_eq!(of("-4 ok"), Some("ok".into()));
        for text in ["err7", "12,5", "1O.5", "12.3.4", "12e", "R", ""] {
            assert_eq!(of(text), None, "{text}");
        }
    }
}
