//! What comes of a log: placements with their real depths, events, probes that ended. Made again from the log at any time; the
//! same log makes nothing twice.

use crate::planning::{PlanError, StationPlan};
use crate::record::StationRecord;
use ebrel_core::field::{Deed, Entry, Log, LogKind, RepairKind};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::units::{DepthCm, Principle, Quantity, SpanSeconds, UnixSeconds};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::{NewPlacement, Placement};
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError};
use std::collections::BTreeMap;

/// Makes of a log what follows from it. What cannot be made is told, by entry.
///
/// What follows an entry already is left alone: a placement that somebody corrected by hand since stays as it was corrected,
/// until a later entry says something new of it.
///
/// # Errors
/// [`PlanError`] if the database refuses, or the plan cannot be read.
pub async fn come_of(store: &Store, station: i64, log: &str) -> Result<Vec<(String, String)>, PlanError> {
    let entries = store.field_entries(station, Some(log)).await?;
    let whole = Log::of(&entries);
    // What came out first: its port is free for what was put in after it.
    let mut trouble = super::removal::ends(store, station, &whole).await?;
    trouble.extend(seats(store, station, &whole, &entries).await?);
    super::removal::note_lives(store, station, &whole).await?;
    if whole.kind() == Some(LogKind::Installation) {
        trouble.extend(super::soil::take_soil(store, station, &whole).await?);
    }
    let revision = entries.len() as i64;
    for entry in &whole.stands {
        if let Deed::Repair { of, note } = &entry.deed {
            let kind = match of {
                RepairKind::Firmware | RepairKind::Program => EventKind::ProgramChange,
                RepairKind::CoverCut => EventKind::Treatment,
                RepairKind::ShieldMoved => EventKind::ShieldMoved,
                RepairKind::ProbeExchanged | RepairKind::PortChanged | RepairKind::Other => EventKind::Maintenance,
            };
            let note = format!("{}: {note}", of.words());
            keep_event(
                store,
                station,
                (kind, entry.at, entry.at),
                note,
                &entry.by,
                (whole.first_of(&entry.id), revision),
            )
            .await?;
        }
    }
    if whole.kind() == Some(LogKind::Round) && whole.is_closed() {
        trouble.extend(round(store, station, &whole).await?);
    }
    trouble.extend(clock_slips(store, station, &whole).await?);
    let kind = match whole.kind() {
        Some(LogKind::Installation) => Some(EventKind::Installation),
        Some(LogKind::Visit | LogKind::Round | LogKind::Removal) => Some(EventKind::Visit),
        None => None,
    };
    if let (Some(kind), Some((start, end))) = (kind, whole.span()) {
        let notes = whole
            .stands
            .iter()
            .filter_map(|e| if let Deed::Note { text } = &e.deed { Some(text.as_str()) } else { None });
        let by = whole.stands.first().map(|e| e.by.clone()).unwrap_or_default();
        keep_event(store, station, (kind, start, end), notes.collect::<Vec<_>>().join("; "), &by, (log, revision))
            .await?;
    }
    Ok(trouble)
}

/// Clock checks of a log that contradict others, by entry, with what that means.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn clock_slips(store: &Store, station: i64, log: &Log) -> Result<Vec<(String, String)>, StoreError> {
    let checks = || {
        let of =
            |e: &Entry| if let Deed::Clock { node, .. } = &e.deed { Some((e.id.clone(), node.clone())) } else { None };
        log.stands.iter().filter_map(of)
    };
    if checks().next().is_none() {
        return Ok(Vec::new());
    }
    let slips = StationRecord::outline(store, station).await?.clock_slips();
    let told = checks().filter_map(|(id, node)| {
        let (_, error) = slips.iter().find(|s| s.0 == node)?;
        Some((id, format!("{node}: {error}. Until a check is corrected, its times stay as they came.")))
    });
    Ok(told.collect())
}

/// Keeps what happened, under the number that the log gave it: (kind, first, last moment), (number, revision).
async fn keep_event(
    store: &Store,
    station: i64,
    (kind, start, end): (EventKind, UnixSeconds, UnixSeconds),
    note: String,
    by: &str,
    (number, revision): (&str, i64),
) -> Result<(), StoreError> {
    let (event, client_id) = (Event { kind, start, end }, Some(number.to_owned()));
    let (amount, unit, by) = (None, String::new(), by.to_owned());
    store.add_event(station, &StoredEvent { id: 0, event, amount, unit, note, by, client_id, revision }).await
}

