//! One record to its readings: time, width, cells.

use super::cells::Cell;
use super::clock::TimeError;
use super::column::Reading;
use super::pass::{MOST_SAMPLES, Pass, Sample, Taker};
use super::recipe::Layout;
use super::tally::{Fault, Kind};
use ebrel_core::units::UnixSeconds;

impl<T: Taker> Pass<'_, T> {
    /// The time of a row, if it is one by its form; the error of its clock otherwise.
    pub(super) fn record_time(
        &mut self,
        row: &[Cell<'_>],
        table: Option<usize>,
    ) -> Option<Result<UnixSeconds, TimeError>> {
        let table = table.or(self.current).map(|at| &self.tables.all[at]);
        self.moment.clear();
        for (i, column) in self.recipe.time.columns.iter().enumerate() {
            let cell = row.get(table.map_or(*column, |t| t.at(*column)))?;
            if i > 0 {
                self.moment.push(' ');
            }
            self.moment.push_str(cell);
        }
        self.time_at_hand()
    }

    /// The same by the places that a header gives which waits for its first record.
    pub(super) fn time_by_new_header(&mut self, row: &[Cell<'_>]) -> Option<Result<UnixSeconds, TimeError>> {
        let headers = self.waiting.iter().rev().filter_map(|w| w.header.as_ref());
        let moved = headers.map(|h| h.iter().map(String::as_str).collect::<Vec<_>>());
        let moved = moved.map(|names| self.tables.moved(self.recipe, &names)).find(|m| !m.is_empty())?;
        let place = |c: &usize| moved.get(c).copied().unwrap_or(*c);
        let cells: Option<Vec<&str>> =
            self.recipe.time.columns.iter().map(|c| row.get(place(c)).map(AsRef::as_ref)).collect();
        self.moment = cells?.join(" ");
        self.time_at_hand()
    }

    fn time_at_hand(&mut self) -> Option<Result<UnixSeconds, TimeError>> {
        match self.times.read(&self.moment) {
            Err(TimeError::Form(_)) => None,
            read => Some(read),
        }
    }

    pub(super) fn moment_of(&self, row: &[Cell<'_>]) -> String {
        let table = self.current.map(|at| &self.tables.all[at]);
        let columns = self.recipe.time.columns.iter().map(|c| table.map_or(*c, |t| t.at(*c)));
        columns.filter_map(|c| row.get(c)).map(AsRef::as_ref).collect::<Vec<_>>().join(" ")
    }

    /// A record, its time told by its form.
    pub(super) fn record(
        &mut self,
        number: usize,
        text: &str,
        row: &[Cell<'_>],
        time: Result<UnixSeconds, TimeError>,
    ) -> Kind {
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

    pub(super) fn record_of(
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
            let table = &self.tables.all[at];
            let (value, note) = (table.at(value), note.map(|n| table.at(n)));
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
        let node = self.recipe.node.map(|n| self.tables.all[at].at(n));
        let node = node.and_then(|i| row.get(i)).map_or("", AsRef::as_ref);
        let slots = self.tables.slots(self.recipe, at, node);
        for (cell, column) in row.iter().zip(slots.iter()) {
            if let Some(column) = column {
                self.cell(*column, cell, time, number, text, false);
            }
        }
        Kind::Record
    }

    pub(super) fn in_time(&mut self, time: Result<UnixSeconds, TimeError>) -> Result<UnixSeconds, Fault> {
        let time = time?;
        if time > self.latest {
            self.out.later += 1;
            return Err(Fault::Future);
        }
        Ok(time)
    }

    pub(super) fn begin_record(&mut self, at: usize, time: UnixSeconds, number: usize, row: &[Cell<'_>]) {
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

    pub(super) fn count_step(&mut self, table: usize, step: i64) {
        if (table, step) == self.step.0 {
            self.step.1 += 1;
            return;
        }
        let (before, n) = std::mem::replace(&mut self.step, ((table, step), 1));
        if before.1 > 0 && (self.steps.len() < 4096 || self.steps.contains_key(&before)) {
            *self.steps.entry(before).or_default() += n;
        }
    }

    pub(super) fn is_missing(&self, column: usize, cell: &str, number: Option<f64>) -> bool {
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
    pub(super) fn cell(
        &mut self,
        column: usize,
        cell: &str,
        time: UnixSeconds,
        number: usize,
        text: &str,
        noted: bool,
    ) -> bool {
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
}
