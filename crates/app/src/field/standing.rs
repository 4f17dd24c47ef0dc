//! How the stations of a study stand: planned, being installed, in the ground, settling, what is open.

use super::outcome::BY_HANDHELD;
use crate::record::settles;
use ebrel_core::field::{Deed, Disturbance, Log, LogKind, Settling, settling};
use ebrel_core::planning::Seat;
use ebrel_core::quality::EventKind;
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::Placement;
use ebrel_store::stations::Station;
use ebrel_store::{Store, StoreError};
use std::collections::BTreeMap;

/// A log in a list.
#[derive(Debug, Clone, PartialEq)]
pub struct LogRow {
    /// Its number.
    pub log: String,
    /// What it is of; `None` until its beginning has arrived.
    pub kind: Option<LogKind>,
    /// First and last moment.
    pub span: (UnixSeconds, UnixSeconds),
    /// Who wrote it.
    pub by: Vec<String>,
    /// How many entries stand.
    pub entries: usize,
    /// Whether it is finished.
    pub closed: bool,
    /// Steps that were left out: key and reason.
    pub open: Vec<(String, String)>,
}

/// How one station stands.
#[derive(Debug, Clone, PartialEq)]
pub struct StationStanding {
    /// The station.
    pub station: Station,
    /// Probes that lie there.
    pub lying: usize,
    /// When the first of those was put in.
    pub since: Option<UnixSeconds>,
    /// The settling that ends last, if any goes on.
    pub settles: Option<Settling>,
    /// When its record was declared to count.
    pub official: Option<UnixSeconds>,
    /// The last time that somebody was there.
    pub visited: Option<UnixSeconds>,
    /// Its logs, the newest first.
    pub logs: Vec<LogRow>,
}

/// How the stations of a study stand.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn standing(store: &Store, study: i64, now: UnixSeconds) -> Result<Vec<StationStanding>, StoreError> {
    let mut all = Vec::new();
    for station in store.stations(study).await? {
        let placements = store.placements(station.id).await?;
        let lying: Vec<_> = placements.iter().filter(|p| p.ends.is_none() && p.note != BY_HANDHELD).collect();
        let events = store.events(station.id).await?;
        let settles = settling_now(store, station.id, &lying, now).await?;
        let settles = settles.into_iter().chain(changed(&lying, &events, now)).max_by_key(|s| s.until);
        let last = |of: fn(EventKind) -> bool| events.iter().filter(|e| of(e.event.kind)).map(|e| e.event.end).max();
        all.push(StationStanding {
            lying: lying.len(),
            since: lying.iter().map(|p| p.starts).min(),
            settles,
            official: last(|kind| kind == EventKind::OfficialStart),
            visited: last(EventKind::is_at_work),
            logs: logs(store, station.id).await?,
            station,
        });
    }
    Ok(all)
}

async fn logs(store: &Store, station: i64) -> Result<Vec<LogRow>, StoreError> {
    let mut by_log: BTreeMap<String, Vec<_>> = BTreeMap::new();
    for entry in store.field_entries(station, None).await? {
        by_log.entry(entry.log.clone()).or_default().push(entry);
    }
    let mut rows: Vec<LogRow> = by_log
        .into_iter()
        .filter_map(|(log, entries)| {
            let whole = Log::of(&entries);
            // Checks that came with a package are no log of somebody's day; the page of clocks has them.
            if whole.kind().is_none() && whole.stands.iter().all(|e| matches!(e.deed, Deed::Clock { .. })) {
                return None;
            }
            let mut by: Vec<String> = whole.stands.iter().map(|e| e.by.clone()).collect();
            by.sort();
            by.dedup();
            let open = whole.skipped().map(|(k, why)| (k.to_owned(), why.to_owned())).collect();
            let (entries, closed) = (whole.stands.len(), whole.is_closed());
            Some(LogRow { log, kind: whole.kind(), span: whole.span()?, by, entries, closed, open })
        })
        .collect();
    rows.sort_by_key(|r| std::cmp::Reverse(r.span.0));
    Ok(rows)
}

/// The settling that a new program or a treatment began, if it goes on.
fn changed(lying: &[&Placement], events: &[StoredEvent], now: UnixSeconds) -> Option<Settling> {
    let changes = |e: &&StoredEvent| e.event.kind.is_change();
    let last = events.iter().filter(changes).map(|e| e.event.start).filter(|at| *at <= now).max()?;
    let probe = lying.first()?;
    let settles = settling(probe.probe.principle, Seat::Undisturbed, Disturbance::Changed, last, None);
    Some(settles).filter(|s| s.until > now)
}

/// The settling that ends last, of those that go on. Rain can only shorten one, so it is read where one would go on without it.
async fn settling_now(
    store: &Store,
    station: i64,
    lying: &[&Placement],
    now: UnixSeconds,
) -> Result<Option<Settling>, StoreError> {
    let in_soil = lying.iter().filter(|p| p.depth_cm.is_some_and(|d| d >= 0.0));
    let open: Vec<&&Placement> = in_soil.filter(|p| settles(p, None).until > now).collect();
    if open.is_empty() {
        return Ok(None);
    }
    let mut rain = Vec::new();
    for stream in store.streams(station).await?.into_iter().filter(|s| s.quantity == Quantity::Rain) {
        rain.push(store.series(stream.id).await?);
    }
    let wetted = |from| rain.iter().filter_map(|gauge| first_wetting(gauge, from)).min();
    let all = open.into_iter().map(|p| settles(p, wetted(p.starts)));
    Ok(all.filter(|s| s.until > now).max_by_key(|s| s.until))
}

/// When a gauge had told of 10 mm or more within one day, for the first time since `from`.
fn first_wetting(gauge: &Series, from: UnixSeconds) -> Option<UnixSeconds> {
    const GOOD_MM: f64 = 10.0;
    let (mut day, mut sum) = (i64::MIN, 0.0);
    for (t, mm) in gauge.times.iter().zip(&gauge.values).filter(|(t, _)| **t >= from.0) {
        if t.div_euclid(86_400) != day {
            (day, sum) = (t.div_euclid(86_400), 0.0);
        }
        sum += mm.max(0.0);
        if sum >= GOOD_MM {
            return Some(UnixSeconds(*t));
        }
    }
    None
}
