//! One pass over a file with its recipe: every line counted, every reading handed on, every loss told, in bounded memory.

use super::cells::split;
use super::clock::{TimeError, TimeReader};
use super::column::{Column, Reading};
use super::distinct::Distinct;
use super::number::Numbers;
use super::recipe::{Layout, Named, Recipe};
use super::table::Tables;
use super::tally::{Fault, Group, Groups, Kind, Problem, Tally};
use super::text::{Line, Text};
use ebrel_core::units::UnixSeconds;
use std::collections::{HashMap, HashSet};
use std::io;
use thiserror::Error;

/// What wants to know of a file while it is read.
pub trait Taker {
    /// A reading, in the order of the file.
    fn reading(&mut self, _: Reading) {}
    /// A record of a table begins, at its time.
    fn record(&mut self, _table: usize, _time: UnixSeconds) {}
    /// A line or cell that could not be read.
    fn problem(&mut self, _: &Problem) {}
    /// A line is done; `false` ends the pass.
    fn line(&mut self, _number: usize, _columns: &[Column]) -> bool {
        true
    }
}

/// Nobody: the pass only counts.
impl Taker for () {}

/// A table of a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TableFound {
    /// By what it is called: the line or the mark that begins it.
    pub label: String,
    /// Records of it.
    pub records: usize,
    /// Whether it has a header.
    pub named: bool,
    /// Fields of a record.
    pub width: usize,
    /// Names and units of all its fields, as its last header has them.
    pub columns: Vec<Named>,
}

/// A record as it was understood.
#[derive(Debug, Clone, PartialEq)]
pub struct Sample {
    /// Line in the file.
    pub line: usize,
    /// The time as it stands there.
    pub text: String,
    /// The moment that was understood.
    pub time: UnixSeconds,
    /// Values by column.
    pub values: Vec<(usize, f64)>,
}

/// What a file holds, without its readings.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Survey {
    /// Columns of values, in the order of the file.
    pub columns: Vec<Column>,
    /// Tables of the file.
    pub tables: Vec<TableFound>,
    /// Lines by kind.
    pub tally: Tally,
    /// Distinct times of each table, summed.
    pub records: usize,
    /// Losses by reason.
    pub groups: Vec<Group>,
    /// First and last time.
    pub extent: Option<(UnixSeconds, UnixSeconds)>,
    /// The usual distance between two records, seconds.
    pub interval_s: Option<i64>,
    /// Records whose time lies after the latest that was to be expected.
    pub later: usize,
    /// The first records, and the first of each table and header.
    pub samples: Vec<Sample>,
}

impl Survey {
    /// The same survey by a clock that shows so many seconds more than UTC.
    pub(super) fn shifted(mut self, offset_s: i64) -> Self {
        let moved = |t: UnixSeconds| UnixSeconds(t.0 - offset_s);
        self.columns.iter_mut().for_each(|c| c.shift(-offset_s));
        self.samples.iter_mut().for_each(|s| s.time = moved(s.time));
        self.extent = self.extent.map(|(a, b)| (moved(a), moved(b)));
        self
    }
}

/// Why a file cannot be read at all. Everything else is told in [`Survey::groups`].
#[derive(Debug, Error)]
pub enum ReadError {
    /// The recipe's times or clock cannot be read.
    #[error(transparent)]
    Time(#[from] TimeError),
    /// The file went away, or the disk fails.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] io::Error),
}

/// Records shown as they were understood, at the beginning and after each header.
pub(super) const SAMPLES: (usize, usize) = (6, 2);
/// All of them at most.
pub(super) const MOST_SAMPLES: usize = 14;
/// Lines that wait at most until it is known whether a header follows.
pub(super) const WAITING: usize = 300;

/// A line that is no record, until it is known what follows.
pub(super) struct Waiting {
    pub(super) line: usize,
    pub(super) text: String,
    /// Its cells, if it looks like part of a header.
    pub(super) header: Option<Vec<String>>,
}

pub(super) struct Pass<'r, T: Taker> {
    pub(super) recipe: &'r Recipe,
    pub(super) text: &'r Text,
    pub(super) taker: &'r mut T,
    pub(super) numbers: Numbers,
    pub(super) times: TimeReader,
    pub(super) latest: UnixSeconds,
    pub(super) missing_numbers: Vec<f64>,
    pub(super) missing_words: HashSet<String>,
    pub(super) tables: Tables,
    pub(super) current: Option<usize>,
    pub(super) waiting: Vec<Waiting>,
    /// Header lines that are still due by the recipe's count.
    pub(super) header_due: usize,
    /// Lines of headers that stood already, with their table.
    pub(super) headers: HashMap<String, usize>,
    /// How lines before headers begin.
    pub(super) preambles: HashSet<String>,
    pub(super) any_record: bool,
    pub(super) tally: Tally,
    pub(super) groups: Groups,
    pub(super) distinct: Distinct,
    /// How often records of a table lie so far apart.
    pub(super) steps: HashMap<(usize, i64), usize>,
    /// The table and step of the last records, and how often it came: most steps are alike.
    pub(super) step: ((usize, i64), usize),
    pub(super) last: Option<(usize, i64)>,
    pub(super) out: Survey,
    pub(super) fresh_samples: usize,
    /// The time of the line at hand, joined.
    pub(super) moment: String,
}

/// Reads a file from its first line to its last. Times after `latest` are set aside as unreadable.
///
/// # Errors
/// [`ReadError`] if the recipe's clock is in no known zone, or the file went away.
pub fn pass<T: Taker>(text: &Text, recipe: &Recipe, latest: UnixSeconds, taker: &mut T) -> Result<Survey, ReadError> {
    let mut pass = Pass::new(text, recipe, latest, taker)?;
    let mut lines = text.lines()?;
    if recipe.quoted_breaks {
        super::breaks::drive(&mut pass, &mut lines)?;
    } else {
        while let Some(line) = lines.next_line()? {
            if !pass.line(line) {
                break;
            }
        }
    }
    if let Some(why) = lines.broken() {
        pass.tell(0, Fault::Broken(why.to_owned()), "");
    }
    Ok(pass.finish())
}

