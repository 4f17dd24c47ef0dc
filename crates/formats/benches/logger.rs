//! Logger files: the first look at one million records of six columns, at two thousand columns, and the reading of both.

#![expect(clippy::unwrap_used, reason = "a benchmark that cannot go on shall panic")]

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{Text, guess, survey};
use std::fmt::Write;
use std::hint::black_box;

/// A record a line: the time, and so many values of two decimals.
fn file(records: i64, columns: usize) -> Text {
    let names: Vec<String> = (0..columns).map(|c| format!("m{c:04} [mV]")).collect();
    let mut text = format!("time,{}\n", names.join(","));
    for i in 0..records {
        let time = ebrel_formats::rfc3339(UnixSeconds(700_000_200 + i * 900)).replace('T', " ").replace('Z', "");
        text.push_str(&time);
        for c in 0..columns {
            let value = 900 + (i as usize * 7919 + c * 104_729) % 100_000 / 100;
            write!(text, ",{value}.{:02}", (i as usize + c) % 100).unwrap();
        }
        text.push('\n');
    }
    Text::of_bytes(text.into_bytes()).unwrap()
}

fn logger(c: &mut Criterion) {
    for (name, records, columns) in [("1 M records x 6", 1_000_000, 6), ("1,000 records x 2,000", 1000, 2000)] {
        let text = file(records, columns);
        let recipe = guess(&text, 0).unwrap().recipe;
        let mut group = c.benchmark_group(name);
        group.sample_size(10).throughput(Throughput::Elements(records as u64 * columns as u64));
        group.bench_function("guess", |b| b.iter(|| guess(black_box(&text), 0).unwrap()));
        group.bench_function("read, all counted", |b| {
            b.iter(|| survey(black_box(&text), &recipe, UnixSeconds(i64::MAX)).unwrap())
        });
        group.finish();
    }
}

criterion_group!(benches, logger);
criterion_main!(benches);
