//! A hypothesis of how a file is written: how its lines part, where the time stands, and what follows from both.

use super::super::column::Reading;
use super::super::header::looks_like_header;
use super::super::keep::Keeper;
use super::super::pass::{Survey, pass};
use super::super::recipe::{Cells, Checksum, Clock, Header, Layout, Named, Recipe, Tags, Times, VERSION};
use super::super::text::Text;
use super::cells::{Parted, Row};
use super::clocks::{self, Nights, NightsAndReadings};
use super::sample::Sampled;
use super::times::{self, DayOrder, TimeFound};
use super::{Guess, GuessError, Remark, comments, layout, marks};
use ebrel_core::units::UnixSeconds;
use std::collections::{BTreeMap, BTreeSet};

/// A hypothesis: how lines part, and where the time stands.
#[derive(Debug, Clone)]
pub(super) struct Draft {
    pub score: f64,
    pub parted: Parted,
    time: TimeFound,
    forms: Vec<String>,
    comment: Option<String>,
    header: Header,
    tags: Option<Tags>,
    layout: Layout,
    node: Option<usize>,
    quoted_breaks: bool,
}

impl Draft {
    pub fn of(way: &Parted, comments: &[Sampled], comment: Option<&str>, quoted_breaks: bool) -> Option<Self> {
        let (parted, keys) = match way.cells {
            Cells::Tagged { mark, .. } => by_keys(way, mark),
            _ => (way.clone(), Vec::new()),
        };
        let main = *parted.widths.first()?;
        // Of a few records a header would be a large share: a line without a figure is none of them.
        let figures = |r: &&Row| r.cells.iter().any(|c| c.starts_with(|c: char| c.is_ascii_digit() || c == '-'));
        let of_width: Vec<&Row> = parted.rows.iter().filter(|r| r.cells.len() == main).filter(figures).collect();
        // The most usual first cell may be a mark; its lines tell the time best.
        let names =
            if keys.is_empty() { likely_names(&parted, main) } else { keys.iter().map(|k| k.name.clone()).collect() };
        let time = times::find(&of_width, main, &names)?;
        let form = super::super::form::TimeForm::new(&time.form).ok()?;
        let text = |r: &Row| -> Option<String> {
            let cells: Option<Vec<&str>> = time.columns.iter().map(|c| r.cells.get(*c).map(String::as_str)).collect();
            Some(cells?.join(" "))
        };
        let is_record = |r: &Row| text(r).is_some_and(|t| form.read(&t).is_some());
        let tags =
            if keys.is_empty() && !time.columns.contains(&0) { layout::tags(&parted.rows, is_record) } else { None };
        // Rows of other tables may write their time otherwise: those that write it alike are looked at together.
        let mut forms = vec![time.form.clone()];
        let mut others: BTreeMap<(usize, String), Vec<&Row>> = BTreeMap::new();
        for row in parted.rows.iter().filter(|r| !is_record(r)) {
            if let Some(t) = text(row).filter(|t| t.starts_with(|c: char| c.is_ascii_digit())) {
                let shape = t.chars().map(|c| if c.is_ascii_digit() { '9' } else { c }).collect();
                others.entry((row.cells.len(), shape)).or_default().push(row);
            }
        }
        for ((width, _), rows) in others.iter().filter(|(_, rows)| rows.len() >= 2) {
            let other = times::find(rows, *width, &[]);
            if let Some(other) = other.filter(|t| t.columns == time.columns && !forms.contains(&t.form)) {
                forms.push(other.form);
            }
        }
        let records: Vec<&Row> = parted.rows.iter().filter(|r| is_record(r)).collect();
        let mut widths: BTreeMap<usize, usize> = BTreeMap::new();
        let known: Vec<super::super::form::TimeForm> =
            forms.iter().filter_map(|f| super::super::form::TimeForm::new(f).ok()).collect();
        for row in parted.rows.iter().filter(|r| text(r).is_some_and(|t| known.iter().any(|f| f.read(&t).is_some()))) {
            *widths.entry(row.cells.len()).or_default() += 1;
        }
        let most = widths.values().copied().max().unwrap_or(0);
        let often = |w: usize, n: usize| n >= 3 && (n * 60 >= most || runs(&parted.rows, w));
        let mut usual: Vec<usize> =
            widths.iter().filter(|(w, n)| often(**w, **n) || headed(&parted, **w)).map(|(w, _)| *w).collect();
        if usual.is_empty() {
            usual = widths.into_keys().collect();
        }
        let repeats = repeats(&records, &form, &text);
        let aside: Vec<usize> = time.columns.iter().copied().chain(tags.as_ref().map(|t| t.column)).collect();
        let of_main: Vec<&Row> = records.iter().copied().filter(|r| r.cells.len() == main).collect();
        let (layout, node) = if keys.is_empty() {
            layout::layout(&of_main, &aside, &names, parted.numbers, repeats)
        } else {
            (Layout::Wide, None)
        };
        // A record a line at a time that stands still is no record: something else moves on.
        if layout == Layout::Wide && node.is_none() && distinct_times(&of_main, &form, &text) * 3 < of_main.len() {
            return None;
        }
        let mut header = Header { widths: usual, ..Header::default() };
        header.columns = if keys.is_empty() {
            let texts: Vec<&str> = comments.iter().map(|s| s.text.as_str()).collect();
            comment.map(|c| comments::columns(&texts, c, &parted.cells, main)).unwrap_or_default()
        } else {
            keys
        };
        header.mark = table_mark(&parted);
        let explained = parted.score * (records.len() as f64 / parted.rows.len().max(1) as f64).max(0.2);
        Some(Self {
            score: explained + time.score * 0.005,
            parted,
            forms,
            time,
            comment: comment.map(str::to_owned),
            header,
            tags,
            layout,
            node,
            quoted_breaks,
        })
    }

