//! What is asked once for all stations of a study is what is asked of each alone, and nothing of another study.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../../web/tests/common/demo.rs"]
mod demo;

use ebrel_app::planning::{Progress, StationPlan};
use ebrel_app::record::StationRecord;
use ebrel_app::standing::{Standing, arrived, standing};
use ebrel_core::soil::Profile;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::remarks::Remark;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;

async fn of(store: &Store, study: i64, now: i64) -> Vec<Standing> {
    let (study, now) = (store.study(study).await.unwrap(), UnixSeconds(now));
    let arrived = arrived(store, &study, now).await.unwrap();
    standing(store, &study, &arrived).await.unwrap()
}

#[tokio::test]
async fn all_stations_at_once_are_each_alone() {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let now = store.study(1).await.unwrap().fixed_now.unwrap();
    let first = store.worst_waiting(1, 1).await.unwrap().remove(&1).unwrap().remove(0);
    let (stream_id, start, end) = (first.stream_id, first.start, first.end);
    let remark = Remark {
        id: 0,
        stream_id,
        test: first.test,
        start,
        end,
        words: "θ?".into(),
        asks: true,
        by: "A".into(),
        at: end,
    };
    store.remark(&remark).await.unwrap();
    let all = of(&store, 1, now).await;
    assert_eq!(all.len(), store.stations(1).await.unwrap().len());
    for of in &all {
        let id = of.station.id;
        let outline = StationRecord::outline(&store, id).await.unwrap();
        assert_eq!(of.soil, outline.soil);
        assert_eq!(of.extent, store.extent(id).await.unwrap());
        assert_eq!(of.raw, outline.channels.iter().filter(|c| c.quantity() == Quantity::RawOutput).count());
        assert_eq!(of.worst.len(), of.waiting.min(200), "{}", of.station.name);
        let plan = StationPlan::load(&store, id).await.unwrap();
        let alone = match plan.found.stops(None).count() {
            _ if plan.version == 0 => Progress::NotBegun,
            0 => Progress::InOrder,
            n => Progress::Stopped(n),
        };
        assert_eq!(of.plan, alone, "{}", of.station.name);
    }
    assert!(all.iter().any(|s| s.raw > 0) && all.iter().any(|s| s.plan == Progress::InOrder), "not all alike");
    let asked: Vec<usize> = all.iter().map(|s| s.asked.len()).collect();
    assert_eq!((asked[0], asked.iter().sum::<usize>()), (1, 1));
    assert!(all.iter().all(|s| s.silent.is_empty()));
    let silent: Vec<_> = of(&store, 1, now + 30 * 86_400).await[0].silent.iter().map(|s| s.1.clone()).collect();
    assert!(!silent.is_empty() && silent.is_sorted(), "in the order of the nodes: {silent:?}");
}

#[tokio::test]
async fn another_study_and_an_empty_one_know_nothing_of_it() {
    let dir = tempfile::tempdir().unwrap();
    demo::copy_into(dir.path()).await;
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let study =
        Study { id: 0, name: "“Other” θ".into(), question: String::new(), utc_offset_minutes: 0, fixed_now: None };
    let empty = store.add_study(&study, None).await.unwrap();
    let other = store.add_study(&study, None).await.unwrap();
    let station = Station { study_id: other, code: "other".into(), ..store.station(1).await.unwrap() };
    store.add_station(&station, &[]).await.unwrap();
    assert!(of(&store, empty, 0).await.is_empty());
    let [alone] = &of(&store, other, 0).await[..] else { panic!("one station") };
    assert_eq!((alone.extent, alone.waiting, alone.raw, alone.plan), (None, 0, 0, Progress::NotBegun));
    assert_eq!((&alone.soil, alone.worst.len(), alone.asked.len(), alone.silent.len()), (&Profile::default(), 0, 0, 0));
}
