//! What was measured by hand: held against the record, a cause with its mend, and in packages.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;
#[path = "common/probe.rs"]
mod probe;

use ebrel_app::bringing::{Target, Whither, take};
use ebrel_app::exporting::{Origins, Selection, package};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_app::repairing::{mend, propose, undo};
use ebrel_app::reviewing;
use ebrel_app::window::{Show, window};
use ebrel_core::calibration::Curve;
use ebrel_core::quality::{CauseKind, Mend, Reference, ReferenceKind, Test};
use ebrel_core::series::{Belief, Window};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_formats::package::{Package, read_zip, write_zip};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::calibrations::{Adoption, MadeWith, Subject};
use ebrel_store::flags::StoredCause;
use ebrel_store::packages::BroughtPackage;
use ebrel_store::readings::Reading;
use ebrel_store::references::NewReference;
use ebrel_store::{Store, StoreError};
use std::io::Cursor;

const NOW: UnixSeconds = UnixSeconds(2_000_000_000);
const DAY: i64 = 86_400;

fn adoption(subject: Subject, from: i64, intercept: f64) -> Adoption {
    Adoption {
        subject,
        made_with: MadeWith { soil: "silt loam".into(), density: Some(1.3), logger: "field node".into() },
        run_id: None,
        valid_from: UnixSeconds(from),
        curve: Curve::from_coefficients(&[intercept, 0.0005], 0.0, 1500.0, None).unwrap(),
        statement: "Straight line.".into(),
        samples: "[]".into(),
        by: "N. Arvel".into(),
        at: UnixSeconds(9),
    }
}

/// A station whose one probe reports some 600 mV: 0.3 m³/m³ by its first calibration, 0.4 by the second, from day 10 on.
async fn station(second: impl Fn(i64) -> Option<Adoption>) -> (Store, i64, i64, tempfile::TempDir) {
    let (store, station, dir) = common::station().await;
    let node = store.ensure_node(station, "node θ").await.unwrap();
    let stream = store.ensure_stream(node, "m05", Quantity::RawOutput, "mV", Some(3600)).await.unwrap();
    let raw = |i: i64| Reading { stream, t: i * 3600, raw: 600.0 + ((i * 7919) % 10) as f64 / 10.0 };
    let origin = Origin::of(Source::Hand, UnixSeconds(60 * DAY));
    store.add_readings(&origin, (0..60 * 24).map(raw).collect()).await.unwrap();
    let probe_id = probe::put(&store, (node, "m05"), "BD-“7”", Some(10.0), 0).await;
    store.adopt(&adoption(Subject::Probe(probe_id), 0, 0.0)).await.unwrap();
    if let Some(second) = second(probe_id) {
        store.adopt(&second).await.unwrap();
    }
    (store, station, stream, dir)
}

fn wrong(probe: i64) -> Option<Adoption> {
    Some(adoption(Subject::Probe(probe), 10 * DAY, 0.1))
}

fn core(stream: i64, day: i64, value: f64) -> NewReference {
    NewReference {
        stream,
        quantity: Quantity::WaterContent,
        reference: Reference { time: UnixSeconds(day * DAY + 600), value, uncertainty: Some(0.012) },
        kind: ReferenceKind::Core,
        note: format!("tin {day}, “θ”"),
        by: "N. Arvel".into(),
        at: NOW,
    }
}

async fn noted(store: &Store, station: i64, stream: i64, all: &[(i64, f64)]) {
    for (day, value) in all {
        assert!(store.add_reference(&core(stream, *day, *value)).await.unwrap());
    }
    reviewing::run(store, station).await.unwrap();
}

async fn cause(store: &Store, station: i64) -> StoredCause {
    store.causes(station).await.unwrap().into_iter().find(|c| c.kind == CauseKind::Contradicted).unwrap()
}

async fn contradicted(store: &Store, station: i64) -> usize {
    let flags = store.flags(station).await.unwrap();
    flags.iter().filter(|f| f.flag.test == Test::ReferenceApart).count()
}

