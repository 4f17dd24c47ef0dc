//! The first look at a file: a recipe that is known by the file's head, or a guess, and what its columns may be.

use super::mapping::{HEAD_LINES, Mapping, SavedRecipe, find_node, first_mapping, fitted, head_of};
use super::storing::one_piece;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_formats::logger::{self, Guess, GuessError, Reading, Recipe, Separator, Survey, Text, TextError};
use ebrel_store::imports::Import;
use ebrel_store::recipes::SavedBody;
use ebrel_store::streams::Stream;
use thiserror::Error;

/// A file at its first look.
#[derive(Debug, Clone)]
pub struct Begun {
    /// How it is written.
    pub recipe: Recipe,
    /// What its columns are.
    pub mapping: Mapping,
    /// What it holds.
    pub survey: Survey,
    /// What there is to say of the recipe: each sentence, and whether nothing decided it.
    pub remarks: Vec<(String, bool)>,
    /// Whether no guess explained the file, and everything is to be told by hand.
    pub by_hand: bool,
}

/// Why there is no first look.
#[derive(Debug, Error)]
pub enum BeginError {
    /// It is no text.
    #[error(transparent)]
    Text(#[from] TextError),
    /// It went away, or its recipe cannot be used.
    #[error(transparent)]
    Read(#[from] logger::ReadError),
    /// The file went away, or the disk fails.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] std::io::Error),
}

/// The latest time that a record may have.
#[must_use]
pub fn latest(now: UnixSeconds) -> UnixSeconds {
    now + SpanSeconds::DAY
}

/// What the guess said of itself, and whether a person has to decide it; nothing once the recipe was changed.
#[must_use]
pub fn remarks_of(import: &Import) -> Vec<(String, bool)> {
    serde_json::from_str(&import.remarks).unwrap_or_default()
}

/// Looks at a file for the first time. `chosen` is a recipe that a person chose; without it one is taken whose files look alike at
/// their head, and else a guess is made.
///
/// # Errors
/// [`BeginError`] if the file cannot be read. That no guess explains it is no error: it is to be told by hand then.
pub fn begin(
    text: &Text,
    name: &str,
    recipes: (Option<SavedRecipe>, &[SavedBody]),
    offset_minutes: i32,
    streams: &[Stream],
    now: UnixSeconds,
) -> Result<Begun, BeginError> {
    first_look(name, recipes, offset_minutes, streams, &mut Looks::new(text, now, |_| 0))
}

/// As [`begin`], for a file that is stored at once if nothing hinders: with its readings, if it is stored as one piece. They need not
/// be read again then.
///
/// # Errors
/// As [`begin`].
pub fn begin_to_store(
    text: &Text,
    name: &str,
    recipes: (Option<SavedRecipe>, &[SavedBody]),
    offset_minutes: i32,
    streams: &[Stream],
    now: UnixSeconds,
) -> Result<(Begun, Option<Vec<Reading>>), BeginError> {
    let mut looks = Looks::new(text, now, one_piece);
    let begun = first_look(name, recipes, offset_minutes, streams, &mut looks)?;
    let read = looks.kept.filter(|(recipe, _)| *recipe == begun.recipe).map(|(_, read)| read);
    Ok((begun, read))
}

/// Looks at a file, the last of which may keep its readings.
struct Looks<'t> {
    text: &'t Text,
    latest: UnixSeconds,
    /// At most so many readings are kept, by the number of columns.
    bound: fn(usize) -> usize,
    /// What the last look read, by which recipe.
    kept: Option<(Recipe, Vec<Reading>)>,
}

impl<'t> Looks<'t> {
    fn new(text: &'t Text, now: UnixSeconds, bound: fn(usize) -> usize) -> Self {
        Self { text, latest: latest(now), bound, kept: None }
    }

    fn guess(&mut self, offset_minutes: i32) -> Result<Guess, GuessError> {
        let (mut guess, read) = logger::guess_keeping(self.text, offset_minutes, self.bound)?;
        // Whether times lie in the future was not asked while guessing.
        guess.survey = guess.survey.filter(|s| s.extent.is_none_or(|e| e.1 <= self.latest));
        self.kept = read.filter(|_| guess.survey.is_some()).map(|read| (guess.recipe.clone(), read));
        Ok(guess)
    }

    fn survey(&mut self, recipe: &Recipe) -> Result<Survey, logger::ReadError> {
        let (found, read) = logger::survey_keeping(self.text, recipe, self.latest, self.bound)?;
        self.kept = read.map(|read| (recipe.clone(), read));
        Ok(found)
    }
}

fn first_look(
    name: &str,
    (chosen, known): (Option<SavedRecipe>, &[SavedBody]),
    offset_minutes: i32,
    streams: &[Stream],
    looks: &mut Looks<'_>,
) -> Result<Begun, BeginError> {
    let head = looks.text.head(HEAD_LINES)?;
    if let Some(saved) = chosen {
        let survey = looks.survey(&saved.recipe)?;
        let mapping = fitted(&saved.mapping, &survey);
        return Ok(Begun { recipe: saved.recipe, mapping, survey, remarks: Vec::new(), by_hand: false });
    }
    let mut known_survey = None;
    let (recipe, remarks, by_hand) = match looks.guess(offset_minutes) {
        Ok(Guess { recipe, remarks, survey, .. }) => {
            known_survey = survey;
            (recipe, remarks.into_iter().map(|r| (r.sentence, r.open)).collect(), false)
        }
        Err(GuessError::Read(e)) => return Err(e.into()),
        Err(e) => (by_hand(&head, offset_minutes), vec![(format!("Nothing could be guessed: {e}"), true)], true),
    };
    let survey = match known_survey {
        Some(survey) => survey,
        None => looks.survey(&recipe)?,
    };
    if let Some((name, saved)) = alike(&survey, known) {
        let again = looks.survey(&saved.recipe)?;
        // A recipe that reads less than the guess does is not this file's.
        if again.tally.records >= survey.tally.records && again.tally.unreadable <= survey.tally.unreadable {
            let mapping = fitted(&saved.mapping, &again);
            let remarks = vec![(format!("Read by the recipe “{name}”: its files begin alike."), false)];
            return Ok(Begun { recipe: saved.recipe, mapping, survey: again, remarks, by_hand: false });
        }
    }
    let mut mapping = first_mapping(&survey, &head, name);
    find_node(&mut mapping, &head, streams);
    Ok(Begun { recipe, mapping, survey, remarks, by_hand })
}

/// The saved recipe whose files look like this one at their head.
fn alike(survey: &Survey, known: &[SavedBody]) -> Option<(String, SavedRecipe)> {
    let head = head_of(survey);
    let found = known.iter().find(|k| !head.is_empty() && k.head == head)?;
    Some((found.name.clone(), serde_json::from_str(&found.body).ok()?))
}

/// A recipe to begin with by hand: the separator that most of the first lines share.
fn by_hand(head: &[String], offset_minutes: i32) -> Recipe {
    let lines: Vec<&String> = head.iter().filter(|l| !l.trim().is_empty()).collect();
    let cuts = |s: &Separator| lines.iter().filter(|l| l.contains(s.char())).count();
    let separator = Separator::ALL.into_iter().rev().max_by_key(cuts).unwrap_or(Separator::Comma);
    Recipe::plain(separator, offset_minutes)
}