/// Lets the placements follow the log: what was given up ends, what was put in or corrected lies where its entry says.
async fn seats(store: &Store, station: i64, log: &Log, entries: &[Entry]) -> Result<Vec<(String, String)>, PlanError> {
    let placed = log.placed();
    let followed = store.placements_by_entry(station).await?;
    let placements = store.placements(station).await?;
    // Of each chain of corrections the entry that its placement follows, and that placement.
    let of_chain: BTreeMap<&str, (&str, &Placement)> = entries
        .iter()
        .filter_map(|e| {
            let id = followed.get(&e.id)?;
            Some((log.first_of(&e.id), (e.id.as_str(), placements.iter().find(|p| p.id == *id)?)))
        })
        .collect();
    for (chain, (_, was)) in &of_chain {
        if was.ends.is_none() && !placed.iter().any(|e| log.first_of(&e.id) == *chain) {
            let gone = given_up_at(log, entries, chain, &was.probe.serial).max(was.starts + SpanSeconds(1));
            let new = NewPlacement { ends: Some(gone), ..was.given() };
            let mut unit = store.unit().await?;
            unit.correct_placement(was.id, &was.given(), &new).await?;
            if let Some(says) = log.stands.iter().find(|e| log.first_of(&e.id) == *chain) {
                unit.note_entry(was.id, &says.id).await?;
            }
            unit.commit().await?;
        }
    }
    let mut trouble = Vec::new();
    let mut node = None;
    for entry in placed {
        let was = of_chain.get(log.first_of(&entry.id));
        // A correction that came before its first entry was dated by itself: now its seat began when that one says.
        let own = entries.iter().find(|e| e.id == entry.id).map(|e| e.at);
        let dated_late = was.is_some_and(|(_, was)| Some(was.starts) == own && was.starts != entry.at);
        if was.is_some_and(|(follows, _)| *follows == entry.id) && !dated_late {
            continue;
        }
        let node_id = match (was, node) {
            (Some((_, was)), _) => was.node_id,
            (None, Some(known)) => known,
            (None, None) => match store.streams(station).await?.first() {
                Some(stream) => stream.node_id,
                None => store.ensure_node(station, "node 01").await?,
            },
        };
        node = Some(node_id);
        // An end that a removal set stays; one that came of giving up is over.
        let ended = was.filter(|(follows, _)| !is_given_up(entries, follows)).and_then(|(_, was)| was.ends);
        if let Err(says) = place(store, station, entry, node_id, (was.map(|w| w.1), ended)).await? {
            trouble.push((entry.id.clone(), says));
        }
    }
    Ok(trouble)
}

fn is_given_up(entries: &[Entry], id: &str) -> bool {
    entries.iter().any(|e| e.id == id && matches!(e.deed, Deed::Probe { given_up: true, .. }))
}

/// When the seat of a chain of entries was given up: by the clock of the entry that said so, else when its probe was put in
/// elsewhere.
fn given_up_at(log: &Log, entries: &[Entry], chain: &str, serial: &str) -> UnixSeconds {
    let of_chain = |e: &&Entry| log.first_of(&e.id) == chain;
    let said = entries.iter().filter(of_chain).filter(|e| is_given_up(entries, &e.id)).map(|e| e.at).max();
    let elsewhere = log.placed().into_iter().filter(|e| !of_chain(e));
    let elsewhere =
        elsewhere.filter(|e| matches!(&e.deed, Deed::Probe { serial: s, .. } if s.eq_ignore_ascii_case(serial)));
    said.or_else(|| elsewhere.map(|e| e.at).max()).unwrap_or(UnixSeconds(i64::MIN))
}

/// Puts a probe where its entry says, or corrects the placement that came of it before.
async fn place(
    store: &Store,
    station: i64,
    entry: &Entry,
    node_id: i64,
    (was, ends): (Option<&Placement>, Option<UnixSeconds>),
) -> Result<Result<(), String>, PlanError> {
    let Deed::Probe { serial, depth_cm, port, orientation, repacked, .. } = &entry.deed else { return Ok(Ok(())) };
    let Some(probe_id) = registered(store, station, serial).await? else {
        return Ok(Err(format!("No probe of the register has the serial {serial}.")));
    };
    let new = NewPlacement {
        node_id,
        port: port.clone(),
        probe_id,
        depth_cm: DepthCm::new(*depth_cm).ok(),
        orientation: orientation.clone(),
        starts: entry.at,
        ends,
        note: if *repacked { "repacked seat" } else { "" }.to_owned(),
    };
    let mut unit = store.unit().await?;
    let made = match was {
        Some(was) => unit.correct_placement(was.id, &was.given(), &new).await.map(|()| was.id),
        None => unit.place(&new).await,
    };
    match made {
        Ok(id) => {
            unit.note_entry(id, &entry.id).await?;
            unit.commit().await?;
            Ok(Ok(()))
        }
        Err(error) => {
            drop(unit);
            // Another sending of the same entry may have been a moment faster.
            let done = store.placements_by_entry(station).await?.contains_key(&entry.id);
            match error {
                StoreError::Rule(_) | StoreError::Stale if done => Ok(Ok(())),
                StoreError::Rule(says) => Ok(Err(says)),
                error => Err(error.into()),
            }
        }
    }
}

