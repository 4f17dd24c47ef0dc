//! Taking probes out: what is to come out and where it lies, and what comes of it in the probe's life.

use super::outcome::BY_HANDHELD;
use super::site::found_again;
use crate::planning::{PlanError, StationPlan};
use crate::record::seat;
use ebrel_core::field::{Deed, Entry, Log};
use ebrel_core::register::EventKind;
use ebrel_core::units::{UnixSeconds, format_short};
use ebrel_store::placements::{NewPlacement, Placement};
use ebrel_store::probes::Probe;
use ebrel_store::register::ProbeEvent;
use ebrel_store::{Store, StoreError};

/// Ends the places of the probes that a log took out; what was put in after that stays. Where the entry named another probe before
/// it was corrected, that one lies there as before. What cannot be is told, by entry.
pub(super) async fn ends(store: &Store, station: i64, log: &Log) -> Result<Vec<(String, String)>, StoreError> {
    for entry in &log.stands {
        if let Deed::Removed { serial, .. } = &entry.deed {
            end(store, station, serial, entry).await?;
        }
    }
    let mut trouble = Vec::new();
    for entry in &log.corrected {
        let Deed::Removed { serial, .. } = &entry.deed else { continue };
        let named = |e: &&Entry| matches!(&e.deed, Deed::Removed { serial: s, .. } if s.eq_ignore_ascii_case(serial));
        let Some(stands) = log.stands.iter().find(|e| log.first_of(&e.id) == log.first_of(&entry.id)) else { continue };
        if log.stands.iter().any(|e| named(&e)) {
            continue;
        }
        let all = store.placements(station).await?;
        let by_it = |p: &&Placement| p.probe.serial.eq_ignore_ascii_case(serial) && p.ends == Some(stands.at);
        for placement in all.iter().filter(by_it) {
            let was = placement.given();
            match store.correct_placement(placement.id, &was, &NewPlacement { ends: None, ..was.clone() }).await {
                Err(StoreError::Rule(says)) => trouble.push((stands.id.clone(), says)),
                other => other?,
            }
        }
    }
    Ok(trouble)
}

/// What a removal says becomes of its probes: their lives tell whether they came back, are fit, or were lost.
pub(super) async fn note_lives(store: &Store, station: i64, log: &Log) -> Result<(), StoreError> {
    let removed = |e: &&Entry| matches!(e.deed, Deed::Removed { .. });
    if !log.stands.iter().any(|e| removed(&e)) {
        return Ok(());
    }
    let name = store.station(station).await?.name;
    let (all, register) = (store.placements(station).await?, store.probes().await?);
    let mut unit = store.unit().await?;
    for entry in log.stands.iter().filter(removed) {
        let Deed::Removed { serial, condition, lost, refused } = &entry.deed else { continue };
        let own = |p: &&Placement| p.probe.serial.eq_ignore_ascii_case(serial) && p.note != BY_HANDHELD;
        let last = all.iter().filter(own).filter(|p| p.starts <= entry.at).max_by_key(|p| p.starts);
        let Some(probe) = register.iter().find(|p| p.serial.eq_ignore_ascii_case(serial)) else { continue };
        let place = last.map_or_else(|| name.clone(), |p| format!("{name}, {}", at_depth(p)));
        let (kind, says) = match (lost, refused) {
            (true, _) => (EventKind::Lost, format!("not found; last place: {place}")),
            (_, true) => (EventKind::Rejected, format!("taken out of {place}, not fit to go out again")),
            (..) => (EventKind::Returned, format!("taken out of {place}")),
        };
        let note = [says.as_str(), condition].join("; ").trim_end_matches([';', ' ']).to_owned();
        let event = ProbeEvent { at: entry.at, kind, note, by: entry.by.clone() };
        unit.note_of_probe(probe.id, &event, Some(log.first_of(&entry.id))).await?;
    }
    unit.commit().await
}

fn at_depth(p: &Placement) -> String {
    let depth = p.depth_cm.map_or_else(String::new, |d| format!("{}\u{a0}cm, ", format_short(d)));
    format!("{depth}port {}", p.port)
}

/// Ends the placements of a probe that was taken out, once: what somebody reopened by hand since stays open.
async fn end(store: &Store, station: i64, serial: &str, entry: &Entry) -> Result<(), StoreError> {
    let ended = store.placements_ended_by(station, &entry.id).await?;
    let lying = |p: &&Placement| p.probe.serial.eq_ignore_ascii_case(serial) && p.ends.is_none() && p.starts < entry.at;
    for placement in store.placements(station).await?.iter().filter(lying).filter(|p| !ended.contains(&p.id)) {
        let was = placement.given();
        let new = NewPlacement { ends: Some(entry.at), ..was.clone() };
        let mut unit = store.unit().await?;
        unit.correct_placement(placement.id, &was, &new).await?;
        unit.note_end(placement.id, &entry.id).await?;
        unit.commit().await?;
    }
    Ok(())
}