    /// What parts its cells, in words.
    pub fn words(&self) -> &'static str {
        match &self.parted.cells {
            Cells::Delimited(separator) => separator.words(),
            Cells::Tagged { .. } => "key=value",
            Cells::Fixed(_) => "their place",
        }
    }

    pub fn recipe(&self, clock: Clock) -> Recipe {
        Recipe {
            version: VERSION,
            cells: self.parted.cells.clone(),
            quoted_breaks: self.quoted_breaks,
            comment: self.comment.clone(),
            decimal_comma: self.parted.numbers.decimal_comma,
            thousands: self.parted.numbers.thousands,
            checksum: None,
            header: self.header.clone(),
            tags: self.tags.clone(),
            time: Times {
                columns: self.time.columns.clone(),
                forms: self.forms.clone(),
                clock,
                newest_first: self.time.newest_first,
            },
            layout: self.layout.clone(),
            node: self.node,
            missing: Vec::new(),
            missing_in: BTreeMap::new(),
            notes: Vec::new(),
        }
    }

    /// The recipe with what only the whole file tells: marks, names of records before any header, summer time.
    pub fn finished(
        &self,
        text: &Text,
        top: &[&str],
        offset_minutes: i32,
        sum: Option<Checksum>,
        bound: impl Fn(usize) -> usize,
    ) -> Result<(Guess, Option<Vec<Reading>>), GuessError> {
        let mut recipe = self.recipe(Clock::Fixed(0));
        recipe.checksum = sum;
        if matches!(self.time.form.as_str(), f if f.contains("%Z")) {
            recipe.time.clock = Clock::Words(self.zone_words(top, offset_minutes));
        }
        let mut taker = NightsAndReadings(Nights::new(!matches!(self.layout, Layout::Wide)), Keeper::at_most(bound));
        let found = pass(text, &recipe, UnixSeconds(i64::MAX), &mut taker)?;
        let NightsAndReadings(nights, keeper) = taker;
        let as_read = recipe.clone();
        marks::settle(&mut recipe, &found.columns, self.parted.numbers);
        if recipe.header.columns.is_empty() {
            recipe.header.columns = names_for_the_nameless(&found);
        }
        let mut remarks = Vec::new();
        self.say_order(&mut remarks);
        if let Some(minutes) = self.told_by_main() {
            recipe.time.clock = Clock::Fixed(minutes);
        } else if !recipe.time.forms.iter().all(|f| f.contains("%z") || f == "%s" || f == "%Q")
            && !self.time.form.contains("%Z")
        {
            recipe.time.clock = self.clock(top, &found, &nights, offset_minutes, &mut remarks);
        }
        let shift = shift_of(&recipe, &as_read);
        let read = shift.zip(keeper.kept()).map(|(shift, mut read)| {
            read.iter_mut().for_each(|r| r.time = UnixSeconds(r.time.0 - shift));
            read
        });
        let survey = shift.map(|shift| found.shifted(shift));
        Ok((Guess { recipe, remarks, runner_up: None, survey }, read))
    }
}

