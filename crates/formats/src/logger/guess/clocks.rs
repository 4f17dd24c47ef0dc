//! What the logger's clock shows: by what the file says of it, by summer time in the record itself, or as the study has it.

use super::super::clock::zone_exists;
use super::super::column::{Column, Reading};
use super::super::keep::Keeper;
use super::super::pass::Taker;
use super::super::recipe::Clock;
use ebrel_core::units::UnixSeconds;
use jiff::tz::TimeZone;
use jiff::{Timestamp, civil};
use std::collections::BTreeMap;

/// "UTC+1", "UTC-03:30", "GMT", "TZ=+02": minutes east of UTC that a line tells, by a word that says one and by no other ("outcome"
/// holds the letters too). A line that tells of two ("N = UTC+1, S = UTC+2") tells none.
pub(super) fn offset_in(line: &str) -> Option<i32> {
    let upper = line.to_uppercase();
    let words = ["UTC", "GMT", "TZ", "TIMEZONE", "TIME ZONE", "ZEITZONE", "ZONE"];
    let mut told = words.iter().flat_map(|word| upper.match_indices(word)).filter_map(|(at, word)| {
        let before = upper[..at].chars().next_back();
        let rest = &upper[at + word.len()..];
        let alone = !before.is_some_and(char::is_alphanumeric) && !rest.starts_with(char::is_alphanumeric);
        let zero_alone = matches!(word, "UTC" | "GMT");
        alone
            .then(|| offset_after(rest.trim_start_matches([' ', ':', '=', ';', ',', '"', '\t', '(']), zero_alone))
            .flatten()
    });
    let first = told.next()?;
    told.all(|other| other == first).then_some(first)
}

/// What stands behind a word for UTC: nothing is no offset at all.
fn offset_after(rest: &str, zero_alone: bool) -> Option<i32> {
    let sign = match rest.chars().next() {
        Some('+' | '±') => 1,
        Some('-' | '−') => -1,
        _ => return zero_alone.then_some(0),
    };
    let digits: String =
        rest.chars().skip(1).skip_while(|c| *c == ' ').take_while(|c| c.is_ascii_digit() || *c == ':').collect();
    let (hours, minutes) = digits.split_once(':').unwrap_or((&digits, "0"));
    // "+0130" has no colon.
    let (hours, minutes) = if hours.len() == 4 && minutes == "0" { hours.split_at(2) } else { (hours, minutes) };
    let minutes = hours.parse::<i32>().ok()? * 60 + minutes.parse::<i32>().unwrap_or(0);
    (minutes <= 14 * 60).then_some(sign * minutes)
}

/// A line that is nothing but a word for the zone and an offset: `Z;+0200`.
pub(super) fn bare_offset(cells: &[String]) -> Option<i32> {
    let filled: Vec<&String> = cells.iter().filter(|c| !c.is_empty()).collect();
    let [word, offset] = filled[..] else { return None };
    let zone =
        ["z", "tz", "zone", "timezone", "utc", "gmt", "offset", "zeitzone"].contains(&word.to_lowercase().as_str());
    (zone && offset.starts_with(['+', '-', '−'])).then(|| offset_after(offset, false)).flatten()
}

/// A zone that a line names ("Europe/Paris").
pub(super) fn zone_in(line: &str) -> Option<String> {
    let words = line.split(|c: char| !(c.is_alphanumeric() || matches!(c, '/' | '_' | '-' | '+')));
    words.filter(|w| w.contains('/') && w.starts_with(char::is_alphabetic)).find(|w| zone_exists(w)).map(str::to_owned)
}

/// What letters mean that the file explains: `N = UTC+2, S = UTC+3`.
pub(super) fn words_in(line: &str) -> Vec<(String, i32)> {
    let mut out = Vec::new();
    for part in line.split([',', ';', '/', '|']) {
        let Some((word, told)) = part.split_once(['=', ':']) else { continue };
        let word = word.trim().rsplit(' ').next().unwrap_or_default().trim_matches(|c: char| !c.is_alphanumeric());
        if let (1..=5, Some(minutes)) = (word.len(), offset_in(told)) {
            out.push((word.to_owned(), minutes));
        }
    }
    out
}

/// Representative zones of the usual rules for summer time.
const ZONES: [&str; 19] = [
    "Europe/Paris",
    "Europe/London",
    "Europe/Helsinki",
    "Atlantic/Azores",
    "America/New_York",
    "America/Chicago",
    "America/Denver",
    "America/Los_Angeles",
    "America/Halifax",
    "America/Anchorage",
    "America/St_Johns",
    "Australia/Sydney",
    "Australia/Adelaide",
    "Pacific/Auckland",
    "America/Santiago",
    "Africa/Cairo",
    "Asia/Jerusalem",
    "Asia/Beirut",
    "America/Havana",
];

/// Pairs of neighbouring times around the nights in which clocks are changed.
#[derive(Default)]
pub(super) struct Nights {
    /// Whether several lines share a time, so that a time that stands again says nothing.
    long: bool,
    last: Option<(usize, i64)>,
    /// By the day of the earlier of the two.
    pairs: BTreeMap<i64, Vec<(i64, i64)>>,
    kept: usize,
}

