//! Delimited files from loggers and handhelds.
//!
//! Flow: [`decode`] bytes to text, [`guess`] a [`Recipe`], let a person correct it, [`read`] the text with it. The
//! recipe says how the file is written, not what its columns mean; [`suggest`] offers a meaning by name and unit.

mod decode;
mod guess;
mod meaning;
mod read;
mod recipe;
mod split;
mod time;

pub use decode::{DecodeError, decode};
pub use guess::{GuessError, guess, plain_recipe};
pub use meaning::{Suggestion, suggest};
pub use read::{Column, Problem, Read, Reading, read, read_until, survey};
pub use recipe::{Clock, Layout, Recipe, Separator};
pub use time::{TimeError, zone_exists};
