//! What comes back from phones, or from the file that one carried: each entry kept once, or refused with a reason.

use super::come_of;
use crate::planning::{PlanError, StationPlan};
use ebrel_core::field::{Around, Deed, Entry, Log, check_entry, judge};
use ebrel_core::units::UnixSeconds;
use ebrel_store::{Store, StoreError};
use serde::Serialize;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// What became of one entry.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Received {
    /// Its number; empty if it could not be read at all.
    pub id: String,
    /// Whether it is kept here: now, or since before.
    pub kept: bool,
    /// Why it is not, or what is to be known of it.
    pub says: String,
}

/// Takes entries of one station in; the order in which they come does not matter. All that can be kept are kept at once.
///
/// # Errors
/// [`PlanError`] if there is no such station or the database refuses; nothing is kept then.
pub async fn receive(
    store: &Store,
    station: i64,
    sent: &[Value],
    by: &str,
    now: UnixSeconds,
) -> Result<Vec<Received>, PlanError> {
    let plan = StationPlan::load(store, station).await?;
    let mut answers = Vec::with_capacity(sent.len());
    let mut entries: Vec<Entry> = Vec::with_capacity(sent.len());
    for value in sent {
        match serde_json::from_value::<Entry>(value.clone()) {
            Ok(entry) if entry.station != plan.station.code => answers.push(Received {
                says: format!("This entry is of station “{}”: send it there.", entry.station),
                id: entry.id,
                kept: false,
            }),
            Ok(entry) => entries.push(entry),
            Err(error) => answers.push(Received {
                id: value.get("id").and_then(Value::as_str).unwrap_or_default().to_owned(),
                kept: false,
                says: format!("This entry cannot be read ({error}); the others are not touched by it."),
            }),
        }
    }
    entries.sort_by(|a, b| (a.at, &a.id).cmp(&(b.at, &b.id)));
    let known = store.field_entries(station, None).await?;
    let mut logs: BTreeMap<String, Vec<Entry>> = BTreeMap::new();
    for entry in known {
        logs.entry(entry.log.clone()).or_default().push(entry);
    }
    let holes = plan.found.dig.holes.iter().map(|h| h.bottom_cm);
    let deepest = holes.chain(plan.found.plan.buried().map(|(_, p)| p.depth_cm)).reduce(f64::max);
    let placements = store.placements(station).await?;
    let came_of = store.placements_by_entry(station).await?;
    let mut standing: Vec<Seat> = Vec::new();
    for p in placements.into_iter().filter(|p| p.ends.is_none()) {
        let entry = came_of.iter().find(|(_, id)| **id == p.id).map(|(entry, _)| entry.clone());
        standing.push(Seat { port: p.port, serial: p.probe.serial, entry });
    }
    let around = Around {
        serials: super::pack::serials(&plan, store.probes().await?),
        deepest_cm: deepest,
        ports: Vec::new(),
        now,
    };
    let mut unit = store.unit().await?;
    let (mut touched, mut retest) = (BTreeSet::new(), false);
    let mut judged = Vec::new();
    for entry in entries {
        let log = logs.entry(entry.log.clone()).or_default();
        let again = log.iter().any(|e| e.id == entry.id);
        let checked = if again { Ok(()) } else { check(&entry, log, &around, &standing) };
        let kept = match checked {
            Err(says) => Err(says),
            Ok(()) => match unit.add_field_entry(station, &entry, by, now).await {
                Err(StoreError::Rule(says)) => Err(says),
                other => Ok(other?),
            },
        };
        answers.push(match kept {
            Ok(new) => {
                touched.insert(entry.log.clone());
                // What changes the meaning of readings wants the tests anew; a step ticked does not.
                retest |= new && changes_meaning(&entry.deed);
                let says = if new { String::new() } else { "It was here already.".to_owned() };
                let id = entry.id.clone();
                if new && matches!(entry.deed, Deed::Reading { .. }) {
                    judged.push(entry.clone());
                }
                if new {
                    log.push(entry);
                }
                Received { id, kept: true, says }
            }
            Err(says) => Received { id: entry.id, kept: false, says },
        });
    }
    unit.commit().await?;
    judge_again(store, station, &judged, now, &mut answers).await?;
    for log in touched {
        let trouble = come_of(store, station, &log).await?;
        for (entry, says) in trouble {
            // What is wrong with an entry that came before is told with the last one that came now.
            let at = answers.iter().position(|a| a.id == entry).or_else(|| answers.iter().rposition(|a| a.kept));
            if let Some(answer) = at.map(|i| &mut answers[i]) {
                answer.says = if answer.says.is_empty() { says } else { format!("{} {says}", answer.says) };
            }
        }
    }
    if retest || store.stations_to_test().await?.contains(&station) {
        crate::reviewing::run(store, station).await?;
    }
    Ok(answers)
}

