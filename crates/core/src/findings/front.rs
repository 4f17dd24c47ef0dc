//! When a wetting front comes to each depth.

use super::profile::Profile;
use crate::units::UnixSeconds;

/// A front that came to a level.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Arrival {
    /// When a quarter of the rise was reached.
    pub time: UnixSeconds,
    /// How far the content rose, m³/m³.
    pub rise: f64,
}

/// A smaller rise is none, m³/m³.
pub const LEAST_RISE: f64 = 0.005;
/// Share of the rise at which the front counts as come.
const SHARE: f64 = 0.25;

/// Where content rose by at least [`LEAST_RISE`] above that at `before` within a window of times, when it had done a quarter of it. A
/// level with a gap before the rise tells nothing.
#[must_use]
pub fn arrivals(profile: &Profile<'_>, before: usize, window: std::ops::Range<usize>) -> Vec<Option<Arrival>> {
    let of = |values: &[f64]| {
        let level = values[before];
        let rise = window.clone().map(|i| values[i] - level).fold(f64::NAN, f64::max);
        if rise.is_nan() || rise < LEAST_RISE.max(4.0 * noise(values, before)) {
            return None;
        }
        let wanted = level + SHARE * rise;
        let first = window.clone().find(|i| values[*i] >= wanted || values[*i].is_nan())?;
        values[first].is_finite().then(|| Arrival { time: profile.grid.time(first), rise })
    };
    profile.levels.iter().map(|l| of(&l.values)).collect()
}

/// How far neighbours differ in the four hours before, as a standard deviation of one reading.
fn noise(values: &[f64], before: usize) -> f64 {
    let part = &values[before.saturating_sub(16)..=before];
    let (n, sum) = part
        .windows(3)
        .map(|w| w[1] - w[0].midpoint(w[2]))
        .filter(|d| d.is_finite())
        .fold((0, 0.0), |(n, sum), d| (n + 1, sum + d * d));
    // The variance of a reading less the mean of its neighbours is one and a half times its own.
    if n < 4 { 0.0 } else { (sum / f64::from(n) / 1.5).sqrt() }
}

#[cfg(test)]
mod tests {
    use super::super::profile::testing::profile;
    use super::*;

    #[test]
    fn a_rise_within_noise_is_no_front_and_a_gap_hides_it() {
        let noisy: Vec<f64> = (0..60).map(|i| 0.2 + 0.01 * f64::from(i % 2)).collect();
        let mut hidden: Vec<f64> = (0..60).map(|i| if i < 40 { 0.2 } else { 0.3 }).collect();
        hidden[38..42].fill(f64::NAN);
        let rises: Vec<f64> = (0..60).map(|i| 0.2 + 0.02 * f64::from((i - 30).clamp(0, 5))).collect();
        let small: Vec<f64> = (0..60).map(|i| if i < 40 { 0.2 } else { 0.2049 }).collect();
        let p = profile(900, &[(5.0, noisy), (10.0, hidden), (20.0, rises), (40.0, small)]);
        let found = arrivals(&p, 29, 30..60);
        assert_eq!((found[0], found[1], found[3]), (None, None, None));
        let came = found[2].unwrap();
        assert_eq!(came.time, p.grid.time(32), "a quarter of 0.1 is passed at the second step");
        assert!((came.rise - 0.1).abs() < 1e-12);
    }
}
