//! Files from loggers and handhelds, of any dialect.
//!
//! Reading goes in layers, each its own stage: bytes to lines ([`Text`]), lines to sections and cells, cells to times and columns,
//! these to readings ([`pass`]). A [`Recipe`] says each layer; [`guess`] finds a first one, a person corrects it. It says how the file
//! is written, not what its columns mean; [`suggest_column`] offers a meaning by name, unit and range.
//!
//! Nothing is lost in silence: [`Survey::tally`] counts every physical line, [`Survey::groups`] tells every loss.

mod breaks;
mod cells;
pub mod checksum;
mod clock;
mod column;
mod distinct;
mod form;
mod guess;
mod header;
mod keep;
mod meaning;
mod months;
mod number;
mod pass;
mod recipe;
mod records;
mod sections;
mod table;
mod tally;
mod text;
pub mod units;
mod unpack;

pub use cells::Torn;
pub use clock::{TimeError, zone_exists};
pub use column::{Column, Reading, Trace};
pub use form::TimeForm;
pub use guess::{Guess, GuessError, guess, guess_keeping};
use keep::Keeper;
pub use meaning::{Suggestion, suggest, suggest_column, suggest_columns};
pub use pass::{ReadError, Sample, Survey, TableFound, Taker, pass};
pub use recipe::{Cells, Checksum, Clock, Header, Layout, Named, Recipe, Separator, Tags, Times, VERSION};
pub use tally::{Fault, Group, Kind, Problem, Tally};
pub use text::{LONGEST_LINE, Line, Lines, Text, TextError};
pub use unpack::{Member, UnpackError, Unpacked, unpack};

use ebrel_core::units::UnixSeconds;
use std::collections::HashSet;

/// A file read whole, for those who want all of it at once.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Read {
    /// What it holds.
    pub survey: Survey,
    /// Readings in the order of the file, as often as they stand there.
    pub readings: Vec<Reading>,
    /// Every line and cell that could not be read.
    pub problems: Vec<Problem>,
}

impl Taker for (&mut Vec<Reading>, &mut Vec<Problem>) {
    fn reading(&mut self, reading: Reading) {
        self.0.push(reading);
    }

    fn problem(&mut self, problem: &Problem) {
        self.1.push(problem.clone());
    }
}

/// Reads a whole file into memory.
///
/// # Errors
/// As [`pass`].
pub fn read(text: &Text, recipe: &Recipe) -> Result<Read, ReadError> {
    let mut out = Read::default();
    out.survey = pass(text, recipe, UnixSeconds(i64::MAX), &mut (&mut out.readings, &mut out.problems))?;
    let kept = counted(&out.survey, recipe);
    out.problems.retain(|p| kept(&p.fault));
    Ok(out)
}

/// Tells every loss of a file, in the order of its lines; a column of words (a name, a remark) loses nothing.
///
/// # Errors
/// As [`pass`].
pub fn losses(text: &Text, recipe: &Recipe, latest: UnixSeconds, tell: impl FnMut(&Problem)) -> Result<(), ReadError> {
    struct Teller<K, F>(K, F);
    impl<K: Fn(&Fault) -> bool, F: FnMut(&Problem)> Taker for Teller<K, F> {
        fn problem(&mut self, problem: &Problem) {
            if self.0(&problem.fault) {
                self.1(problem);
            }
        }
    }
    let found = survey(text, recipe, latest)?;
    pass(text, recipe, latest, &mut Teller(counted(&found, recipe), tell)).map(drop)
}

/// Which faults count as losses: those of cells do only in columns that hold a number at all. In a file of one reading a line each is a
/// line that was lost.
fn counted(survey: &Survey, recipe: &Recipe) -> impl Fn(&Fault) -> bool + use<> {
    let wide = recipe.layout == Layout::Wide;
    let words: HashSet<String> =
        survey.columns.iter().filter(|c| wide && c.is_words()).map(|c| c.name.clone()).collect();
    move |fault| !matches!(fault, Fault::Cell { column, .. } | Fault::Cells(column) if words.contains(column))
}

/// What a file holds, counted in full. Records after `latest` count as unreadable: a clock that jumped for a few records must not
/// stand in the way of the others. Where most records lie there, none is set aside: it is the recipe that is wrong, or the whole
/// clock, and [`Survey::extent`] shows it.
///
/// # Errors
/// As [`pass`].
pub fn survey(text: &Text, recipe: &Recipe, latest: UnixSeconds) -> Result<Survey, ReadError> {
    Ok(survey_keeping(text, recipe, latest, |_| 0)?.0)
}

/// As [`survey`], with the file's readings, if they are at most `bound`, which goes by the number of columns, and none of them is set aside
/// only when the file is stored.
///
/// # Errors
/// As [`pass`].
pub fn survey_keeping(
    text: &Text,
    recipe: &Recipe,
    latest: UnixSeconds,
    bound: impl Fn(usize) -> usize,
) -> Result<(Survey, Option<Vec<Reading>>), ReadError> {
    let mut keeper = Keeper::at_most(bound);
    let found = pass(text, recipe, latest, &mut keeper)?;
    if found.later > found.tally.records {
        return Ok((pass(text, recipe, UnixSeconds(i64::MAX), &mut ())?, None));
    }
    Ok((found, keeper.kept()))
}
