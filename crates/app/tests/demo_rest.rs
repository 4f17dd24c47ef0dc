//! The demo's background: what it makes, that an interrupted start goes on, and that the logs explain what is odd in the record.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../../web/tests/common/demo.rs"]
mod demo;

use ebrel_app::demo::{missing, rest};
use ebrel_app::field::moments::{at_moment, day_before};
use ebrel_app::field::{came_back, retrieval, standing};
use ebrel_app::record::StationRecord;
use ebrel_core::quality::{EventKind, Test};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::Store;
use std::sync::Mutex;

const NOW: UnixSeconds = UnixSeconds(1_788_242_400);

async fn count(store: &Store) -> Vec<(String, usize, usize, usize)> {
    let mut all = Vec::new();
    for station in store.stations(1).await.unwrap() {
        let record = StationRecord::load(store, station.id).await.unwrap();
        let readings = record.channels.iter().map(|c| c.view().times.len()).sum();
        let entries = store.field_entries(station.id, None).await.unwrap().len();
        all.push((station.code, readings, entries, record.events.len()));
    }
    all
}

#[tokio::test(flavor = "multi_thread")]
async fn every_station_has_its_record_and_its_logs_and_a_second_start_makes_nothing_twice() {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    assert_eq!(missing(&store).await.unwrap(), ["Uncut coupe", "Ride edge"]);
    let told = Mutex::new(Vec::new());
    // Interrupted in the middle of the first part: some of it is there, and the part is not noted as made.
    let interrupted = tokio::time::timeout(std::time::Duration::from_millis(1500), rest(&store, |_| {})).await;
    assert!(interrupted.is_err(), "the test means to cut it off");
    rest(&store, |left| told.lock().unwrap().push(left.len())).await.unwrap();
    assert_eq!(told.lock().unwrap().last(), Some(&0));
    let first = count(&store).await;
    for (code, readings, entries, _) in first.iter().filter(|c| !["gate", "hollow"].contains(&c.0.as_str())) {
        assert!(*readings > 200_000 && *entries > 50, "{code}: {readings} readings, {entries} entries");
    }
    rest(&store, |_| {}).await.unwrap();
    assert_eq!(count(&store).await, first);

    // The uncut coupe's clock gained 40 s a week and was set right at each visit.
    let uncut = StationRecord::load(&store, 2).await.unwrap();
    assert!(uncut.clock_slips().is_empty() && uncut.clock_checks.len() == 4);
    assert!(
        uncut.clock_checks.iter().all(|c| c.check.set && c.check.ahead().0 > 900 && !c.by_grid),
        "{:?}",
        uncut.clock_checks
    );
    let rods = store.placements(2).await.unwrap();
    let of = |serial: &str| rods.iter().find(|p| p.probe.serial == serial).unwrap();
    assert_eq!(of("TR-0103").port, of("TR-0106").port);
    assert!(of("TR-0103").ends.is_some_and(|end| end <= of("TR-0106").starts));
    assert_eq!(of("TR-0105").depth_cm, Some(57.0), "above the stone");
    let shift: i64 = uncut.channels[0].view().times.iter().map(|t| t.rem_euclid(900)).max().unwrap();
    assert!(shift > 0, "what the checks say moved its times");

    // The ride edge's plugs: what was at the wrong ports means the right probes.
    let ride = StationRecord::load(&store, 3).await.unwrap();
    let flags = store.flags(3).await.unwrap();
    let moved: Vec<_> = flags.iter().filter(|f| matches!(f.flag.test, Test::Step | Test::Stuck)).collect();
    assert!(moved.is_empty(), "the placements explain the ports: {moved:?}");
    let settling = flags.iter().filter(|f| f.flag.test == Test::Settling).count();
    assert_eq!(settling, 5, "a plug that was moved settles nothing anew");
    let tension = ride.channels.iter().find(|c| c.quantity() == Quantity::WaterTension).unwrap();
    assert!(tension.view().values.iter().all(|v| (5.0..=310.0).contains(v)));

    let stands = standing(&store, 1, NOW).await.unwrap();
    let closed = stands.iter().filter(|s| s.logs.iter().any(|l| l.closed)).count();
    assert_eq!(closed, 3, "three finished stations, one being installed, one bad draft");
    let out = retrieval(&store, 1, NOW).await.unwrap();
    assert_eq!(out[0].name, "Ride edge", "the first to come out");
    assert_eq!(
        out[0].probes.iter().map(|p| p.since.0 / 86_400).collect::<Vec<_>>(),
        [19_783; 6],
        "since they were put in"
    );
    assert!(came_back(&store).await.unwrap().0.is_empty(), "the bent one is rejected, not back for use");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_moment_tells_each_channel_once_and_no_old_reading() {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let record = StationRecord::load(&store, 1).await.unwrap();
    let all = record.channels.len();
    let noon = UnixSeconds(1_788_177_600);
    let told = at_moment(&store, 1, noon).await.unwrap();
    // The gauge is told by its week.
    assert_eq!(told.said.len() + told.silent.len() + 1, all);
    assert!(told.said.iter().all(|s| s.at <= noon && noon.0 - s.at.0 < 1800 && s.readings == 1), "{told:?}");
    let shallow = told.said.iter().find(|s| s.depth_cm == Some(5.0) && s.quantity == Quantity::WaterContent).unwrap();
    assert_eq!(shallow.words(), "0.140\u{a0}m³/m³");
    // Within the plug that was out: not a word of the zeros.
    let out = at_moment(&store, 1, UnixSeconds(1_726_230_000)).await.unwrap();
    assert_eq!(out.silent, ["60\u{a0}cm"], "{:?}", out.silent);
    let day = day_before(&store, 1, noon).await.unwrap();
    assert!(day.said.iter().all(|s| (90..=97).contains(&s.readings)), "a day of quarters of an hour");
    assert!(day.words().contains("of rain in the week before") && !day.words().contains("battery"), "{}", day.words());
    let before = at_moment(&store, 1, UnixSeconds(1_600_000_000)).await.unwrap();
    assert_eq!((before.said.len(), before.rain_mm), (0, None), "nothing lay there then");
    let starts = store.events(1).await.unwrap().iter().filter(|e| e.event.kind == EventKind::OfficialStart).count();
    assert_eq!(starts, 1);
}
