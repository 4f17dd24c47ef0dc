//! The demo's studies, made by the simulator: what its first page needs, and the rest in the background.

mod bench;
mod beside;
mod field;
mod hand;
mod live;
mod plans;
mod stories;
mod tubs;

pub use beside::{missing, rest};
pub use live::LiveDemo;

use ebrel_core::calibration::{Curve, Samples, recommend};
use ebrel_core::quality::{self, Event};
use ebrel_core::register::EventKind;
use ebrel_core::soil::Horizon;
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use ebrel_simulator::{BenchRun, SampleMasses, Scenario, ostrelle_cut_coupe, simulate};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::calibrations::{Adoption, MadeWith, Subject};
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::register::ProbeEvent;
use ebrel_store::runs::Run;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};
use serde_json::json;

/// The one seed of the demo: pictures and tests repeat.
const SEED: u64 = 417;
/// Volume of the demo's corer, cm³.
const CORE_CM3: f64 = 50.0;

/// Makes the study Ostrelle Wood with its cut coupe, unless a study is there already.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn seed(store: &Store) -> Result<(), StoreError> {
    if !store.studies().await?.is_empty() {
        return Ok(());
    }
    let scenario = ostrelle_cut_coupe();
    let simulated = {
        let scenario = scenario.clone();
        let made = tokio::task::spawn_blocking(move || simulate(&scenario, SEED)).await;
        made.map_err(|e| StoreError::Rule(format!("The demo's record could not be made: {e}")))?
    };
    let study = Study {
        id: 0,
        name: "Ostrelle Wood".into(),
        question: "Does cutting a hazel coppice coupe warm and dry its topsoil, and for how many summers?".into(),
        utc_offset_minutes: 0,
        fixed_now: Some(scenario.end + 6 * 3600),
    };
    let study_id = store.add_study(&study, None).await?;
    let station = add_station(store, study_id, &scenario).await?;
    let node = store.ensure_node(station, "node 01").await?;
    let mut readings = Vec::new();
    let mut repeats = Vec::new();
    for stream in &simulated.streams {
        let (quantity, unit) = meaning_of(stream.port);
        let id = store.ensure_stream(node, stream.port, quantity, unit, Some(scenario.interval)).await?;
        readings.extend(stream.readings.iter().map(|(t, raw)| Reading { stream: id, t: *t, raw: *raw }));
        repeats.extend(stream.repeats.iter().map(|(t, raw)| Reading { stream: id, t: *t, raw: *raw }));
    }
    for (origin, readings) in stories::arrived(readings, scenario.start, scenario.end) {
        store.add_readings(&origin, readings).await?;
    }
    // The node's card was read two hours later, and says otherwise.
    store.add_readings(&Origin::of(Source::Demo, UnixSeconds(scenario.end + 7200)), repeats).await?;
    place_probes(store, node, &scenario).await?;
    calibrate(store, study_id, &scenario).await?;
    for event in events(&scenario) {
        store.add_event(station, &event).await?;
    }
    hand::seed(store, station, scenario.start).await?;
    crate::reviewing::run(store, station).await?;
    bench::seed(store, study_id, scenario.start - 40 * 86_400).await?;
    plans::seed(store, study_id, station).await?;
    let field = field::seed(store, study_id, UnixSeconds(scenario.start)).await;
    field.map_err(|e| StoreError::Rule(e.to_string()))?;
    tubs::seed(store, UnixSeconds(scenario.end + 6 * 3600)).await
}

fn meaning_of(port: &str) -> (Quantity, &'static str) {
    match port {
        "air" => (Quantity::AirTemperature, "degC"),
        "bare" => (Quantity::BareAirTemperature, "degC"),
        "rain" => (Quantity::Rain, "mm"),
        "batt" => (Quantity::BatteryVoltage, "V"),
        p if p.starts_with('m') => (Quantity::RawOutput, "mV"),
        _ => (Quantity::SoilTemperature, "degC"),
    }
}

