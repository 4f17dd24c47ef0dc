//! A small made-up plot: waves of heat that fade with depth, storms and how soil answers them.

use ebrel_core::quality::Channel;
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, SpanSeconds};

pub const STEP: i64 = 900;
pub const DAY: i64 = 96;
pub const DAYS: i64 = 120;

/// Noise of standard deviation 1, the same at every run.
pub fn noise(seed: i64, i: i64) -> f64 {
    let one = |k: i64| {
        let v = ((seed * 1009 + i * 12 + k) as f64 * 12.9898).sin() * 43_758.545_3;
        v - v.floor()
    };
    (0..12).map(one).sum::<f64>() - 6.0
}

pub fn series(value: impl Fn(i64) -> f64) -> Series {
    let n = DAYS * DAY;
    Series { times: (0..n).map(|i| i * STEP).collect(), values: (0..n).map(value).collect() }
}

pub fn rounded(v: f64, step: f64) -> f64 {
    (v / step).round() * step
}

/// A daily wave that fades and lags with depth, around 15 °C.
pub fn heat(depth: f64) -> Series {
    let wave = move |i: i64| {
        let angle = std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.6) - depth / 12.0;
        15.0 + 7.0 * (-depth / 12.0).exp() * angle.cos()
    };
    series(move |i| rounded(wave(i) + 0.02 * noise(depth as i64, i), 0.01))
}

/// Storms of 15 mm on these days at noon.
pub const STORMS: [i64; 8] = [12, 24, 37, 50, 63, 76, 90, 104];

pub fn rain() -> Series {
    series(|i| if STORMS.iter().any(|d| (0..4).contains(&(i - d * DAY - DAY / 2))) { 3.75 } else { 0.0 })
}

/// How much wetter a depth is at reading `i`, by the storms of `days`, `lag` readings after each.
pub fn wetting(i: i64, days: &[i64], lag: i64, height: f64) -> f64 {
    let of = |d: &i64| {
        let since = i - d * DAY - DAY / 2 - lag;
        if since < 0 {
            0.0
        } else {
            height * (since as f64 / 3.0).min(1.0) * (-since as f64 / (4.0 * DAY as f64)).exp()
        }
    };
    days.iter().map(of).sum()
}

pub fn moisture(seed: i64, lag: i64, height: f64) -> Series {
    series(move |i| rounded(0.2 + wetting(i, &STORMS, lag, height) + 6e-4 * noise(seed, i), 1e-4))
}

pub fn channel<'a>(s: &'a Series, quantity: Quantity, name: &'a str, depth: f64) -> Channel<'a> {
    Channel {
        node: "node 01",
        port: name,
        depth_cm: quantity.is_in_soil().then_some(depth),
        interval: Some(SpanSeconds(STEP)),
        ..Channel::bare(name, quantity, s.view())
    }
}
