//! Nouns of the store from outside: what goes in comes out, and rules hold.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;

use common::{HAND, horizon, probe, rig};
use ebrel_core::calibration::Curve;
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::units::{DepthCm, Quantity, UnixSeconds};
use ebrel_store::batches::{Origin, Source};
use ebrel_store::calibrations::{Adoption, MadeWith, Retirement, Subject};
use ebrel_store::events::StoredEvent;
use ebrel_store::imports::{Import, Withdrawn};
use ebrel_store::placements::NewPlacement;
use ebrel_store::readings::Reading;
use ebrel_store::recipes::SavedBody;
use ebrel_store::runs::Run;
use ebrel_store::{Store, StoreError};

#[tokio::test]
async fn soil_comes_back_from_the_surface_down_with_its_pore_space() {
    let rig = rig().await;
    let soil = rig.store.profile(rig.station).await.unwrap();
    let soil = soil.horizons();
    assert_eq!(soil.iter().map(|h| h.top_cm).collect::<Vec<_>>(), [0.0, 14.0]);
    assert!((soil[0].pore_space().unwrap() - 0.554_717).abs() < 1e-6);
    assert_eq!(soil[1].pore_space(), None);
    let station = rig.store.station(rig.station).await.unwrap();
    assert_eq!((station.known_bias.as_str(), station.latitude), ("stands by the door", Some(46.9)));
}

#[tokio::test]
async fn a_station_with_an_upside_down_horizon_is_not_made_at_all() {
    let rig = rig().await;
    let mut station = rig.store.station(rig.station).await.unwrap();
    station.code = "tub2".into();
    assert!(rig.store.add_station(&station, &[horizon(0.0, 10.0, None), horizon(30.0, 20.0, None)]).await.is_err());
    assert_eq!(rig.store.stations(station.study_id).await.unwrap().len(), 1, "nothing is stored by halves");
}

#[tokio::test]
async fn swapped_ports_are_repaired_by_swapping_the_placements() {
    let rig = rig().await;
    let mut streams = Vec::new();
    for port in ["m15", "m30"] {
        streams.push(rig.store.ensure_stream(rig.node, port, Quantity::RawOutput, "mV", Some(900)).await.unwrap());
    }
    rig.store.add_readings(&HAND, vec![Reading { stream: streams[0], t: 900, raw: 1015.0 }]).await.unwrap();
    let a = rig.placement("BD-0418", "m15", 0, None).await;
    let b = rig.placement("BD-0421", "m30", 0, None).await;
    let a_id = rig.store.place(&a).await.unwrap();
    let b_id = rig.store.place(&b).await.unwrap();
    let aside = NewPlacement { port: "aside".into(), ..a.clone() };
    rig.store.correct_placement(a_id, &a, &aside).await.unwrap();
    rig.store.correct_placement(b_id, &b, &NewPlacement { port: "m15".into(), ..b.clone() }).await.unwrap();
    rig.store.correct_placement(a_id, &aside, &NewPlacement { port: "m30".into(), ..a }).await.unwrap();
    let channels = rig.store.channels(rig.station).await.unwrap();
    let serials: Vec<_> =
        channels.iter().map(|c| (c.stream.port.as_str(), c.placement.probe.serial.as_str())).collect();
    assert!(serials.contains(&("m15", "BD-0421")) && serials.contains(&("m30", "BD-0418")));
    assert_eq!(rig.store.series(streams[0]).await.unwrap().values, [1015.0], "the reading is where it was");
}

#[tokio::test]
async fn a_placement_must_end_after_it_starts() {
    let rig = rig().await;
    let placed = rig.placement("BD-0418", "m15", 5000, None).await;
    let id = rig.store.place(&placed).await.unwrap();
    let wrong = rig.placement("BD-0418", "m15", 5000, Some(4000)).await;
    let error = rig.store.correct_placement(id, &placed, &wrong).await.unwrap_err();
    assert!(matches!(&error, StoreError::Rule(s) if s.contains("end after it starts")), "{error}");
    assert_eq!(rig.store.placements(rig.station).await.unwrap()[0].ends, None);
}

