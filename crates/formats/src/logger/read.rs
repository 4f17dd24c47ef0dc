//! A file read with its recipe: readings, and every line that could not be read.

use super::guess::{number, time_text};
use super::recipe::{Layout, Recipe};
use super::split::fields;
use super::text::Text;
use super::time::{TimeError, TimeReader};
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;
use thiserror::Error;

/// One reading of a file.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// Index into [`Read::columns`].
    pub column: usize,
    /// Moment of it, seconds of UTC.
    pub time: UnixSeconds,
    /// The value as it stands in the file, in the column's unit.
    pub value: f64,
}

/// A column of values (or, in a long file, one place and quantity).
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Column {
    /// The name that people use; several may share it.
    pub name: String,
    /// Its unit, if the file tells one.
    pub unit: String,
    /// Readings that have a value.
    pub valid: usize,
    /// Cells that were empty or marked as missing.
    pub missing: usize,
    /// Cells that hold words all over: not a column of readings.
    pub words: usize,
}

/// A line, or one cell of it, that could not be read.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Problem {
    /// Line in the file, counted from 1.
    pub line: usize,
    /// Why, with what to do.
    pub reason: String,
    /// The line, or its beginning.
    pub text: String,
}

/// What a file holds.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Read {
    /// Columns of values, in the order of the file.
    pub columns: Vec<Column>,
    /// Readings in the order of the file, as often as they stand there.
    pub readings: Vec<Reading>,
    /// Lines that were read as records.
    pub lines: usize,
    /// Distinct times among them.
    pub records: usize,
    /// Header lines that stand again further down.
    pub headers_again: usize,
    /// Lines that could not be read, with the reason.
    pub problems: Vec<Problem>,
    /// First and last time.
    pub extent: Option<(UnixSeconds, UnixSeconds)>,
    /// The usual distance between two records, seconds.
    pub interval_s: Option<i64>,
}

/// Problems of this many lines are listed with their text; further ones are listed by number and reason alone.
const LISTED_TEXTS: usize = 1000;

struct Reader<'r> {
    recipe: &'r Recipe,
    out: Read,
    /// Names and units of the columns of a wide file.
    width: usize,
    /// Column of the file to column of the result.
    taken: Vec<Option<usize>>,
    /// Long files: place and quantity to column of the result.
    keys: HashMap<(String, String, String), usize>,
    missing_numbers: Vec<f64>,
    missing_words: Vec<String>,
    /// Cells of the line at hand that are neither number nor missing: column and reason.
    pending: Vec<(usize, String)>,
    /// Times after this are refused, and how many lines were.
    latest: UnixSeconds,
    later: usize,
    /// Readings that are kept at most.
    keep: usize,
    /// Line and reason of such cells, by column: dropped where a column turns out to hold words all over.
    odd_cells: Vec<(usize, usize, String, String)>,
}

