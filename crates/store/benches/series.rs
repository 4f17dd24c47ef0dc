//! Readings in and out of the database.

use criterion::{BatchSize, Criterion, Throughput, criterion_group, criterion_main};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::Reading;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use std::hint::black_box;
use tokio::runtime::Runtime;

const HAND: Origin = Origin::of(Source::Hand, UnixSeconds(0));

async fn station(store: &Store) -> i64 {
    let text = String::new;
    let study = Study { id: 0, name: "bench".into(), question: text(), utc_offset_minutes: 0, fixed_now: None };
    let station = Station {
        id: 0,
        study_id: store.add_study(&study, None).await.expect("a study"),
        code: "bench".into(),
        name: "Bench".into(),
        latitude: None,
        longitude: None,
        elevation_m: None,
        treatment: text(),
        cover: text(),
        known_bias: text(),
    };
    let station = store.add_station(&station, &[]).await.expect("a station");
    store.ensure_node(station, "node").await.expect("a node")
}

fn readings(stream: i64, n: i64) -> Vec<Reading> {
    let raw = |i: i64| 900.0 + ((i * 7919) % 2000) as f64 / 10.0;
    (0..n).map(|i| Reading { stream, t: i * 900, raw: raw(i) }).collect()
}

fn fresh(runtime: &Runtime) -> (Store, tempfile::TempDir, Vec<i64>) {
    let dir = tempfile::tempdir().expect("a directory");
    let store = runtime.block_on(Store::open(&dir.path().join("ebrel.db"))).expect("a store");
    let streams = runtime.block_on(async {
        let node = station(&store).await;
        let mut streams = Vec::new();
        for i in 0..12 {
            let port = format!("m{i:02}");
            streams.push(store.ensure_stream(node, &port, Quantity::RawOutput, "mV", None).await.expect("a stream"));
        }
        streams
    });
    (store, dir, streams)
}

fn store_and_decode(c: &mut Criterion) {
    let runtime = Runtime::new().expect("a runtime");
    let mut group = c.benchmark_group("store");
    group.sample_size(10);
    group.throughput(Throughput::Elements(1_000_000));
    group.bench_function("store 1 M new readings of 12 streams", |b| {
        b.iter_batched(
            || {
                let (store, dir, streams) = fresh(&runtime);
                let all: Vec<Reading> = streams.iter().flat_map(|s| readings(*s, 1_000_000 / 12)).collect();
                (store, dir, all)
            },
            |(store, dir, all)| {
                runtime.block_on(store.add_readings(&HAND, all)).expect("stored");
                (store, dir)
            },
            BatchSize::PerIteration,
        );
    });
    let (store, _dir, streams) = fresh(&runtime);
    runtime.block_on(store.add_readings(&HAND, readings(streams[0], 350_000))).expect("stored");
    runtime.block_on(store.series(streams[0])).expect("decoded once, so that its blocks exist");
    group.throughput(Throughput::Elements(350_000));
    group.bench_function("decode 350 k readings from blocks (cold)", |b| {
        b.iter(|| {
            store.forget_all();
            black_box(runtime.block_on(store.series(streams[0])).expect("decoded"))
        });
    });
    group.bench_function("the same again (warm)", |b| {
        b.iter(|| black_box(runtime.block_on(store.series(streams[0])).expect("decoded")));
    });
    group.finish();
}

criterion_group!(benches, store_and_decode);
criterion_main!(benches);
