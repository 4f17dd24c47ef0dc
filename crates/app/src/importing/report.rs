//! What became of an import: counted, and small whatever the file holds.

use ebrel_core::units::{UnixSeconds, grouped};
use ebrel_formats::logger::{Group, Survey, Tally};
use ebrel_store::readings::Added;
use serde::{Deserialize, Serialize};

use super::mapping::Mapping;

/// What became of an import.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
#[serde(default)]
pub struct Report {
    /// Lines by kind; their sum is the number of lines in the file.
    pub tally: Tally,
    /// Distinct times at which something new was stored.
    pub new_records: usize,
    /// Distinct times at which everything was known.
    pub known_records: usize,
    /// Readings that were not known and are stored now.
    pub new_readings: usize,
    /// Readings known with the same value.
    pub known_readings: usize,
    /// Readings known with another value: kept beside the first.
    pub repeated_readings: usize,
    /// First counts of counters, which have nothing to be counted from, and counts that were no numbers any more.
    pub first_counts: usize,
    /// Missing cells by column.
    pub missing: Vec<(String, usize)>,
    /// Readings by column that carry a mark behind the number; the file keeps it.
    pub noted: Vec<(String, usize)>,
    /// Columns that were left out.
    pub left_out: Vec<String>,
    /// Losses by reason.
    pub groups: Vec<Group>,
    /// First and last time.
    pub extent: Option<(i64, i64)>,
    /// Lines that were read when it was cancelled, and why it ended there.
    pub cancelled: Option<usize>,
    /// Reports of before were of another form: their unreadable lines.
    #[serde(skip_serializing)]
    problems: Vec<Earlier>,
    #[serde(skip_serializing)]
    lines: usize,
    #[serde(skip_serializing)]
    headers_again: usize,
}

/// An unreadable line as reports listed it before.
#[derive(Debug, Clone, PartialEq, Deserialize)]
struct Earlier {
    line: usize,
    reason: String,
    text: String,
}

impl Report {
    /// A report as it is kept.
    ///
    /// # Errors
    /// If it is none.
    pub fn of_json(json: &str) -> serde_json::Result<Self> {
        let mut report: Self = serde_json::from_str(json)?;
        for p in std::mem::take(&mut report.problems) {
            let cells = p.reason.contains(": “");
            let lines = vec![(p.line, p.line)];
            report.groups.push(Group { reason: p.reason, count: 1, cells, lines, last: p.line, text: p.text });
        }
        if report.tally.sum() == 0 {
            report.tally = Tally { records: report.lines, repeated: report.headers_again, ..Tally::default() };
        }
        (report.lines, report.headers_again) = (0, 0);
        Ok(report)
    }

    /// The report of a file that was read, before anything of it is counted as stored.
    #[must_use]
    pub fn of(survey: &Survey, mapping: &Mapping) -> Self {
        let chosen: Vec<bool> = mapping.columns.iter().map(|c| c.quantity.is_some()).collect();
        let of_chosen = |count: fn(&ebrel_formats::logger::Column) -> usize| {
            let columns = survey.columns.iter().zip(&chosen).filter(|(c, chosen)| **chosen && count(c) > 0);
            columns.map(|(c, _)| (c.name.clone(), count(c))).take(LISTED).collect()
        };
        Self {
            tally: survey.tally,
            missing: of_chosen(|c| c.missing),
            noted: of_chosen(|c| c.noted),
            left_out: survey
                .columns
                .iter()
                .zip(&chosen)
                .filter(|(_, chosen)| !**chosen)
                .map(|(c, _)| c.name.clone())
                .take(LISTED)
                .collect(),
            groups: survey.groups.clone(),
            extent: survey.extent.map(|(a, b)| (a.0, b.0)),
            ..Self::default()
        }
    }

    /// The report of a file with what was counted while it was stored.
    pub(super) fn with_stored(mut self, stored: &Self, first_counts: usize, cancelled: Option<usize>) -> Self {
        self.new_records = stored.new_records;
        self.known_records = stored.known_records;
        self.new_readings = stored.new_readings;
        self.known_readings = stored.known_readings;
        self.repeated_readings = stored.repeated_readings;
        (self.first_counts, self.cancelled) = (first_counts, cancelled);
        self
    }

    pub(super) fn add(&mut self, added: &Added) {
        self.new_records += added.new_records;
        self.known_records += added.known_records;
        self.new_readings += added.new;
        self.known_readings += added.known;
        self.repeated_readings += added.repeated;
    }

    /// Lines and cells that could not be read.
    #[must_use]
    pub fn losses(&self) -> usize {
        self.groups.iter().map(|g| g.count).sum()
    }

    /// First and last time.
    #[must_use]
    pub fn span(&self) -> Option<(UnixSeconds, UnixSeconds)> {
        self.extent.map(|(a, b)| (UnixSeconds(a), UnixSeconds(b)))
    }
}

/// "1 line or cell", "1,204 lines or cells": what could not be read, counted in words.
#[must_use]
pub fn lines_or_cells(n: usize) -> String {
    if n == 1 { "1 line or cell".to_owned() } else { format!("{} lines or cells", grouped(n)) }
}

/// Columns that a report lists at most by name.
const LISTED: usize = 300;
