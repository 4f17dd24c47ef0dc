//! The demo's other stations of Ostrelle Wood: two years of record, and the logs that explain what is odd in it. They are made
//! after the first page is there; an interrupted start goes on with what is missing.

use super::stories::{DAY, FAST_S_PER_WEEK, VISITS, arrived, built_cm, installation, swap_span, swapped_ports, visit};
use super::{accept_probe, probe};
use crate::field::{Pack, pack, receive};
use crate::planning::PlanError;
use ebrel_core::calibration::{Curve, Samples, recommend};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::units::{DepthCm, Principle, Quantity, SpanSeconds, UnixSeconds};
use ebrel_simulator::{
    BenchRun, Beside, Cover, PortBeside, Scenario, Sees, ostrelle_cut_coupe, simulate_beside, three_rod_counts,
};
use ebrel_store::calibrations::{Adoption, MadeWith, Subject};
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::NewPlacement;
use ebrel_store::readings::Reading;
use ebrel_store::{Store, StoreError};
use serde_json::Value;

/// From when a bent rod of the twin at 15 cm counts too little, and by how much.
const BENT: (i64, f64) = (560, -2_600.0);

/// Days before the end in which the ride edge's battery gives out.
const LAST_WEEKS: i64 = 64;

/// What is made of one station.
pub(super) struct Story {
    /// Its part of the demo, and its name.
    pub part: &'static str,
    pub code: &'static str,
    pub node: &'static str,
    pub cover: Cover,
    /// Another station's node whose box and radio are made with it.
    first: Option<&'static str>,
}

pub(super) const STORIES: [Story; 2] = [
    Story { part: "Uncut coupe", code: "uncut", node: "node 02", cover: Cover::Closed, first: Some("node 01") },
    Story { part: "Ride edge", code: "ride", node: "node 03", cover: Cover::Half, first: None },
];

/// Parts of the demo that are still to be made.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn missing(store: &Store) -> Result<Vec<&'static str>, StoreError> {
    let made = store.demo_parts().await?;
    Ok(STORIES.iter().map(|s| s.part).filter(|p| !made.iter().any(|m| m == p)).collect())
}

