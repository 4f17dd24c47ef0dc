//! A station with probes on the shelf, and entries of a log.

use ebrel_app::field::{Received, StationStanding, receive, standing};
use ebrel_core::field::{Deed, Entry, LogKind};
use ebrel_core::quality::EventKind;
use ebrel_core::units::{Principle, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::Placement;
use ebrel_store::probes::Probe;
use serde_json::Value;

pub const DAY: i64 = 86_400;
/// The day at the hole begins.
pub const DAWN: i64 = 20_000 * DAY + 6 * 3600;
pub const NOW: UnixSeconds = UnixSeconds(20_003 * DAY);
pub const LOG: &str = "0197aaaa-1111-7000-8000-000000000001";

/// A station with three probes on the shelf.
pub struct Site {
    pub store: Store,
    pub station: i64,
    _dir: tempfile::TempDir,
}

impl Site {
    pub async fn new() -> Self {
        let (store, station, dir) = crate::common::station().await;
        let on_shelf = [
            ("BD-1", Principle::Dielectric),
            ("BD-2", Principle::Dielectric),
            ("GM-3", Principle::GranularMatrix),
            ("DT-4", Principle::Thermometer),
        ];
        for (serial, principle) in on_shelf {
            let model = format!("{} probe", principle.code());
            let (serial, resolution) = (serial.to_owned(), None);
            let probe =
                Probe { id: 0, serial, model, principle, instrument_min: None, instrument_max: None, resolution };
            store.ensure_probe(&probe).await.unwrap();
        }
        Self { store, station, _dir: dir }
    }

    pub async fn send(&self, entries: &[Entry]) -> Vec<Received> {
        let values: Vec<Value> = entries.iter().map(|e| serde_json::to_value(e).unwrap()).collect();
        receive(&self.store, self.station, &values, "T. Quill", NOW).await.unwrap()
    }

    /// Sends what must be taken without a word.
    pub async fn keep(&self, entries: &[Entry]) {
        for answer in self.send(entries).await {
            assert_eq!((answer.kept, answer.says.as_str()), (true, ""), "{}", answer.id);
        }
    }

    pub async fn placements(&self) -> Vec<Placement> {
        self.store.placements(self.station).await.unwrap()
    }

    /// Serial, depth, port, first and last moment of each placement.
    pub async fn lie(&self) -> Vec<(String, f64, String, i64, Option<i64>)> {
        let rows = self.placements().await.into_iter();
        let mut rows: Vec<_> =
            rows.map(|p| (p.probe.serial, p.depth_cm.unwrap(), p.port, p.starts.0, p.ends.map(|t| t.0))).collect();
        rows.sort_by(|a, b| (&a.0, a.3).cmp(&(&b.0, b.3)));
        rows
    }

    pub async fn standing(&self, now: UnixSeconds) -> StationStanding {
        standing(&self.store, 1, now).await.unwrap().remove(0)
    }

    pub async fn events(&self, kind: EventKind) -> Vec<StoredEvent> {
        let events = self.store.events(self.station).await.unwrap();
        events.into_iter().filter(|e| e.event.kind == kind).collect()
    }
}

/// Entry `n` of a log, so many minutes after dawn.
pub fn at(n: i64, deed: Deed) -> Entry {
    Entry {
        id: format!("0197aaaa-0000-7000-8000-{n:012}"),
        log: LOG.into(),
        station: "tub1".into(),
        at: UnixSeconds(DAWN + n * 60),
        by: "TQ".into(),
        corrects: None,
        deed,
    }
}

pub fn correcting(first: &Entry, entry: Entry) -> Entry {
    Entry { corrects: Some(first.id.clone()), ..entry }
}

pub fn begun(of: LogKind) -> Entry {
    at(0, Deed::Begun { of })
}

pub fn closed(n: i64) -> Entry {
    at(n, Deed::Closed)
}

pub fn note(n: i64, text: &str) -> Entry {
    at(n, Deed::Note { text: text.into() })
}

pub fn probe(n: i64, serial: &str, depth_cm: f64, port: &str) -> Entry {
    let (orientation, given_up, repacked) = ("level".to_owned(), false, false);
    at(n, Deed::Probe { serial: serial.into(), depth_cm, port: port.into(), orientation, given_up, repacked })
}

pub fn stone(n: i64, serial: &str, depth_cm: f64) -> Entry {
    let mut entry = probe(n, serial, depth_cm, "");
    if let Deed::Probe { given_up, .. } = &mut entry.deed {
        *given_up = true;
    }
    entry
}

pub fn spot(n: i64, point: &str, value: Option<f64>, not_reached: &str) -> Entry {
    at(n, Deed::Spot { point: point.into(), value, not_reached: not_reached.into() })
}

pub fn removed(n: i64, serial: &str, lost: bool) -> Entry {
    at(n, Deed::Removed { serial: serial.into(), condition: "prong bent, “θ”".into(), lost, refused: false })
}

pub const fn moment(n: i64) -> i64 {
    DAWN + n * 60
}

pub fn row(
    serial: &str,
    depth: f64,
    port: &str,
    from: i64,
    to: Option<i64>,
) -> (String, f64, String, i64, Option<i64>) {
    (serial.into(), depth, port.into(), from, to)
}
