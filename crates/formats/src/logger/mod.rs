//! Delimited files from loggers and handhelds.
//!
//! Flow: the lines of a [`Text`], [`guess`] a [`Recipe`], let a person correct it, [`read`] the text with it. The
//! recipe says how the file is written, not what its columns mean; [`suggest`] offers a meaning by name and unit.

mod guess;
mod meaning;
mod read;
mod recipe;
mod split;
mod text;
mod time;

pub use guess::{GuessError, guess, plain_recipe};
pub use meaning::{Suggestion, suggest};
pub use read::{Column, Problem, Read, ReadError, Reading, read, read_until, survey};
pub use recipe::{Clock, Layout, Recipe, Separator};
pub use text::{Lines, Text, TextError};
pub use time::{TimeError, zone_exists};