/// Why a file cannot be read at all. Everything else is listed in [`Read::problems`].
#[derive(Debug, Error)]
pub enum ReadError {
    /// The recipe's times or clock cannot be read.
    #[error(transparent)]
    Time(#[from] TimeError),
    /// The disk.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] std::io::Error),
}

/// Reads a whole file.
///
/// # Errors
/// [`ReadError`] if the recipe's clock is in no known zone, or the file went away.
pub fn read(text: &Text, recipe: &Recipe) -> Result<Read, ReadError> {
    read_until(text, recipe, UnixSeconds(i64::MAX))
}

/// Reads a whole file, and lists lines whose time lies after `latest` among the problems: a clock that jumped for a few
/// records must not stand in the way of the others. Where most lines lie there, none is set aside: it is the recipe that is
/// wrong, or the whole clock, and [`Read::extent`] shows it.
///
/// # Errors
/// As [`read`].
pub fn read_until(text: &Text, recipe: &Recipe, latest: UnixSeconds) -> Result<Read, ReadError> {
    within(text, recipe, latest, usize::MAX)
}

/// As [`read_until`], for a preview: everything is counted, but only the first readings are kept, so that a large file takes
/// little memory.
///
/// # Errors
/// As [`read`].
pub fn survey(text: &Text, recipe: &Recipe, latest: UnixSeconds) -> Result<Read, ReadError> {
    const KEPT: usize = 10_000;
    within(text, recipe, latest, KEPT)
}

fn within(text: &Text, recipe: &Recipe, latest: UnixSeconds, keep: usize) -> Result<Read, ReadError> {
    let (found, later) = pass(text, recipe, latest, keep)?;
    if later > found.lines { Ok(pass(text, recipe, UnixSeconds(i64::MAX), keep)?.0) } else { Ok(found) }
}

/// One reading of the file, and how many lines lay after `latest`.
fn pass(text: &Text, recipe: &Recipe, latest: UnixSeconds, keep: usize) -> Result<(Read, usize), ReadError> {
    let mut times = TimeReader::new(&recipe.time_pattern, &recipe.clock)?;
    let mut reader = Reader::new(recipe);
    (reader.latest, reader.keep) = (latest, keep);
    let mut header: Vec<String> = Vec::new();
    let mut seen: Vec<i64> = Vec::new();
    let mut steps: HashMap<i64, usize> = HashMap::new();
    let mut last = None;
    let mut lines = text.lines()?;
    while let Some((number, line)) = lines.next_numbered()? {
        if line.trim().is_empty() || recipe.comment.as_ref().is_some_and(|c| line.starts_with(c.as_str())) {
            continue;
        }
        if header.len() < recipe.header_lines {
            header.push(line.to_owned());
            if header.len() == recipe.header_lines {
                reader.name_columns(&header);
            }
            continue;
        }
        if header.iter().any(|h| h == line) {
            reader.out.headers_again += 1;
            continue;
        }
        match reader.line(line, &mut times) {
            Ok(time) => {
                reader.out.lines += 1;
                seen.push(time.0);
                if let Some(last) = last {
                    *steps.entry(time.0 - last).or_default() += 1;
                }
                last = Some(time.0);
                let (low, high) = reader.out.extent.unwrap_or((time, time));
                reader.out.extent = Some((low.min(time), high.max(time)));
            }
            Err(reason) => reader.problem(number, line, reason),
        }
        reader.note_cells(number, line);
    }
    let later = reader.later;
    let mut out = reader.finish();
    seen.sort_unstable();
    seen.dedup();
    out.records = seen.len();
    out.interval_s = steps.into_iter().filter(|(s, _)| *s > 0).max_by_key(|(s, n)| (*n, -s)).map(|(s, _)| s);
    Ok((out, later))
}

impl<'r> Reader<'r> {
    fn new(recipe: &'r Recipe) -> Self {
        let missing_numbers = recipe.missing.iter().filter_map(|m| number(m, recipe.decimal_comma)).collect();
        let missing_words = recipe.missing.iter().map(|m| m.to_lowercase()).collect();
        let (out, taken, keys) = (Read::default(), Vec::new(), HashMap::new());
        let (pending, odd_cells, latest) = (Vec::new(), Vec::new(), UnixSeconds(i64::MAX));
        Self {
            recipe,
            out,
            width: 0,
            taken,
            keys,
            missing_numbers,
            missing_words,
            pending,
            odd_cells,
            latest,
            later: 0,
            keep: usize::MAX,
        }
    }

    fn name_columns(&mut self, header: &[String]) {
        let row = |line: Option<usize>| {
            line.and_then(|i| header.get(i)).and_then(|l| fields(l, self.recipe.separator).ok()).unwrap_or_default()
        };
        let (names, units) = (row(self.recipe.names_line), row(self.recipe.units_line));
        if !names.is_empty() {
            self.set_width(names.len(), |i| {
                let unit = units.get(i).map(ToString::to_string).unwrap_or_default();
                (names[i].to_string(), unit)
            });
        }
    }

    fn set_width(&mut self, width: usize, name: impl Fn(usize) -> (String, String)) {
        self.width = width;
        if self.recipe.layout == Layout::Wide {
            for i in 0..width {
                if self.recipe.time_columns.contains(&i) {
                    self.taken.push(None);
                    continue;
                }
                let (name, unit) = name(i);
                let name = if name.is_empty() { format!("column {}", i + 1) } else { name };
                self.taken.push(Some(self.out.columns.len()));
                self.out.columns.push(Column { name, unit, ..Column::default() });
            }
        }
    }

    /// Reads one line. The line is refused as a whole if its time or its number of fields is wrong.
    fn line(&mut self, line: &str, times: &mut TimeReader) -> Result<UnixSeconds, String> {
        let row = fields(line, self.recipe.separator).map_err(|torn| torn.to_string())?;
        if self.width == 0 {
            self.set_width(row.len(), |i| (format!("column {}", i + 1), String::new()));
        }
        if row.len() < self.width {
            let fields = if row.len() == 1 { "field" } else { "fields" };
            return Err(format!("{} {fields} where {} are due: the line looks cut off", row.len(), self.width));
        }
        if row.len() > self.width && row[self.width..].iter().any(|c| !c.is_empty()) {
            return Err(format!("{} fields where {} are due: two lines may have run together", row.len(), self.width));
        }
        let time = times.read(&time_text(&row, &self.recipe.time_columns)).map_err(|e| e.to_string())?;
        if time > self.latest {
            self.later += 1;
            return Err(format!("the time {} lies in the future: the logger's clock jumped", crate::rfc3339(time)));
        }
        match self.recipe.layout {
            Layout::Wide => {
                for (i, column) in self.taken.clone().into_iter().enumerate() {
                    let Some(column) = column else { continue };
                    self.cell(column, &row[i], time);
                }
            }
            Layout::Long { point, what, value, unit } => {
                let field = |i: Option<usize>| i.and_then(|i| row.get(i)).map(ToString::to_string).unwrap_or_default();
                let (point, what, unit) = (field(Some(point)), field(what), field(unit));
                let text = field(Some(value));
                if !self.is_missing(&text) && number(&text, self.recipe.decimal_comma).is_none() {
                    return Err(no_number(&text));
                }
                let column = self.key(point, what, unit);
                self.cell(column, &text, time);
            }
        }
        Ok(time)
    }

