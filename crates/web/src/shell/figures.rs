//! Numbers and times as they stand on a page.

use ebrel_core::units::UnixSeconds;
use jiff::Timestamp;
use jiff::civil::DateTime;
use jiff::tz::Offset;

pub use ebrel_core::units::{format_value as fixed, grouped, signed};

fn civil(t: UnixSeconds, offset_minutes: i64) -> Option<DateTime> {
    let offset = Offset::from_seconds(i32::try_from(offset_minutes * 60).ok()?).ok()?;
    Some(offset.to_datetime(Timestamp::from_second(t.0).ok()?))
}

/// A time in the study's fixed offset, by a strftime form.
#[must_use]
pub fn when(t: UnixSeconds, offset_minutes: i64, form: &str) -> String {
    civil(t, offset_minutes).map_or_else(|| t.0.to_string(), |c| c.strftime(form).to_string())
}

/// `22 Jun 2026 08:30`.
#[must_use]
pub fn moment(t: UnixSeconds, offset_minutes: i64) -> String {
    when(t, offset_minutes, "%-d %b %Y %H:%M")
}

/// Two times as one span, without saying twice what they share.
#[must_use]
pub fn span(start: UnixSeconds, end: UnixSeconds, offset_minutes: i64) -> String {
    let day = |t| when(t, offset_minutes, "%-d %b %Y");
    if start == end {
        moment(start, offset_minutes)
    } else if day(start) == day(end) {
        format!("{}–{}", moment(start, offset_minutes), when(end, offset_minutes, "%H:%M"))
    } else if when(start, offset_minutes, "%Y") == when(end, offset_minutes, "%Y") {
        format!("{} – {}", when(start, offset_minutes, "%-d %b %H:%M"), moment(end, offset_minutes))
    } else {
        format!("{} – {}", moment(start, offset_minutes), moment(end, offset_minutes))
    }
}

/// A time as it stands in a field, to be typed over: `2026-06-22 08:30`.
#[must_use]
pub fn field(t: UnixSeconds, offset_minutes: i64) -> String {
    when(t, offset_minutes, "%Y-%m-%d %H:%M")
}

/// Reads a date, or a date and a time of day, in the study's offset.
#[must_use]
pub fn read_field(text: &str, offset_minutes: i64) -> Option<UnixSeconds> {
    let text = text.trim().replace(' ', "T");
    let civil: DateTime = if text.contains('T') { text.parse().ok()? } else { format!("{text}T00:00").parse().ok()? };
    let offset = Offset::from_seconds(i32::try_from(offset_minutes * 60).ok()?).ok()?;
    Some(UnixSeconds(offset.to_timestamp(civil).ok()?.as_second()))
}

/// As [`read_field`].
///
/// # Errors
/// A sentence that says how to write it.
pub fn typed_time(text: &str, offset_minutes: i64) -> Result<UnixSeconds, String> {
    let wrong = || format!("“{}” is no date and time: write it like 2026-05-01 06:00.", text.trim());
    read_field(text, offset_minutes).ok_or_else(wrong)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_read_well() {
        assert_eq!(fixed(-0.0312, 3), "−0.031");
        assert_eq!(fixed(-0.0001, 2), "0.00");
        assert_eq!([signed(0.0214, 3), signed(-0.02, 3), signed(0.0004, 3)], ["+0.021", "−0.020", "0.000"]);
        assert_eq!(grouped(1_051_200), "1\u{202f}051\u{202f}200");
    }

    #[test]
    fn a_field_comes_back_as_it_was_shown() {
        let t = UnixSeconds(1_782_117_000);
        assert_eq!(read_field(&field(t, 60), 60), Some(t));
        assert_eq!(read_field("2026-02-30", 0), None);
        assert_eq!(span(t, t + ebrel_core::units::SpanSeconds::HOUR, 0), "22 Jun 2026 08:30–09:30");
    }
}