#[tokio::test]
async fn events_come_back_in_order_of_time() {
    let rig = rig().await;
    for (kind, start) in [(EventKind::Visit, 9000), (EventKind::Installation, 100)] {
        let event = Event { kind, start: UnixSeconds(start), end: UnixSeconds(start + 60) };
        let stored = StoredEvent {
            id: 0,
            event,
            amount: Some(2.5),
            unit: "mm".into(),
            note: "a note".into(),
            by: "T. Quill".into(),
            client_id: None,
            revision: 1,
        };
        rig.store.add_event(rig.station, &stored).await.unwrap();
    }
    let events = rig.store.events(rig.station).await.unwrap();
    assert_eq!(events.iter().map(|e| e.event.kind).collect::<Vec<_>>(), [EventKind::Installation, EventKind::Visit]);
    assert_eq!((events[0].amount, events[0].unit.as_str()), (Some(2.5), "mm"));
}

#[tokio::test]
async fn an_import_is_kept_from_upload_to_report() {
    let rig = rig().await;
    let begun = Import::begun(rig.station, "node.csv", UnixSeconds(7), "N. Arvel");
    let begun = Import { sha256: "00".into(), recipe: "{}".into(), mapping: "{}".into(), ..begun };
    let id = rig.store.begin_import(&begun).await.unwrap();
    let done = Import { id, report: Some("{\"lines\":3}".into()), ..begun };
    rig.store.keep_import(&done).await.unwrap();
    assert_eq!(rig.store.import(id).await.unwrap(), done);
    assert_eq!(rig.store.imports(rig.station).await.unwrap(), [done]);
    assert!(matches!(rig.store.import(99).await, Err(StoreError::NotFound("import"))));
}

#[tokio::test]
async fn a_recipe_of_the_same_name_is_replaced_and_its_history_kept() {
    let rig = rig().await;
    let body = |text: &str, at: i64| SavedBody {
        name: "ride edge".into(),
        body: text.into(),
        head: "time;wc5".into(),
        kept_at: UnixSeconds(at),
        kept_by: "N. Arvel".into(),
    };
    for (text, at) in [("one", 1), ("two", 2), ("two", 3), ("three", 4)] {
        rig.store.save_recipe(&body(text, at)).await.unwrap();
    }
    assert_eq!(rig.store.recipes().await.unwrap(), [body("three", 4)]);
    let before = rig.store.recipe_history("ride edge").await.unwrap();
    assert_eq!(before.iter().map(|b| (b.body.as_str(), b.kept_at.0)).collect::<Vec<_>>(), [("two", 3), ("one", 1)]);
    rig.store.drop_recipe("ride edge").await.unwrap();
    assert!(rig.store.recipes().await.unwrap().is_empty());
    assert_eq!(rig.store.recipe_history("ride edge").await.unwrap().len(), 3, "nothing typed is lost");
}

#[tokio::test]
async fn an_import_set_aside_keeps_its_readings_and_comes_back_as_it_was() {
    let rig = rig().await;
    let import =
        Import { report: Some("{}".into()), ..Import::begun(rig.station, "a.csv", UnixSeconds(1), "N. Arvel") };
    let mut ids = Vec::new();
    for _ in 0..2 {
        let id = rig.store.begin_import(&import).await.unwrap();
        rig.store.keep_import(&Import { id, ..import.clone() }).await.unwrap();
        ids.push(id);
    }
    let stream = rig.stream().await;
    let reading = |i: i64, raw: f64| Reading { stream, t: i * 900, raw };
    let origin = |id: i64| Origin { source: Source::File, import: Some(id), received_at: UnixSeconds(id) };
    rig.store.add_readings(&origin(ids[0]), (0..100).map(|i| reading(i, 1.0)).collect()).await.unwrap();
    rig.store.add_readings(&origin(ids[1]), (90..120).map(|i| reading(i, 2.0)).collect()).await.unwrap();
    let whole = rig.store.series(stream).await.unwrap();
    let set_aside = Withdrawn { at: UnixSeconds(9), by: "N. Arvel".into(), why: "the clock was an hour off".into() };
    let mut unit = rig.store.unit().await.unwrap();
    assert_eq!(unit.withdraw_import(ids[0], &set_aside, &[ids[1]]).await.unwrap(), 100);
    unit.commit().await.unwrap();
    let left = rig.store.series(stream).await.unwrap();
    assert_eq!(rig.store.imports_cut_off().await.unwrap()[0].id, ids[1], "due to be read again, also after a kill");
    assert_eq!((left.len(), left.times[0]), (20, 100 * 900), "what the other brought stays, and no more");
    assert_eq!(rig.store.import(ids[0]).await.unwrap().withdrawn, Some(set_aside.clone()));
    let mut unit = rig.store.unit().await.unwrap();
    assert!(unit.withdraw_import(ids[0], &set_aside, &[]).await.is_err(), "once is enough");
    unit.read_again(ids[1]).await.unwrap();
    assert_eq!(unit.restore_import(ids[0]).await.unwrap(), 100);
    unit.commit().await.unwrap();
    assert_eq!(rig.store.series(stream).await.unwrap(), whole);
    assert_eq!(rig.store.repeats(stream).await.unwrap().len(), 10);
    assert!(rig.store.imports_cut_off().await.unwrap().is_empty());
}

