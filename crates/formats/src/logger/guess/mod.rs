//! A first recipe for a file nobody has described: hypotheses are tried over its head, middle and tail, and the one that explains
//! most lines and cells is taken; what it is unsure of is said.

mod cells;
mod clocks;
mod comments;
mod draft;
mod families;
mod layout;
mod marks;
mod sample;
mod times;

use super::checksum;
use super::column::Reading;
use super::pass::{ReadError, Survey};
use super::recipe::{Clock, Recipe};
use super::text::Text;
use draft::Draft;
use sample::Sampled;
use std::io;
use thiserror::Error;

/// Why no recipe can be guessed.
#[derive(Debug, Error)]
pub enum GuessError {
    /// No line has two fields that look like a record.
    #[error("no line of this file looks like a record of a time and values: is it the right file?")]
    NoRecords,
    /// Records, but no time.
    #[error("no column of this file looks like a time: name the time's column and its form yourself.")]
    NoTime,
    /// The disk, or a form of the time that does not hold.
    #[error(transparent)]
    Read(#[from] ReadError),
}

impl From<io::Error> for GuessError {
    fn from(error: io::Error) -> Self {
        Self::Read(error.into())
    }
}

/// Something that the guess says of itself.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// One sentence for the person who decides.
    pub sentence: String,
    /// Nothing decided it: a person has to choose.
    pub open: bool,
}

/// What was guessed of a file, and how surely.
#[derive(Debug, Clone, PartialEq)]
pub struct Guess {
    /// The recipe that explains most.
    pub recipe: Recipe,
    /// What it is unsure of, and what decided.
    pub remarks: Vec<Remark>,
    /// The next best, if it explains nearly as much.
    pub runner_up: Option<Recipe>,
    /// What the file holds by the recipe, where finding it came to read all of it so.
    pub survey: Option<Survey>,
}

/// Guesses how a file is written. `offset_minutes` is the study's fixed offset, taken where the file tells nothing.
///
/// # Errors
/// [`GuessError`] if the file has no records or no time, or went away.
pub fn guess(text: &Text, offset_minutes: i32) -> Result<Guess, GuessError> {
    Ok(guess_keeping(text, offset_minutes, |_| 0)?.0)
}

/// As [`guess`], with the file's readings, where finding [`Guess::survey`] came to read all of them and they are at most `bound`, which
/// goes by the number of columns.
///
/// # Errors
/// As [`guess`].
pub fn guess_keeping(
    text: &Text,
    offset_minutes: i32,
    bound: impl Fn(usize) -> usize,
) -> Result<(Guess, Option<Vec<Reading>>), GuessError> {
    let mut sample = sample::sample(text)?;
    let sum = {
        let lines: Vec<&str> = sample.iter().map(|s| s.text.as_str()).collect();
        checksum::found(&lines, |t| text.bytes_of(t).into_owned())
    };
    if let Some(sum) = &sum {
        sample.retain_mut(|s| match sum.checked(&s.text, |t| text.bytes_of(t).into_owned()) {
            Some(checked) => {
                s.text = checked.to_owned();
                true
            }
            None => false,
        });
    }
    let comment = comment_prefix(&sample);
    let (comments, lines): (Vec<Sampled>, Vec<Sampled>) =
        sample.into_iter().partition(|s| comment.as_ref().is_some_and(|c| s.text.trim_start().starts_with(c.as_str())));
    // Two neighbours that each leave a quote open may be one record.
    let open = |s: &Sampled| s.text.bytes().filter(|b| *b == b'"').count() % 2 == 1;
    let breaks = lines.windows(2).any(|w| w[1].number - w[0].number < 4 && open(&w[0]) && open(&w[1]));
    let parted = cells::parted(&lines);
    let mut drafts: Vec<Draft> = Vec::new();
    for way in parted.iter().take(4) {
        // A way that explains far less than the best is not asked for a time.
        if drafts.first().is_some_and(|d| way.score < d.parted.score * 0.9) {
            break;
        }
        drafts.extend(Draft::of(way, &comments, comment.as_deref(), breaks));
    }
    drafts.sort_by(|a, b| b.score.total_cmp(&a.score));
    if drafts.is_empty() {
        return Err(if parted.is_empty() || parted[0].score < 0.3 {
            GuessError::NoRecords
        } else {
            GuessError::NoTime
        });
    }
    let runner_up = drafts.get(1).filter(|second| second.score > drafts[0].score * 0.93).cloned();
    let best = drafts.remove(0);
    let recipe_cells = best.parted.cells.clone();
    let lines_before: Vec<&str> =
        comments.iter().chain(&lines).filter(|s| s.number <= 400).map(|s| s.text.as_str()).collect();
    let (mut made, read) = best.finished(text, &lines_before, offset_minutes, sum, bound)?;
    if let Some(second) = runner_up.as_ref().filter(|d| d.parted.cells != recipe_cells) {
        let sentence = format!("Nearly as much is explained with cells parted by {}.", second.words());
        made.remarks.push(Remark { sentence, open: false });
    }
    made.runner_up = runner_up.map(|d| d.recipe(Clock::Fixed(offset_minutes)));
    Ok((made, read))
}

/// Signs with which lines begin that are comments: `#` always, others only where such lines are no records and stand with others
/// that are.
fn comment_prefix(sample: &[Sampled]) -> Option<String> {
    for prefix in ["#", "//", ";", "%", "!"] {
        let of: Vec<&Sampled> = sample.iter().filter(|s| s.text.trim_start().starts_with(prefix)).collect();
        let early = of.iter().any(|s| s.number <= 40);
        // A header may begin with its separator: its next character is another one, and no word.
        let said = of.iter().filter(|s| {
            let rest = s.text.trim_start().trim_start_matches(prefix);
            let parts = rest.matches([';', '\t', '|']).count();
            rest.trim().starts_with(|c: char| c.is_alphanumeric() || "-=*#!([\"".contains(c))
                && (prefix == "#" || parts == 0)
        });
        if early && said.count() == of.len() && of.len() * 2 < sample.len().max(3) {
            return Some(prefix.to_owned());
        }
    }
    None
}