    fn key(&mut self, point: String, what: String, unit: String) -> usize {
        let columns = &mut self.out.columns;
        *self.keys.entry((point.clone(), what.clone(), unit.clone())).or_insert_with(|| {
            let name = [point, what].into_iter().filter(|s| !s.is_empty()).collect::<Vec<_>>().join(" ");
            columns.push(Column { name, unit, ..Column::default() });
            columns.len() - 1
        })
    }

    fn is_missing(&self, cell: &str) -> bool {
        cell.is_empty()
            || self.missing_words.iter().any(|w| w == &cell.to_lowercase())
            || number(cell, self.recipe.decimal_comma).is_some_and(|n| self.missing_numbers.contains(&n))
    }

    fn cell(&mut self, column: usize, cell: &str, time: UnixSeconds) {
        if self.is_missing(cell) {
            self.out.columns[column].missing += 1;
        } else if let Some(value) = number(cell, self.recipe.decimal_comma) {
            self.out.columns[column].valid += 1;
            if self.out.readings.len() < self.keep {
                self.out.readings.push(Reading { column, time, value });
            }
        } else {
            self.out.columns[column].words += 1;
            if self.recipe.layout == Layout::Wide {
                self.pending.push((column, no_number(cell)));
            }
        }
    }
}

fn no_number(cell: &str) -> String {
    let hint = if cell.contains(['O', 'o']) && cell.chars().any(|c| c.is_ascii_digit()) {
        ": a letter O for a zero?"
    } else {
        ""
    };
    format!("“{cell}” is no number{hint}")
}

impl Reader<'_> {
    fn problem(&mut self, line: usize, text: &str, reason: String) {
        let text =
            if self.out.problems.len() < LISTED_TEXTS { text.chars().take(160).collect() } else { String::new() };
        self.out.problems.push(Problem { line, reason, text });
    }

    fn note_cells(&mut self, line: usize, text: &str) {
        for (column, reason) in self.pending.drain(..) {
            // A column of words (a name, a remark) needs no list of every line.
            if self.out.columns[column].words <= LISTED_TEXTS {
                let text = text.chars().take(160).collect();
                self.odd_cells.push((column, line, reason, text));
            }
        }
    }

    fn finish(mut self) -> Read {
        let of_words: Vec<bool> = self.out.columns.iter().map(|c| c.words > c.valid + c.missing).collect();
        for (column, line, reason, text) in self.odd_cells {
            if !of_words[column] {
                let reason = format!("{}: {reason}", self.out.columns[column].name);
                self.out.problems.push(Problem { line, reason, text });
            }
        }
        self.out.problems.sort_by_key(|p| p.line);
        self.out
    }
}

#[cfg(test)]
mod tests {
    use super::super::guess;
    use super::*;

    fn read_guessed(text: &str) -> Read {
        let text = Text::of_bytes(text.as_bytes()).unwrap();
        read(&text, &guess(&text, 0).unwrap()).unwrap()
    }

    #[test]
    fn a_bad_cell_costs_the_cell_and_a_bad_line_the_line() {
        let mut text = String::from("time,m05 [mV],t05 [degC]\n");
        for i in 0..50 {
            text.push_str(&format!("2026-03-01 {:02}:{:02},88{}.5,4.2\n", i / 4, i % 4 * 15, i % 10));
        }
        let text = text
            .replace("2026-03-01 02:15,889.5,4.2", "2026-03-01 02:15,err7,4.2")
            .replace("2026-03-01 03:00", "2026-13-01 03:00");
        let got = read_guessed(&text);
        assert_eq!(got.lines, 49);
        assert_eq!(got.columns.iter().map(|c| c.valid).collect::<Vec<_>>(), [48, 49]);
        let reasons: Vec<_> = got.problems.iter().map(|p| (p.line, p.reason.as_str())).collect();
        assert_eq!(reasons[0], (11, "m05 [mV]: “err7” is no number"));
        assert!(reasons[1].1.contains("is no time of the form"), "{reasons:?}");
    }

    #[test]
    fn one_bad_line_among_many_is_found_by_its_number() {
        let mut text = String::from("time;a;b\n");
        for i in 0..30_000i64 {
            text.push_str(&format!("{};{},5;1\n", super::super::super::rfc3339(UnixSeconds(i * 900)), i % 7));
        }
        let text = text.replacen("1970-02-01T00:00:00Z;", "1970-02-01T00:00:00Z\"x;", 1);
        let got = read_guessed(&text);
        assert_eq!((got.lines, got.problems.len()), (29_999, 1));
        assert_eq!(got.problems[0].line, 31 * 96 + 2);
        assert_eq!(got.interval_s, Some(900));
    }
}
