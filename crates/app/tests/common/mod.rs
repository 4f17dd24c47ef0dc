//! A study of one station in a store of its own.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_store::Store;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;

/// The store, the number of its only station, and the directory that goes with them.
pub async fn station() -> (Store, i64, tempfile::TempDir) {
    let dir = tempfile::tempdir().unwrap();
    let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    let study = Study {
        id: 0,
        name: "Fern tubs, θ".into(),
        question: "When does growth “stop”?".into(),
        utc_offset_minutes: 60,
        fixed_now: None,
    };
    let study_id = store.add_study(&study, None).await.unwrap();
    let station = Station {
        id: 0,
        study_id,
        code: "tub1".into(),
        name: "Tub 1".into(),
        latitude: None,
        longitude: None,
        elevation_m: None,
        treatment: String::new(),
        cover: String::new(),
        known_bias: String::new(),
    };
    let id = store.add_station(&station, &[]).await.unwrap();
    (store, id, dir)
}
