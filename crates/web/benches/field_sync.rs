//! A day's entries of one phone, and what it takes along.

use criterion::{BatchSize, Criterion, criterion_group, criterion_main};
use ebrel_app::field::{pack, receive};
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use serde_json::{Value, json};
use tokio::runtime::Runtime;

/// The demo's present.
const NOW: UnixSeconds = UnixSeconds(1_788_242_400);

/// Five hundred entries: an installation with many notes and readings.
fn entries(turn: usize) -> Vec<Value> {
    let entry = |i: usize, deed: Value| {
        json!({"id": format!("0197{turn:04}-0000-7000-8000-{i:012}"), "log": format!("0197{turn:04}-1111-7000-8000-000000000000"),
               "station": "ride", "at": NOW.0 - 40_000 + 60 * i as i64, "by": "TQ", "deed": deed})
    };
    let deed = |i: usize| match i {
        0 => json!({"kind": "begun", "of": "installation"}),
        1 => json!({"kind": "probe", "serial": "BD-0433", "depth_cm": 30.0, "port": "A3"}),
        2 => json!({"kind": "probe", "serial": "BD-0432", "depth_cm": 15.0, "port": "A2"}),
        i if i % 3 == 0 => {
            json!({"kind": "reading", "serial": "BD-0433", "repeats": [1400.0, 1401.0, 1399.5], "said": ""})
        }
        i => json!({"kind": "step", "step": format!("check-{i}"), "does": "a step", "outcome": "done", "note": ""}),
    };
    (0..500).map(|i| entry(i, deed(i))).collect()
}

fn sync(c: &mut Criterion) {
    let runtime = Runtime::new().expect("a runtime");
    let dir = tempfile::tempdir().expect("a directory");
    let store = runtime.block_on(async {
        let store = Store::open(&dir.path().join("ebrel.db")).await.expect("a store");
        ebrel_app::demo::seed(&store).await.expect("the demo");
        store
    });
    let packed = runtime.block_on(pack(&store, 1, NOW)).expect("a pack");
    let size = serde_json::to_vec(&packed).expect("its JSON").len();
    assert!(size < 300_000, "a pack has {size} bytes");
    let mut group = c.benchmark_group("field");
    group.sample_size(10);
    let mut turn = 0;
    group.bench_function("500 entries of a phone, received and followed up", |b| {
        b.iter_batched(
            || {
                turn += 1;
                entries(turn)
            },
            |sent| {
                let answers = runtime.block_on(receive(&store, 3, &sent, "T. Quill", NOW)).expect("received");
                assert_eq!(answers.len(), 500);
            },
            BatchSize::PerIteration,
        );
    });
    group.bench_function("packing a station", |b| {
        b.iter(|| runtime.block_on(pack(&store, 1, NOW)).expect("a pack"));
    });
    group.finish();
}

criterion_group!(benches, sync);
criterion_main!(benches);
