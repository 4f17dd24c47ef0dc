//! The demo's other sheets of the bench: a thermometer with a constant bias, a batch with an odd one out, an acceptance with
//! a wetting test, blocks that are soaked, a gypsum block in a drying pot, and a container that dries.

use ebrel_core::units::{Principle, UnixSeconds};
use ebrel_simulator::drying_container;
use ebrel_store::probes::Probe;
use ebrel_store::register::BenchSheet;
use ebrel_store::runs::Run;
use ebrel_store::{Store, StoreError};
use serde_json::{Value, json};

/// Puts the sheets in.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn seed(store: &Store, study_id: i64, at: i64) -> Result<(), StoreError> {
    store.ensure_probe(&spare_thermometer()).await?;
    let sheets = [
        ("temperature", thermometer()),
        ("batch", batch()),
        ("acceptance", acceptance()),
        ("soaking", soaking()),
        ("block", block()),
    ];
    for (kind, draft) in sheets {
        let title = draft["title"].as_str().unwrap_or_default().to_owned();
        let made_at = UnixSeconds(at);
        let sheet = BenchSheet { id: 0, study_id, kind: kind.into(), title, made_at, draft: draft.to_string() };
        store.add_sheet(&sheet).await?;
    }
    store.add_run(&container(study_id)).await?;
    Ok(())
}

fn spare_thermometer() -> Probe {
    Probe {
        id: 0,
        serial: "DT-0212".into(),
        model: "digital thermometer, stainless".into(),
        principle: Principle::Thermometer,
        instrument_min: Some(-40.0),
        instrument_max: Some(85.0),
        resolution: Some(0.01),
    }
}

/// Reads 0.6 K warm in ice, at room temperature and in the bath: a constant that the evidence carries.
fn thermometer() -> Value {
    let pair =
        |medium: &str, probe: &str, reference: f64| json!({"medium": medium, "probe": probe, "reference": reference});
    json!({
        "title": "DT-0212 before it went back to the shelf", "serial": "DT-0212", "signal": "degC", "claim_probe": 0.3,
        "pairs": [
            pair("stirred ice bath", "0.63 0.62 0.62", 0.0), pair("cool bath", "10.71", 10.1),
            pair("room", "20.69 20.70 20.69", 20.1), pair("warm bath", "30.82", 30.2), pair("warm bath", "35.19", 34.6)
        ]
    })
}

fn batch() -> Value {
    json!({
        "title": "Blades of spring 2024, side by side", "medium": "moist sand, well mixed", "unit": "mV", "tolerance": 20,
        "list": "BD-0417; 902.4 902.1\nBD-0418; 896.8\nBD-0419; 955.3\nBD-0420; 911.0\nBD-0421; 905.2\nBD-0422; 899.6"
    })
}

/// Four blades: three sound, one that reads a little high in air; and in the bucket water ran down one cable.
fn acceptance() -> Value {
    let row = |serial: &str, air: f64, water: f64| json!({"serial": serial, "air": air, "water": water, "straight": "yes", "sealed": "yes"});
    json!({
        "title": "Blades of spring 2024, air, water and bucket", "celsius": 18.5, "step": 1,
        "probes": [row("BD-0417", 447.2, 2041.0), row("BD-0418", 451.8, 2036.5), row("BD-0421", 492.6, 2052.1), row("BD-0422", 444.9, 2047.3)],
        "wetting": "BD-0417; 5; 702 702 703 760 1190 1402 1418 1420 1420 1421 1421\nBD-0418; 10; 698 699 698 699 720 960 1310 1398 1409 1411 1411\nBD-0421; 15; 705 705 705 706 705 731 940 1270 1385 1402 1404\nBD-0422; 20; 701 700 701 742 980 1250 1371 1390 1394 1395 1396"
    })
}

fn soaking() -> Value {
    json!({
        "title": "Granular matrix for the ride edge", "serials": "GM-0102, GM-0103", "start": "2024-01-21 20:00",
        "log": "2024-01-22 07:40; wet; 0.94\n2024-01-23 07:50; dry; 26.1\n2024-01-23 19:55; wet; 0.66\n2024-01-24 19:30; dry; 24.8\n2024-01-25 07:45; wet; 0.64"
    })
}

/// Gypsum that begins to respond near 55 kPa, and follows late when the pot is wetted again.
fn block() -> Value {
    let drying = (0..15).map(|i| {
        let kilopascal = 9.0 * 1.27f64.powi(i);
        let wobble = [1.02, 0.985, 1.01, 0.995][i as usize % 4];
        let kilo_ohm = (kilopascal / 26.0).powf(1.0 / 1.35).max(0.55 * 2.9) * wobble;
        format!("{}; {kilo_ohm:.2}; {kilopascal:.0}", 12 * i)
    });
    let wetted =
        ["170; 6.21; 11", "174; 5.90; 10", "182; 4.70; 10", "190; 2.70; 10", "202; 1.66; 10"].map(str::to_owned);
    let list: Vec<String> = drying.chain(wetted).collect();
    json!({"title": "Own-made gypsum in loam", "block": "GY-0011", "reference": "GM-0102", "refill": 60, "list": list.join("\n")})
}

/// Leaf mould in a container that was weighed as it dried.
fn container(study_id: i64) -> Run {
    const DRY_G: f64 = 4710.0;
    let thetas = [0.45, 0.4, 0.35, 0.3, 0.24, 0.19, 0.14, 0.09];
    let rows = drying_container(419, &thetas, DRY_G).into_iter();
    let rows: Vec<Value> = rows.map(|(raw, gross)| json!({"raw": raw.to_string(), "wet": gross.to_string()})).collect();
    let draft = json!({
        "school": "drying", "unit": "mV", "soil": "leaf mould", "density": "0.95", "step": "1", "volume_pct": "1",
        "pot_tare": "912", "pot_dry": DRY_G.to_string(), "pot_volume": "4000", "dry_temperature": "65", "dry_hours": "72",
        "organic": "45", "logger": "field node with radio, 8 analog", "excitation": "2.5", "rows": rows
    });
    Run {
        id: 0,
        study_id,
        title: "Leaf mould, one container that dries".into(),
        probe_id: None,
        draft: draft.to_string(),
        practice: None,
    }
}