/// By how many seconds earlier times are by a recipe than by the one that a file was read by; `None` if they differ in more than a
/// fixed clock.
fn shift_of(recipe: &Recipe, as_read: &Recipe) -> Option<i64> {
    let clock = as_read.time.clock.clone();
    let same = Recipe { time: Times { clock, ..recipe.time.clone() }, ..recipe.clone() } == *as_read;
    let forms = recipe.time.forms.iter().map(|f| super::super::form::TimeForm::new(f).is_ok_and(|f| f.tells_offset()));
    let told: Vec<bool> = forms.collect();
    match &recipe.time.clock {
        _ if !same => None,
        now if *now == as_read.time.clock || told.iter().all(|t| *t) => Some(0),
        Clock::Fixed(minutes) if told.iter().all(|t| !*t) => Some(i64::from(*minutes) * 60),
        _ => None,
    }
}

/// Whether at least three neighbouring rows have this width.
fn runs(rows: &[Row], width: usize) -> bool {
    rows.windows(3).any(|w| w.iter().all(|r| r.cells.len() == width))
}

/// Whether a header of this width stands right before a line of it.
fn headed(parted: &Parted, width: usize) -> bool {
    let like = |r: &Row| r.cells.len() == width && looks_like_header(&r.cells, &r.cells[0], parted.numbers, &[]);
    parted
        .rows
        .windows(2)
        .any(|w| w[1].line == w[0].line + 1 && like(&w[0]) && w[1].cells.len() == width && !like(&w[1]))
}

/// `key=value` rows as rows of one width, by the keys that most of them have.
fn by_keys(way: &Parted, mark: char) -> (Parted, Vec<Named>) {
    let mut keys: Vec<String> = Vec::new();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    let cells = |r: &Row| -> Vec<(String, String)> {
        r.cells
            .iter()
            .enumerate()
            .map(|(i, c)| {
                let (key, value) = super::super::cells::keyed(c, mark);
                (key.map_or_else(|| format!("place {}", i + 1), str::to_owned), value.to_owned())
            })
            .collect()
    };
    for row in &way.rows {
        for (key, _) in cells(row) {
            if !keys.contains(&key) {
                keys.push(key.clone());
            }
            *counts.entry(key).or_default() += 1;
        }
    }
    keys.retain(|k| counts[k] * 20 > way.rows.len());
    let rows = way.rows.iter().map(|r| {
        let of = cells(r);
        let value = |k: &String| of.iter().find(|(key, _)| key == k).map(|(_, v)| v.clone()).unwrap_or_default();
        Row { line: r.line, cells: keys.iter().map(value).collect() }
    });
    let parted = Parted { rows: rows.collect(), widths: vec![keys.len()], ..way.clone() };
    (parted, keys.into_iter().map(|name| Named { name, unit: String::new() }).collect())
}

/// The names that the first line with as many words as records have cells may tell.
fn likely_names(parted: &Parted, width: usize) -> Vec<String> {
    let like = |r: &&Row| r.cells.len() == width && looks_like_header(&r.cells, &r.cells[0], parted.numbers, &[width]);
    let of_time = parted.rows.iter().filter(like).find(|r| r.cells.iter().any(|c| super::super::header::names_time(c)));
    of_time.or_else(|| parted.rows.iter().find(like)).map(|r| r.cells.clone()).unwrap_or_default()
}