/// A probe that lies somewhere, and when it is to come out.
#[derive(Debug, Clone, PartialEq)]
pub struct ToComeOut {
    /// The probe.
    pub probe: Probe,
    /// Port of the node.
    pub port: String,
    /// Depth, cm.
    pub depth_cm: Option<f64>,
    /// How it lies.
    pub orientation: String,
    /// Since when.
    pub since: UnixSeconds,
}

/// A station's probes that are to come out.
#[derive(Debug, Clone, PartialEq)]
pub struct Retrieval {
    /// The station's number.
    pub station: i64,
    /// Its name.
    pub name: String,
    /// What is done there: probes are taken out by treatment too.
    pub treatment: String,
    /// Until when, by the plan's calendar: before machines come, or at the end.
    pub until: Option<UnixSeconds>,
    /// What makes that the day.
    pub why: String,
    /// How they were put in: so they come out.
    pub method: &'static str,
    /// How the station is found again.
    pub found_again: Vec<String>,
    /// Its probes, the shallowest first as one digs, and the node itself last.
    pub probes: Vec<ToComeOut>,
}

/// What lies in the ground of a study, by station; those with the nearest day first, those without a day last.
///
/// # Errors
/// [`PlanError`] if something kept cannot be read.
pub async fn retrieval(store: &Store, study: i64, now: UnixSeconds) -> Result<Vec<Retrieval>, PlanError> {
    let landmarks = store.landmarks(study).await?;
    let mut list = Vec::new();
    for station in store.stations(study).await? {
        let all = store.placements(station.id).await?;
        let lying = all.iter().filter(|p| p.ends.is_none() && p.note != BY_HANDHELD);
        let mut probes: Vec<ToComeOut> = lying
            .map(|p| ToComeOut {
                probe: p.probe.clone(),
                port: p.port.clone(),
                depth_cm: p.depth_cm,
                orientation: p.orientation.clone(),
                since: seat(p, all.iter()).starts,
            })
            .collect();
        if probes.is_empty() {
            continue;
        }
        let depth = |p: &ToComeOut| p.depth_cm.unwrap_or(f64::INFINITY);
        probes.sort_by(|a, b| depth(a).total_cmp(&depth(b)));
        let plan = StationPlan::load(store, station.id).await?;
        let out = |code: &str| plan.found.calendar.iter().find(|e| e.code == code && e.until >= now);
        let next = out("machines").or_else(|| plan.found.calendar.iter().find(|e| e.code == "retrieve"));
        list.push(Retrieval {
            station: station.id,
            until: next.map(|e| e.from),
            why: next.map_or_else(String::new, |e| e.what.split(": ").last().unwrap_or_default().to_owned()),
            method: plan.found.plan.method.name(),
            found_again: found_again(&station, &landmarks),
            name: station.name,
            treatment: station.treatment,
            probes,
        });
    }
    list.sort_by_key(|r| (r.until.is_none(), r.until, r.station));
    Ok(list)
}

/// Probes that came back from the field and were not looked at since, with what was said of them; and those that are lost.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn came_back(store: &Store) -> Result<(Vec<(Probe, String)>, Vec<(Probe, String)>), StoreError> {
    let mut life = std::collections::BTreeMap::<i64, Vec<ProbeEvent>>::new();
    for (probe, event) in store.probe_events(None).await? {
        life.entry(probe).or_default().push(event);
    }
    let (mut back, mut lost) = (Vec::new(), Vec::new());
    for probe in store.probes().await? {
        let Some(events) = life.get(&probe.id) else { continue };
        let kinds: Vec<EventKind> = events.iter().map(|e| e.kind).collect();
        let said = |kind| events.iter().rfind(|e| e.kind == kind).map_or_else(String::new, |e| e.note.clone());
        let blockers = ebrel_core::register::fitness(probe.principle, &kinds, true).blockers;
        if blockers.contains(&ebrel_core::register::BACK) {
            let said = said(EventKind::Returned);
            back.push((probe, said));
        } else if blockers.contains(&ebrel_core::register::LOST) {
            let said = said(EventKind::Lost);
            lost.push((probe, said));
        }
    }
    Ok((back, lost))
}
