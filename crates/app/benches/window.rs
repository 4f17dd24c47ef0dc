//! Ten years of the station page and of the profile: assembling, thinning and writing the answer.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel_app::findings::{What, profile_data};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_app::window::{Show, window};
use ebrel_core::series::Window;
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::readings::Reading;
use std::hint::black_box;
use tokio::runtime::Runtime;

/// The demo's station, its streams filled up to ten years at 15 minutes: 12 channels x 350 k readings.
async fn ten_years(dir: &std::path::Path) -> Store {
    let store = Store::open(&dir.join("ebrel.db")).await.expect("a store");
    ebrel_app::demo::seed(&store).await.expect("the demo");
    let mut more = Vec::new();
    for stream in store.streams(1).await.expect("streams") {
        let known = store.series(stream.id).await.expect("a series");
        let last = known.times.last().copied().unwrap_or(0);
        more.extend((1..=262_500i64).map(|i| {
            let raw = known.values[i as usize % known.len()];
            Reading { stream: stream.id, t: last + i * 900, raw }
        }));
    }
    store.add_readings(&Origin::of(Source::Hand, UnixSeconds(0)), more).await.expect("stored");
    store
}

fn page_data(c: &mut Criterion) {
    let runtime = Runtime::new().expect("a runtime");
    let dir = tempfile::tempdir().expect("a directory");
    let store = runtime.block_on(ten_years(dir.path()));
    let asked =
        Window::new(UnixSeconds(1_709_251_200), UnixSeconds(1_709_251_200 + 315_576_000), 960).expect("a window");
    let answer = || {
        runtime.block_on(async {
            let record = StationRecord::load(&store, 1).await.expect("a record");
            let flags = store.flags(1).await.expect("flags");
            serde_json::to_vec(&window(&record, &flags, &asked, Show::Both)).expect("an answer")
        })
    };
    let bytes = answer().len();
    let mut group = c.benchmark_group("window");
    group.sample_size(20);
    group.bench_function(format!("ten years, all strips, 960 columns, warm ({bytes} bytes before compression)"), |b| {
        b.iter(|| black_box(answer()));
    });
    group.finish();
    let picture = |what| {
        runtime.block_on(async {
            let of = Flagged::load(&store, 1).await.expect("a record");
            serde_json::to_vec(&profile_data(&of, &[], &asked, what)).expect("an answer")
        })
    };
    let mut group = c.benchmark_group("profile");
    group.sample_size(20);
    // Three calibrated depths of water and four of warmth make seven, and the frost line reads the four again.
    group.bench_function("ten years, 3 + 4 depths, 960 columns, warm", |b| {
        b.iter(|| black_box((picture(What::Moisture), picture(What::Temperature))));
    });
    group.finish();
}

criterion_group!(benches, page_data);
criterion_main!(benches);