async fn add_station(store: &Store, study_id: i64, scenario: &Scenario) -> Result<i64, StoreError> {
    let horizons: Vec<Horizon> = scenario
        .horizons
        .iter()
        .map(|h| {
            let mineral = h.sand_clay_pct.1 > 0.0;
            Horizon {
                top_cm: h.span_cm.0,
                bottom_cm: h.span_cm.1,
                name: h.name.into(),
                texture: h.texture.into(),
                sand_pct: mineral.then_some(h.sand_clay_pct.0),
                clay_pct: mineral.then_some(h.sand_clay_pct.1),
                organic_matter_pct: Some(h.organic_pct),
                bulk_density_g_cm3: Some(h.bulk_density),
            }
        })
        .collect();
    let station = Station {
        id: 0,
        study_id,
        code: "cut".into(),
        name: "Cut coupe".into(),
        latitude: Some(46.9),
        longitude: Some(-3.2),
        elevation_m: Some(210.0),
        treatment: "cut in the first winter".into(),
        cover: "hazel stools, regrowth".into(),
        known_bias: "a log pile stood 4 m south until May 2025".into(),
    };
    store.add_station(&station, &horizons).await
}

fn probe(serial: String, model: &str, principle: Principle, range: (f64, f64), resolution: f64) -> Probe {
    Probe {
        id: 0,
        serial,
        model: model.into(),
        principle,
        instrument_min: Some(range.0),
        instrument_max: Some(range.1),
        resolution: Some(resolution),
    }
}

async fn place_probes(store: &Store, node: i64, scenario: &Scenario) -> Result<(), StoreError> {
    let mut all: Vec<(&str, Option<f64>, &str, Probe)> = Vec::new();
    for p in &scenario.moisture {
        let serial = format!("BD-{:04}", p.serial);
        let model = "blade dielectric, 5 cm, analog 2.5 V";
        all.push((
            p.port,
            Some(p.depth_cm),
            "horizontal, blade on edge",
            probe(serial, model, Principle::Dielectric, (250.0, 2500.0), 0.1),
        ));
    }
    for (i, (port, depth)) in scenario.thermometers.iter().enumerate() {
        let model = "digital thermometer, stainless";
        all.push((
            port,
            Some(*depth),
            "horizontal",
            probe(format!("DT-{:04}", 208 + i), model, Principle::Thermometer, (-40.0, 85.0), 0.01),
        ));
    }
    let thermistor = |serial: &str| probe(serial.into(), "thermistor", Principle::Thermometer, (-40.0, 70.0), 0.01);
    all.push(("air", Some(-150.0), "in a shield", thermistor("TH-0031")));
    all.push(("bare", Some(-150.0), "bare", thermistor("TH-0032")));
    let gauge = probe("RG-0007".into(), "tipping bucket, 0.2 mm", Principle::RainGauge, (0.0, 60.0), 0.2);
    all.push(("rain", Some(-100.0), "level", gauge));
    all.push(("batt", None, "", probe("NO-0001".into(), "node with radio", Principle::Node, (0.0, 6.0), 0.01)));
    for (port, depth, orientation, probe) in all {
        let probe_id = store.ensure_probe(&probe).await?;
        accept_probe(store, probe_id, &probe, scenario).await?;
        let placement = NewPlacement {
            node_id: node,
            port: port.into(),
            probe_id,
            depth_cm: depth.and_then(|d| DepthCm::new(d).ok()),
            orientation: orientation.into(),
            starts: UnixSeconds(scenario.start),
            ends: None,
            note: String::new(),
        };
        store.place(&placement).await?;
    }
    Ok(())
}

