//! A calendar as iCalendar (RFC 5545): whole days, repeated by rule, the same bytes for the same plan.

use chrono::{DateTime, NaiveDate, Utc};
use ebrel_core::planning::Entry;
use ebrel_core::units::UnixSeconds;
use icalendar::{Calendar, Component, Event, EventLike};

fn moment(t: UnixSeconds) -> DateTime<Utc> {
    DateTime::from_timestamp(t.0, 0).unwrap_or_default()
}

fn day(t: UnixSeconds) -> NaiveDate {
    moment(t).date_naive()
}

/// Writes the calendar of one station. `stamp` is the moment from which the plan dates, `station` its code.
#[must_use]
pub fn write(name: &str, station: &str, entries: &[Entry], stamp: UnixSeconds) -> String {
    let mut calendar = Calendar::new();
    calendar.name(name);
    for entry in entries {
        let mut event = Event::new();
        event
            .uid(&format!("{}-{station}@ebrel.invalid", entry.code))
            .timestamp(moment(stamp))
            .summary(&entry.what)
            .description(&entry.why)
            .starts(day(entry.from))
            .ends(day(entry.until));
        if let Some((days, times)) = entry.repeats {
            event.add_property("RRULE", format!("FREQ=DAILY;INTERVAL={days};COUNT={times}"));
        }
        calendar.push(event.done());
    }
    calendar.done().to_string()
}

#[cfg(test)]
mod tests {
    use super::*;
    use icalendar::parser::{read_calendar, unfold};

    fn entry(code: &str, from: i64, what: &str, repeats: Option<(i64, u32)>) -> Entry {
        let (from, until) = (UnixSeconds(from), UnixSeconds(from + 86_400));
        Entry {
            code: code.into(),
            from,
            until,
            what: what.into(),
            why: "commas, semicolons; and\nlines".into(),
            repeats,
        }
    }

    #[test]
    fn a_parser_reads_back_what_was_written() {
        let long = "Ride edge: ".to_owned() + &"a very long summary, ".repeat(12);
        let entries =
            [entry("install", 1_772_323_200, &long, None), entry("visit", 1_774_742_400, "Visit", Some((28, 13)))];
        let text = write("Ostrelle Wood, Ride edge", "ride", &entries, UnixSeconds(1_772_000_000));
        assert_eq!(
            text,
            write("Ostrelle Wood, Ride edge", "ride", &entries, UnixSeconds(1_772_000_000)),
            "the same bytes"
        );
        assert!(
            text.lines().all(|l| l.len() <= 75) && text.contains("\r\n"),
            "lines are folded and end as the RFC has it"
        );
        let unfolded = unfold(&text);
        let read = read_calendar(&unfolded).unwrap();
        let property = |i: usize, name: &str| read.components[i].find_prop(name).unwrap().val.to_string();
        assert_eq!(read.components.len(), 2);
        assert_eq!([property(0, "DTSTART"), property(0, "DTEND")], ["20260301", "20260302"]);
        assert_eq!(property(0, "UID"), "install-ride@ebrel.invalid");
        assert!(property(0, "SUMMARY").contains("a very long summary"));
        assert_eq!(property(1, "RRULE"), "FREQ=DAILY;INTERVAL=28;COUNT=13");
    }
}