/// Pairs that are kept at most.
const MOST_PAIRS: usize = 200_000;

impl Nights {
    pub fn new(long: bool) -> Self {
        Self { long, ..Self::default() }
    }
}

impl Taker for Nights {
    fn record(&mut self, table: usize, time: UnixSeconds) {
        let before = self.last.replace((table, time.0));
        let Some((_, last)) = before.filter(|(t, _)| *t == table) else { return };
        if self.kept < MOST_PAIRS && !(self.long && last == time.0) && (in_a_night(last) || in_a_night(time.0)) {
            self.kept += 1;
            self.pairs.entry(last.min(time.0).div_euclid(86_400)).or_default().push((last, time.0));
        }
    }
}

/// What a guess wants to know of a whole file.
pub(super) struct NightsAndReadings<F>(pub Nights, pub Keeper<F>);

impl<F: Fn(usize) -> usize> Taker for NightsAndReadings<F> {
    fn reading(&mut self, reading: Reading) {
        self.1.reading(reading);
    }

    fn record(&mut self, table: usize, time: UnixSeconds) {
        self.0.record(table, time);
    }

    fn line(&mut self, number: usize, columns: &[Column]) -> bool {
        self.1.line(number, columns)
    }
}

/// Whether clocks may be changed about this time: the end of a week from March to May or September to November, in the night. Most
/// regions change on Sundays, some on Fridays or Thursdays.
fn in_a_night(civil: i64) -> bool {
    let day = civil.div_euclid(86_400);
    let weekday = (day + 3).rem_euclid(7); // Monday is 0
    let hour = civil.rem_euclid(86_400) / 3600;
    let of_year = (civil.rem_euclid(31_556_952)) / 86_400;
    let season = (55..150).contains(&of_year) || (235..325).contains(&of_year);
    season
        && match weekday {
            6 => hour < 5,
            3..=5 => !(4..22).contains(&hour),
            _ => false,
        }
}

/// What the record itself says of summer time.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct SummerTime {
    pub zone: String,
    /// Days on which an hour stands twice, and on which one is missing.
    pub twice: Vec<civil::Date>,
    pub missing: Vec<civil::Date>,
}

impl Nights {
    /// The zone whose changes of the clock the record shows. Zones with the same changes are told apart by `offset_minutes`, the study's.
    pub fn summer_time(
        &self,
        interval: i64,
        extent: (i64, i64),
        offset_minutes: i32,
        newest_first: bool,
    ) -> Option<SummerTime> {
        let mut best: Option<((usize, i32), SummerTime)> = None;
        for name in ZONES {
            let Ok(zone) = TimeZone::get(name) else { continue };
            let Some((shown, against, standard)) = self.shown(&zone, name, interval, extent, newest_first) else {
                continue;
            };
            let support = shown.twice.len() + shown.missing.len();
            if support == 0 || against * 3 > support {
                continue;
            }
            let rank = (support, -(standard - offset_minutes).abs());
            if best.as_ref().is_none_or(|(b, _)| rank > *b) {
                best = Some((rank, shown));
            }
        }
        best.map(|(_, shown)| shown)
    }

    /// Changes of a zone's clock that the record shows, how many it contradicts, and the zone's normal offset in minutes.
    fn shown(
        &self,
        zone: &TimeZone,
        name: &str,
        interval: i64,
        extent: (i64, i64),
        newest_first: bool,
    ) -> Option<(SummerTime, usize, i32)> {
        let from = Timestamp::from_second(extent.0 - 86_400 * 2).ok()?;
        let until = Timestamp::from_second(extent.1 + 86_400 * 2).ok()?;
        let mut shown = SummerTime { zone: name.to_owned(), twice: Vec::new(), missing: Vec::new() };
        let mut against = 0;
        let mut before = i64::from(zone.to_offset(from).seconds());
        let mut standard = before;
        for change in zone.following(from).take_while(|t| t.timestamp() < until) {
            let after = i64::from(change.offset().seconds());
            let (old, new) = (change.timestamp().as_second() + before, change.timestamp().as_second() + after);
            let jump = after - before;
            (before, standard) = (after, standard.min(after));
            if jump.abs() != 3600 || old < extent.0 || old > extent.1 {
                continue;
            }
            let date = jiff::tz::Offset::UTC.to_datetime(Timestamp::from_second(new).ok()?).date();
            let ordered = |(a, b): &(i64, i64)| if newest_first { (*b, *a) } else { (*a, *b) };
            let day = old.div_euclid(86_400);
            let night: Vec<(i64, i64)> =
                self.pairs.range(day - 1..=day).flat_map(|(_, pairs)| pairs).map(ordered).collect();
            let mut pairs = night.iter().copied();
            if jump > 0 {
                // The hour from old to new never stood on the clock.
                if night.iter().any(|(a, b)| [a, b].into_iter().any(|t| *t >= old && *t < new)) {
                    against += 1;
                } else if pairs.any(|(a, b)| a < old && b >= new && b - a == interval + 3600) {
                    shown.missing.push(date);
                }
            } else {
                // The hour from new to old stood twice.
                if pairs.any(|(a, b)| a < old && b - a == interval - 3600 && a + interval >= old) {
                    shown.twice.push(date);
                } else if night.iter().any(|&(a, b)| a < old && b >= old && b - a == interval) {
                    against += 1;
                }
            }
        }
        Some((shown, against, i32::try_from(standard / 60).ok()?))
    }
}

