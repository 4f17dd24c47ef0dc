//! Times as loggers write them.

use super::recipe::Clock;
use ebrel_core::units::UnixSeconds;
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::fmt::strtime;
use jiff::tz::{AmbiguousOffset, Offset, TimeZone};
use thiserror::Error;

/// Why a cell is no time.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum TimeError {
    /// It has another form.
    #[error("“{0}” is no time of the form {1}")]
    Form(String, String),
    /// The clock was put forward over it.
    #[error("“{0}” does not exist: the clock was put forward over it; is the logger's time really with summer time?")]
    Skipped(String),
    /// Before 1970 or after 2200: a clock that was never set.
    #[error("“{0}” lies before 1970 or after 2200: the logger's clock was not set")]
    Absurd(String),
    /// No such zone.
    #[error("there is no time zone “{0}”: take a name like Europe/Paris, or a fixed offset")]
    Zone(String),
}

/// Whether a time zone of this name is known.
#[must_use]
pub fn zone_exists(name: &str) -> bool {
    TimeZone::get(name).is_ok()
}

/// Reads times of one file in the order in which they stand; the order decides which of the two hours is meant when
/// the clock is put back.
pub(super) struct TimeReader {
    pattern: String,
    zone: TimeZone,
    last: Option<Timestamp>,
}

impl TimeReader {
    pub fn new(pattern: &str, clock: &Clock) -> Result<Self, TimeError> {
        let zone = match clock {
            Clock::Fixed(minutes) => Offset::from_seconds(minutes * 60)
                .map(TimeZone::fixed)
                .map_err(|_| TimeError::Zone(format!("UTC{minutes:+} min")))?,
            Clock::Zone(name) => TimeZone::get(name).map_err(|_| TimeError::Zone(name.clone()))?,
        };
        let zone = if pattern.ends_with('Z') { TimeZone::UTC } else { zone };
        Ok(Self { pattern: pattern.to_owned(), zone, last: None })
    }

    pub fn read(&mut self, text: &str) -> Result<UnixSeconds, TimeError> {
        let form = || TimeError::Form(text.to_owned(), self.pattern.clone());
        let timestamp = if self.pattern == "%s" {
            let seconds = text.parse::<i64>().map_err(|_| form())?;
            Timestamp::from_second(seconds).map_err(|_| TimeError::Absurd(text.to_owned()))?
        } else {
            let parsed = strtime::parse(&self.pattern, text).map_err(|_| form())?;
            let civil = parsed.to_datetime().map_err(|_| form())?;
            match parsed.offset() {
                Some(offset) => offset.to_timestamp(civil).map_err(|_| form())?,
                None => self.resolve(civil, text)?,
            }
        };
        self.last = Some(timestamp);
        let seconds = timestamp.as_second();
        const YEAR_2200: i64 = 7_258_118_400;
        if (0..YEAR_2200).contains(&seconds) {
            Ok(UnixSeconds(seconds))
        } else {
            Err(TimeError::Absurd(text.to_owned()))
        }
    }

    fn resolve(&self, civil: DateTime, text: &str) -> Result<Timestamp, TimeError> {
        let ambiguous = self.zone.to_ambiguous_timestamp(civil);
        let absurd = |_| TimeError::Absurd(text.to_owned());
        match ambiguous.offset() {
            AmbiguousOffset::Unambiguous { offset } => offset.to_timestamp(civil).map_err(absurd),
            AmbiguousOffset::Gap { .. } => Err(TimeError::Skipped(text.to_owned())),
            AmbiguousOffset::Fold { before, after } => {
                // The hour stands twice: the first time it is summer time.
                let first = before.to_timestamp(civil).map_err(absurd)?;
                if self.last.is_none_or(|last| first > last) {
                    Ok(first)
                } else {
                    after.to_timestamp(civil).map_err(absurd)
                }
            }
        }
    }
}

/// Every form that is tried, dates with the year first before those with the day or the month first.
pub(super) fn patterns() -> Vec<String> {
    let mut out = vec!["%Y-%m-%dT%H:%M:%S%.fZ".to_owned(), "%Y-%m-%dT%H:%M:%S%:z".into(), "%Y-%m-%dT%H:%M:%SZ".into()];
    let dates = ["%Y-%m-%d", "%Y/%m/%d", "%Y.%m.%d", "%d.%m.%Y", "%m/%d/%Y", "%d/%m/%Y", "%d-%m-%Y", "%m-%d-%Y"];
    let short =
        ["%d.%m.%y", "%m/%d/%y", "%d/%m/%y", "%y-%m-%d", "%y/%m/%d", "%d-%b-%Y", "%d-%b-%y", "%d %b %Y", "%b %d %Y"];
    let times = ["%H:%M:%S", "%H:%M", "%I:%M:%S %p", "%I:%M %p", "%H:%M:%S%.f", "%H.%M", "%H:%M:%SZ", "%H:%MZ"];
    for date in dates.iter().chain(&short) {
        for time in times {
            out.push(format!("{date} {time}"));
            if date.starts_with("%Y") {
                out.push(format!("{date}T{time}"));
            }
        }
    }
    out.push("%Y%m%d %H%M%S".into());
    out.push("%Y%m%d%H%M%S".into());
    out.push("%Y%m%d%H%M".into());
    out.push("%s".into());
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(pattern: &str, clock: &Clock, texts: &[&str]) -> Vec<String> {
        let mut reader = TimeReader::new(pattern, clock).unwrap();
        texts.iter().map(|t| reader.read(t).map_or_else(|e| e.to_string(), crate::rfc3339)).collect()
    }

    #[test]
    fn forms_of_the_field() {
        let utc = Clock::Fixed(0);
        assert_eq!(read("%d.%m.%Y %H:%M", &Clock::Fixed(60), &["10.6.2026 00:00"]), ["2026-06-09T23:00:00Z"]);
        assert_eq!(read("%m/%d/%y %I:%M %p", &utc, &["10/20/25 12:00 AM"]), ["2025-10-20T00:00:00Z"]);
        assert_eq!(read("%Y-%m-%dT%H:%MZ", &Clock::Fixed(60), &["2026-04-02T09:06Z"]), ["2026-04-02T09:06:00Z"]);
        assert_eq!(read("%Y-%m-%dT%H:%M:%S%:z", &utc, &["2026-04-02T09:06:00+02:00"]), ["2026-04-02T07:06:00Z"]);
    }

    #[test]
    fn the_hour_that_stands_twice_is_summer_time_first() {
        let paris = Clock::Zone("Europe/Paris".into());
        let got = read(
            "%Y-%m-%d %H:%M",
            &paris,
            &["2025-10-26 01:00", "2025-10-26 02:00", "2025-10-26 02:00", "2025-10-26 03:00"],
        );
        assert_eq!(
            got,
            ["2025-10-25T23:00:00Z", "2025-10-26T00:00:00Z", "2025-10-26T01:00:00Z", "2025-10-26T02:00:00Z"]
        );
        let skipped = read("%Y-%m-%d %H:%M", &paris, &["2026-03-29 02:30"]);
        assert!(skipped[0].contains("does not exist"), "{skipped:?}");
    }

    #[test]
    fn a_clock_that_was_never_set_is_said() {
        assert!(read("%Y-%m-%d %H:%M", &Clock::Fixed(0), &["1904-01-01 00:00"])[0].contains("clock was not set"));
        assert!(TimeReader::new("%s", &Clock::Zone("Mars/Base".into())).is_err());
    }
}