#[tokio::test(flavor = "multi_thread")]
async fn cores_that_contradict_a_calibration_retire_it_and_it_can_be_taken_up_again() {
    let (store, station, stream, _dir) = station(wrong).await;
    noted(&store, station, stream, &[(5, 0.3), (20, 0.3), (30, 0.302)]).await;
    assert_eq!(contradicted(&store, station).await, 2, "the first calibration was right");
    let cause = cause(&store, station).await;
    assert!(matches!(cause.mend, Some(Mend::Retire { .. })), "{:?}", cause.mend);

    let seen = propose(&store, station, cause.id, None).await.unwrap();
    let adopted = seen.retired.unwrap();
    assert_eq!((adopted.version, seen.changes.len()), (2, 0));
    let shown = |record: &StationRecord| record.channels[0].values()[25 * 24];
    assert!((shown(&seen.before) - 0.4).abs() < 0.001 && (shown(&seen.after) - 0.3).abs() < 0.001);
    assert_eq!(seen.difference.gone.iter().filter(|t| t.flag.test == Test::ReferenceApart).count(), 2);
    assert_eq!(contradicted(&store, station).await, 2, "seen is not done");

    let done = mend(&store, station, cause.id, (None, "weighed twice"), ("N. Arvel", NOW)).await.unwrap();
    assert_eq!(contradicted(&store, station).await, 0);
    let again = mend(&store, station, cause.id, (None, ""), ("T. Quill", NOW)).await;
    assert!(matches!(again, Err(StoreError::Rule(_))), "{again:?}");
    let all = store.calibrations(&adopted.subject).await.unwrap();
    let why = all[0].retired.as_ref().map(|r| (r.by.as_str(), r.why.as_str()));
    assert_eq!(why, Some(("N. Arvel", "contradicted by what was measured by hand: weighed twice")));
    let record = StationRecord::load(&store, station).await.unwrap();
    assert!((shown(&record) - 0.3).abs() < 0.001);
    let days = |from: i64, to: i64| {
        let span = Window::new(UnixSeconds(from * DAY), UnixSeconds(to * DAY), 100).unwrap();
        window(&record, &[], &span, Show::Moisture).strips.remove(0).by_hand
    };
    assert_eq!(days(15, 25), [(20 * DAY + 600, 0.3, Some(0.024))], "in its strip, with what it may err");
    assert_eq!((days(0, 60).len(), days(21, 30)), (3, vec![]));

    undo(&store, station, done, "T. Quill", NOW).await.unwrap();
    assert_eq!(contradicted(&store, station).await, 2);
    assert_eq!(store.calibrations(&adopted.subject).await.unwrap()[0].retired, None);
    assert!(matches!(undo(&store, station, done, "T. Quill", NOW).await, Err(StoreError::Stale)));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_retired_calibration_that_somebody_retired_otherwise_since_is_not_taken_up() {
    let (store, station, stream, _dir) = station(wrong).await;
    noted(&store, station, stream, &[(20, 0.3), (30, 0.3)]).await;
    let cause = cause(&store, station).await;
    let done = mend(&store, station, cause.id, (None, ""), ("N. Arvel", NOW)).await.unwrap();
    let probe = Subject::Probe(1);
    // Somebody adopts another that begins at the same moment: that retires what stands there, and this one was no more.
    store.adopt(&adoption(probe.clone(), 10 * DAY, 0.001)).await.unwrap();
    undo(&store, station, done, "T. Quill", NOW).await.unwrap();
    let record = StationRecord::load(&store, station).await.unwrap();
    assert_eq!(record.channels[0].history.contradictions(), [UnixSeconds(10 * DAY)], "two at one moment are told");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_model_s_calibration_is_not_retired_for_one_of_its_probes_and_raw_output_is_not_compared() {
    let (store, station, stream, _dir) = station(|_| None).await;
    noted(&store, station, stream, &[(20, 0.2), (30, 0.2)]).await;
    let own = store.calibrations(&Subject::Probe(1)).await.unwrap().remove(0);
    let of_model = adoption(Subject::Model("blade dielectric".into()), 0, 0.0);
    store.adopt(&of_model).await.unwrap();
    let cause = cause(&store, station).await;
    mend(&store, station, cause.id, (None, ""), ("N. Arvel", NOW)).await.unwrap();
    // The station has no horizons: no model's calibration serves there, and millivolts are no water content.
    assert_eq!((own.version, contradicted(&store, station).await), (1, 0));
    let record = StationRecord::load(&store, station).await.unwrap();
    assert!(!record.channels[0].is_calibrated() && record.channels[0].references.is_empty());
    assert_eq!(record.references.len(), 2, "they are kept all the same");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_measured_by_hand_goes_out_comes_in_and_goes_out_the_same() {
    let (store, station, stream, _dir) = station(wrong).await;
    noted(&store, station, stream, &[(5, 0.3), (20, 0.3), (30, 0.302)]).await;
    store.take_reference_back(station, 1, "T. Quill", NOW).await.unwrap();
    let out = async |store: &Store, station: i64| {
        let parts = [Flagged::load(store, station).await.unwrap()];
        let belief = Belief { leave_out: Vec::new() };
        let span = (UnixSeconds(0), UnixSeconds(60 * DAY));
        let selection = Selection { from: span.0, to: span.1, quantities: Vec::new(), belief };
        let origins = Origins::load(store, &parts).await.unwrap();
        let mut zip = Cursor::new(Vec::new());
        write_zip(package(&parts, &origins, &selection), &mut zip).unwrap();
        read_zip(&zip.into_inner(), "tub.zip").unwrap()
    };
    let first: Package = out(&store, station).await;
    let rows: Vec<_> = first.references.iter().map(|r| (r.value, r.kind.as_str(), r.by.as_str())).collect();
    assert_eq!(rows, [(0.3, "core", "N. Arvel"), (0.302, "core", "N. Arvel")], "what was taken back stays at home");

    let dir = tempfile::tempdir().unwrap();
    let other = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let bring = async |package: &Package, whither| {
        let mut came = BroughtPackage {
            id: 0,
            file_name: "tub.zip".into(),
            sha256: "00".into(),
            received_at: NOW,
            received_by: "R. Teal".into(),
            study_id: None,
            report: None,
        };
        came.id = other.package_brought(&came).await.unwrap();
        let target = Target { whither, codes: std::collections::BTreeMap::new(), by: "R. Teal".into(), now: NOW };
        take(&other, package, &target, &came).await.map(|report| report.stations[0].others.clone())
    };
    let count =
        |others: &[(String, usize, usize)]| others.iter().find(|o| o.0 == "readings by hand").map(|o| (o.1, o.2));
    let new = bring(&first, Whither::New { name: "Elsewhere".into(), owner: None }).await.unwrap();
    assert_eq!(count(&new), Some((2, 0)));
    let here = other.stations(1).await.unwrap()[0].id;
    assert_eq!(out(&other, here).await.references, first.references);
    let merged = bring(&first, Whither::Study(1)).await.unwrap();
    assert_eq!(count(&merged), Some((0, 2)), "each once");
    let mut foreign = first.clone();
    foreign.references[0].kind = "guess".into();
    let refused = bring(&foreign, Whither::Study(1)).await.unwrap_err().to_string();
    assert!(refused.contains("references.csv") && refused.contains("none of thermometer, core, handheld"), "{refused}");
}
