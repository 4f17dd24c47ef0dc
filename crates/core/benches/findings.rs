//! Findings over ten years: storage with its uncertainty, diffusivity by five methods, resampled means.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel_core::calibration::{Curve, Form, Intercept, PolynomialFit};
use ebrel_core::findings::heat::diffusivities;
use ebrel_core::findings::{ALWAYS, BlockBootstrap, Counts, Grid, Profile, StorageSeries, Track};
use ebrel_core::series::{Hours, View};
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use std::hint::black_box;

/// Quarters of an hour in ten years.
const N: usize = 10 * 365 * 96;

fn curve(shift: f64) -> Curve {
    let x = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
    let y = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389].map(|v| v + shift);
    Curve::from_fit(&PolynomialFit::new(&x, &y, 2, Intercept::Free).expect("seven points bend"), Form::Quadratic)
}

/// Raw output of a probe that follows years and days.
fn raw(k: usize) -> Vec<f64> {
    (0..N).map(|i| 1300.0 + 260.0 * (i as f64 / 5_580.0 + k as f64).sin() + 8.0 * (i as f64 / 15.3).sin()).collect()
}

fn storage(c: &mut Criterion) {
    let curves: Vec<Curve> = (0..6).map(|k| curve(0.002 * f64::from(k))).collect();
    let grid = Grid::over(UnixSeconds(0), UnixSeconds(900 * (N as i64 - 1)), SpanSeconds(900)).expect("ten years");
    let tracks = curves.iter().enumerate().map(|(k, curve)| {
        let raw = raw(k);
        let values = raw.iter().map(|r| curve.theta(*r)).collect();
        let depth_cm = 10.0 + 15.0 * k as f64;
        Track {
            name: String::new(),
            depth_cm,
            values,
            raw,
            curves: vec![(0, curve)],
            counts: Counts::default(),
            in_force: ALWAYS,
        }
    });
    let profile = Profile::of(grid, tracks.collect(), |_| None);
    c.bench_function("storage with uncertainty, 350 k times x 6 depths", |b| {
        b.iter(|| {
            let series = StorageSeries::of(&profile, 90.0).expect("six depths");
            series.over(0..profile.grid.len()).map(|(_, s)| s.half_width()).sum::<f64>()
        });
    });
}

fn heat(c: &mut Criterion) {
    let times: Vec<i64> = (0..N as i64).map(|i| i * 900).collect();
    let records: Vec<Vec<f64>> = (0..4)
        .map(|k| {
            let (size, lag) = ((-0.6 * f64::from(k)).exp() * 6.0, 0.6 * f64::from(k));
            let wave = |t: &i64| 12.0 + size * (std::f64::consts::TAU * *t as f64 / 86_400.0 - lag).sin();
            times.iter().map(wave).collect()
        })
        .collect();
    c.bench_function("five diffusivities over ten years, 3 pairs", |b| {
        b.iter(|| {
            let hours = |values: &Vec<f64>| Hours::of(View { times: &times, values });
            let depths: Vec<(f64, Hours)> =
                records.iter().zip([5.0, 15.0, 30.0, 60.0]).map(|(r, z)| (z, hours(r))).collect();
            black_box(diffusivities(&depths)).len()
        });
    });
}

fn bootstrap(c: &mut Criterion) {
    let days: Vec<f64> =
        (0..730).map(|i| (f64::from(i) / 9.0).sin() + (f64::from(i * 7919 % 97) - 48.0) / 60.0).collect();
    c.bench_function("2000 resamples over two years of daily means", |b| {
        b.iter(|| BlockBootstrap::default().mean(black_box(&days)));
    });
}

criterion_group!(benches, storage, heat, bootstrap);
criterion_main!(benches);
