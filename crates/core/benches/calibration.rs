//! Fits with all diagnostics: many runs of seven samples, and one run of forty.

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use ebrel_core::calibration::{Samples, recommend};
use std::hint::black_box;

/// Seven samples of a bent curve, each run a little different.
fn run(n: usize, seed: usize) -> (Vec<f64>, Vec<f64>) {
    let wobble = |i: usize| ((i * 7919 + seed * 104_729) % 1000) as f64 / 1000.0 - 0.5;
    let raw: Vec<f64> = (0..n).map(|i| 850.0 + 970.0 * i as f64 / (n - 1) as f64 + wobble(i)).collect();
    let theta = raw.iter().enumerate().map(|(i, x)| -0.1 + 1.2e-4 * x + 8e-8 * x * x + 0.006 * wobble(i + n)).collect();
    (raw, theta)
}

fn fits(c: &mut Criterion) {
    let runs: Vec<_> = (0..1000).map(|seed| run(7, seed)).collect();
    let mut group = c.benchmark_group("calibration");
    group.throughput(Throughput::Elements(runs.len() as u64));
    group.bench_function("1000 runs of 7 samples, all forms and diagnostics", |b| {
        b.iter(|| {
            for (raw, theta) in &runs {
                black_box(recommend(&Samples { raw, theta, pore_space: Some(0.49), ..Samples::default() }));
            }
        });
    });
    let (raw, theta) = run(40, 1);
    group.throughput(Throughput::Elements(1));
    group.bench_function("one run of 40 samples", |b| {
        b.iter(|| black_box(recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() })));
    });
    group.finish();
}

criterion_group!(benches, fits);
criterion_main!(benches);
