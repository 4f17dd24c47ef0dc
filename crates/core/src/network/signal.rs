//! What rain does to a radio's signal.

use crate::series::View;

/// Rain within a day that wets leaves and topsoil, mm.
const WETTING_MM: f64 = 5.0;
const DAY: i64 = 86_400;
/// Fewer readings on either side tell nothing.
const LEAST: usize = 24;

/// Signal in the day after rain, beside other times.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fade {
    /// Mean when it had not rained, dBm.
    pub dry_dbm: f64,
    /// Mean within a day after 5 mm within a day, dBm.
    pub wet_dbm: f64,
    /// Readings of either kind.
    pub readings: (usize, usize),
}

impl Fade {
    /// What rain takes, dB; positive where it weakens.
    #[must_use]
    pub const fn loss_db(&self) -> f64 {
        self.dry_dbm - self.wet_dbm
    }
}

/// Signal after rain and else; `None` where either is too seldom. `rain` are sums of its intervals, mm.
#[must_use]
pub fn fade(signal: View<'_>, rain: View<'_>) -> Option<Fade> {
    // Sums up to each reading of rain: what fell between two moments is a difference.
    let mut sums = Vec::with_capacity(rain.times.len() + 1);
    sums.push(0.0);
    for mm in rain.values {
        sums.push(sums[sums.len() - 1] + if mm.is_finite() { mm.max(0.0) } else { 0.0 });
    }
    let fallen = |from: i64, to: i64| {
        let at = |t: i64| rain.times.partition_point(|own| *own <= t);
        sums[at(to)] - sums[at(from)]
    };
    let (mut dry, mut wet) = ((0_usize, 0.0), (0_usize, 0.0));
    for (t, dbm) in signal.times.iter().zip(signal.values).filter(|(_, v)| v.is_finite()) {
        // Before the first reading of rain nobody knows.
        if rain.times.first().is_none_or(|first| *first > t - DAY) || rain.times.last().is_none_or(|last| last < t) {
            continue;
        }
        let kind = if fallen(t - DAY, *t) >= WETTING_MM { &mut wet } else { &mut dry };
        *kind = (kind.0 + 1, kind.1 + dbm);
    }
    let told = dry.0 >= LEAST && wet.0 >= LEAST;
    told.then(|| Fade { dry_dbm: dry.1 / dry.0 as f64, wet_dbm: wet.1 / wet.0 as f64, readings: (dry.0, wet.0) })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_signal_that_falls_by_six_decibels_after_rain_is_told_so() {
        let times: Vec<i64> = (0..24 * 60).map(|i| i * 3600).collect();
        let rain: Vec<f64> = (0..times.len()).map(|i| if i % 240 == 100 { 8.0 } else { 0.0 }).collect();
        let wet = |i: usize| (100..124).contains(&(i % 240));
        let signal: Vec<f64> = (0..times.len()).map(|i| if wet(i) { -90.0 } else { -84.0 }).collect();
        let found = fade(View { times: &times, values: &signal }, View { times: &times, values: &rain }).unwrap();
        assert!((found.loss_db() - 6.0).abs() < 1e-9 && found.readings.1 == 6 * 24, "{found:?}");
        let none = vec![0.0; times.len()];
        assert_eq!(fade(View { times: &times, values: &signal }, View { times: &times, values: &none }), None);
        assert_eq!(fade(View { times: &times, values: &signal }, View { times: &[], values: &[] }), None);
    }
}
