//! A first recipe for a file nobody has described.

use super::recipe::{Clock, Layout, Recipe, Separator};
use super::split::fields;
use super::text::Text;
use super::time::{TimeReader, patterns};
use ebrel_core::units::UnixSeconds;
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use thiserror::Error;

/// Why no recipe can be guessed.
#[derive(Debug, Error)]
pub enum GuessError {
    /// No line has two fields that look like a record.
    #[error("no line of this file looks like a record of a time and values: is it the right file?")]
    NoRecords,
    /// Records, but no time.
    #[error("no column of this file looks like a time: name the time's column and its form yourself")]
    NoTime,
    /// The disk.
    #[error("the file cannot be read ({0})")]
    Disk(#[from] io::Error),
}

/// Words that stand where there is no reading.
const MISSING_WORDS: [&str; 12] = ["nan", "null", "na", "n/a", "none", "-", "--", "---", "----", "*", "inf", "-inf"];
/// Numbers that stand where there is no reading, if they lie far off all others of their column.
const MISSING_NUMBERS: [f64; 9] = [-9999.0, 9999.0, -99_999.0, 99_999.0, 6999.0, -6999.0, 7999.0, -7999.0, -999.0];

type Row<'a> = Vec<std::borrow::Cow<'a, str>>;

/// Guesses how a file is written. `offset_minutes` is the study's fixed offset, taken where the file tells nothing.
///
/// # Errors
/// [`GuessError`] if the file has no records or no time, or went away.
pub fn guess(text: &Text, offset_minutes: i32) -> Result<Recipe, GuessError> {
    let head = text.head(50)?;
    let comment = head.iter().any(|l| l.starts_with('#')).then(|| "#".to_owned());
    let is_comment = |l: &str| comment.as_ref().is_some_and(|c| l.starts_with(c.as_str()));
    let sample = sample(text, &is_comment)?;
    let sample: Vec<&str> = sample.iter().map(String::as_str).collect();
    let (separator, decimal_comma) = separator(&sample).ok_or(GuessError::NoRecords)?;
    let rows: Vec<Row<'_>> = sample.iter().filter_map(|l| fields(l, separator).ok()).collect();
    let width = usual_width(&rows).ok_or(GuessError::NoRecords)?;
    let first =
        rows.iter().position(|r| r.len() == width && looks_like_data(r, decimal_comma)).ok_or(GuessError::NoRecords)?;
    let data: Vec<&Row<'_>> =
        rows[first..].iter().filter(|r| r.len() == width && looks_like_data(r, decimal_comma)).collect();
    let (time_columns, time_pattern) = time_form(&data, width).ok_or(GuessError::NoTime)?;
    let (names_line, units_line) = header(&rows[..first], width);
    let comments = head.iter().take(30).map(String::as_str).filter(|l| is_comment(l));
    let top: Vec<&str> = comments.chain(sample[..first].iter().copied()).collect();
    let clock = clock(&top, &data, &time_columns, &time_pattern, offset_minutes);
    let layout = layout(&data, &time_columns, names_line.map(|i| &rows[i]), decimal_comma);
    let mut recipe = Recipe {
        separator,
        header_lines: first,
        names_line,
        units_line,
        comment: comment.clone(),
        decimal_comma,
        time_columns,
        time_pattern,
        clock,
        missing: Vec::new(),
        layout,
    };
    let mut missing = BTreeSet::new();
    let mut behind = 0;
    each_record(text, &is_comment, |line| {
        if behind >= first {
            note_missing(line, &recipe, &mut missing);
        }
        behind += 1;
    })?;
    recipe.missing = missing.into_iter().collect();
    Ok(recipe)
}

/// A recipe to begin with by hand, where nothing could be guessed: the separator that most of the first lines share, times in
/// the first column as ISO 8601 writes them.
#[must_use]
pub fn plain_recipe(head: &[String], offset_minutes: i32) -> Recipe {
    let lines: Vec<&String> = head.iter().filter(|l| !l.trim().is_empty()).collect();
    let cuts = |s: &Separator| lines.iter().filter(|l| fields(l, *s).is_ok_and(|f| f.len() > 1)).count();
    let separator = Separator::ALL.into_iter().rev().max_by_key(cuts).unwrap_or(Separator::Comma);
    Recipe {
        separator,
        header_lines: 0,
        names_line: None,
        units_line: None,
        comment: None,
        decimal_comma: false,
        time_columns: vec![0],
        time_pattern: "%Y-%m-%d %H:%M:%S".into(),
        clock: Clock::Fixed(offset_minutes),
        missing: Vec::new(),
        layout: Layout::Wide,
    }
}

/// Shows every line that is neither blank nor a comment.
fn each_record(text: &Text, is_comment: &impl Fn(&str) -> bool, mut show: impl FnMut(&str)) -> io::Result<()> {
    let mut lines = text.lines()?;
    while let Some(line) = lines.next_line()? {
        if !line.trim().is_empty() && !is_comment(line) {
            show(line);
        }
    }
    Ok(())
}

/// The first 400 lines, and lines spread over the rest, so that a change of the clock in autumn is seen.
fn sample(text: &Text, is_comment: &impl Fn(&str) -> bool) -> io::Result<Vec<String>> {
    const HEAD: usize = 400;
    let mut lines = 0_usize;
    each_record(text, is_comment, |_| lines += 1)?;
    let stretch = (lines.saturating_sub(HEAD) / 400).max(1);
    let (mut sample, mut i) = (Vec::new(), 0);
    each_record(text, is_comment, |line| {
        if i < HEAD || (i - HEAD).is_multiple_of(stretch) {
            sample.push(line.to_owned());
        }
        i += 1;
    })?;
    Ok(sample)
}

/// The number in a cell, or `None`.
pub(super) fn number(cell: &str, decimal_comma: bool) -> Option<f64> {
    if cell.is_empty() || cell.starts_with(|c: char| c.is_ascii_alphabetic()) {
        return None;
    }
    let cell = cell.strip_prefix('+').unwrap_or(cell);
    let value: f64 =
        if decimal_comma { cell.replace(',', ".").parse() } else { cell.replace('−', "-").parse() }.ok()?;
    value.is_finite().then_some(value)
}

fn is_missing_word(cell: &str) -> bool {
    cell.is_empty() || MISSING_WORDS.contains(&cell.to_lowercase().as_str())
}

/// Whether a cell has the look of a date, a time of day, or both, and no separator left in it.
fn like_a_time(cell: &str) -> bool {
    let digits = cell.chars().filter(char::is_ascii_digit).count();
    digits >= 4 && cell.contains(['-', '/', '.', ':']) && !cell.contains([',', ';', '|', '\t'])
}

/// The separator under which the lines agree best, and whether numbers then carry a decimal comma.
fn separator(sample: &[&str]) -> Option<(Separator, bool)> {
    let mut best: Option<(f64, Separator, bool)> = None;
    for separator in Separator::ALL {
        let rows: Vec<Row<'_>> = sample.iter().filter_map(|l| fields(l, separator).ok()).collect();
        let Some(width) = usual_width(&rows) else { continue };
        for decimal_comma in [false, true] {
            if decimal_comma && separator == Separator::Comma {
                continue;
            }
            let full: Vec<&Row<'_>> = rows.iter().filter(|r| r.len() == width).collect();
            let good = |c: &str| number(c, decimal_comma).is_some() || is_missing_word(c) || like_a_time(c);
            let cells: usize = full.iter().map(|r| r.iter().filter(|c| good(c)).count()).sum();
            let numbers = cells as f64 / (full.len() * width) as f64;
            let mut score = numbers * full.len() as f64 / sample.len() as f64;
            // Blanks also stand within dates and names: they must be clearly better.
            if separator == Separator::Blanks {
                score *= 0.7;
            }
            if best.is_none_or(|(s, ..)| score > s + 1e-9) {
                best = Some((score, separator, decimal_comma));
            }
        }
    }
    best.filter(|b| b.0 > 0.05).map(|(_, separator, comma)| (separator, comma))
}

/// The number of fields that most lines have, two or more.
fn usual_width(rows: &[Row<'_>]) -> Option<usize> {
    let mut counts: BTreeMap<usize, usize> = BTreeMap::new();
    for row in rows.iter().filter(|r| r.len() >= 2) {
        *counts.entry(row.len()).or_default() += 1;
    }
    counts.into_iter().max_by_key(|(_, n)| *n).map(|(width, _)| width)
}

/// Whether a row has a number or a mark for a missing one, and a cell full of digits that may be a time.
fn looks_like_data(row: &Row<'_>, decimal_comma: bool) -> bool {
    let timely =
        |c: &str| c.chars().filter(char::is_ascii_digit).count() >= 4 && c.starts_with(|c: char| c.is_ascii_digit());
    let numbers = row.iter().filter(|c| number(c, decimal_comma).is_some()).count();
    row.iter().any(|c| timely(c)) && (numbers > 0 || row.iter().filter(|c| is_missing_word(c)).count() > 1)
}

/// The column (or two neighbours) and the form under which all rows give a time, most of them later than the one before.
fn time_form(data: &[&Row<'_>], width: usize) -> Option<(Vec<usize>, String)> {
    let all = patterns();
    let mut best: Option<(i64, Vec<usize>, String)> = None;
    let candidates =
        (0..width.min(8)).flat_map(|i| [vec![i], vec![i, i + 1]]).filter(|c| *c.last().unwrap_or(&0) < width);
    for columns in candidates {
        let texts: Vec<String> = data.iter().map(|r| time_text(r, &columns)).collect();
        let Some(probe) = texts.first() else { continue };
        if probe.chars().filter(char::is_ascii_digit).count() < 4 {
            continue;
        }
        for pattern in &all {
            if pattern == "%s" && !texts.iter().all(|t| t.len() >= 9 && t.parse::<i64>().is_ok_and(|s| s > 500_000_000))
            {
                continue;
            }
            let Ok(mut reader) = TimeReader::new(pattern, &Clock::Fixed(0)) else { continue };
            if reader.read(probe).is_err() {
                continue;
            }
            let times: Vec<i64> = texts.iter().filter_map(|t| reader.read(t).ok()).map(|t| t.0).collect();
            if times.len() * 10 < texts.len() * 9 {
                continue;
            }
            // Day and month the wrong way round fail or leap about: the right order moves on steadily.
            let steps: BTreeSet<i64> = times.windows(2).map(|w| w[1] - w[0]).collect();
            let forward = times.windows(2).filter(|w| w[1] > w[0]).count() as i64;
            let score = times.len() as i64 * 1000 + forward * 100 - steps.len() as i64 * 20;
            if best.as_ref().is_none_or(|b| score > b.0) {
                best = Some((score, columns.clone(), pattern.clone()));
            }
        }
    }
    best.map(|(_, columns, pattern)| (columns, pattern))
}

/// The time's text of a row: its column, or its two columns joined by a blank.
pub(super) fn time_text(row: &Row<'_>, columns: &[usize]) -> String {
    columns.iter().filter_map(|i| row.get(*i)).map(AsRef::as_ref).collect::<Vec<_>>().join(" ")
}

/// Which header lines hold names and units.
fn header(rows: &[Row<'_>], width: usize) -> (Option<usize>, Option<usize>) {
    const UNITS: [&str; 18] = [
        "v", "mv", "degc", "°c", "c", "mm", "%", "m3/m3", "m³/m³", "kpa", "dbm", "counts", "smp", "cbar", "ds/m",
        "avg", "raw", "w/m2",
    ];
    let full = |i: &usize| rows[*i].len() == width;
    let units = (0..rows.len()).filter(full).find(|i| {
        let filled: Vec<_> = rows[*i].iter().filter(|c| !c.is_empty()).collect();
        let known =
            filled.iter().filter(|c| UNITS.contains(&c.to_lowercase().trim_matches(['[', ']', '(', ')']))).count();
        known > 0 && known * 2 >= filled.len()
    });
    let names = (0..rows.len()).filter(full).filter(|i| Some(*i) != units).rfind(|i| {
        let row = &rows[*i];
        row.iter().filter(|c| !c.is_empty()).count() * 2 > width
            && row.iter().filter(|c| !c.is_empty()).collect::<BTreeSet<_>>().len() * 2 > width
    });
    (names, units)
}

/// What the file says of its clock; else summer time if an hour stands twice in autumn; else the study's offset.
fn clock(top: &[&str], data: &[&Row<'_>], columns: &[usize], pattern: &str, offset_minutes: i32) -> Clock {
    if pattern.ends_with('Z') {
        return Clock::Fixed(0);
    }
    if let Some(minutes) = top.iter().find_map(|l| offset_in(l)) {
        return Clock::Fixed(minutes);
    }
    let Ok(mut reader) = TimeReader::new(pattern, &Clock::Fixed(0)) else { return Clock::Fixed(offset_minutes) };
    let times: Vec<UnixSeconds> = data.iter().filter_map(|r| reader.read(&time_text(r, columns)).ok()).collect();
    for pair in times.windows(2) {
        let back = pair[0].0 - pair[1].0;
        let Ok(civil) = jiff::Timestamp::from_second(pair[1].0) else { continue };
        let civil = civil.to_zoned_datetime(jiff::tz::TimeZone::UTC);
        let last_sunday_of_october =
            civil.month() == 10 && civil.day() > 24 && civil.weekday() == jiff::civil::Weekday::Sunday;
        if last_sunday_of_october && (0..3600).contains(&back) {
            let zone = match civil.hour() {
                1 => "Europe/London",
                3 => "Europe/Helsinki",
                _ => "Europe/Paris",
            };
            return Clock::Zone(zone.to_owned());
        }
    }
    Clock::Fixed(offset_minutes)
}

/// "UTC+1", "UTC-03:30", "GMT": minutes east of UTC that a line tells, by a word that says one and by no other ("outcome" holds
/// the letters too). A line that tells of two ("N = UTC+1, S = UTC+2") tells none.
fn offset_in(line: &str) -> Option<i32> {
    let upper = line.to_uppercase();
    let places = upper.match_indices("UTC").chain(upper.match_indices("GMT"));
    let mut told = places.filter_map(|(at, word)| {
        let before = upper[..at].chars().next_back();
        let rest = &upper[at + word.len()..];
        let alone = !before.is_some_and(char::is_alphanumeric) && !rest.starts_with(char::is_alphanumeric);
        alone.then(|| offset_after(rest)).flatten()
    });
    let first = told.next()?;
    told.all(|other| other == first).then_some(first)
}

/// What stands behind "UTC": nothing is no offset at all.
fn offset_after(rest: &str) -> Option<i32> {
    let rest = rest.trim_start();
    let sign = match rest.chars().next() {
        Some('+') => 1,
        Some('-' | '−') => -1,
        _ => return Some(0),
    };
    let digits: String = rest.chars().skip(1).take_while(|c| c.is_ascii_digit() || *c == ':').collect();
    let (hours, minutes) = digits.split_once(':').unwrap_or((&digits, "0"));
    // "+0130" has no colon.
    let (hours, minutes) = if hours.len() == 4 && minutes == "0" { hours.split_at(2) } else { (hours, minutes) };
    let minutes = hours.parse::<i32>().ok()? * 60 + minutes.parse::<i32>().unwrap_or(0);
    (minutes <= 14 * 60).then_some(sign * minutes)
}

/// One reading a line, if there is but one column of numbers and two of words that repeat.
fn layout(data: &[&Row<'_>], time: &[usize], names: Option<&Row<'_>>, decimal_comma: bool) -> Layout {
    let width = data.first().map_or(0, |r| r.len());
    let share =
        |i: usize| data.iter().filter(|r| number(&r[i], decimal_comma).is_some()).count() as f64 / data.len() as f64;
    let others: Vec<usize> = (0..width).filter(|i| !time.contains(i)).collect();
    let numeric: Vec<usize> = others.iter().copied().filter(|i| share(*i) > 0.5).collect();
    let words: Vec<usize> = others.iter().copied().filter(|i| share(*i) < 0.1).collect();
    let ([value], true) = (&numeric[..], words.len() >= 2) else { return Layout::Wide };
    let named = |wanted: &[&str]| {
        let names = names?;
        words.iter().copied().find(|i| wanted.iter().any(|w| names[*i].to_lowercase().contains(w)))
    };
    let point = named(&["point", "station", "site", "place", "plot", "where", "id"]).unwrap_or(words[0]);
    let unit = named(&["unit"]);
    let what = named(&["what", "quantity", "variable", "param", "measure"]);
    Layout::Long { point, what, value: *value, unit }
}

/// Notes words and numbers of a line that stand for a missing reading.
fn note_missing(line: &str, recipe: &Recipe, found: &mut BTreeSet<String>) {
    for (i, cell) in fields(line, recipe.separator).unwrap_or_default().iter().enumerate() {
        if recipe.time_columns.contains(&i) || cell.is_empty() {
            continue;
        }
        let known = number(cell, recipe.decimal_comma).is_some_and(|n| MISSING_NUMBERS.contains(&n));
        if (known || is_missing_word(cell)) && !found.contains(&**cell) {
            found.insert(cell.to_string());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn guessed(text: &str) -> Result<Recipe, GuessError> {
        guess(&Text::of_bytes(text.as_bytes()).unwrap(), 0)
    }

    #[test]
    fn day_and_month_are_told_apart_by_how_time_moves_on() {
        let months: String = (1..=12).map(|m| format!("{m:02}/05/2026 06:00,{m}.5\n")).collect();
        let days: String = (1..=12).map(|d| format!("{d:02}/05/2026 06:00,{d}.5\n")).collect();
        let month_first = guessed(&format!("time,v\n{days}")).unwrap();
        assert_eq!(month_first.time_pattern, "%d/%m/%Y %H:%M", "a reading a day, and not one a month");
        let many: String = (1..=28).map(|d| format!("05/{d:02}/2026 06:00,1.5\n")).collect();
        assert_eq!(guessed(&format!("time,v\n{many}")).unwrap().time_pattern, "%m/%d/%Y %H:%M");
        assert!(guessed(&format!("time,v\n{months}")).is_ok());
    }

    #[test]
    fn the_offset_is_read_from_the_head_of_the_file() {
        assert_eq!(offset_in("# clock is UTC+1 all year"), Some(60));
        assert_eq!(offset_in("\"clock UTC-03:30\""), Some(-210));
        assert_eq!(offset_in("time (UTC)"), Some(0));
        assert_eq!(offset_in("node 03"), None);
        assert_eq!(offset_in("outcome of the season"), None, "the letters are no word");
        assert_eq!(offset_in("utcp 4, MYGMT"), None);
        assert_eq!(offset_in("N = UTC+2, S = UTC+3"), None, "two offsets are none");
        assert_eq!(offset_in("UTC+0530; all times UTC+05:30"), Some(330));
        assert_eq!(offset_in("θUTC θ UTC−1"), Some(-60));
        assert_eq!(offset_in("UTC+2026"), None);
    }

    #[test]
    fn a_letter_is_no_record() {
        let letter = guessed("Dear all,\nthe logger is in the hut.\nYours\n");
        assert!(matches!(letter, Err(GuessError::NoRecords)));
        assert!(matches!(guessed("a,b\n1234,5.5\n2345,6.5\n"), Err(GuessError::NoTime)));
    }
}
