//! A probe at a port, with nothing known of it but what it takes.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::units::{DepthCm, Principle, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;

/// Puts a probe at a port from a time on: into the soil, or, without a depth, a node's own sensor. Its number.
pub async fn put(store: &Store, (node, port): (i64, &str), serial: &str, depth_cm: Option<f64>, from: i64) -> i64 {
    let probe = Probe {
        id: 0,
        serial: serial.into(),
        model: "blade dielectric".into(),
        principle: if depth_cm.is_some() { Principle::Dielectric } else { Principle::Node },
        instrument_min: None,
        instrument_max: None,
        resolution: None,
    };
    let probe_id = store.ensure_probe(&probe).await.unwrap();
    let placement = NewPlacement {
        node_id: node,
        port: port.into(),
        probe_id,
        depth_cm: depth_cm.map(|d| DepthCm::new(d).unwrap()),
        orientation: String::new(),
        starts: UnixSeconds(from),
        ends: None,
        note: String::new(),
    };
    store.place(&placement).await.unwrap();
    probe_id
}
