//! The demo's plans: three stations of Ostrelle Wood, each by another method, and one deliberately bad draft.

use crate::planning::{PlanError, StationPlan};
use ebrel_core::field::LandmarkKind;
use ebrel_core::planning::Draft;
use ebrel_core::quality::Place;
use ebrel_core::units::UnixSeconds;
use ebrel_store::landmarks::Landmark;
use ebrel_store::stations::Station;
use ebrel_store::{Store, StoreError};
use serde_json::{Value, json};

/// Puts the plans in, and makes the stations that have no record yet.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn seed(store: &Store, study: i64, cut: i64) -> Result<(), StoreError> {
    let question = store.study(study).await?.question;
    let design = json!({
        "question": question,
        "quantities": {"water_content": "yes", "water_tension": "yes", "soil_temperature": "yes", "air_temperature": "yes", "rain": "yes"},
        "treatments": [{"name": "cut in the first winter", "replicates": 1}, {"name": "uncut", "replicates": 1}, {"name": "half shade", "replicates": 1}],
        "months": 60, "interval_min": 15
    });
    store.keep_study_design(study, 0, &question, &design.to_string()).await?;
    let uncut = station(store, study, "uncut", "Uncut coupe").await?;
    let ride = station(store, study, "ride", "Ride edge").await?;
    let gate = station(store, study, "gate", "Gate corner, a bad draft").await?;
    let hollow = station(store, study, "hollow", "Spring hollow").await?;
    for (station, plan) in
        [(cut, pit()), (uncut, recess()), (ride, side_wall()), (gate, bad()), (hollow, spring_hollow())]
    {
        keep(store, station, plan).await.map_err(|e| StoreError::Rule(e.to_string()))?;
    }
    let mut unit = store.unit().await?;
    for (name, kind, latitude, longitude, note) in [
        ("forester's hut", LandmarkKind::Gateway, 46.9040, -3.2061, "gateway under the eaves"),
        ("double oak", LandmarkKind::Landmark, 46.90035, -3.19975, "two stems from one foot"),
        ("boundary stone 14", LandmarkKind::Landmark, 46.89905, -3.19905, "west of the ride"),
    ] {
        let (name, note, by) = (name.to_owned(), note.to_owned(), "N. Arvel".to_owned());
        let place = Place { latitude, longitude };
        unit.keep_landmark(study, &Landmark { id: 0, name, kind, place, note, by }).await?;
    }
    unit.commit().await?;
    for (name, t) in [("after the March rain", 1_774_008_000), ("end of August", 1_788_177_600)] {
        store.add_snapshot(cut, name, UnixSeconds(t), "T. Quill").await?;
    }
    Ok(())
}

async fn station(store: &Store, study_id: i64, code: &str, name: &str) -> Result<i64, StoreError> {
    let text = String::new;
    let station = Station {
        id: 0,
        study_id,
        code: code.into(),
        name: name.into(),
        latitude: None,
        longitude: None,
        elevation_m: None,
        treatment: text(),
        cover: text(),
        known_bias: text(),
    };
    store.add_station(&station, &[]).await
}

async fn keep(store: &Store, station: i64, plan: Value) -> Result<(), PlanError> {
    let draft: Draft = serde_json::from_value(plan)?;
    let mut plan = StationPlan::load(store, station).await?;
    let at = plan.study.fixed_now.map_or(UnixSeconds(0), UnixSeconds);
    plan.keep(store, draft, ("planned", "N. Arvel"), at).await
}

fn soil() -> Value {
    json!([
        {"name": "O", "texture": "leaf mould", "bottom_cm": 3, "density": 0.95, "organic_pct": 45},
        {"name": "A", "texture": "silt loam", "bottom_cm": 14, "density": 1.18, "sand_pct": 16, "clay_pct": 18, "organic_pct": 5.2},
        {"name": "E", "texture": "silt loam", "bottom_cm": 38, "density": 1.34, "sand_pct": 18, "clay_pct": 16, "organic_pct": 1.6},
        {"name": "Bt", "texture": "silty clay loam", "bottom_cm": 90, "density": 1.52, "sand_pct": 10, "clay_pct": 34, "organic_pct": 0.7}
    ])
}