#[tokio::test]
async fn a_run_is_kept_as_it_was_typed() {
    let rig = rig().await;
    let begun = Run {
        id: 0,
        study_id: 1,
        title: "Moisture".into(),
        probe_id: None,
        draft: "{\"rows\":[]}".into(),
        practice: Some("{\"seed\":3,\"steps\":[]}".into()),
    };
    let id = rig.store.add_run(&begun).await.unwrap();
    let mut run = rig.store.run(id).await.unwrap();
    assert_eq!(run, Run { id, ..begun });
    run.practice = None;
    run.title = "BD-0418 in A".into();
    run.draft = "{\"rows\":[{\"raw\":\"12,\"}]}".into();
    rig.store.keep_run(0, &run).await.unwrap();
    assert_eq!(rig.store.runs(1).await.unwrap(), [run]);
}

#[tokio::test]
async fn the_extent_spans_all_streams() {
    let rig = rig().await;
    assert_eq!(rig.store.extent(rig.station).await.unwrap(), None);
    for (port, t) in [("m05", 5000), ("t05", 900)] {
        let stream = rig.store.ensure_stream(rig.node, port, Quantity::RawOutput, "mV", None).await.unwrap();
        rig.store.add_readings(&HAND, vec![Reading { stream, t, raw: 1.0 }]).await.unwrap();
    }
    assert_eq!(rig.store.extent(rig.station).await.unwrap(), Some((UnixSeconds(900), UnixSeconds(5000))));
}

#[tokio::test]
async fn readings_of_many_imports_in_any_order_are_one_record() {
    let rig = rig().await;
    let stream = rig.store.ensure_stream(rig.node, "m05", Quantity::RawOutput, "mV", None).await.unwrap();
    let reading = |i: i64| Reading { stream, t: i * 900, raw: i as f64 };
    for part in [4000..7000, 0..2000, 1500..4200, 6990..9000] {
        rig.store.add_readings(&HAND, part.rev().map(reading).collect()).await.unwrap();
    }
    rig.store.forget_all();
    let series = rig.store.series(stream).await.unwrap();
    assert_eq!(series.len(), 9000);
    assert!(
        series.times.iter().zip(&series.values).enumerate().all(|(i, (t, v))| *t == i as i64 * 900 && *v == i as f64)
    );
}

#[tokio::test]
async fn what_another_process_stores_is_seen_at_once() {
    let rig = rig().await;
    let stream = rig.stream().await;
    let other = Store::open(&rig.path()).await.unwrap();
    let reading = |t, raw| Reading { stream, t, raw };
    rig.store.add_readings(&HAND, vec![reading(0, 1.0)]).await.unwrap();
    assert_eq!(rig.store.series(stream).await.unwrap().len(), 1, "and it is cached now");
    other.add_readings(&HAND, vec![reading(900, 2.0), reading(2_700_000, 3.0)]).await.unwrap();
    assert_eq!(rig.store.series(stream).await.unwrap().values, [1.0, 2.0, 3.0]);
}

