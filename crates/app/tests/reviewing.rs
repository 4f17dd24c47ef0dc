//! A long record that grows in the database: what is found with a memory of the last run is what a fresh process finds.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod common;
#[path = "common/probe.rs"]
mod probe;

use ebrel_app::reviewing;
use ebrel_core::quality::Test;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::Reading;
use std::path::Path;

const DAY: i64 = 24;
const HOURS: i64 = 3 * 365 * DAY + 40 * DAY;

fn water(i: i64) -> f64 {
    let season = 0.05 * (i as f64 / (365.0 * DAY as f64) * std::f64::consts::TAU).cos();
    ((0.3 + season + 0.0005 * ((i * 7919) % 101) as f64 / 101.0) * 1e4).round() / 1e4
}

/// What is found: stream, test, first and last, how many readings, and the sentence.
type Found = Vec<(i64, Test, UnixSeconds, UnixSeconds, usize, String)>;

async fn found(store: &Store, station: i64) -> Found {
    reviewing::run(store, station).await.unwrap();
    let flags = store.flags(station).await.unwrap().into_iter().map(|f| (f.stream_id, f.flag));
    let mut found: Found = flags.map(|(s, f)| (s, f.test, f.start, f.end, f.readings, f.reason)).collect();
    found.sort();
    found
}

/// What a process finds that has judged nothing yet.
async fn found_anew(file: &Path, station: i64) -> Found {
    let store = Store::open(file).await.unwrap();
    let found = found(&store, station).await;
    store.close().await;
    found
}

#[tokio::test]
async fn what_is_found_of_a_record_that_grows_is_what_a_fresh_process_finds() {
    let (store, station, dir) = common::station().await;
    let file = dir.path().join("ebrel.db");
    let node = store.ensure_node(station, "node θ").await.unwrap();
    let mut streams = Vec::new();
    for (port, depth) in [("m05", 5.0), ("m30", 30.0)] {
        streams.push(store.ensure_stream(node, port, Quantity::WaterContent, "m3/m3", Some(3600)).await.unwrap());
        probe::put(&store, (node, port), &format!("BD-{port}"), Some(depth), 0).await;
    }
    let add = async |hours: std::ops::Range<i64>, spike: i64| {
        let one = |stream: i64, i: i64| Reading {
            stream,
            t: i * 3600,
            raw: water(i) + if i == spike && stream == streams[0] { 0.2 } else { 0.0 },
        };
        let readings = streams.iter().flat_map(|s| hours.clone().map(|i| one(*s, i))).collect();
        store.add_readings(&Origin::of(Source::Hand, UnixSeconds(HOURS * 3600)), readings).await.unwrap();
    };
    let spikes = |found: &Found| found.iter().filter(|f| f.1 == Test::Spike).count();
    // A day of the second year is missing at first.
    let (early, late) = (9000..9024, HOURS - DAY..HOURS);
    add(0..early.start, 5000).await;
    add(early.end..late.start, -1).await;
    let first = found(&store, station).await;
    assert_eq!(spikes(&first), 1);
    assert_eq!(first, found_anew(&file, station).await);

    add(late.clone(), late.start + 9).await;
    let grown = found(&store, station).await;
    assert_eq!(spikes(&grown), 2, "that of the new day beside that of the past");
    assert_eq!(grown, found_anew(&file, station).await);

    add(early.clone(), early.start + 9).await;
    let whole = found(&store, station).await;
    let gaps = |found: &Found| found.iter().filter(|f| f.1 == Test::Gap).count();
    assert_eq!((spikes(&whole), gaps(&grown), gaps(&whole)), (3, 2, 0), "what comes late is seen in the past");
    assert_eq!(whole, found_anew(&file, station).await);
}
