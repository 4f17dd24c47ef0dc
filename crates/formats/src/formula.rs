//! Text cells that a spreadsheet would take for a formula.

/// Whether a cell begins so that a spreadsheet computes it, or with the mark by which it is kept from that.
fn is_taken_for_a_formula(text: &str) -> bool {
    text.starts_with(['=', '+', '-', '@', '\t', '\r', '\n', '\''])
}

/// A text cell that no spreadsheet takes for a formula: one that begins with `= + - @`, a tab, a line break or an apostrophe
/// gets an apostrophe before it. [`bare`] takes it off again.
#[must_use]
pub fn harmless(text: &str) -> String {
    if is_taken_for_a_formula(text) { format!("'{text}") } else { text.to_owned() }
}

/// The text of a cell that [`harmless`] wrote. Anything else stays as it is.
#[must_use]
pub fn bare(cell: &str) -> &str {
    cell.strip_prefix('\'').filter(|rest| is_taken_for_a_formula(rest)).unwrap_or(cell)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn formulas_get_an_apostrophe_and_plain_text_none() {
        assert_eq!(harmless("=1+1"), "'=1+1");
        assert_eq!(harmless("5 cm"), "5 cm");
        assert_eq!(bare("'it is"), "'it is", "an apostrophe that we did not write stays");
    }

    proptest! {
        #[test]
        fn every_text_comes_back(text in "[=+@'a-zθ\t\n-]{0,6}") {
            let cell = harmless(&text);
            prop_assert_eq!(bare(&cell), &text);
            prop_assert!(!cell.starts_with(['=', '+', '-', '@', '\t', '\r', '\n']));
        }
    }
}
