//! Replanning after one edit: a station with 24 probes, everything worked out anew.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel_core::planning::{Catalogue, Draft, Setting, assess};
use serde_json::json;
use std::hint::black_box;

fn replan(c: &mut Criterion) {
    let models = ["rod-3", "thermometer-1w", "blade-5"];
    let probes: Vec<_> = (0..24u32)
        .map(|i| json!({"depth_cm": 5 + 10 * (i / 3), "model": models[i as usize % 3], "purpose": "benchmark"}))
        .collect();
    let horizons =
        json!([{"name": "A", "bottom_cm": 22, "density": 1.2}, {"name": "B", "bottom_cm": 120, "density": 1.45}]);
    let draft = json!({"probes": probes, "horizons": horizons, "latitude": 47, "figures": {"panel_w": 2}, "install": "2027-03-14"});
    let draft: Draft = serde_json::from_value(draft).expect("a draft");
    let catalogue = Catalogue::shipped();
    let setting = Setting { station: "Bench".into(), interval_s: 900.0, months: 60.0 };
    c.bench_function("replan a station with 24 probes", |b| {
        b.iter(|| assess(black_box(&draft), black_box(&catalogue), &setting));
    });
}

criterion_group!(benches, replan);
criterion_main!(benches);
