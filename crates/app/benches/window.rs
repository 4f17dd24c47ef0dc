//! Ten years of the station page and of the profile: assembling, thinning and writing the answer.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel_app::findings::{What, profile_data};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_app::window::{Show, window};
use ebrel_core::series::Window;
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use ebrel_store::Store;
use ebrel_store::batches::{Origin, Source};
use ebrel_store::placements::NewPlacement;
use ebrel_store::probes::Probe;
use ebrel_store::readings::Reading;
use ebrel_store::stations::Station;
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
    let (mut group, deep) = (c.benchmark_group("profile"), runtime.block_on(eight_depths(&store)));
    group.sample_size(20);
    let answer = || {
        runtime.block_on(async {
            let of = Flagged::load(&store, deep).await.expect("a record");
            serde_json::to_vec(&profile_data(&of, &[], &asked, What::Moisture)).expect("an answer")
        })
    };
    let bytes = answer().len();
    group.bench_function(format!("ten years, 8 depths, 960 columns, warm ({bytes} bytes)"), |b| {
        b.iter(|| black_box(answer()));
    });
    group.finish();
}

/// A station with eight probes of water content through ten years: rains that run down and drain, and a day missing of each hundred.
async fn eight_depths(store: &Store) -> i64 {
    let like = store.station(1).await.expect("the demo's station");
    let station = Station { id: 0, code: "deep".into(), name: "Eight depths".into(), ..like };
    let id = store.add_station(&station, &[]).await.expect("a station");
    let node = store.ensure_node(id, "node 8").await.expect("a node");
    let start = 1_709_251_200;
    let mut readings = Vec::new();
    for (k, depth) in [5.0, 10.0, 20.0, 30.0, 40.0, 60.0, 80.0, 100.0].into_iter().enumerate() {
        let (port, model) = (format!("m{depth}"), String::from("made up"));
        let (serial, principle, quantity) = (format!("8-{k}"), Principle::Dielectric, Quantity::WaterContent);
        let probe =
            Probe { id: 0, serial, model, principle, instrument_min: None, instrument_max: None, resolution: None };
        let new = NewPlacement {
            node_id: node,
            port: port.clone(),
            probe_id: store.ensure_probe(&probe).await.expect("a probe"),
            depth_cm: DepthCm::new(depth).ok(),
            orientation: String::new(),
            starts: UnixSeconds(start),
            ends: None,
            note: String::new(),
        };
        store.place(&new).await.expect("placed");
        let stream = store.ensure_stream(node, &port, quantity, quantity.unit(), Some(900)).await.expect("a stream");
        let lag = (depth * 20.0) as i64;
        let since = |i: i64| (i - lag).rem_euclid(700) as f64;
        readings.extend((0..350_000i64).filter(|i| i % 9600 > 96).map(|i| {
            let raw = 0.22 + 0.001 * depth + 0.12 * (-depth / 60.0).exp() * (-since(i) / 200.0).exp();
            Reading { stream, t: start + i * 900, raw: (raw * 1e4).round() / 1e4 }
        }));
    }
    store.add_readings(&Origin::of(Source::Hand, UnixSeconds(0)), readings).await.expect("stored");
    id
}

criterion_group!(benches, page_data);
criterion_main!(benches);
