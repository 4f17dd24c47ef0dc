//! What the pages of Findings share: their tabs, the record with its flags, words for what was left out, fields of a query.

use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, when};
use crate::state::State;
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_core::findings::{Counts, Part, Season};
use ebrel_core::units::{SpanSeconds, UnixSeconds, read_number};

/// Links to the pages of the room.
pub struct Tabs {
    pub station: i64,
    pub study: i64,
    /// Which of them this is.
    pub here: &'static str,
}

impl Tabs {
    pub fn of(record: &StationRecord, here: &'static str) -> Self {
        Self { station: record.station.id, study: record.study.id, here }
    }

    /// Address, name, and whether the page is this one.
    pub fn links(&self) -> Vec<(String, &'static str, bool)> {
        let (s, study) = (self.station, self.study);
        let all = [
            (format!("/stations/{s}/findings"), "Profile"),
            (format!("/stations/{s}/findings/water"), "Water"),
            (format!("/stations/{s}/findings/heat"), "Heat"),
            (format!("/stations/{s}/findings/air"), "Air"),
            (format!("/studies/{study}/findings/treatments?first={s}"), "Beside each other"),
            (format!("/studies/{study}/findings/thresholds?station={s}"), "Thresholds"),
            (format!("/stations/{s}/export"), "Take out"),
        ];
        all.into_iter().map(|(address, name)| (address, name, name == self.here)).collect()
    }
}

/// A station's record with what the findings need beside it.
pub struct Loaded {
    pub of: Flagged,
    /// Other stations, as far as they measure water and air.
    pub neighbours: Vec<Flagged>,
}

/// Loads it.
pub async fn loaded(state: &State, station: i64) -> Result<Loaded, Problem> {
    let of = Flagged::load(&state.store, station).await?;
    let neighbours = of.neighbours(&state.store).await?;
    Ok(Loaded { of, neighbours })
}

/// A problem as a sentence of its own.
pub fn sentence(problem: &dyn std::fmt::Display) -> String {
    let text = problem.to_string();
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| format!("{}{}.", first.to_uppercase(), letters.as_str()))
}

/// What a page rests on, and what not: "412 380 readings; 9 204 left out by flags and verdicts; 12 without a value".
pub fn counted(counts: Counts) -> String {
    let mut words = format!("{} readings", grouped(counts.used));
    if counts.under_condition > 0 {
        let n = grouped(counts.under_condition);
        words.push_str(&format!(" ({n} of them frozen, ponded, settling or disturbed: true, but mind it)"));
    }
    if counts.left_out > 0 {
        words.push_str(&format!("; {} left out by flags and verdicts", grouped(counts.left_out)));
    }
    if counts.without_value > 0 {
        words.push_str(&format!("; {} from before a calibration held, or no number", grouped(counts.without_value)));
    }
    words
}

/// What is to be said of a record that is read seldom: between two readings a line is drawn.
pub fn sparse(between: SpanSeconds) -> Option<String> {
    (between > SpanSeconds(6 * 3600))
        .then(|| format!("Readings come about every {}: between two of them a line is drawn.", between.in_words()))
}

/// A number that a field of the query holds: nothing if it is empty, a sentence if it is none or out of range.
pub fn number(text: Option<&str>, name: &str, range: std::ops::RangeInclusive<f64>) -> Result<Option<f64>, String> {
    let Some(text) = text.map(str::trim).filter(|t| !t.is_empty()) else { return Ok(None) };
    let value = read_number(text)?;
    if range.contains(&value) {
        return Ok(Some(value));
    }
    Err(format!("{name}: give a number from {} to {}.", range.start(), range.end()))
}

/// Months in short, from January.
const MONTHS: [&str; 12] = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/// "Jul 2025".
pub fn month((year, month): (i32, u8)) -> String {
    format!("{} {year}", MONTHS[usize::from(month.clamp(1, 12) - 1)])
}

/// A part of the days in words.
pub fn part(of: Part) -> String {
    match of {
        Part::All => "all days".into(),
        Part::Season(year, Season::Winter) => format!("Dec {}–Feb {year}", year - 1),
        Part::Season(year, season) => format!("{} {year}", season.months()),
        Part::Month(year, of) => month((year, of)),
        Part::Wet => "days with rain".into(),
        Part::Dry => "days without rain".into(),
    }
}

/// Where the strips show a stretch of time.
pub fn strips(station: i64, from: UnixSeconds, to: UnixSeconds, show: &str) -> String {
    format!("/stations/{station}?from={}&to={}&show={show}", from.0, to.0)
}

/// "31 Aug 2026".
pub fn date(t: UnixSeconds, offset: i64) -> String {
    when(t, offset, "%-d %b %Y")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_of_a_query_are_read_or_refused_with_their_name() {
        assert_eq!(number(None, "Depth", 1.0..=300.0), Ok(None));
        assert_eq!(number(Some(" "), "Depth", 1.0..=300.0), Ok(None));
        assert_eq!(number(Some("12,5"), "Depth", 1.0..=300.0), Ok(Some(12.5)));
        assert_eq!(number(Some("0"), "Depth", 1.0..=300.0), Err("Depth: give a number from 1 to 300.".into()));
        assert!(number(Some("deep"), "Depth", 1.0..=300.0).is_err());
    }

    #[test]
    fn a_winter_has_two_years_and_what_was_left_out_is_counted() {
        assert_eq!(part(Part::Season(2025, Season::Winter)), "Dec 2024–Feb 2025");
        assert_eq!(part(Part::Month(2025, 7)), "Jul 2025");
        let counts = Counts { used: 41_000, left_out: 12, ..Counts::default() };
        assert_eq!(counted(counts), "41\u{202f}000 readings; 12 left out by flags and verdicts");
        assert!(counted(Counts { under_condition: 3, ..counts }).contains("(3 of them frozen"));
        assert_eq!(sparse(SpanSeconds(3600)), None);
        assert!(sparse(SpanSeconds(7 * 86_400)).is_some_and(|s| s.contains("7 days")));
    }
}
