//! Times of a file to seconds of UTC, by what its clock shows.

use super::form::{Civil, TimeForm};
use super::recipe::{Clock, Times};
use ebrel_core::units::UnixSeconds;
use jiff::Timestamp;
use jiff::tz::{AmbiguousOffset, Offset, TimeZone};
use std::collections::BTreeMap;
use thiserror::Error;

/// Why a cell is no time.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Error)]
pub enum TimeError {
    /// It has another form.
    #[error("the time is not of the form {0}")]
    Form(String),
    /// The clock was put forward over it.
    #[error(
        "the time does not exist: the clock was put forward over it; is the logger's time really with summer time?"
    )]
    Skipped,
    /// Before 1970 or after 2200: a clock that was never set.
    #[error("the time lies before 1970 or after 2200: the logger's clock was not set")]
    Absurd,
    /// A word that should tell the zone, and does not.
    #[error("“{0}” tells no offset from UTC: say what it means at “the logger's clock”")]
    Word(String),
    /// No such zone.
    #[error("there is no time zone “{0}”: take a name like Europe/Paris, or a fixed offset")]
    Zone(String),
    /// A form that cannot be used.
    #[error("the form of the time “{0}” cannot be used: {1}")]
    NoForm(String, String),
}

/// Whether a time zone of this name is known.
#[must_use]
pub fn zone_exists(name: &str) -> bool {
    TimeZone::get(name).is_ok()
}

/// Abbreviations of zones that mean one offset wherever loggers are read, minutes east of UTC.
const ZONE_WORDS: [(&str, i32); 24] = [
    ("utc", 0),
    ("gmt", 0),
    ("z", 0),
    ("wet", 0),
    ("bst", 60),
    ("west", 60),
    ("cet", 60),
    ("mez", 60),
    ("cest", 120),
    ("mesz", 120),
    ("eet", 120),
    ("eest", 180),
    ("est", -300),
    ("edt", -240),
    ("mst", -420),
    ("mdt", -360),
    ("pst", -480),
    ("pdt", -420),
    ("aest", 600),
    ("aedt", 660),
    ("acst", 570),
    ("acdt", 630),
    ("nzst", 720),
    ("nzdt", 780),
];

/// Minutes east of UTC that the abbreviation of a zone means.
pub(super) fn zone_word(word: &str) -> Option<i32> {
    ZONE_WORDS.iter().find(|(w, _)| word.eq_ignore_ascii_case(w)).map(|(_, minutes)| *minutes)
}

enum Shown {
    Fixed(i64),
    Zone(TimeZone),
    Words(BTreeMap<String, i32>),
}

/// Reads times of one file in the order in which they stand; the order decides which of the two hours is meant when
/// the clock is put back.
pub(super) struct TimeReader {
    forms: Vec<(String, TimeForm)>,
    /// The form that fitted last.
    at: usize,
    shown: Shown,
    newest_first: bool,
    last: Option<i64>,
    /// Hour of the clock whose offset is known, and that offset.
    hour: (i64, i64),
}

impl TimeReader {
    pub fn new(times: &Times) -> Result<Self, TimeError> {
        let shown = match &times.clock {
            Clock::Fixed(minutes) => Offset::from_seconds(minutes.saturating_mul(60))
                .map(|o| Shown::Fixed(i64::from(o.seconds())))
                .map_err(|_| TimeError::Zone(format!("UTC{minutes:+} min")))?,
            Clock::Zone(name) => Shown::Zone(TimeZone::get(name).map_err(|_| TimeError::Zone(name.clone()))?),
            Clock::Words(words) => Shown::Words(words.clone()),
        };
        let form = |f: &String| {
            let made = TimeForm::new(f).map_err(|e| TimeError::NoForm(f.clone(), e))?;
            Ok((f.clone(), made))
        };
        let forms: Vec<_> = times.forms.iter().map(form).collect::<Result<_, TimeError>>()?;
        if forms.is_empty() {
            return Err(TimeError::NoForm(String::new(), "none is given".into()));
        }
        Ok(Self { forms, at: 0, shown, newest_first: times.newest_first, last: None, hour: (i64::MIN, 0) })
    }