/// The number of a probe of the register; one that the station's plan names is entered there with its model.
async fn registered(store: &Store, station: i64, serial: &str) -> Result<Option<i64>, PlanError> {
    if let Some(probe) = store.probes().await?.into_iter().find(|p| p.serial.eq_ignore_ascii_case(serial)) {
        return Ok(Some(probe.id));
    }
    let plan = StationPlan::load(store, station).await?;
    let Some(planned) = plan.found.plan.probes.iter().find(|p| p.label.eq_ignore_ascii_case(serial)) else {
        return Ok(None);
    };
    // A block's range is in ohms, and what it gives is a tension: that range says nothing of its readings.
    let as_read = planned.model.quantities.first() == Some(&Quantity::RawOutput)
        || planned.model.principle == Principle::Thermometer;
    let (low, high) = planned.model.range;
    let probe = Probe {
        id: 0,
        serial: planned.label.clone(),
        model: planned.model.name.clone(),
        principle: planned.model.principle,
        instrument_min: as_read.then_some(low),
        instrument_max: as_read.then_some(high),
        resolution: None,
    };
    Ok(Some(store.ensure_probe(&probe).await?))
}

/// The note of a placement through which a probe is read by handheld: it lies where its own placement says.
pub(super) const BY_HANDHELD: &str = "read by handheld";

/// What a handheld shows of a probe that no logger has read yet.
pub(super) const fn shown_by(principle: Principle) -> (Quantity, &'static str) {
    match principle {
        Principle::Dielectric => (Quantity::RawOutput, "mV"),
        Principle::GranularMatrix | Principle::Gypsum => (Quantity::WaterTension, "kPa"),
        Principle::Thermometer => (Quantity::SoilTemperature, "degC"),
        Principle::RainGauge => (Quantity::Rain, "mm"),
        Principle::Node => (Quantity::RawOutput, ""),
    }
}

/// Makes a finished round a record like any other: a stream of the handheld at each point. What comes again stays once; where a
/// value was corrected after the round was a record, the first one stands there, and that is told.
async fn round(store: &Store, station: i64, log: &Log) -> Result<Vec<(String, String)>, PlanError> {
    let channels = store.channels(station).await?;
    let all = store.placements(station).await?;
    let lying = || all.iter().filter(|p| p.ends.is_none() && p.note != BY_HANDHELD);
    let node = store.ensure_node(station, "handheld").await?;
    let (mut readings, mut trouble) = (Vec::new(), Vec::new());
    let mut received_at = UnixSeconds(0);
    for entry in &log.stands {
        let Deed::Spot { point, value: Some(value), .. } = &entry.deed else { continue };
        let Some(lies) = lying().find(|p| p.probe.serial.eq_ignore_ascii_case(point)) else {
            trouble.push((
                entry.id.clone(),
                format!("{point} lies nowhere here: its value is in the log, but in no record."),
            ));
            continue;
        };
        let own = channels.iter().find(|c| c.placement.id == lies.id);
        let shown = || shown_by(lies.probe.principle);
        let (quantity, unit) = own.map_or_else(shown, |c| (c.stream.quantity, c.stream.unit.as_str()));
        let port = &lies.probe.serial;
        let stream = store.ensure_stream(node, port, quantity, unit, None).await?;
        if !all.iter().any(|p| p.node_id == node && p.port == *port) {
            let note = BY_HANDHELD.to_owned();
            let new = NewPlacement { node_id: node, port: port.clone(), ends: None, note, ..lies.given() };
            store.place(&new).await?;
        }
        let known = store.series(stream).await?;
        let stored = known.times.binary_search(&entry.at.0).ok().map(|i| known.values[i]);
        if let Some(first) = stored.filter(|first| first != value) {
            let says =
                format!("The round is a record already: {first} {unit} stays there as it came; {value} is in the log.");
            trouble.push((entry.id.clone(), says));
        }
        if stored.is_none() {
            readings.push(Reading { stream, t: entry.at.0, raw: *value });
            received_at = received_at.max(entry.at);
        }
    }
    if !readings.is_empty() {
        store.add_readings(&Origin::of(Source::Hand, received_at), readings).await?;
    }
    Ok(trouble)
}
