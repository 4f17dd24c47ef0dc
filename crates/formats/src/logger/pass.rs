//! One pass over a file with its recipe: every line counted, every reading handed on, every loss told, in bounded memory.

use super::cells::{Cell, Torn, split};
use super::clock::{TimeError, TimeReader};
use super::column::{Column, Reading};
use super::distinct::Distinct;
use super::header::{looks_like_header, resolve};
use super::number::Numbers;
use super::recipe::{Cells, Layout, Named, Recipe};
use super::table::{Tables, by_key};
use super::tally::{Fault, Group, Groups, Kind, Problem, Tally};
use super::text::{Line, Text, without_zeros};
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
    /// A loss.
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
    /// The time.
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

/// Why a file cannot be read at all. Everything else is told in [`Survey::groups`].
#[derive(Debug, Error)]
pub enum ReadError {
    /// The recipe's times or clock cannot be read.
    #[error(transparent)]
    Time(#[from] TimeError),
    /// The disk.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] io::Error),
}

/// Records shown as they were understood, at the beginning and after each header.
const SAMPLES: (usize, usize) = (6, 2);
/// All of them at most.
const MOST_SAMPLES: usize = 14;
/// Lines that wait at most until it is known whether a header follows.
const WAITING: usize = 300;

/// A line that is no record, until it is known what follows.
struct Waiting {
    line: usize,
    text: String,
    /// Its cells, if it looks like part of a header.
    header: Option<Vec<String>>,
}

pub(super) struct Pass<'r, T: Taker> {
    recipe: &'r Recipe,
    text: &'r Text,
    taker: &'r mut T,
    numbers: Numbers,
    times: TimeReader,
    latest: UnixSeconds,
    missing_numbers: Vec<f64>,
    missing_words: HashSet<String>,
    tables: Tables,
    current: Option<usize>,
    waiting: Vec<Waiting>,
    /// Header lines that are still due by the recipe's count.
    header_due: usize,
    /// Lines of headers that stood already, with their table.
    headers: HashMap<String, usize>,
    /// How lines before headers begin.
    preambles: HashSet<String>,
    any_record: bool,
    tally: Tally,
    groups: Groups,
    distinct: Distinct,
    /// How often records of a table lie so far apart.
    steps: HashMap<(usize, i64), usize>,
    /// The table and step of the last records, and how often it came: most steps are alike.
    step: ((usize, i64), usize),
    last: Option<(usize, i64)>,
    out: Survey,
    fresh_samples: usize,
    /// The time of the line at hand, joined.
    moment: String,
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
    fn new(text: &'r Text, recipe: &'r Recipe, latest: UnixSeconds, taker: &'r mut T) -> Result<Self, TimeError> {
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
    pub fn line(&mut self, line: Line<'_>) -> bool {
        self.take(line.number, line.text, line.long);
        self.taker.line(line.number, &self.tables.columns)
    }

    /// Whether a text is a whole line of cells of a usual width.
    pub fn is_whole(&self, text: &str) -> bool {
        let mut row = Vec::new();
        let widths = &self.recipe.header.widths;
        split(text, &self.recipe.cells, &mut row).is_ok() && (widths.is_empty() || widths.contains(&row.len()))
    }

    /// Counts the further physical lines of a record that holds line breaks.
    pub fn count_more(&mut self, kind: Kind, lines: usize) {
        (0..lines).for_each(|_| self.tally.count(kind));
    }

    pub fn take(&mut self, number: usize, text: &str, long: bool) -> Kind {
        let kind = self.sort(number, text, long);
        if let Some(kind) = kind {
            self.tally.count(kind);
        }
        kind.unwrap_or(Kind::Header)
    }

    /// What a line is; `None` if that is not known before the next ones.
    fn sort(&mut self, number: usize, text: &str, long: bool) -> Option<Kind> {
        if long {
            return Some(self.unreadable(number, Fault::TooLong, text));
        }
        let text = without_zeros(text);
        if text.trim().is_empty() {
            self.strays();
            return Some(Kind::Blank);
        }
        if self.recipe.comment.as_ref().is_some_and(|c| text.trim_start().starts_with(c.as_str())) {
            return Some(Kind::Comment);
        }
        let whole = text;
        let text = match &self.recipe.checksum {
            Some(sum) => match sum.checked(text, |t| self.text.bytes_of(t).into_owned()) {
                Some(checked) => checked,
                None => return Some(self.unreadable(number, Fault::Checksum, text)),
            },
            None => text,
        };
        let mut row = Vec::with_capacity(self.tables.all.first().map_or(8, |t| t.width));
        if let Err(torn) = split(text, &self.recipe.cells, &mut row) {
            return Some(self.torn(number, torn, text));
        }
        if self.header_due > 0 {
            return self.counted_header(number, text, &row);
        }
        if self.recipe.tags.is_some() {
            return Some(self.tagged(number, whole, &row));
        }
        if let Cells::Tagged { mark, .. } = self.recipe.cells {
            return self.keyed(number, text, &row, mark);
        }
        match self.record_time(&row, None) {
            Some(time) => {
                self.resolve_waiting();
                Some(self.record(number, text, &row, time))
            }
            None => self.no_record(number, text, &row),
        }
    }

    fn torn(&mut self, number: usize, torn: Torn, text: &str) -> Kind {
        self.unreadable(number, Fault::Torn(torn), text)
    }

    /// The time of a row, if it is one by its form; the error of its clock otherwise.
    fn record_time(&mut self, row: &[Cell<'_>], table: Option<usize>) -> Option<Result<UnixSeconds, TimeError>> {
        let columns = match table.or(self.current) {
            Some(at) => &self.tables.all[at].time,
            None => &self.recipe.time.columns,
        };
        let [first, others @ ..] = &columns[..] else { return None };
        let text: &str = if others.is_empty() {
            row.get(*first)?
        } else {
            self.moment.clear();
            for (i, column) in columns.iter().enumerate() {
                if i > 0 {
                    self.moment.push(' ');
                }
                self.moment.push_str(row.get(*column)?);
            }
            &self.moment
        };
        match self.times.read(text) {
            Err(TimeError::Form(_)) => None,
            read => Some(read),
        }
    }

    fn moment_of(&self, row: &[Cell<'_>]) -> String {
        let columns = self.current.map_or(&self.recipe.time.columns, |at| &self.tables.all[at].time);
        columns.iter().filter_map(|c| row.get(*c)).map(AsRef::as_ref).collect::<Vec<_>>().join(" ")
    }

    /// A line whose time is none: a header, something before one, or a torn record.
    fn no_record(&mut self, number: usize, text: &str, row: &[Cell<'_>]) -> Option<Kind> {
        let moment = self.moment_of(row);
        let timely = moment.trim_start().starts_with(|c: char| c.is_ascii_digit());
        let figures = row.iter().filter(|c| self.numbers.read(c).is_some()).count();
        let by_form = || Fault::Time(TimeError::Form(self.recipe.time.forms.first().cloned().unwrap_or_default()));
        if timely && (self.any_record || figures > 0) {
            let due = self.current.map_or(0, |at| self.tables.all[at].width);
            let short = row.len() < due && self.recipe.time.columns.iter().any(|c| *c + 1 >= row.len());
            let fault = if short { Fault::CutOff { got: row.len(), due } } else { by_form() };
            return Some(self.unreadable(number, fault, text));
        }
        let depths =
            self.waiting.last().and_then(|w| w.header.as_ref()).is_some_and(|h| h.len() == row.len()) && !timely;
        let header = depths || looks_like_header(row, &moment, self.numbers, &self.recipe.header.widths);
        let header = header.then(|| row.iter().map(|c| c.to_string()).collect());
        self.waiting.push(Waiting { line: number, text: text.to_owned(), header });
        if self.waiting.len() > WAITING {
            let oldest = self.waiting.remove(0);
            return Some(self.unreadable(oldest.line, by_form(), &oldest.text));
        }
        None
    }

    /// A line of a header whose length the recipe tells.
    fn counted_header(&mut self, number: usize, text: &str, row: &[Cell<'_>]) -> Option<Kind> {
        self.header_due -= 1;
        let cells = Some(row.iter().map(|c| c.to_string()).collect());
        self.waiting.push(Waiting { line: number, text: text.to_owned(), header: cells });
        if self.header_due == 0 {
            let lines = std::mem::take(&mut self.waiting);
            self.begin_table(None, lines);
        }
        None
    }

    /// Lines that wait, at a blank line or the end: between records they are none.
    fn strays(&mut self) {
        if !self.any_record || self.waiting.iter().any(|w| w.header.is_some()) {
            return;
        }
        // A mark of the next table may stand before a blank line; only what is nothing of the kind is noise.
        for w in std::mem::take(&mut self.waiting) {
            let kind = self.aside(&w);
            self.tally.count(kind);
        }
    }

    /// What a line between records is that is none itself: known from before the first, alike, or noise.
    fn aside(&mut self, w: &Waiting) -> Kind {
        match () {
            () if self.preambles.contains(w.text.trim()) || self.stood(&w.text) => Kind::Repeated,
            () if self.preambles.contains(beginning(&w.text)) => Kind::Preamble,
            () => self.unreadable(w.line, Fault::Stray, &w.text),
        }
    }

    /// Whether a line stood in a header before.
    fn stood(&self, text: &str) -> bool {
        self.headers.keys().any(|k| k.rsplit('\u{1f}').next() == Some(text))
    }

    /// Keeps a line that stands before a header, and how it begins, so that it is known when it stands again.
    fn remember(&mut self, text: &str) {
        if self.preambles.len() < WAITING && beginning(text).len() > 1 {
            self.preambles.insert(beginning(text).to_owned());
            self.preambles.insert(text.trim().to_owned());
        }
    }

    /// What the lines before a record were.
    fn resolve_waiting(&mut self) {
        if self.waiting.is_empty() {
            return;
        }
        let mut lines = std::mem::take(&mut self.waiting);
        // The last run of lines that look like a header is one, even if noise stands between it and its records.
        let to = lines.iter().rposition(|w| w.header.is_some()).map_or(0, |i| i + 1);
        let behind = lines.split_off(to);
        let from = lines.iter().rposition(|w| w.header.is_none()).map_or(0, |i| i + 1);
        let header = lines.split_off(from);
        let marker = lines.last().filter(|_| !header.is_empty()).map(|w| w.text.trim().to_owned());
        let n = lines.len();
        // Before a header that is new a line may say what follows; before one that stood already only if it did too.
        let new = header.iter().any(|w| !self.stood(&w.text));
        for (i, w) in lines.into_iter().enumerate() {
            let says = i + 1 == n
                && !header.is_empty()
                && (new || self.marked(Some(&w.text)).is_some())
                && !w.text.contains(char::is_control);
            let kind = if !self.any_record || says { Kind::Preamble } else { self.aside(&w) };
            if kind == Kind::Preamble {
                self.remember(&w.text);
            }
            self.tally.count(kind);
        }
        if !header.is_empty() {
            self.begin_table(marker, header);
        }
        for w in behind {
            let kind = if self.any_record { self.aside(&w) } else { Kind::Preamble };
            self.tally.count(kind);
        }
    }

    fn begin_table(&mut self, marker: Option<String>, header: Vec<Waiting>) {
        let texts: Vec<&str> = header.iter().map(|w| w.text.as_str()).collect();
        let key = |text: &str| format!("{}\u{1f}{text}", self.marked(marker.as_deref()).unwrap_or_default());
        if let Some(at) = texts.iter().filter_map(|t| self.headers.get(&key(t))).next_back().copied()
            && texts.iter().all(|t| self.headers.contains_key(&key(t)))
        {
            self.current = Some(at);
            header.iter().for_each(|_| self.tally.count(Kind::Repeated));
            return;
        }
        let keys: Vec<String> = texts.iter().map(|t| key(t)).collect();
        let rows: Vec<Vec<String>> = header.into_iter().filter_map(|w| w.header).collect();
        let cells = rows.iter().map(Vec::len).max().unwrap_or(0);
        let width = self.width_of(cells);
        let columns = resolve(&rows, &self.recipe.header, width);
        let label = self.marked(marker.as_deref());
        let known = match &label {
            Some(label) => self.tables.all.iter().position(|t| t.named && t.label == *label),
            None => self.tables.of_names(&columns, &self.recipe.time.columns),
        };
        let label = label.or(marker).unwrap_or_default();
        let at = self.tables.begin(self.recipe, known, &label, columns, width);
        for key in keys {
            self.headers.insert(key, at);
            self.tally.count(Kind::Header);
        }
        self.current = Some(at);
        self.fresh_samples = self.fresh_samples.max(SAMPLES.1);
    }

    /// What a line before a header calls the table, where the recipe says how such lines begin.
    fn marked(&self, line: Option<&str>) -> Option<String> {
        let mark = self.recipe.header.mark.as_deref()?;
        line?.strip_prefix(mark).map(|rest| rest.trim().trim_end_matches([']', ':', '*', '=', '-']).trim().to_owned())
    }

    /// Fields of a record under a header of so many cells.
    fn width_of(&self, cells: usize) -> usize {
        let widths = &self.recipe.header.widths;
        if widths.is_empty() || widths.contains(&cells) {
            return cells;
        }
        widths.iter().copied().min_by_key(|w| w.abs_diff(cells)).filter(|w| w.abs_diff(cells) <= 2).unwrap_or(cells)
    }

    /// A record, its time told by its form.
    fn record(&mut self, number: usize, text: &str, row: &[Cell<'_>], time: Result<UnixSeconds, TimeError>) -> Kind {
        let at = match self.current {
            Some(at) if self.tables.all[at].named || self.tables.all[at].width == row.len() => at,
            _ if self.recipe.header.widths.is_empty() && self.current.is_some() => self.current.unwrap_or(0),
            // No header so far: records of another usual width are another table, any other is torn.
            before => {
                match (before, self.recipe.header.widths.contains(&row.len()) || self.recipe.header.widths.is_empty()) {
                    (_, true) => self.tables.nameless(self.recipe, "", row.len()),
                    (Some(at), false) => at,
                    (None, false) => {
                        let width = self.width_of(row.len());
                        self.tables.nameless(self.recipe, "", width)
                    }
                }
            }
        };
        self.current = Some(at);
        self.record_of(number, text, row, time, at)
    }

    fn record_of(
        &mut self,
        number: usize,
        text: &str,
        row: &[Cell<'_>],
        time: Result<UnixSeconds, TimeError>,
        at: usize,
    ) -> Kind {
        let due = self.tables.all[at].width;
        if row.len() < due {
            return self.unreadable(number, Fault::CutOff { got: row.len(), due }, text);
        }
        if row.len() > due && row[due..].iter().any(|c| !c.is_empty()) {
            return self.unreadable(number, Fault::RunTogether { got: row.len(), due }, text);
        }
        let time = match self.in_time(time) {
            Ok(time) => time,
            Err(fault) => return self.unreadable(number, fault, text),
        };
        if let Layout::Long { value, note, .. } = self.recipe.layout {
            let cell = &row[value.min(row.len() - 1)];
            let column = self.tables.channel(self.recipe, at, row);
            let noted = note.and_then(|i| row.get(i)).is_some_and(|n| !n.is_empty());
            if !self.cell(column, cell, time, number, text, noted) {
                return Kind::Unreadable;
            }
            self.begin_record(at, time, number, row);
            return Kind::Record;
        }
        self.begin_record(at, time, number, row);
        let node = self.recipe.node.and_then(|i| row.get(i)).map_or("", AsRef::as_ref);
        let slots = self.tables.slots(self.recipe, at, node);
        for (cell, column) in row.iter().zip(slots.iter()) {
            if let Some(column) = column {
                self.cell(*column, cell, time, number, text, false);
            }
        }
        Kind::Record
    }

    fn in_time(&mut self, time: Result<UnixSeconds, TimeError>) -> Result<UnixSeconds, Fault> {
        let time = time?;
        if time > self.latest {
            self.out.later += 1;
            return Err(Fault::Future);
        }
        Ok(time)
    }

    fn begin_record(&mut self, at: usize, time: UnixSeconds, number: usize, row: &[Cell<'_>]) {
        self.any_record = true;
        self.tables.all[at].records += 1;
        self.taker.record(at, time);
        let of = if matches!(self.recipe.layout, Layout::Wide) { at as u32 } else { 0 };
        self.distinct.add(of, time.0);
        if let Some((table, last)) = self.last
            && table == at
        {
            self.count_step(at, (time.0 - last).abs());
        }
        self.last = Some((at, time.0));
        let (low, high) = self.out.extent.unwrap_or((time, time));
        self.out.extent = Some((low.min(time), high.max(time)));
        if self.fresh_samples > 0 && self.out.samples.len() < MOST_SAMPLES {
            self.fresh_samples -= 1;
            self.out.samples.push(Sample { line: number, text: self.moment_of(row), time, values: Vec::new() });
        }
    }

    fn count_step(&mut self, table: usize, step: i64) {
        if (table, step) == self.step.0 {
            self.step.1 += 1;
            return;
        }
        let (before, n) = std::mem::replace(&mut self.step, ((table, step), 1));
        if before.1 > 0 && (self.steps.len() < 4096 || self.steps.contains_key(&before)) {
            *self.steps.entry(before).or_default() += n;
        }
    }

    /// A line that says with its first cells what kind it is.
    fn tagged(&mut self, number: usize, text: &str, row: &[Cell<'_>]) -> Kind {
        let Some(tags) = &self.recipe.tags else { return Kind::Foreign };
        let tag = row.get(tags.column).map_or("", AsRef::as_ref);
        let is = |list: &[String]| list.iter().any(|t| t == tag);
        if is(&tags.header) {
            let kind = if self.headers.contains_key(text) { Kind::Repeated } else { Kind::Header };
            let cells = row.iter().map(|c| c.to_string()).collect();
            self.headers.insert(text.to_owned(), 0);
            self.waiting.push(Waiting { line: number, text: text.to_owned(), header: Some(cells) });
            return kind;
        }
        if !is(&tags.records) {
            let kind = if self.any_record { Kind::Foreign } else { Kind::Preamble };
            return if is(&tags.other) { kind } else { self.unreadable(number, Fault::NoTag, text) };
        }
        let tag = tag.to_owned();
        if !self.waiting.is_empty() {
            let rows: Vec<Vec<String>> =
                std::mem::take(&mut self.waiting).into_iter().filter_map(|w| w.header).collect();
            let width = self.width_of(rows.iter().map(Vec::len).max().unwrap_or(0));
            let columns = resolve(&rows, &self.recipe.header, width);
            let known = self.tables.all.iter().position(|t| t.label == tag);
            self.current = Some(self.tables.begin(self.recipe, known, &tag, columns, width));
        }
        let named = self.tables.all.iter().position(|t| t.named && (t.label == tag || tags.records.len() == 1));
        let at = named.unwrap_or_else(|| {
            let there = self.tables.all.iter().position(|t| t.label == tag);
            there.unwrap_or_else(|| self.tables.nameless(self.recipe, &tag, row.len()))
        });
        self.current = Some(at);
        match self.record_time(row, Some(at)) {
            Some(time) => self.record_of(number, text, row, time, at),
            None => {
                let due = self.tables.all[at].width;
                let form = TimeError::Form(self.recipe.time.forms.first().cloned().unwrap_or_default());
                let fault = if row.len() < due { Fault::CutOff { got: row.len(), due } } else { Fault::Time(form) };
                self.unreadable(number, fault, text)
            }
        }
    }

    /// A line of `key=value` cells.
    fn keyed(&mut self, number: usize, text: &str, row: &[Cell<'_>], mark: char) -> Option<Kind> {
        let at = self.tables.nameless(
            self.recipe,
            "",
            self.tables.all.first().map_or(self.recipe.header.columns.len(), |t| t.width),
        );
        let keyed = row.iter().filter(|c| super::cells::keyed(c, mark).0.is_some()).count();
        if keyed == 0 {
            let kind = if self.any_record { self.unreadable(number, Fault::Stray, text) } else { Kind::Preamble };
            return Some(kind);
        }
        let cells = by_key(&mut self.tables, at, row, mark);
        let flat: Vec<Cell<'_>> = cells.iter().map(|c| c.clone().unwrap_or_default()).collect();
        self.current = Some(at);
        let time = match self.record_time(&flat, Some(at)) {
            None if !self.any_record && keyed == 1 => return Some(Kind::Preamble),
            None => {
                let form = self.recipe.time.forms.first().cloned().unwrap_or_default();
                return Some(self.unreadable(number, Fault::Time(TimeError::Form(form)), text));
            }
            Some(time) => match self.in_time(time) {
                Ok(time) => time,
                Err(fault) => return Some(self.unreadable(number, fault, text)),
            },
        };
        self.begin_record(at, time, number, &flat);
        let slots = self.tables.slots(self.recipe, at, "");
        for (cell, column) in cells.iter().zip(slots.iter()) {
            if let (Some(cell), Some(column)) = (cell, column) {
                self.cell(*column, cell, time, number, text, false);
            }
        }
        Some(Kind::Record)
    }

    fn is_missing(&self, column: usize, cell: &str, number: Option<f64>) -> bool {
        if cell.is_empty() {
            return true;
        }
        if let Some(number) = number
            && self.missing_numbers.contains(&number)
        {
            return true;
        }
        if number.is_none() && self.missing_words.contains(&cell.to_lowercase()) {
            return true;
        }
        let own = (!self.recipe.missing_in.is_empty())
            .then(|| self.recipe.missing_in.get(&self.tables.columns[column].name))
            .flatten();
        own.is_some_and(|own| {
            own.iter().any(|m| m.eq_ignore_ascii_case(cell) || (number.is_some() && self.numbers.read(m) == number))
        })
    }

    /// Takes a cell of a column; `false`: it is neither a number nor a mark.
    fn cell(&mut self, column: usize, cell: &str, time: UnixSeconds, number: usize, text: &str, noted: bool) -> bool {
        let mut value = self.numbers.read(cell);
        let mut noted = noted;
        if self.is_missing(column, cell, value) {
            self.tables.columns[column].missing += 1;
            return true;
        }
        if value.is_none() {
            let marks = self.recipe.notes.iter();
            value = marks.filter_map(|n| cell.strip_suffix(n.as_str())).find_map(|c| self.numbers.read(c.trim_end()));
            noted |= value.is_some();
        }
        let Some(value) = value else {
            self.tables.columns[column].note_text(cell);
            let name = self.tables.columns[column].name.clone();
            self.tell(number, Fault::Cell { column: name, text: cell.chars().take(40).collect() }, text);
            return false;
        };
        let c = &mut self.tables.columns[column];
        c.take(time, value);
        c.noted += usize::from(noted);
        self.taker.reading(Reading { column, time, value });
        if let Some(sample) = self.out.samples.last_mut().filter(|s| s.line == number) {
            sample.values.push((column, value));
        }
        true
    }

    fn unreadable(&mut self, line: usize, fault: Fault, text: &str) -> Kind {
        self.tell(line, fault, text);
        Kind::Unreadable
    }

    fn tell(&mut self, line: usize, fault: Fault, text: &str) {
        let problem = Problem { line, fault, text: text.chars().take(160).collect() };
        self.taker.problem(&problem);
        self.groups.add(&problem);
    }

    fn finish(mut self) -> Survey {
        self.count_step(usize::MAX, -1);
        if self.recipe.tags.is_none() {
            for w in std::mem::take(&mut self.waiting) {
                let kind = match (self.any_record, &w.header) {
                    (false, None) => Kind::Preamble,
                    (false, Some(_)) => Kind::Header,
                    // The last thing of a file may be a header that was written after a restart.
                    (true, Some(_)) if self.stood(&w.text) => Kind::Repeated,
                    (true, Some(_)) => Kind::Header,
                    (true, None) => self.unreadable(w.line, Fault::Stray, &w.text),
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
        let wordy: HashSet<&str> = columns.iter().filter(|c| c.is_words()).map(|c| c.name.as_str()).collect();
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
}

/// How a line before a header begins: its first word.
fn beginning(text: &str) -> &str {
    text.trim().split([' ', '=', ':', ';', ',', '\t']).next().unwrap_or_default()
}