    /// The time that the clock showed, seconds since 1970 as if it were UTC.
    fn civil<'t>(&mut self, text: &'t str) -> Option<Civil<'t>> {
        if let Some(civil) = self.forms[self.at].1.read(text) {
            return Some(civil);
        }
        let (at, civil) = self.forms.iter().enumerate().find_map(|(i, (_, f))| Some((i, f.read(text)?)))?;
        self.at = at;
        Some(civil)
    }

    pub fn read(&mut self, text: &str) -> Result<UnixSeconds, TimeError> {
        let Some(civil) = self.civil(text) else { return Err(TimeError::Form(self.forms[0].0.clone())) };
        let offset = match (civil.offset, &self.shown) {
            (Some(offset), _) => i64::from(offset),
            (None, Shown::Fixed(offset)) => *offset,
            (None, Shown::Words(words)) => {
                let word = civil.zone.unwrap_or_default();
                let told = words.get(word).copied().or_else(|| zone_word(word));
                i64::from(told.ok_or_else(|| TimeError::Word(word.to_owned()))?) * 60
            }
            (None, Shown::Zone(zone)) => {
                let hour = civil.seconds.div_euclid(3600);
                if self.hour.0 == hour { self.hour.1 } else { self.in_zone(&zone.clone(), civil.seconds)? }
            }
        };
        let seconds = civil.seconds - offset;
        self.last = Some(seconds);
        const YEAR_2200: i64 = 7_258_118_400;
        if (0..YEAR_2200).contains(&seconds) { Ok(UnixSeconds(seconds)) } else { Err(TimeError::Absurd) }
    }

    /// Seconds east of UTC of a zone at the time that its clock shows.
    fn in_zone(&mut self, zone: &TimeZone, civil: i64) -> Result<i64, TimeError> {
        let shown = Timestamp::from_second(civil).map_err(|_| TimeError::Absurd)?;
        let ambiguous = zone.to_ambiguous_timestamp(Offset::UTC.to_datetime(shown));
        Ok(match ambiguous.offset() {
            AmbiguousOffset::Unambiguous { offset } => {
                let offset = i64::from(offset.seconds());
                self.hour = (civil.div_euclid(3600), offset);
                offset
            }
            AmbiguousOffset::Gap { .. } => return Err(TimeError::Skipped),
            AmbiguousOffset::Fold { before, after } => {
                let (summer, normal) = (i64::from(before.seconds()), i64::from(after.seconds()));
                // The hour stands twice: in order of time it is summer time first.
                let summer_is_next = if self.newest_first {
                    self.last.is_some_and(|last| civil - normal >= last)
                } else {
                    self.last.is_none_or(|last| civil - summer > last)
                };
                if summer_is_next { summer } else { normal }
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reader(form: &str, clock: Clock, newest_first: bool) -> TimeReader {
        TimeReader::new(&Times { columns: vec![0], forms: vec![form.into()], clock, newest_first }).unwrap()
    }

    fn read(reader: &mut TimeReader, texts: &[&str]) -> Vec<String> {
        texts.iter().map(|t| reader.read(t).map_or_else(|e| e.to_string(), crate::rfc3339)).collect()
    }

    #[test]
    fn the_hour_that_stands_twice_is_summer_time_first() {
        let paris = || Clock::Zone("Europe/Paris".into());
        let texts = ["2025-10-26 01:00", "2025-10-26 02:00", "2025-10-26 02:00", "2025-10-26 03:00"];
        let hours = ["2025-10-25T23:00:00Z", "2025-10-26T00:00:00Z", "2025-10-26T01:00:00Z", "2025-10-26T02:00:00Z"];
        assert_eq!(read(&mut reader("%Y-%m-%d %H:%M", paris(), false), &texts), hours);
        let (mut back, mut hours_back) = (texts, hours);
        back.reverse();
        hours_back.reverse();
        assert_eq!(read(&mut reader("%Y-%m-%d %H:%M", paris(), true), &back), hours_back, "the newest first");
        let skipped = read(&mut reader("%Y-%m-%d %H:%M", paris(), false), &["2026-03-29 02:30"]);
        assert!(skipped[0].contains("does not exist"), "{skipped:?}");
    }

    #[test]
    fn a_letter_tells_summer_from_normal_time() {
        let words = Clock::Words([("S".to_owned(), 180), ("N".to_owned(), 120)].into());
        let got = read(
            &mut reader("%Y-%m-%d %H:%M %Z", words, false),
            &["2025-10-26 03:30 S", "2025-10-26 03:30 N", "2025-10-26 04:00 Q"],
        );
        assert_eq!(got[..2], ["2025-10-26T00:30:00Z", "2025-10-26T01:30:00Z"]);
        assert!(got[2].contains("“Q” tells no offset"), "{got:?}");
        let known = Clock::Words(BTreeMap::new());
        let got =
            read(&mut reader("%d.%m.%Y %H:%M %Z", known, false), &["26.10.2025 02:30 MESZ", "26.10.2025 02:30 MEZ"]);
        assert_eq!(got, ["2025-10-26T00:30:00Z", "2025-10-26T01:30:00Z"]);
    }

    #[test]
    fn a_clock_that_was_never_set_is_said_and_one_that_is_unknown_refused() {
        let utc = || Clock::Fixed(0);
        assert!(
            read(&mut reader("%Y-%m-%d %H:%M", utc(), false), &["1904-01-01 00:00"])[0].contains("clock was not set")
        );
        let times = |clock| Times { columns: vec![0], forms: vec!["%s".into()], clock, newest_first: false };
        assert!(TimeReader::new(&times(Clock::Zone("Mars/Base".into()))).is_err());
        assert!(TimeReader::new(&times(Clock::Fixed(99_999))).is_err());
    }
}