/// How many different times rows tell.
fn distinct_times(rows: &[&Row], form: &super::super::form::TimeForm, text: &impl Fn(&Row) -> Option<String>) -> usize {
    let times = rows.iter().filter_map(|r| form.read(&text(r)?).map(|c| c.seconds));
    times.collect::<BTreeSet<i64>>().len()
}

/// Whether several lines share a time.
fn repeats(records: &[&Row], form: &super::super::form::TimeForm, text: &impl Fn(&Row) -> Option<String>) -> bool {
    let times: Vec<(usize, i64)> =
        records.iter().filter_map(|r| Some((r.line, form.read(&text(r)?)?.seconds))).collect();
    let neighbours = times.windows(2).filter(|w| w[1].0 == w[0].0 + 1);
    let (same, all) = neighbours.fold((0, 0), |(s, n), w| (s + usize::from(w[0].1 == w[1].1), n + 1));
    let distinct: BTreeSet<i64> = times.iter().map(|t| t.1).collect();
    same * 4 > all.max(1) || distinct.len() * 10 < times.len() * 8
}

/// How lines begin that stand alone before headers and name a table: the same beginning, other endings, each more than once or in
/// brackets.
fn table_mark(parted: &Parted) -> Option<String> {
    let lone: Vec<&str> = parted
        .rows
        .windows(2)
        .filter(|w| w[0].cells.len() == 1 && w[1].line == w[0].line + 1 && w[1].cells.len() >= 2)
        .filter(|w| looks_like_header(&w[1].cells, &w[1].cells[0], parted.numbers, &[]))
        .map(|w| w[0].cells[0].as_str())
        .collect();
    let distinct: BTreeSet<&str> = lone.iter().copied().collect();
    if distinct.len() < 2 {
        return None;
    }
    let (first, last) = (*distinct.first()?, *distinct.last()?);
    let shared: usize = first.chars().zip(last.chars()).take_while(|(a, b)| a == b).map(|(a, _)| a.len_utf8()).sum();
    // What tells tables apart is a word: the mark ends before it.
    let end = first[..shared]
        .rfind(|c: char| !c.is_alphanumeric())
        .map(|i| i + first[i..].chars().next().map_or(1, char::len_utf8))?;
    (end > 0).then(|| first[..end].to_owned())
}

/// Where records stand before the first header and have its width, they have its names.
fn names_for_the_nameless(found: &Survey) -> Vec<Named> {
    let Some(nameless) = found.tables.iter().find(|t| !t.named) else { return Vec::new() };
    let same = found.tables.iter().find(|t| t.named && t.width == nameless.width);
    same.map(|t| t.columns.clone()).unwrap_or_default()
}

impl Draft {
    /// The offset of the main table's times, where each tells its own: those of other tables that do not are taken like them.
    fn told_by_main(&self) -> Option<i32> {
        let form = super::super::form::TimeForm::new(&self.time.form).ok().filter(|f| f.tells_offset())?;
        let text = |r: &Row| {
            self.time.columns.iter().filter_map(|c| r.cells.get(*c)).map(String::as_str).collect::<Vec<_>>().join(" ")
        };
        self.parted.rows.iter().find_map(|r| form.read(&text(r))?.offset).map(|s| s / 60)
    }

    fn say_order(&self, remarks: &mut Vec<Remark>) {
        if self.time.form == "%x" {
            let sentence = "The times are days of a spreadsheet, counted from 1900: if they lie four years early, it counts from 1904 (%X).";
            remarks.push(Remark { sentence: sentence.to_owned(), open: false });
        }
        let first = if self.time.form.find("%d") < self.time.form.find("%m") { "day" } else { "month" };
        let (sentence, open) = match self.time.order {
            DayOrder::Plain => return,
            DayOrder::Days(1) => (format!("Day first or month first? 1 day decides: {first} first."), false),
            DayOrder::Days(n) => (format!("Day first or month first? {n} days decide: {first} first."), false),
            DayOrder::Steady => {
                (format!("Day first or month first? The record runs on steadily only with the {first} first."), false)
            }
            DayOrder::Open => (
                "Day first or month first? Nothing in the file decides: choose. The day is taken to stand first."
                    .to_owned(),
                true,
            ),
        };
        remarks.push(Remark { sentence, open });
    }