/// Judges readings again by what is known here by now; where the phone said something else, that is told.
async fn judge_again(
    store: &Store,
    station: i64,
    readings: &[Entry],
    now: UnixSeconds,
    answers: &mut [Received],
) -> Result<(), PlanError> {
    if readings.is_empty() {
        return Ok(());
    }
    let pack = super::pack(store, station, now).await?;
    for entry in readings {
        let Deed::Reading { serial, repeats, said } = &entry.deed else { continue };
        let mut probes = pack.probes.iter().chain(&pack.installed);
        let Some(probe) = probes.find(|p| p.label.eq_ignore_ascii_case(serial)) else { continue };
        // A neighbour that the phone knew may have spoken; what it did not hear cannot be held against it.
        let Some(here) = judge(&probe.limits, repeats, None) else { continue };
        let of_neighbour = said.contains(" off the probe at ");
        if *said != here.says
            && !said.is_empty()
            && !of_neighbour
            && let Some(answer) = answers.iter_mut().find(|a| a.id == entry.id)
        {
            answer.says = format!("Judged again here: {}", here.says);
        }
    }
    Ok(())
}

const fn changes_meaning(deed: &Deed) -> bool {
    match deed {
        Deed::Probe { .. } | Deed::Clock { .. } | Deed::Removed { .. } | Deed::Repair { .. } | Deed::Closed => true,
        Deed::Begun { .. }
        | Deed::Step { .. }
        | Deed::Horizon { .. }
        | Deed::Hole { .. }
        | Deed::Core { .. }
        | Deed::Reading { .. }
        | Deed::Layer { .. }
        | Deed::Channel { .. }
        | Deed::Spot { .. }
        | Deed::Photo { .. }
        | Deed::Note { .. } => false,
    }
}

/// A probe at its port, and the entry that put it there if one did.
struct Seat {
    port: String,
    serial: String,
    entry: Option<String>,
}

/// Checks an entry against its log. What a removal in the same log freed is free, and what came of the log itself is held
/// against the log alone: there it may be corrected.
fn check(entry: &Entry, log: &[Entry], around: &Around, standing: &[Seat]) -> Result<(), String> {
    // Only a probe is held against what the log has already.
    let is_probe = matches!(entry.deed, Deed::Probe { .. });
    let before = if is_probe { Log::of(log) } else { Log::default() };
    let removed = |seat: &Seat| {
        before
            .stands
            .iter()
            .any(|e| matches!(&e.deed, Deed::Removed { serial, .. } if serial.eq_ignore_ascii_case(&seat.serial)))
    };
    let own = |seat: &Seat| log.iter().any(|e| Some(&e.id) == seat.entry.as_ref());
    let others = standing.iter().filter(|seat| is_probe && !removed(seat) && !own(seat));
    let ports = others.map(|seat| (seat.port.clone(), seat.serial.clone())).collect();
    check_entry(entry, &before, &Around { ports, ..around.clone() }).map_err(|r| r.0)
}
