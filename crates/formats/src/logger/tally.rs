//! Every line counted, and every loss told: the sum of the kinds is the number of lines.

use super::cells::Torn;
use super::clock::TimeError;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use thiserror::Error;

/// What a physical line is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Kind {
    /// Before a header, about the file or the logger.
    Preamble,
    /// Names, units, processing.
    Header,
    /// A time with its values.
    Record,
    /// Nothing, or nothing but zero bytes.
    Blank,
    /// It begins with the mark of comments.
    Comment,
    /// A header that stood before.
    Repeated,
    /// Of a table without readings: events, remarks.
    Foreign,
    /// None of these.
    Unreadable,
}

/// Lines by kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Tally {
    /// Before a header, about the file or the logger.
    pub preamble: usize,
    /// Names, units, processing.
    pub header: usize,
    /// Times with their values.
    pub records: usize,
    /// Nothing in them.
    pub blank: usize,
    /// Lines that begin with the mark of comments.
    pub comment: usize,
    /// Headers that stood before.
    pub repeated: usize,
    /// Of tables without readings.
    pub foreign: usize,
    /// None of these.
    pub unreadable: usize,
}

impl Tally {
    pub(super) fn count(&mut self, kind: Kind) {
        *match kind {
            Kind::Preamble => &mut self.preamble,
            Kind::Header => &mut self.header,
            Kind::Record => &mut self.records,
            Kind::Blank => &mut self.blank,
            Kind::Comment => &mut self.comment,
            Kind::Repeated => &mut self.repeated,
            Kind::Foreign => &mut self.foreign,
            Kind::Unreadable => &mut self.unreadable,
        } += 1;
    }

    /// Each kind that there is, in words with its count.
    #[must_use]
    pub fn kinds(&self) -> Vec<(&'static str, usize)> {
        let kinds = [
            ("record", "records", self.records),
            ("header line", "header lines", self.header),
            ("header line that stood again", "header lines that stood again", self.repeated),
            ("line about the file", "lines about the file", self.preamble),
            ("comment", "comments", self.comment),
            ("blank line", "blank lines", self.blank),
            ("line of another table, without readings", "lines of other tables, without readings", self.foreign),
            ("line that could not be read", "lines that could not be read", self.unreadable),
        ];
        let there = kinds.into_iter().filter(|k| k.2 > 0);
        there.map(|(one, many, n)| (if n == 1 { one } else { many }, n)).collect()
    }

    /// All lines of the file.
    #[must_use]
    pub const fn sum(&self) -> usize {
        self.preamble
            + self.header
            + self.records
            + self.blank
            + self.comment
            + self.repeated
            + self.foreign
            + self.unreadable
    }
}

/// Why a line, or one cell of it, could not be read.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Error)]
pub enum Fault {
    /// It does not part into cells.
    #[error(transparent)]
    Torn(#[from] Torn),
    /// Fewer fields than a record has.
    #[error("{got} {} where {due} are due: the line looks cut off", fields(*got))]
    CutOff {
        /// Fields of the line.
        got: usize,
        /// Fields of a record.
        due: usize,
    },
    /// More fields than a record has.
    #[error("{got} fields where {due} are due: two lines may have run together")]
    RunTogether {
        /// Fields of the line.
        got: usize,
        /// Fields of a record.
        due: usize,
    },
    /// Where its time belongs stands none.
    #[error(transparent)]
    Time(#[from] TimeError),
    /// A time after now.
    #[error("the time lies in the future: the logger's clock jumped")]
    Future,
    /// A sum that does not agree.
    #[error("the checksum does not agree: noise on the line")]
    Checksum,
    /// Longer than any record.
    #[error("the line is longer than 1 MB: its end was not read")]
    TooLong,
    /// Between records, and none itself.
    #[error("the line stands between records and is none: noise, or a remark")]
    Stray,
    /// A further line of a record that holds line breaks.
    #[error("the line goes on with a record that could not be read")]
    GoesOn,
    /// A mark that the recipe does not know.
    #[error("the line begins with no mark that this file uses")]
    NoTag,
    /// A packed file that ends early.
    #[error("{0}")]
    Broken(String),
    /// A cell that is no number.
    #[error("{column}: “{text}” is no number{}", hint(text))]
    Cell {
        /// The column by its name.
        column: String,
        /// What stands in the cell, cut to 40 characters.
        text: String,
    },
    /// Cells of a column that are no numbers, each another text.
    #[error("{0}: other cells that are no numbers")]
    Cells(String),
}

const fn fields(n: usize) -> &'static str {
    if n == 1 { "field" } else { "fields" }
}

fn hint(text: &str) -> &'static str {
    let digits = text.chars().any(|c| c.is_ascii_digit());
    if digits && text.contains(['O', 'o']) { ": a letter O for a zero?" } else { "" }
}

/// A line, or one cell of it, that could not be read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    /// Line in the file, counted from 1.
    pub line: usize,
    /// Why it is lost.
    pub fault: Fault,
    /// The line, or its beginning.
    pub text: String,
}

