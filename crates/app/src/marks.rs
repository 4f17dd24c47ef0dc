//! What happened at a station, for the strips.

use super::record::StationRecord;
use ebrel_core::quality::EventKind;
use ebrel_core::units::{UnixSeconds, format_plain};
use ebrel_store::events::StoredEvent;
use serde::Serialize;

/// An event on the strips.
#[derive(Debug, Serialize)]
pub struct EventMark {
    /// Number of the event, by which it is corrected.
    pub id: i64,
    /// Code of its kind.
    pub kind: &'static str,
    /// Letter that stands for its kind on the strips.
    pub mark: &'static str,
    /// "an irrigation, 12 mm: two cans on each tub".
    pub words: String,
    /// First second of it.
    pub start: i64,
    /// Last second of it.
    pub end: i64,
    /// Whether it is corrected where it is shown; what came of a log is corrected there.
    pub by_hand: bool,
    /// How much, if that applies.
    pub amount: Option<f64>,
    /// Unit of the amount.
    pub unit: String,
    /// What else there is to say.
    pub note: String,
    /// Counts its corrections, from 1.
    pub revision: i64,
}

/// Whether an event was told by hand, and is corrected so: not one that came of a log, nor a declared start.
#[must_use]
pub fn is_by_hand(event: &StoredEvent) -> bool {
    EventKind::BY_HAND.contains(&event.event.kind) && event.client_id.as_ref().is_none_or(|id| id.starts_with(HAND))
}

/// How the number of an event begins that somebody told on a page.
pub const HAND: &str = "hand-";

/// An event in words: kind, amount, note.
#[must_use]
pub fn words(event: &StoredEvent) -> String {
    let amount = event.amount.map(|a| format!(", {} {}", format_plain(a), event.unit)).unwrap_or_default();
    let note = if event.note.is_empty() { String::new() } else { format!(": {}", event.note) };
    format!("{}{}{note}", event.event.kind.words(), amount.trim_end())
}

/// The events that lie in a window, in order of time.
pub(crate) fn marks(record: &StationRecord, from: UnixSeconds, to: UnixSeconds) -> Vec<EventMark> {
    let here = record.events.iter().filter(|e| e.event.end >= from && e.event.start < to);
    here.map(|e| EventMark {
        id: e.id,
        kind: e.event.kind.code(),
        mark: e.event.kind.mark(),
        words: words(e),
        start: e.event.start.0,
        end: e.event.end.0,
        by_hand: is_by_hand(e),
        amount: e.amount,
        unit: e.unit.clone(),
        note: e.note.clone(),
        revision: e.revision,
    })
    .collect()
}
