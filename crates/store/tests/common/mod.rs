//! A study of one station with a node, in a store of its own.

use ebrel_core::soil::Horizon;
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;

pub const HAND: Origin = Origin::of(Source::Hand, UnixSeconds(0));

pub struct Rig {
    pub store: Store,
    pub station: i64,
    pub node: i64,
    pub dir: tempfile::TempDir,
}

impl Rig {
    pub fn path(&self) -> std::path::PathBuf {
        self.dir.path().join("ebrel.db")
    }

    /// The stream of a probe at port m05.
    pub async fn stream(&self) -> i64 {
        self.store.ensure_stream(self.node, "m05", Quantity::RawOutput, "mV", None).await.unwrap()
    }
}

pub fn horizon(top_cm: f64, bottom_cm: f64, density: Option<f64>) -> Horizon {
    Horizon {
        top_cm,
        bottom_cm,
        name: "A".into(),
        texture: "silt loam".into(),
        sand_pct: Some(16.0),
        clay_pct: Some(18.0),
        organic_matter_pct: None,
        bulk_density_g_cm3: density,
    }
}

pub async fn rig() -> Rig {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let study =
        Study { id: 0, name: "Fern tubs".into(), question: "When?".into(), utc_offset_minutes: 60, fixed_now: None };
    let study_id = store.add_study(&study, None).await.unwrap();
    let text = String::new;
    let station = Station {
        id: 0,
        study_id,
        code: "tub1".into(),
        name: "Tub 1".into(),
        latitude: Some(46.9),
        longitude: Some(-3.2),
        elevation_m: None,
        treatment: "kept wet".into(),
        cover: text(),
        known_bias: "stands by the door".into(),
    };
    let soil = [horizon(14.0, 38.0, None), horizon(0.0, 14.0, Some(1.18))];
    let station = store.add_station(&station, &soil).await.unwrap();
    let node = store.ensure_node(station, "node 01").await.unwrap();
    Rig { store, station, node, dir }
}

pub fn probe(serial: &str) -> Probe {
    Probe {
        id: 0,
        serial: serial.into(),
        model: "blade dielectric, 5 cm, analog 2.5 V".into(),
        principle: Principle::Dielectric,
        instrument_min: Some(250.0),
        instrument_max: Some(2500.0),
        resolution: Some(0.1),
    }
}

impl Rig {
    pub async fn placement(&self, serial: &str, port: &str, starts: i64, ends: Option<i64>) -> NewPlacement {
        NewPlacement {
            node_id: self.node,
            port: port.into(),
            probe_id: self.store.ensure_probe(&probe(serial)).await.unwrap(),
            depth_cm: DepthCm::new(15.0).ok(),
            orientation: "horizontal".into(),
            starts: UnixSeconds(starts),
            ends: ends.map(UnixSeconds),
            note: String::new(),
        }
    }
}