/// Problems with one reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// Why, with what to do.
    pub reason: String,
    /// Lines, or cells, with it.
    pub count: usize,
    /// Whether a cell was lost each time, and not the line.
    pub cells: bool,
    /// First and last line of each stretch, the first stretches.
    pub lines: Vec<(usize, usize)>,
    /// The last line with it.
    pub last: usize,
    /// The first such line as it stands, or its beginning.
    pub text: String,
}

impl Group {
    /// "300 cells, lines 12 to 311".
    #[must_use]
    pub fn whereabouts(&self) -> String {
        let what = match (self.cells, self.count) {
            (true, 1) => "1 cell".to_owned(),
            (true, n) => format!("{n} cells"),
            (false, 1) => "1 line".to_owned(),
            (false, n) => format!("{n} lines"),
        };
        let stretch = |(a, b): &(usize, usize)| if a == b { a.to_string() } else { format!("{a} to {b}") };
        let stretches: Vec<String> = self.lines.iter().map(stretch).collect();
        let word = if self.count == 1 { "line" } else { "lines" };
        let more = self.lines.last().is_none_or(|l| l.1 < self.last);
        let until = if more { format!(", … {}", self.last) } else { String::new() };
        format!("{what}, {word} {}{until}", stretches.join(", "))
    }
}

/// Problems gathered by reason. It stays small whatever a file holds.
#[derive(Debug, Clone, Default)]
pub(super) struct Groups {
    places: HashMap<Fault, usize>,
    /// Texts of each column that are told apart so far.
    texts: HashMap<String, usize>,
    /// Each with the column whose cells it is about.
    groups: Vec<(Option<String>, Group)>,
}

/// Reasons that are told apart, and texts of one column among them.
const REASONS: (usize, usize) = (300, 20);
/// Stretches of lines that are told of a reason.
const STRETCHES: usize = 6;

impl Groups {
    pub fn add(&mut self, problem: &Problem) {
        let mut fault = &problem.fault;
        let other;
        let mut of_column = None;
        if let Fault::Cell { column, .. } = fault {
            of_column = Some(column.clone());
            if !self.places.contains_key(fault) {
                let texts = self.texts.entry(column.clone()).or_default();
                *texts += 1;
                if *texts > REASONS.1 || self.places.len() >= REASONS.0 {
                    other = Fault::Cells(column.clone());
                    fault = &other;
                }
            }
        }
        let at = match self.places.get(fault) {
            Some(at) => *at,
            None => {
                self.places.insert(fault.clone(), self.groups.len());
                let group = Group {
                    reason: fault.to_string(),
                    count: 0,
                    cells: matches!(fault, Fault::Cell { .. } | Fault::Cells(_)),
                    lines: Vec::new(),
                    last: 0,
                    text: problem.text.clone(),
                };
                self.groups.push((of_column, group));
                self.groups.len() - 1
            }
        };
        let group = &mut self.groups[at].1;
        group.count += 1;
        let follows = group.last + 1 >= problem.line;
        group.last = group.last.max(problem.line);
        if let Some(stretch) = group.lines.last_mut().filter(|s| follows && s.1 + 1 >= problem.line) {
            stretch.1 = stretch.1.max(problem.line);
        } else if group.lines.len() < STRETCHES {
            group.lines.push((problem.line, problem.line));
        }
    }

    /// Those of whole lines and of the columns that are wanted, in the order in which they were first met.
    pub fn done(self, wanted: impl Fn(&str) -> bool) -> Vec<Group> {
        let kept = self.groups.into_iter().filter(|(column, _)| column.as_deref().is_none_or(&wanted));
        kept.map(|(_, group)| group).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cell(line: usize, text: &str) -> Problem {
        let fault = Fault::Cell { column: "EC 10".into(), text: text.into() };
        Problem { line, fault, text: format!("2026-01-01,{text}") }
    }

    #[test]
    fn like_reasons_are_one_line_of_the_report() {
        let mut groups = Groups::default();
        (12..=311).for_each(|line| groups.add(&cell(line, "ERR")));
        groups.add(&cell(400, "ERR"));
        groups.add(&Problem { line: 5, fault: Fault::CutOff { got: 1, due: 3 }, text: "2026".into() });
        let groups = groups.done(|_| true);
        assert_eq!(groups[0].reason, "EC 10: “ERR” is no number");
        assert_eq!(groups[0].whereabouts(), "301 cells, lines 12 to 311, 400");
        assert_eq!(groups[1].reason, "1 field where 3 are due: the line looks cut off");
        assert_eq!(groups[1].whereabouts(), "1 line, line 5");
    }

    #[test]
    fn a_report_stays_small_whatever_the_file_holds() {
        let mut groups = Groups::default();
        (0..300_000).for_each(|i| groups.add(&cell(i * 2 + 1, &format!("x{i}"))));
        let groups = groups.done(|_| true);
        assert!(groups.len() == REASONS.1 + 1 && groups.iter().map(|g| g.count).sum::<usize>() == 300_000);
        assert_eq!(groups.last().unwrap().whereabouts(), "299980 cells, lines 41, 43, 45, 47, 49, 51, … 599999");
    }
}
