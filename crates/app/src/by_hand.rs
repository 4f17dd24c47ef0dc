//! Readings that somebody read off and pastes as a table: a rain gauge, an irrigation meter, an older notebook.

use super::importing::latest;
use ebrel_core::units::{Quantity, UnixSeconds, read_number};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::{Added, Reading};
use ebrel_store::{Store, StoreError};

/// The node that stands for a person with a notebook.
pub const NODE: &str = "by hand";
/// Lines of one table.
pub const MOST_LINES: usize = 5_000;

/// What a pasted table holds.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Pasted {
    /// Times and values, in the order of the lines.
    pub readings: Vec<(UnixSeconds, f64)>,
    /// Lines that cannot be taken, counted from 1, with what to do.
    pub slips: Vec<(usize, String)>,
    /// Lines that hold nothing, or the names of columns.
    pub passed_over: usize,
}

/// Reads a table: on each line a time and, after a tab, a semicolon or blanks, a value. `time` reads a time as people here write it.
#[must_use]
pub fn read(text: &str, now: UnixSeconds, time: impl Fn(&str) -> Option<UnixSeconds>) -> Pasted {
    let mut pasted = Pasted::default();
    for (i, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.is_empty() {
            pasted.passed_over += 1;
            continue;
        }
        if i >= MOST_LINES {
            pasted.slips.push((
                i + 1,
                format!("There are more than {MOST_LINES} lines: paste them in parts, or import a file."),
            ));
            break;
        }
        match fields(line) {
            None => pasted.slips.push((i + 1, "Write a time and a value, with a tab or blanks between.".to_owned())),
            Some((when, what)) => match (time(when), read_number(what)) {
                (None, Err(_)) if i == 0 => pasted.passed_over += 1,
                (None, _) => {
                    pasted.slips.push((i + 1, format!("“{when}” is no date and time: write it like 2026-05-01 06:00.")))
                }
                (_, Err(says)) => pasted.slips.push((i + 1, says)),
                (Some(t), Ok(_)) if t > latest(now) => {
                    pasted.slips.push((i + 1, format!("{when} is still to come.")));
                }
                (Some(t), Ok(value)) => pasted.readings.push((t, value)),
            },
        }
    }
    pasted
}

/// A line's time and its value.
fn fields(line: &str) -> Option<(&str, &str)> {
    let parted = line.rsplit_once(['\t', ';']).or_else(|| line.rsplit_once(char::is_whitespace))?;
    let (when, what) = (parted.0.trim().trim_end_matches([';', ',']), parted.1.trim());
    (!when.is_empty() && !what.is_empty()).then_some((when, what))
}

/// What is pasted, and as what.
#[derive(Debug, Clone, PartialEq)]
pub struct Kept {
    /// The port that stands for the gauge or meter.
    pub port: String,
    /// What it tells.
    pub quantity: Quantity,
    /// In which unit.
    pub unit: String,
    /// Times and values.
    pub readings: Vec<(UnixSeconds, f64)>,
}

/// Keeps a table, all or none of it; each reading once.
///
/// # Errors
/// [`StoreError::Rule`] if the port tells this in another unit.
pub async fn keep(store: &Store, station: i64, table: &Kept, now: UnixSeconds) -> Result<Added, StoreError> {
    let mut unit = store.unit().await?;
    let node = unit.ensure_node(station, NODE).await?;
    let stream = unit.ensure_stream(node, &table.port, table.quantity, &table.unit, None).await?;
    let readings = table.readings.iter().map(|(t, raw)| Reading { stream, t: t.0, raw: *raw }).collect();
    let added = unit.add_readings(&Origin::of(Source::Hand, now), readings).await?;
    unit.commit().await?;
    Ok(added)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn time(text: &str) -> Option<UnixSeconds> {
        text.strip_prefix("day ").and_then(|n| n.trim().parse().ok()).map(|n: i64| UnixSeconds(n * 86_400))
    }

    const NOW: UnixSeconds = UnixSeconds(100 * 86_400);

    #[test]
    fn a_table_is_read_however_it_is_parted_and_slips_are_told_by_line() {
        let pasted =
            read("when\train\nday 1\t12,4\nday 2; 0.0\n\nday 3   7\nday x 1\nday 4 wet\nday 102 1\nalone\n", NOW, time);
        let days: Vec<_> = pasted.readings.iter().map(|(t, v)| (t.0 / 86_400, *v)).collect();
        assert_eq!((days, pasted.passed_over), (vec![(1, 12.4), (2, 0.0), (3, 7.0)], 2));
        let lines: Vec<usize> = pasted.slips.iter().map(|s| s.0).collect();
        assert_eq!(lines, [6, 7, 8, 9], "{:?}", pasted.slips);
        assert_eq!(read("", NOW, time), Pasted::default());
    }

    #[test]
    fn more_lines_than_are_taken_are_told() {
        let lines = |n: usize| (0..n).map(|_| "day 1 2\n").collect::<String>();
        assert!(read(&lines(MOST_LINES), NOW, time).slips.is_empty());
        let more = read(&lines(MOST_LINES + 1), NOW, time);
        assert_eq!((more.readings.len(), more.slips.len(), more.slips[0].0), (MOST_LINES, 1, MOST_LINES + 1));
    }

    proptest! {
        #[test]
        fn every_line_is_a_reading_a_slip_or_passed_over(text in "([ -~θ\\t;]{0,20}\n){0,40}") {
            let pasted = read(&text, NOW, time);
            let sum = pasted.readings.len() + pasted.slips.len() + pasted.passed_over;
            prop_assert_eq!(sum, text.lines().count());
        }
    }
}