/// The clock by the offset that is taken where nothing tells it.
pub(super) const fn assumed(offset_minutes: i32) -> Clock {
    Clock::Fixed(offset_minutes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_offset_is_read_from_words_that_say_one() {
        assert_eq!(offset_in("# clock is UTC+1 all year"), Some(60));
        assert_eq!(offset_in("\"clock UTC-03:30\""), Some(-210));
        assert_eq!(offset_in("time (UTC)"), Some(0));
        assert_eq!(offset_in("# c3 hhmm, times are UTC, end of interval"), Some(0));
        assert_eq!(offset_in("node 03"), None);
        assert_eq!(offset_in("outcome of the season"), None, "the letters are no word");
        assert_eq!(offset_in("utcp 4, MYGMT"), None);
        assert_eq!(offset_in("N = UTC+2, S = UTC+3"), None, "two offsets are none");
        assert_eq!(offset_in("UTC+0530; all times UTC+05:30"), Some(330));
        assert_eq!(offset_in("θUTC θ UTC−1"), Some(-60));
        assert_eq!(offset_in("UTC+2026"), None);
        assert_eq!(offset_in("; moss wall, stamps UTC+9:30"), Some(570));
        assert_eq!(offset_in("TZ=+02"), Some(120));
        assert_eq!(offset_in("time zone: -5"), Some(-300));
        assert_eq!(offset_in("root zone"), None);
        assert_eq!(bare_offset(&["Z".into(), "+0200".into(), String::new()]), Some(120));
        assert_eq!(bare_offset(&["battery".into(), "+12".into()]), None);
        assert_eq!(zone_in("clock: Europe/Paris, set by hand"), Some("Europe/Paris".into()));
        assert_eq!(zone_in("wet/dry and/or"), None);
        assert_eq!(words_in("N = UTC+2, S = UTC+3"), [("N".into(), 120), ("S".into(), 180)]);
    }

    /// Civil times of a zone's clock over a time, one a so many minutes.
    fn kept(zone: &str, from: &str, days: i64, minutes: i64) -> Vec<i64> {
        let zone = TimeZone::get(zone).unwrap();
        let start: Timestamp = from.parse().unwrap();
        (0..days * 1440 / minutes)
            .map(|i| start.as_second() + i * minutes * 60)
            .map(|t| t + i64::from(zone.to_offset(Timestamp::from_second(t).unwrap()).seconds()))
            .collect()
    }

    fn found(civil: &[i64], minutes: i64, offset: i32) -> Option<SummerTime> {
        let mut nights = Nights::default();
        civil.iter().for_each(|t| nights.record(0, UnixSeconds(*t)));
        let extent = (*civil.iter().min().unwrap(), *civil.iter().max().unwrap());
        nights.summer_time(minutes * 60, extent, offset, civil[0] > civil[9])
    }

    #[test]
    fn summer_time_is_found_anywhere_in_a_record_by_its_missing_or_doubled_hour() {
        for (zone, offset) in [
            ("Europe/Paris", 0),
            ("Europe/London", 0),
            ("Europe/Helsinki", 0),
            ("America/Chicago", -360),
            ("America/New_York", -300),
            ("Australia/Sydney", 600),
            ("Pacific/Auckland", 720),
            ("America/Santiago", -240),
        ] {
            for minutes in [10, 15, 30, 60] {
                let year = kept(zone, "2023-01-15T00:00:00Z", 360, minutes);
                let got = found(&year, minutes, offset).unwrap_or_else(|| panic!("{zone} {minutes}"));
                assert_eq!((got.zone.as_str(), got.twice.len(), got.missing.len()), (zone, 1, 1), "{minutes}");
                let back: Vec<i64> = year.into_iter().rev().collect();
                assert_eq!(found(&back, minutes, offset).unwrap().zone, zone, "the newest first");
            }
            let half = kept(zone, "2023-01-15T00:00:00Z", 150, 15);
            assert!(found(&half, 15, offset).is_some_and(|s| s.zone == zone), "one change is enough: {zone}");
        }
    }

    #[test]
    fn a_fixed_clock_and_an_outage_are_no_summer_time() {
        for minutes in [10, 15, 60] {
            assert_eq!(found(&kept("UTC", "2020-01-01T00:00:00Z", 1500, minutes), minutes, 60), None);
        }
        let mut gap = kept("UTC", "2023-01-01T00:00:00Z", 200, 15);
        gap.retain(|t| !(1_679_792_400..1_679_799_600).contains(t)); // two hours of the night of 26 March 2023
        assert_eq!(found(&gap, 15, 60), None);
    }
}
