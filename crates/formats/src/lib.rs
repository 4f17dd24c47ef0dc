//! Bytes to typed rows and back.
//!
//! * [`dates`]: a plan's calendar as iCalendar.
//! * [`logger`]: delimited files from loggers, read with a [`logger::Recipe`] that is first guessed; every line that
//!   cannot be read is listed with its reason.
//! * [`message`]: what nodes send: SenML as JSON and CBOR, and plain CSV.
//! * [`package`]: the record package, Ebrel's open exchange form, as a folder or a zip.
//! * [`site`]: the plan of a site as GeoJSON.
//! * [`wide`]: one wide CSV for a spreadsheet.
//!
//! Nothing here knows of the database or of pages, and nothing is judged: that is `core`.

pub mod dates;
mod formula;
pub mod logger;
pub mod message;
pub mod package;
pub mod site;
pub mod wide;

pub use formula::harmless;

use ebrel_core::units::UnixSeconds;

/// A time as RFC 3339 in UTC with whole seconds: `2026-06-22T08:30:00Z`.
#[must_use]
pub fn rfc3339(t: UnixSeconds) -> String {
    jiff::Timestamp::from_second(t.0).map_or_else(|_| t.0.to_string(), |ts| ts.to_string())
}

/// A minute as people read it, so many minutes east of UTC: `31 Aug 2026 23:45`.
#[must_use]
pub fn minute(t: UnixSeconds, offset_minutes: i64) -> String {
    let shifted = jiff::Timestamp::from_second(t.0.saturating_add(offset_minutes * 60));
    shifted.map_or_else(|_| t.0.to_string(), |ts| ts.strftime("%-d %b %Y %H:%M").to_string())
}

/// Reads an RFC 3339 time to whole seconds of UTC; `None` if it is none.
#[must_use]
pub fn parse_rfc3339(text: &str) -> Option<UnixSeconds> {
    package::parse_time(text)
}