    /// Words that tell summer from normal time, with what they mean.
    fn zone_words(&self, top: &[&str], offset_minutes: i32) -> BTreeMap<String, i32> {
        let told: BTreeMap<String, i32> = top.iter().flat_map(|l| clocks::words_in(l)).collect();
        if !told.is_empty() {
            return told;
        }
        let form = super::super::form::TimeForm::new(&self.time.form).ok();
        let mut words = BTreeSet::new();
        for row in &self.parted.rows {
            let cells: Vec<&str> =
                self.time.columns.iter().filter_map(|c| row.cells.get(*c)).map(String::as_str).collect();
            let text = cells.join(" ");
            if let Some(zone) = form.as_ref().and_then(|f| f.read(&text)).and_then(|c| c.zone) {
                words.insert(zone.to_owned());
            }
        }
        let summer = |w: &str| {
            matches!(
                w.to_lowercase().as_str(),
                "s" | "so" | "sommer" | "summer" | "d" | "dst" | "1" | "ete" | "été" | "v"
            )
        };
        let known = |w: &String| super::super::clock::zone_word(w);
        words
            .into_iter()
            .map(|w| (w.clone(), known(&w).unwrap_or(offset_minutes + if summer(&w) { 60 } else { 0 })))
            .collect()
    }

    fn clock(
        &self,
        top: &[&str],
        found: &Survey,
        nights: &Nights,
        offset_minutes: i32,
        remarks: &mut Vec<Remark>,
    ) -> Clock {
        let say = |remarks: &mut Vec<Remark>, sentence: String, open: bool| remarks.push(Remark { sentence, open });
        let rows = self.parted.rows.iter().take(40);
        let told = top
            .iter()
            .take(60)
            .find_map(|l| clocks::offset_in(l))
            .or_else(|| rows.into_iter().find_map(|r| clocks::bare_offset(&r.cells)));
        let extent = found.extent.map(|(a, b)| (a.0, b.0)).unwrap_or_default();
        let interval = found.interval_s.unwrap_or(3600);
        let summer = nights.summer_time(interval, extent, told.unwrap_or(offset_minutes), self.time.newest_first);
        if let Some(zone) = top.iter().take(60).find_map(|l| clocks::zone_in(l)) {
            say(remarks, format!("The file names its time zone: {zone}."), false);
            return Clock::Zone(zone);
        }
        if let Some(minutes) = told {
            let offset = ebrel_core::units::format_offset(i64::from(minutes));
            match summer {
                Some(s) => say(
                    remarks,
                    format!(
                        "The file says UTC{offset}, yet its record changes over to summer time ({}): choose at the logger's clock.",
                        changes(&s)
                    ),
                    true,
                ),
                None => say(remarks, format!("The file says that its clock is at UTC{offset}."), false),
            }
            return Clock::Fixed(minutes);
        }
        if let Some(s) = summer {
            let sentence = format!("Local time with summer time, as in {}: {}.", s.zone, changes(&s));
            say(remarks, sentence, false);
            return Clock::Zone(s.zone);
        }
        let offset = ebrel_core::units::format_offset(i64::from(offset_minutes));
        say(remarks, format!("The file says nothing of its clock: the study's UTC{offset} is taken."), true);
        clocks::assumed(offset_minutes)
    }
}

/// "an hour stands twice on 25 Oct 2020, one is missing on 29 Mar 2020".
fn changes(s: &clocks::SummerTime) -> String {
    let list = |dates: &[jiff::civil::Date]| {
        let few: Vec<String> = dates.iter().take(2).map(|d| d.strftime("%-d %b %Y").to_string()).collect();
        let more = if dates.len() > 2 { format!(" and {} more days", dates.len() - 2) } else { String::new() };
        format!("{}{more}", few.join(", "))
    };
    match (s.twice.is_empty(), s.missing.is_empty()) {
        (false, false) => format!("an hour stands twice on {}, one is missing on {}", list(&s.twice), list(&s.missing)),
        (false, true) => format!("an hour stands twice on {}", list(&s.twice)),
        _ => format!("an hour is missing on {}", list(&s.missing)),
    }
}
