//! What became of a package, for people: every number of it adds up.

use super::NotTaken;
use serde::{Deserialize, Serialize};

/// What became of a package.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// Number of the study that it went into.
    pub study: i64,
    /// Name of that study.
    pub study_name: String,
    /// Whether the study was begun for it.
    pub new_study: bool,
    /// What became of each station.
    pub stations: Vec<StationReport>,
    /// What concerns all of it.
    pub remarks: Vec<String>,
}

/// What became of one station of a package.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct StationReport {
    /// Number here; 0 where the package was only looked at.
    pub id: i64,
    /// Code in the package.
    pub code: String,
    /// Code under which the station is or was put here.
    pub code_here: String,
    /// Name that people use.
    pub name: String,
    /// Whether it was not there before.
    pub new: bool,
    /// Channels of the package at it.
    pub channels: usize,
    /// What became of its readings.
    pub readings: Readings,
    /// What became of the other rows: what, how many are new, how many were known.
    pub others: Vec<(String, usize, usize)>,
    /// What was not taken as it stands, and why: each once, the first hundred.
    pub remarks: Vec<String>,
    /// How many more remarks there were.
    #[serde(default)]
    pub more_remarks: usize,
}

impl StationReport {
    /// Says something of the station, once.
    pub(super) fn remark(&mut self, says: impl Into<String>) {
        let says = says.into();
        if self.remarks.contains(&says) {
            return;
        }
        if self.remarks.len() < Slips::KEPT {
            self.remarks.push(says);
        } else {
            self.more_remarks += 1;
        }
    }

    /// Adds to the rows of a kind.
    pub(super) fn count(&mut self, what: &str, new: bool) {
        let at = self.others.iter().position(|o| o.0 == what).unwrap_or_else(|| {
            self.others.push((what.to_owned(), 0, 0));
            self.others.len() - 1
        });
        let row = &mut self.others[at];
        if new { row.1 += 1 } else { row.2 += 1 }
    }
}

/// What became of readings: `given` is the sum of the others.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Readings {
    /// Rows of the package.
    pub given: usize,
    /// Stored now, as they were not known.
    pub new: usize,
    /// Known with the same value.
    pub known: usize,
    /// Known with another value, or twice in the package: kept beside the first, somebody chooses.
    pub contradicting: usize,
    /// Rows without a value.
    pub empty: usize,
}

/// Rows that cannot stand, as they are found: each is named, up to a hundred.
#[derive(Debug, Default)]
pub(super) struct Slips {
    kept: Vec<String>,
    more: usize,
}

impl Slips {
    const KEPT: usize = 100;

    /// A slip in a row of a table, counted from 1 below its header.
    pub(super) fn add(&mut self, table: &str, row: usize, what: impl std::fmt::Display) {
        if self.kept.len() < Self::KEPT {
            self.kept.push(format!("{table}, row {row}: {what}"));
        } else {
            self.more += 1;
        }
    }

    /// Refuses the package if there are any.
    pub(super) fn refuse(&mut self) -> Result<(), NotTaken> {
        if self.kept.is_empty() {
            return Ok(());
        }
        let mut all = std::mem::take(&mut self.kept);
        if self.more > 0 {
            all.push(format!("and {} more", self.more));
        }
        Err(NotTaken::Slips(all))
    }
}