/// Every criterion scored alike but for the exceptions, all cleared.
fn candidate(name: &str, usual: u8, except: &[(&str, u8, &str)]) -> Value {
    let mut scores = json!({});
    let mut notes = json!({});
    for code in ["represents", "relief", "stones", "undisturbed", "bias", "sky", "radio"] {
        scores[code] = json!(usual);
    }
    for (code, score, note) in except {
        scores[code] = json!(score);
        notes[code] = json!(note);
    }
    json!({"name": name, "scores": scores, "notes": notes, "cleared": {"services": "yes", "access": "yes", "permission": "yes"}})
}

fn probe(depth: f64, model: &str, serial: &str, purpose: &str) -> Value {
    let sentinel = if purpose.starts_with("sentinel") { "yes" } else { "" };
    json!({"depth_cm": depth, "model": model, "serial": serial, "purpose": purpose, "sentinel": sentinel})
}

fn thermometers(depths: &[f64], first: u32) -> Vec<Value> {
    depths.iter().zip(first..).map(|(d, n)| probe(*d, "thermometer-1w", &format!("DT-{n:04}"), "")).collect()
}

fn pit() -> Value {
    let mut probes = vec![
        probe(5.0, "blade-5", "BD-0417", "does the cut dry the seedbed"),
        probe(15.0, "blade-5", "BD-0418", "upper roots of the regrowth"),
        probe(30.0, "blade-5", "BD-0421", "lower roots of the stools"),
        probe(60.0, "blade-5", "BD-0422", "sentinel: does the uncovered soil drain more"),
    ];
    probes.extend(thermometers(&[5.0, 15.0, 30.0, 60.0], 208));
    probes.push(probe(-150.0, "air-shielded", "TH-0031", "the air that the cut lets in"));
    probes.push(probe(-100.0, "rain-0.2", "RG-0007", "what came in, for all stations"));
    json!({
        "purpose": "Topsoil of the coupe that was cut: warmer and drier than its neighbour, and for how many summers?",
        "latitude": 46.9, "longitude": -3.2, "elevation_m": 210, "treatment": "cut in the first winter", "cover": "hazel stools, regrowth",
        "figures": {"roots_cm": 45, "distance_m": 640, "spreading": 9, "panel_w": 2, "post_rise_m": 1.2, "outage_days": 21},
        "choices": {"method": "pit", "hardness": "firm", "terrain": "broken", "logger": "node-8"},
        "candidates": [
            candidate("12 m in from the south edge", 3, &[("bias", 1, "log pile 4 m south until the second May")]),
            candidate("by the gate", 2, &[("represents", 1, "trodden by the deer"), ("undisturbed", 0, "old fire place")])
        ],
        "chosen": 0, "chosen_because": "middle of the coupe, slope and stools as in the rest of it",
        "biases": [{"what": "a log pile stood 4 m south until May 2025", "mitigation": "removed then; readings before are marked"}],
        "horizons": soil(), "probes": probes, "install": "2024-03-01", "retrieve": "2029-03-01", "currency": "EUR"
    })
}

fn recess() -> Value {
    let mut probes = vec![
        probe(5.0, "rod-3", "TR-0101", "the seedbed under the canopy"),
        probe(15.0, "rod-3", "TR-0102", "upper roots"),
        probe(15.0, "rod-3", "TR-0103", "twin of TR-0102: how far may two probes differ"),
        probe(30.0, "rod-3", "TR-0104", "lower roots of the stools"),
        probe(60.0, "rod-3", "TR-0105", "sentinel: does water pass the roots"),
    ];
    probes.push(probe(-150.0, "air-shielded", "TH-0041", "the air under the canopy"));
    json!({
        "purpose": "The same soil with its canopy: what the cut coupe is compared with.",
        "latitude": 46.9011, "longitude": -3.1991, "elevation_m": 212, "treatment": "none", "cover": "hazel coppice, 14 years",
        "figures": {"roots_cm": 45, "distance_m": 655, "spreading": 10, "battery_mah": 19000, "outage_days": 21, "hole_spacing_cm": 25},
        "choices": {"method": "recess", "hardness": "soft", "terrain": "broken", "logger": "node-8"},
        "candidates": [candidate("between two full stools, 40 m north of the cut", 3, &[("sky", 1, "closed canopy: battery, no panel")])],
        "chosen": 0, "chosen_because": "same slope, soil and stool density as the cut coupe",
        "horizons": soil(), "probes": probes, "install": "2024-03-01", "retrieve": "2029-03-01", "currency": "EUR"
    })
}