#[tokio::test]
async fn a_damaged_month_is_made_again_from_its_readings() {
    let rig = rig().await;
    let stream = rig.stream().await;
    let readings: Vec<Reading> = (0..6000).map(|i| Reading { stream, t: i * 900, raw: f64::from(i as i32) }).collect();
    rig.store.add_readings(&HAND, readings).await.unwrap();
    let whole = rig.store.series(stream).await.unwrap();
    let pool = sqlx::SqlitePool::connect(&format!("sqlite://{}", rig.path().display())).await.unwrap();
    let blocks = sqlx::query("UPDATE month_block SET times = x'00ff17'").execute(&pool).await.unwrap();
    assert!(blocks.rows_affected() > 1);
    rig.store.forget_all();
    assert_eq!(rig.store.series(stream).await.unwrap(), whole);
    rig.store.forget_all();
    assert_eq!(rig.store.series(stream).await.unwrap(), whole, "and it was kept well this time");
}

fn adoption(subject: Subject, soil: &str) -> Adoption {
    Adoption {
        subject,
        made_with: MadeWith { soil: soil.into(), ..MadeWith::default() },
        run_id: None,
        valid_from: UnixSeconds(0),
        curve: Curve::from_coefficients(&[0.0, 1e-3], 0.0, 1000.0, None).unwrap(),
        statement: String::new(),
        samples: "[]".into(),
        by: "N. Arvel".into(),
        at: UnixSeconds(9),
    }
}

#[tokio::test]
async fn a_models_curve_serves_what_lies_in_its_soil_now_and_has_none_of_its_own() {
    let rig = rig().await;
    let model = probe("").model;
    // In the lower horizon, taken out, on the shelf, above ground, and one with a curve of its own.
    rig.store.place(&rig.placement("BD-θ\"1", "m15", 0, None).await).await.unwrap();
    rig.store.place(&rig.placement("BD-2", "m20", 0, Some(900)).await).await.unwrap();
    rig.store.ensure_probe(&probe("BD-3")).await.unwrap();
    let air = NewPlacement { depth_cm: DepthCm::new(-150.0).ok(), ..rig.placement("BD-4", "air", 0, None).await };
    rig.store.place(&air).await.unwrap();
    let own = rig.placement("BD-5", "m25", 0, None).await;
    rig.store.place(&own).await.unwrap();
    rig.store.adopt(&adoption(Subject::Model(model.clone()), "SILT loam")).await.unwrap();
    rig.store.adopt(&adoption(Subject::Model(model), "sand")).await.unwrap();
    rig.store.adopt(&adoption(Subject::Probe(own.probe_id), "")).await.unwrap();

    let served = async || {
        let in_force = rig.store.calibrations_in_force().await.unwrap();
        let names = rig.store.probes().await.unwrap();
        let name = |id: i64| names.iter().find(|p| p.id == id).unwrap().serial.clone();
        let served = rig.store.served_now(&in_force).await.unwrap();
        let mut all: Vec<_> = served.iter().map(|(id, c)| (name(*id), c.made_with.soil.clone())).collect();
        all.sort();
        all
    };
    let pair = |serial: &str, soil: &str| (serial.to_owned(), soil.to_owned());
    assert_eq!(served().await, [pair("BD-5", ""), pair("BD-θ\"1", "SILT loam")]);
    let at = rig.store.calibrations_at(rig.station).await.unwrap();
    assert!(at.has_own(own.probe_id) && at.serving(own.probe_id, "", None).len() == 1);
    let why = Retirement { at: UnixSeconds(10), by: "T. Quill".into(), why: "wrong density".into() };
    let first = rig.store.calibrations(&Subject::Probe(own.probe_id)).await.unwrap()[0].id;
    rig.store.retire(first, &why).await.unwrap();
    assert_eq!(served().await[0], pair("BD-5", "SILT loam"), "a retired one gives way to its model's");
    assert!(!rig.store.calibrations_at(rig.station).await.unwrap().has_own(own.probe_id));
}
