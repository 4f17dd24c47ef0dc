//! The readings of a pass, kept while they are few.

use super::column::{Column, Reading};
use super::pass::Taker;

/// Keeps the readings of a pass as long as they are not more than a bound, which goes by the number of columns.
pub struct Keeper<F> {
    kept: Option<Vec<Reading>>,
    bound: F,
}

impl<F: Fn(usize) -> usize> Keeper<F> {
    /// Keeps at most `bound` readings of so many columns.
    pub const fn at_most(bound: F) -> Self {
        Self { kept: Some(Vec::new()), bound }
    }

    /// All readings in the order of the file; `None` if they were more.
    pub fn kept(self) -> Option<Vec<Reading>> {
        self.kept
    }
}

impl<F: Fn(usize) -> usize> Taker for Keeper<F> {
    fn reading(&mut self, reading: Reading) {
        if let Some(kept) = &mut self.kept {
            kept.push(reading);
        }
    }

    fn line(&mut self, _: usize, columns: &[Column]) -> bool {
        self.kept.take_if(|kept| kept.len() > (self.bound)(columns.len()));
        true
    }
}