/// What was done on the bench before the probe went into the ground.
async fn accept_probe(store: &Store, id: i64, probe: &Probe, scenario: &Scenario) -> Result<(), StoreError> {
    let event = |days: i64, kind, note: &str| ProbeEvent {
        at: UnixSeconds(scenario.start - days * 86_400),
        kind,
        note: note.into(),
        by: "T. Quill".into(),
    };
    let note = match probe.principle {
        Principle::Dielectric => "in air and in water at 20 °C within the model's limits; prongs straight",
        Principle::Thermometer => "in stirred ice and at room temperature, beside the batch",
        Principle::RainGauge => "100 mL dripped in give the tips they should",
        Principle::GranularMatrix | Principle::Gypsum | Principle::Node => return Ok(()),
    };
    store.add_probe_event(id, &event(32, EventKind::Accepted, note)).await?;
    if probe.principle == Principle::Thermometer && probe.serial != "TH-0032" {
        store
            .add_probe_event(id, &event(30, EventKind::Checked, "ice, room and 30 °C bath against the reference"))
            .await?;
    }
    Ok(())
}

/// Calibrations that were adopted; one run (60 cm) that waits because of its outlying tin, and one (15 cm) that was made
/// again because the packing of the first drifted.
async fn calibrate(store: &Store, study: i64, scenario: &Scenario) -> Result<(), StoreError> {
    let probes = store.probes().await?;
    let mut anew = None;
    for p in &scenario.moisture {
        let horizon = scenario.horizons.iter().find(|h| h.span_cm.1 > p.depth_cm);
        let (texture, name, density) = horizon.map_or(("", "", 1.3), |h| (h.texture, h.name, h.bulk_density));
        // The run whose packing drifts ends well below the pore space, so that its drift is all there is to see.
        let drifts = p.serial == 418;
        let wettest = horizon.map_or(0.42, |h| h.pore_space - if drifts { 0.08 } else { 0.03 });
        let thetas: Vec<f64> = (0..7).map(|i| 0.07 + (wettest - 0.07) * f64::from(i) / 6.0).collect();
        let serial = format!("BD-{:04}", p.serial);
        let probe_id = probes.iter().find(|b| b.serial == serial).map(|b| b.id);
        let outlier = (p.serial == 422).then_some(3);
        let with = |packing_drift: f64| {
            BenchRun { serial: p.serial, density, volume_cm3: CORE_CM3, thetas: &thetas, outlier, packing_drift }
                .samples()
        };
        let run = |title: String, tins: &[SampleMasses]| Run {
            id: 0,
            study_id: study,
            title,
            probe_id,
            draft: draft(tins, density, texture),
            practice: None,
        };
        let tins = with(if drifts { 0.08 } else { 0.0 });
        let first = run(format!("{serial} in {name} at {density:.2} g/cm³"), &tins);
        let number = store.add_run(&first).await?;
        if drifts {
            anew = Some(run(format!("{serial} in {name}, packed anew"), &with(0.0)));
        }
        let Some(probe_id) = probe_id.filter(|_| outlier.is_none()) else { continue };
        let raw: Vec<f64> = tins.iter().map(|t| t.raw_mv).collect();
        let theta: Vec<f64> = tins.iter().map(|t| (t.wet_g - t.dry_g) / CORE_CM3).collect();
        let recommendation = recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() });
        let taken = recommendation.form.and_then(|f| recommendation.candidate(f));
        if let Some((candidate, Ok(fit))) = taken.map(|c| (c, &c.fit)) {
            let adoption = Adoption {
                subject: Subject::Probe(probe_id),
                made_with: MadeWith { soil: texture.into(), density: Some(density), logger: LOGGER.into() },
                run_id: Some(number),
                valid_from: UnixSeconds(scenario.start),
                curve: Curve::from_fit(fit, candidate.form),
                statement: recommendation.sentence.clone(),
                samples: first.draft,
                by: "N. Arvel".into(),
                at: UnixSeconds(scenario.start + 20 * 86_400),
            };
            store.adopt(&adoption).await?;
        }
    }
    if let Some(run) = anew {
        store.add_run(&run).await?;
    }
    Ok(())
}

/// What the demo's probes were read with.
const LOGGER: &str = "field node with radio, 8 analog";