/// A fourth place, which is being installed today.
fn spring_hollow() -> Value {
    let mut plan = recess();
    let probes =
        [(5.0, 201, "the seedbed where it is wettest"), (15.0, 202, "upper roots"), (30.0, 203, "lower roots")];
    plan["probes"] = probes.iter().map(|(d, n, why)| probe(*d, "rod-3", &format!("TR-0{n}"), why)).collect();
    plan["purpose"] = json!("The wet end: does the hollow stay moist enough to be compared at all?");
    plan["latitude"] = json!(46.9016);
    plan["longitude"] = json!(-3.2013);
    plan["elevation_m"] = json!(205);
    plan["cover"] = json!("hazel and fern above a spring");
    plan["install"] = json!("2026-09-01");
    plan["candidates"] = json!([candidate("above the spring, beside the fern", 2, &[("sky", 1, "closed canopy")])]);
    plan["chosen_because"] = json!("the lowest place with the same soil");
    plan
}

fn side_wall() -> Value {
    let probes = json!([
        probe(5.0, "blade-5", "BD-0431", "topsoil in half shade"),
        probe(15.0, "blade-5", "BD-0432", "upper roots"),
        probe(30.0, "blade-5", "BD-0433", "lower roots of grass and bramble"),
        probe(15.0, "matrix-block", "GM-0051", "can the roots still get at it"),
        probe(30.0, "matrix-block", "GM-0052", "the same, where fewer roots are"),
    ]);
    json!({
        "purpose": "Half shade at the ride: does it lie between the two coupes, or is it a place of its own?",
        "latitude": 46.8994, "longitude": -3.1982, "elevation_m": 208, "treatment": "half shade", "cover": "grass and bramble",
        "figures": {"roots_cm": 45, "distance_m": 590, "outage_days": 21, "scan_s": 900, "collar_cm": 5},
        "choices": {"method": "side_wall", "hardness": "firm", "machines": "none", "terrain": "open", "logger": "node-8"},
        "candidates": [candidate("three paces in from the ride", 2, &[("relief", 1, "an edge: it is the question here")])],
        "chosen": 0, "chosen_because": "the edge is what is asked about",
        "biases": [{"what": "edge of the ride", "mitigation": "part of the question"}],
        "horizons": soil(), "probes": probes, "install": "2024-03-01", "retrieve": "2026-10-12", "currency": "EUR"
    })
}

/// What the checks are for: each of its mistakes has been made by somebody.
fn bad() -> Value {
    let mut probes = vec![
        probe(2.0, "blade-10", "", "the very top"),
        probe(8.0, "rod-3", "", ""),
        probe(-20.0, "rod-3", "", "a minus too many"),
        probe(110.0, "rod-2-diff", "", "sentinel"),
        probe(14.0, "rod-3", "", ""),
    ];
    probes[1]["address"] = json!("0");
    probes[4]["address"] = json!("0");
    probes[3]["cable_m"] = json!(1);
    json!({
        "purpose": "",
        "latitude": 46.8987, "longitude": -3.2009, "treatment": "none",
        "figures": {"roots_cm": 60, "hole_angle_deg": 10, "battery_mah": 0, "distance_m": 9000, "pusher_pipe_cm": 60},
        "choices": {"method": "slanted", "hardness": "hard", "terrain": "forest", "logger": "node-bus"},
        "candidates": [{"name": "corner by the gate, easy to dig", "scores": {"represents": 0, "undisturbed": 1}, "cleared": {"access": "yes"}}],
        "chosen": 0,
        "biases": [{"what": "water trough and trodden ground"}],
        "horizons": soil(), "probes": probes, "install": "2026-11-01", "retrieve": "2026-10-01"
    })
}
