//! All tests over twelve channels of ten years at 15 minutes: 4.2 M readings on one core; and the same after one more day.

use criterion::{Criterion, criterion_group, criterion_main};
use ebrel_core::quality::{Channel, Judged, Settings, StationContext, check_again, check_station};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, SpanSeconds};
use std::hint::black_box;

const READINGS: i64 = 350_000;

fn series(channel: i64) -> Series {
    let noise = |i: i64| ((i * 7919 + channel * 104_729) % 1009) as f64 / 1009.0 - 0.5;
    let value = |i: i64| {
        let season = (i as f64 / 5577.0).sin() * 0.08;
        let spike = if i % 40_000 == 17_000 { 0.2 } else { 0.0 };
        ((0.3 + season + 0.002 * noise(i) + spike) * 1e4).round() / 1e4
    };
    Series { times: (0..READINGS).map(|i| i * 900).collect(), values: (0..READINGS).map(value).collect() }
}

fn tests(c: &mut Criterion) {
    let all: Vec<Series> = (0..12).map(series).collect();
    let rain = Series { times: (0..350_640).map(|i| i * 900).collect(), values: vec![0.0; 350_640] };
    let channels: Vec<Channel<'_>> = all
        .iter()
        .enumerate()
        .map(|(i, s)| Channel {
            node: "node",
            depth_cm: Some(5.0 + 5.0 * i as f64),
            interval: Some(SpanSeconds(900)),
            raw_unit: "mV",
            instrument: Some((0.0, 1.0)),
            pore_space: Some(0.5),
            ..Channel::bare("x", if i < 8 { Quantity::WaterContent } else { Quantity::SoilTemperature }, s.view())
        })
        .chain([Channel {
            node: "node",
            interval: Some(SpanSeconds(900)),
            ..Channel::bare("rain", Quantity::Rain, rain.view())
        }])
        .collect();
    let mut group = c.benchmark_group("quality");
    group.sample_size(10);
    group.bench_function("all tests, 12 channels x 350 k readings", |b| {
        b.iter(|| black_box(check_station(&StationContext::alone(&channels, &[]), &Settings::default())));
    });
    let a_day_less: Vec<Channel<'_>> =
        channels.iter().map(|c| Channel { view: c.view.slice(0..c.view.times.len() - 96), ..c.clone() }).collect();
    let mut judged = Judged::default();
    let again = |channels: &[Channel<'_>], judged: &mut Judged| {
        check_again(&StationContext::alone(channels, &[]), &Settings::default(), judged)
    };
    _ = again(&a_day_less, &mut judged);
    group.bench_function("one new day of 12 channels, behind ten years", |b| {
        b.iter(|| black_box(again(&channels, &mut judged)));
    });
    group.finish();
}

criterion_group!(benches, tests);
criterion_main!(benches);