/// A run as its form holds it.
fn draft(tins: &[SampleMasses], density: f64, soil: &str) -> String {
    let rows: Vec<_> = tins
        .iter()
        .map(|t| {
            let two = |v: f64| format!("{v:.2}");
            json!({"raw": format!("{:.1}", t.raw_mv), "tare": two(t.tare_g), "wet": two(t.wet_g), "dry": two(t.dry_g),
                   "volume": format!("{CORE_CM3}"), "out": false})
        })
        .collect();
    json!({"unit": "mV", "soil": soil, "density": format!("{density:.2}"), "step": "0.01", "volume_pct": "1", "w_now": "0.05",
           "logger": LOGGER, "excitation": "2.5", "rows": rows})
    .to_string()
}

fn events(scenario: &Scenario) -> Vec<StoredEvent> {
    let day = |d: i64| scenario.start + d * 86_400;
    let event = |kind, start: i64, hours: i64, note: &str| StoredEvent {
        id: 0,
        event: Event { kind, start: UnixSeconds(start), end: UnixSeconds(start + hours * 3600) },
        amount: None,
        unit: String::new(),
        note: note.into(),
        by: "N. Arvel".into(),
        client_id: None,
        revision: 1,
    };
    vec![
        event(
            quality::EventKind::Installation,
            day(0) + 6 * 3600,
            4,
            "four depths from a pit; the 30 cm probe was moved off a root",
        ),
        event(quality::EventKind::OfficialStart, day(14), 0, "first good wetting after installation"),
        event(quality::EventKind::Visit, day(195) + 10 * 3600, 1, "plugs and gaskets checked"),
        event(quality::EventKind::Visit, day(197) + 15 * 3600, 1, "plug of the 60 cm probe put back"),
        event(quality::EventKind::Maintenance, day(600) + 9 * 3600, 2, "cable gnawed by a mouse, mended"),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::quality::Test;
    use ebrel_simulator::FaultKind;

    /// The tests that may name a fault. A plug that is loose for hours is spikes to one and noise to another.
    const fn tests_of(kind: FaultKind) -> &'static [Test] {
        match kind {
            FaultKind::Gap => &[Test::Gap],
            FaultKind::Repeated => &[Test::Repeated],
            FaultKind::NotConnected => &[Test::NotConnected],
            FaultKind::OutOfInstrument => &[Test::OutOfInstrument],
            FaultKind::Impossible => &[Test::Impossible],
            FaultKind::Spike => &[Test::Spike, Test::Noise],
            FaultKind::Step => &[Test::Step],
            FaultKind::Stuck => &[Test::Stuck],
            FaultKind::Ponded => &[Test::Ponded],
        }
    }

    /// The known truth of the simulator measures the tests: every fault is found, and hardly anything else.
    #[tokio::test(flavor = "multi_thread")]
    async fn the_tests_find_every_fault_of_the_demo_and_little_else() {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
        seed(&store).await.unwrap();
        let faults = simulate(&ostrelle_cut_coupe(), SEED).faults;
        let streams = store.streams(1).await.unwrap();
        let port = |id: i64| streams.iter().find(|s| s.id == id).map_or("", |s| s.port.as_str());
        let flags = store.flags(1).await.unwrap();
        for fault in &faults {
            let found = flags.iter().any(|f| {
                let overlaps = f.flag.start.0 <= fault.end && f.flag.end.0 >= fault.start;
                tests_of(fault.kind).contains(&f.flag.test) && overlaps && port(f.stream_id) == fault.port
            });
            assert!(found, "{fault:?} was not found");
        }
        let day = 86_400;
        let beside: Vec<_> = flags
            .iter()
            .filter(|f| f.waits())
            .filter(|f| {
                let near = |x: &ebrel_simulator::Fault| f.flag.start.0 <= x.end + day && f.flag.end.0 >= x.start - day;
                !faults.iter().any(|x| near(x) && x.port == port(f.stream_id))
            })
            .map(|f| (port(f.stream_id), f.flag.test, f.flag.start, &f.flag.reason))
            .collect();
        assert!(beside.len() <= 1, "{beside:?}");
    }
}
