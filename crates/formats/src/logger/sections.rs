//! What each line of a file is: a header, a record, or neither, told by itself and by what follows it.

use super::cells::{Cell, Torn, keyed, split};
use super::clock::TimeError;
use super::header::{looks_like_header, resolve};
use super::pass::{Pass, SAMPLES, Taker, WAITING, Waiting};
use super::recipe::Cells;
use super::table::by_key;
use super::tally::{Fault, Kind};
use super::text::without_zeros;

impl<T: Taker> Pass<'_, T> {
    /// What a line is; `None` if that is not known before the next ones.
    pub(super) fn sort(&mut self, number: usize, text: &str, long: bool) -> Option<Kind> {
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
        match self.record_time(&row, None).or_else(|| self.time_by_new_header(&row)) {
            Some(time) => {
                self.resolve_waiting();
                Some(self.record(number, text, &row, time))
            }
            None => self.no_record(number, text, &row),
        }
    }

    pub(super) fn torn(&mut self, number: usize, torn: Torn, text: &str) -> Kind {
        self.unreadable(number, Fault::Torn(torn), text)
    }

    /// A line whose time is none: a header, something before one, or a torn record.
    pub(super) fn no_record(&mut self, number: usize, text: &str, row: &[Cell<'_>]) -> Option<Kind> {
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
    pub(super) fn counted_header(&mut self, number: usize, text: &str, row: &[Cell<'_>]) -> Option<Kind> {
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
    pub(super) fn strays(&mut self) {
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
    pub(super) fn aside(&mut self, w: &Waiting) -> Kind {
        match () {
            () if self.preambles.contains(w.text.trim()) || self.stood(&w.text) => Kind::Repeated,
            () if self.preambles.contains(beginning(&w.text)) || self.marked(Some(w.text.trim())).is_some() => {
                Kind::Preamble
            }
            () => self.unreadable(w.line, Fault::Stray, &w.text),
        }
    }

    /// Whether a line stood in a header before.
    pub(super) fn stood(&self, text: &str) -> bool {
        self.headers.keys().any(|k| k.rsplit('\u{1f}').next() == Some(text))
    }

    /// Keeps a line that stands before a header, and how it begins, so that it is known when it stands again.
    pub(super) fn remember(&mut self, text: &str) {
        if self.preambles.len() < WAITING && beginning(text).len() > 1 {
            self.preambles.insert(beginning(text).to_owned());
            self.preambles.insert(text.trim().to_owned());
        }
    }

    /// What the lines before a record were.
    pub(super) fn resolve_waiting(&mut self) {
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

    pub(super) fn begin_table(&mut self, marker: Option<String>, header: Vec<Waiting>) {
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
            None => self.tables.of_names(self.recipe, &columns),
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
    pub(super) fn marked(&self, line: Option<&str>) -> Option<String> {
        let mark = self.recipe.header.mark.as_deref()?;
        line?.strip_prefix(mark).map(|rest| rest.trim().trim_end_matches([']', ':', '*', '=', '-']).trim().to_owned())
    }

    /// Fields of a record under a header of so many cells.
    pub(super) fn width_of(&self, cells: usize) -> usize {
        let widths = &self.recipe.header.widths;
        if widths.is_empty() || widths.contains(&cells) {
            return cells;
        }
        widths.iter().copied().min_by_key(|w| w.abs_diff(cells)).filter(|w| w.abs_diff(cells) <= 2).unwrap_or(cells)
    }

    /// A line that says with its first cells what kind it is.
    pub(super) fn tagged(&mut self, number: usize, text: &str, row: &[Cell<'_>]) -> Kind {
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
    pub(super) fn keyed(&mut self, number: usize, text: &str, row: &[Cell<'_>], mark: char) -> Option<Kind> {
        let at = self.tables.nameless(
            self.recipe,
            "",
            self.tables.all.first().map_or(self.recipe.header.columns.len(), |t| t.width),
        );
        let keyed = row.iter().filter(|c| keyed(c, mark).0.is_some()).count();
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
}

/// How a line before a header begins: its first word.
fn beginning(text: &str) -> &str {
    text.trim().split([' ', '=', ':', ';', ',', '\t']).next().unwrap_or_default()
}