impl<'r, T: Taker> Pass<'r, T> {
    pub(super) fn new(
        text: &'r Text,
        recipe: &'r Recipe,
        latest: UnixSeconds,
        taker: &'r mut T,
    ) -> Result<Self, TimeError> {
        let numbers = Numbers { decimal_comma: recipe.decimal_comma, thousands: recipe.thousands };
        Ok(Self {
            recipe,
            text,
            taker,
            numbers,
            times: TimeReader::new(&recipe.time)?,
            latest,
            missing_numbers: recipe.missing.iter().filter_map(|m| numbers.read(m)).collect(),
            missing_words: recipe.missing.iter().map(|m| m.to_lowercase()).collect(),
            tables: Tables::default(),
            current: None,
            waiting: Vec::new(),
            header_due: recipe.header.lines.unwrap_or(0),
            headers: HashMap::new(),
            preambles: HashSet::new(),
            any_record: false,
            tally: Tally::default(),
            groups: Groups::default(),
            distinct: Distinct::default(),
            steps: HashMap::new(),
            step: ((0, 0), 0),
            last: None,
            out: Survey::default(),
            fresh_samples: SAMPLES.0,
            moment: String::new(),
        })
    }

    /// Takes a physical line; `false`: the taker wants no more.
    pub(super) fn line(&mut self, line: Line<'_>) -> bool {
        self.take(line.number, line.text, line.long);
        self.taker.line(line.number, &self.tables.columns)
    }

    /// Whether a text is a whole line of cells of a usual width.
    pub(super) fn is_whole(&self, text: &str) -> bool {
        let mut row = Vec::new();
        let widths = &self.recipe.header.widths;
        split(text, &self.recipe.cells, &mut row).is_ok() && (widths.is_empty() || widths.contains(&row.len()))
    }

    /// Counts a further physical line of a record that holds line breaks, and tells of it if that could not be read.
    pub(super) fn take_more(&mut self, kind: Kind, number: usize, text: &str) {
        self.tally.count(kind);
        if kind == Kind::Unreadable {
            self.tell(number, Fault::GoesOn, text);
        }
    }

    pub(super) fn take(&mut self, number: usize, text: &str, long: bool) -> Kind {
        let kind = self.sort(number, text, long);
        if let Some(kind) = kind {
            self.tally.count(kind);
        }
        kind.unwrap_or(Kind::Header)
    }

    pub(super) fn finish(mut self) -> Survey {
        self.count_step(usize::MAX, -1);
        if self.recipe.tags.is_none() {
            for w in std::mem::take(&mut self.waiting) {
                let kind = match (self.any_record, &w.header) {
                    (false, None) => Kind::Preamble,
                    (false, Some(_)) => Kind::Header,
                    // The last thing of a file may be a header that was written after a restart.
                    (true, Some(_)) if self.stood(&w.text) => Kind::Repeated,
                    (true, Some(_)) => Kind::Header,
                    (true, None) => self.aside(&w),
                };
                self.tally.count(kind);
            }
        }
        let mut out = self.out;
        // A table without a single number holds remarks.
        let columns = &self.tables.columns;
        let mut remarks = HashSet::new();
        for (at, table) in self.tables.all.iter().enumerate() {
            let mut of_it = columns.iter().filter(|c| c.table == table.label).peekable();
            if self.tables.all.len() > 1 && of_it.peek().is_some() && of_it.all(|c| c.valid == 0 && c.words > 0) {
                remarks.insert(at as u32);
                self.tally.foreign += table.records;
                self.tally.records -= table.records;
            }
        }
        // A column without a single number holds words (a name, a remark): that is said of it once, not of each of its cells.
        let wide = self.recipe.layout == Layout::Wide;
        let wordy: HashSet<&str> = columns.iter().filter(|c| wide && c.is_words()).map(|c| c.name.as_str()).collect();
        out.groups = self.groups.done(|column| !wordy.contains(column));
        let found = |t: &super::table::Table| TableFound {
            label: t.label.clone(),
            records: t.records,
            named: t.named,
            width: t.width,
            columns: t.columns.clone(),
        };
        out.tables = self.tables.all.iter().map(found).collect();
        let mut columns = self.tables.columns;
        out.tally = self.tally;
        out.records = self.distinct.count(|table| !remarks.contains(&table));
        let usual = |wanted: &dyn Fn(usize) -> bool| {
            let steps = self.steps.iter().filter(|((table, _), _)| wanted(*table));
            steps.max_by_key(|((_, s), n)| (**n, -s)).map(|((_, s), _)| *s)
        };
        out.interval_s = usual(&|_| true);
        for (at, table) in self.tables.all.iter().enumerate() {
            let of_table = usual(&|t| t == at);
            columns.iter_mut().filter(|c| c.table == table.label).for_each(|c| c.interval_s = of_table);
        }
        if self.tables.all.len() == 1 {
            columns.iter_mut().for_each(|c| c.table.clear());
        }
        out.columns = columns;
        out
    }

    pub(super) fn unreadable(&mut self, line: usize, fault: Fault, text: &str) -> Kind {
        self.tell(line, fault, text);
        Kind::Unreadable
    }

    pub(super) fn tell(&mut self, line: usize, fault: Fault, text: &str) {
        let problem = Problem { line, fault, text: text.chars().take(160).collect() };
        self.taker.problem(&problem);
        self.groups.add(&problem);
    }
}