/// Makes what is missing, part by part; after each `told` hears what is still missing.
///
/// # Errors
/// [`PlanError`] if the database refuses; the part is made again at the next start.
pub async fn rest(store: &Store, told: impl Fn(Vec<&'static str>)) -> Result<(), PlanError> {
    for story in &STORIES {
        let left = missing(store).await?;
        told(left.clone());
        if left.contains(&story.part) {
            make(store, story).await?;
            store.demo_part_made(story.part).await?;
        }
    }
    told(Vec::new());
    Ok(())
}

/// A stream of a station: its port and unit, and the ports of the simulation that it is made of, each from a moment on.
pub(super) struct Channel {
    pub port: String,
    pub quantity: Quantity,
    pub unit: &'static str,
    pub from: Vec<(i64, PortBeside)>,
}

async fn make(store: &Store, story: &Story) -> Result<(), PlanError> {
    let Some(study) = store.studies().await?.into_iter().find(|s| s.name == "Ostrelle Wood") else { return Ok(()) };
    let Some(station) = store.stations(study.id).await?.into_iter().find(|s| s.code == story.code) else {
        return Ok(());
    };
    let scenario = ostrelle_cut_coupe();
    let (start, now) = (UnixSeconds(scenario.start), UnixSeconds(study.fixed_now.unwrap_or(scenario.end)));
    calibrate(store, story, &scenario).await?;
    let node = store.ensure_node(station.id, story.node).await?;
    // A stream first: what the logs place goes to its node.
    store.ensure_stream(node, "batt", Quantity::BatteryVoltage, "V", Some(scenario.interval)).await?;
    let pack = pack(store, station.id, start).await?;
    let channels = channels(story, &pack, start.0);
    above_ground(store, story, node, start).await?;
    let mut log = installation(story, &pack, start);
    for (i, day) in VISITS.iter().enumerate() {
        log.extend(visit(story, &pack, i, UnixSeconds(start.0 + day * DAY + 9 * 3600)));
    }
    let values: Result<Vec<_>, _> = log.iter().map(serde_json::to_value).collect();
    take(store, station.id, &values?, now).await?;
    swapped_ports(store, story, station.id, start).await?;
    record(store, story, node, channels, &scenario).await?;
    let at = UnixSeconds(start.0 + 16 * DAY);
    let note = "first good wetting on the twelfth day; every channel within its limits since".to_owned();
    let event = Event { kind: EventKind::OfficialStart, start: at, end: at };
    let client_id = Some(format!("01970000-0000-7000-a000-{:012}", station.id));
    let (amount, unit, by) = (None, String::new(), "N. Arvel".to_owned());
    store.add_event(station.id, &StoredEvent { id: 0, event, amount, unit, note, by, client_id, revision: 1 }).await?;
    crate::reviewing::run(store, station.id).await?;
    Ok(())
}

/// Takes entries in as they come from a phone; one that is refused is a slip of the demo.
pub(super) async fn take(store: &Store, station: i64, values: &[Value], now: UnixSeconds) -> Result<(), PlanError> {
    let answers = receive(store, station, values, "T. Quill", now).await?;
    let known = |says: &str| says.is_empty() || says == "It was here already." || says.starts_with("Judged again");
    match answers.into_iter().find(|a| !a.kept || !known(&a.says)) {
        Some(slip) => Err(StoreError::Rule(format!("entry {} of the demo: {}", slip.id, slip.says)).into()),
        None => Ok(()),
    }
}

/// The number in a serial: 417 of "BD-0417".
fn number(serial: &str) -> u32 {
    serial.rsplit('-').next().and_then(|n| n.parse().ok()).unwrap_or(0)
}

pub(super) fn channels(story: &Story, pack: &Pack, start: i64) -> Vec<Channel> {
    let mut channels = Vec::new();
    let one = |port: &str, quantity, unit, depth_cm, sees| Channel {
        port: port.to_owned(),
        quantity,
        unit,
        from: vec![(i64::MIN, PortBeside { depth_cm, sees })],
    };
    for p in &pack.probes {
        let depth = built_cm(&p.label, p.depth_cm);
        let n = number(&p.label);
        match p.label.get(..2) {
            Some("TR") => {
                let mut raw = one(&p.port, Quantity::RawOutput, "counts", depth, Sees::ThreeRod(n));
                if p.label == "TR-0103" {
                    let after = PortBeside { depth_cm: depth, sees: Sees::ThreeRod(106) };
                    raw.from.push((start + VISITS[2] * DAY + 10 * 3600, after));
                }
                channels.push(raw);
                channels.push(one(&p.port, Quantity::SoilTemperature, "degC", depth, Sees::Temperature));
            }
            Some("GM") => channels.push(one(&p.port, Quantity::WaterTension, "kPa", depth, Sees::Tension)),
            _ => channels.push(one(&p.port, Quantity::RawOutput, "mV", depth, Sees::Blade(n))),
        }
    }
    if story.cover == Cover::Closed {
        channels.push(one("air", Quantity::AirTemperature, "degC", -150.0, Sees::Air));
    }
    channels.push(one("batt", Quantity::BatteryVoltage, "V", 0.0, Sees::Battery));
    // The uncut coupe's box was closed with a cable between its lips.
    let humidity = if story.cover == Cover::Closed { Sees::WetBox } else { Sees::DryBox };
    channels.push(one("box", Quantity::EnclosureHumidity, "%", 5.0, humidity));
    channels.push(one("radio", Quantity::SignalStrength, "dBm", 5.0, Sees::Signal));
    channels
}

/// The box and radio of the first station's node: with the uncut coupe's record, so that the first page waits for neither.
async fn first_nodes_own(
    store: &Store,
    node: i64,
    scenario: &Scenario,
    made: Vec<Vec<(i64, f64)>>,
) -> Result<(), StoreError> {
    let told = [("box", Quantity::EnclosureHumidity, "%"), ("radio", Quantity::SignalStrength, "dBm")];
    for ((port, quantity, unit), readings) in told.into_iter().zip(made) {
        let stream = store.ensure_stream(node, port, quantity, unit, Some(scenario.interval)).await?;
        let of = readings.into_iter().map(|(t, raw)| Reading { stream, t, raw }).collect();
        for (origin, readings) in arrived(of, scenario.start, scenario.end) {
            store.add_readings(&origin, readings).await?;
        }
    }
    Ok(())
}

/// A battery in its last weeks: what the discharge takes beyond its slow fall, V.
fn weakening(t: i64, end: i64) -> f64 {
    let days = (t - end + LAST_WEEKS * DAY).max(0) as f64 / DAY as f64;
    (0.0026 * days * 100.0).round() / 100.0
}

/// Stores the record: simulated, by the node's own clock, with its faults.
async fn record(
    store: &Store,
    story: &Story,
    node: i64,
    channels: Vec<Channel>,
    scenario: &Scenario,
) -> Result<(), StoreError> {
    let ports: Vec<PortBeside> = channels.iter().flat_map(|c| c.from.iter().map(|f| f.1)).collect();
    let of = scenario.clone();
    let own = [Sees::DryBox, Sees::Signal].map(|sees| PortBeside { depth_cm: 5.0, sees }).to_vec();
    let beside = [Beside { cover: story.cover, ports }, Beside { cover: Cover::Half, ports: own }];
    let made = tokio::task::spawn_blocking(move || simulate_beside(&of, super::SEED, &beside)).await;
    let mut made = made.map_err(|e| StoreError::Rule(format!("The demo's record could not be made: {e}")))?;
    let own = made.pop().unwrap_or_default();
    if let Some(first) = story.first {
        let station = store.station(store.station_of_node(node).await?).await?;
        let nodes = store.nodes(station.study_id).await?;
        if let Some(first) = nodes.iter().find(|n| n.name == first) {
            first_nodes_own(store, first.id, scenario, own).await?;
        }
    }
    let mut simulated = made.into_iter().flatten();
    let mut streams = Vec::new();
    for channel in &channels {
        let mut readings: Vec<(i64, f64)> = Vec::new();
        for (i, (from, port)) in channel.from.iter().enumerate() {
            let until = channel.from.get(i + 1).map_or(i64::MAX, |next| next.0);
            let part = simulated.next().unwrap_or_default();
            let bent = port.sees == Sees::ThreeRod(103);
            let since = scenario.start + BENT.0 * DAY;
            readings.extend(
                part.into_iter()
                    .filter(|r| (*from..until).contains(&r.0))
                    .map(|(t, v)| (t, if bent && t >= since { v + BENT.1 } else { v })),
            );
        }
        let unit = channel.unit;
        let id = store.ensure_stream(node, &channel.port, channel.quantity, unit, Some(scenario.interval)).await?;
        streams.push((channel.port.clone(), id, readings));
    }
    if story.code == "ride" {
        exchange(&mut streams, scenario.start);
    }
    let sets: Vec<i64> = VISITS.iter().map(|d| scenario.start + d * DAY + 9 * 3600).collect();
    for (port, stream, readings) in streams {
        if !store.series(stream).await?.is_empty() {
            continue;
        }
        let kept = if story.code == "uncut" { by_own_clock(&readings, &sets, scenario) } else { readings };
        let weak = story.code == "ride" && port == "batt";
        let fallen = |t, v: f64| if weak { ((v - weakening(t, scenario.end)) * 100.0).round() / 100.0 } else { v };
        let of = kept.into_iter().map(|(t, raw)| Reading { stream, t, raw: fallen(t, raw) }).collect();
        for (origin, readings) in arrived(of, scenario.start, scenario.end) {
            store.add_readings(&origin, readings).await?;
        }
    }
    Ok(())
}

/// A stream with its readings: port, number, times and values.
type Filled = (String, i64, Vec<(i64, f64)>);

/// The plugs of A1 and A2 changed places between two visits.
fn exchange(streams: &mut [Filled], start: i64) {
    let at = |port: &str, streams: &[Filled]| streams.iter().position(|s| s.0 == port);
    let (Some(a), Some(b)) = (at("A1", streams), at("A2", streams)) else { return };
    let (from, to) = swap_span(start);
    let (first, second) = (streams[a].2.clone(), streams[b].2.clone());
    for (i, (t, value)) in second.iter().enumerate().filter(|(_, r)| (from..to).contains(&r.0)) {
        let (_, other) = first[i];
        (streams[a].2[i], streams[b].2[i]) = ((*t, *value), (*t, other));
    }
}

/// Readings as a node stores them whose clock goes fast and is set right at some moments: at round times of its own. Set back, it
/// waits until it is past what it has stored.
fn by_own_clock(readings: &[(i64, f64)], sets: &[i64], scenario: &Scenario) -> Vec<(i64, f64)> {
    let fast = 1.0 + FAST_S_PER_WEEK / (7 * DAY) as f64;
    let step = scenario.interval;
    let mut kept: Vec<(i64, f64)> = Vec::new();
    let ends = sets.iter().copied().filter(|t| *t < scenario.end).chain([scenario.end]);
    let mut set = scenario.start;
    for end in ends {
        let mut shown = set.div_euclid(step) * step;
        loop {
            let truth = set + ((shown - set) as f64 / fast).round() as i64;
            if truth > end {
                break;
            }
            if let Some(value) = between(readings, truth).filter(|_| kept.last().is_none_or(|last| last.0 < shown)) {
                kept.push((shown, value));
            }
            shown += step;
        }
        set = end;
    }
    kept
}

/// The value between two readings, with their decimals.
fn between(readings: &[(i64, f64)], t: i64) -> Option<f64> {
    let i = readings.partition_point(|r| r.0 < t);
    let b = readings.get(i)?;
    if b.0 == t {
        return Some(b.1);
    }
    let a = readings.get(i.checked_sub(1)?)?;
    let share = (t - a.0) as f64 / (b.0 - a.0) as f64;
    Some(((a.1 * (1.0 - share) + b.1 * share) * 100.0).round() / 100.0)
}

/// Calibrations of both stations: one for the three-rod probes in each soil, one for each blade.
async fn calibrate(store: &Store, story: &Story, scenario: &Scenario) -> Result<(), StoreError> {
    let soils = ["A", "E", "Bt"].map(|name| scenario.horizons.iter().find(|h| h.name == name));
    let soils = soils.into_iter().flatten();
    let known = store.calibrations_in_force().await?;
    let start = UnixSeconds(scenario.start);
    if story.code == "uncut" {
        let model = "three-rod dielectric, digital bus";
        for n in 101..=106 {
            let rods = probe(format!("TR-0{n}"), model, Principle::Dielectric, (0.0, 65_535.0), 1.0);
            let id = store.ensure_probe(&rods).await?;
            if store.probe_events(Some(id)).await?.is_empty() {
                accept_probe(store, id, &rods, scenario).await?;
            }
        }
        for h in soils.filter(|h| h.name != "A") {
            let thetas: Vec<f64> = (0..7).map(|i| 0.07 + (h.pore_space - 0.10) * f64::from(i) / 6.0).collect();
            let raw: Vec<f64> = thetas.iter().map(|t| three_rod_counts(102, *t)).collect();
            let theta: Vec<f64> =
                thetas.iter().enumerate().map(|(i, t)| t + 0.003 * ((i as f64 * 2.7).sin())).collect();
            let of_soil = ebrel_core::soil::Horizon { texture: h.texture.into(), ..Default::default() };
            if known.serving(0, model, Some(&of_soil)).is_empty() {
                let subject = Subject::Model(model.to_owned());
                adopt(store, subject, (h.texture, h.bulk_density), (&raw, &theta), start).await?;
            }
        }
        return Ok(());
    }
    for (serial, depth) in [("BD-0431", 5.0), ("BD-0432", 15.0), ("BD-0433", 30.0)] {
        let model = "blade dielectric, 5 cm, analog 2.5 V";
        let new = probe(serial.to_owned(), model, Principle::Dielectric, (250.0, 2500.0), 0.1);
        let id = store.ensure_probe(&new).await?;
        let Some(h) = scenario.horizons.iter().find(|h| h.span_cm.1 > depth) else { continue };
        if !known.serving(id, "", None).is_empty() {
            continue;
        }
        accept_probe(store, id, &new, scenario).await?;
        let thetas: Vec<f64> = (0..7).map(|i| 0.07 + (h.pore_space - 0.10) * f64::from(i) / 6.0).collect();
        let run = BenchRun {
            serial: number(serial),
            density: h.bulk_density,
            volume_cm3: super::CORE_CM3,
            thetas: &thetas,
            outlier: None,
            packing_drift: 0.0,
        };
        let tins = run.samples();
        let raw: Vec<f64> = tins.iter().map(|t| t.raw_mv).collect();
        let theta: Vec<f64> = tins.iter().map(|t| (t.wet_g - t.dry_g) / super::CORE_CM3).collect();
        adopt(store, Subject::Probe(id), (h.texture, h.bulk_density), (&raw, &theta), start).await?;
    }
    Ok(())
}

async fn adopt(
    store: &Store,
    subject: Subject,
    (soil, density): (&str, f64),
    (raw, theta): (&[f64], &[f64]),
    start: UnixSeconds,
) -> Result<(), StoreError> {
    let recommendation = recommend(&Samples { raw, theta, ..Samples::default() });
    let Some(candidate) = recommendation.form.and_then(|f| recommendation.candidate(f)) else { return Ok(()) };
    let Ok(fit) = &candidate.fit else { return Ok(()) };
    let rows: Vec<_> = raw.iter().zip(theta).map(|(r, t)| serde_json::json!({"raw": r, "theta": t})).collect();
    let adoption = Adoption {
        subject,
        made_with: MadeWith { soil: soil.into(), density: Some(density), logger: super::LOGGER.into() },
        run_id: None,
        valid_from: start,
        curve: Curve::from_fit(fit, candidate.form),
        statement: recommendation.sentence.clone(),
        samples: serde_json::json!({ "samples": rows }).to_string(),
        by: "N. Arvel".into(),
        at: start + SpanSeconds(20 * DAY),
    };
    store.adopt(&adoption).await.map(|_| ())
}

/// What stands above ground, or is the node itself: no log of a hole tells of it.
async fn above_ground(store: &Store, story: &Story, node: i64, start: UnixSeconds) -> Result<(), StoreError> {
    let thermistor = probe("TH-0041".into(), "thermistor", Principle::Thermometer, (-40.0, 70.0), 0.01);
    let own = |serial: &str| probe(serial.into(), "node with radio", Principle::Node, (0.0, 6.0), 0.01);
    let all = match story.cover {
        Cover::Closed => vec![("air", Some(-150.0), "in a shield", thermistor), ("batt", None, "", own("NO-0002"))],
        Cover::Half => vec![("batt", None, "", own("NO-0003"))],
    };
    for (port, depth, orientation, probe) in all {
        let id = store.ensure_probe(&probe).await?;
        let station = store.probe_places(Some(id)).await?;
        if !station.is_empty() {
            continue;
        }
        let new = NewPlacement {
            node_id: node,
            port: port.into(),
            probe_id: id,
            depth_cm: depth.and_then(|d| DepthCm::new(d).ok()),
            orientation: orientation.into(),
            starts: start,
            ends: None,
            note: String::new(),
        };
        store.place(&new).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fast_clock_stores_round_times_of_its_own_and_none_twice() {
        let mut scenario = ostrelle_cut_coupe();
        scenario.end = scenario.start + 400 * DAY;
        let readings: Vec<(i64, f64)> = (0..=400 * 96).map(|i| (scenario.start + i * 900, i as f64)).collect();
        let set = scenario.start + 196 * DAY + 9 * 3600;
        let kept = by_own_clock(&readings, &[set], &scenario);
        assert!(kept.windows(2).all(|w| w[0].0 < w[1].0) && kept.iter().all(|r| r.0 % 900 == 0));
        let just_before = kept.iter().rfind(|r| r.0 <= set).unwrap();
        let truth = scenario.start as f64 + just_before.1 * 900.0;
        assert!((just_before.0 as f64 - truth - 1_120.0).abs() < 20.0, "the clock was ahead by then");
    }
}
