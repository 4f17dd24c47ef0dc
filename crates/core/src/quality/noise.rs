//! How noisy and how coarse a record is, estimated from itself.

use crate::series::View;
use crate::statistics::{MAD_TO_SIGMA, median, quantile};

/// The texture of a record: what counts as nothing.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Noise {
    /// Standard deviation of the fast noise.
    pub sigma: f64,
    /// The step in which values come (0 if none is seen).
    pub resolution: f64,
    /// How far a reading usually strays from the middle of its neighbours at most (the 97.5th percentile): weather
    /// and wetting fronts, not faults.
    pub wiggle: f64,
}

/// At most this many places of a record are looked at: enough for a good estimate of the spread.
const PLACES: usize = 12_000;

impl Noise {
    /// Estimates noise from second differences x(i−1) − 2 x(i) + x(i+1) of evenly spaced readings: for white
    /// noise their standard deviation is √6 σ, and slow change cancels. Robust by the median absolute value
    /// (Hampel 1974). `None` for fewer than ten such places.
    #[must_use]
    pub fn estimate(view: View<'_>, interval: i64, declared_resolution: Option<f64>) -> Option<Self> {
        let (t, x) = (view.times, view.values);
        let stride = (x.len() / PLACES).max(1);
        let mut second = Vec::with_capacity(PLACES + 1);
        let mut first = Vec::with_capacity(PLACES + 1);
        for i in (1..x.len().saturating_sub(1)).step_by(stride) {
            if t[i] - t[i - 1] == interval && t[i + 1] - t[i] == interval {
                let d = x[i - 1] - 2.0 * x[i] + x[i + 1];
                if d.is_finite() {
                    second.push(d.abs());
                    let step = (x[i] - x[i - 1]).abs();
                    if step > 1e-9 * x[i].abs().max(1e-6) {
                        first.push(step);
                    }
                }
            }
        }
        if second.len() < 10 {
            return None;
        }
        let wiggle = quantile(&mut second, 0.975)? / 2.0;
        let sigma = median(&mut second)? * MAD_TO_SIGMA / 6f64.sqrt();
        let seen = quantile(&mut first, 0.02).unwrap_or(0.0);
        let resolution = declared_resolution.filter(|r| *r > 0.0).unwrap_or(seen);
        // Rounding to a step d adds noise of d/√12 that the differences may hide when most of them are zero.
        Some(Self { sigma: sigma.max(resolution / 12f64.sqrt()), resolution, wiggle })
    }

    /// A departure that cannot be noise, resolution or weather: the largest of so many of each.
    #[must_use]
    pub fn threshold(&self, sigmas: f64, resolutions: f64, wiggles: f64) -> f64 {
        (sigmas * self.sigma).max(resolutions * self.resolution).max(wiggles * self.wiggle)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    /// Noise with the look of a normal one, without a random source.
    fn noise(i: usize) -> f64 {
        (0..12).map(|k| ((i * 12 + k) as f64 * 12.9898).sin() * 43_758.545_3).map(|v| v - v.floor()).sum::<f64>() - 6.0
    }

    #[test]
    fn noise_is_found_under_a_trend_and_a_daily_wave() {
        let times: Vec<i64> = (0..5000).map(|i| i * 900).collect();
        let values: Vec<f64> =
            (0..5000).map(|i| 0.3 - 1e-5 * i as f64 + 0.02 * (i as f64 / 15.3).sin() + 7e-4 * noise(i)).collect();
        let n = Noise::estimate(View { times: &times, values: &values }, 900, None).unwrap();
        assert_close(n.sigma, 7e-4, 0.1);
    }

    #[test]
    fn the_step_of_a_coarse_record_is_found() {
        let times: Vec<i64> = (0..3000).map(|i| i * 900).collect();
        let values: Vec<f64> =
            (0..3000).map(|i| ((900.0 + i as f64 / 40.0 + 0.3 * noise(i)) * 2.0).round() / 2.0).collect();
        let n = Noise::estimate(View { times: &times, values: &values }, 900, None).unwrap();
        assert_close(n.resolution, 0.5, 1e-6);
        assert!(n.sigma >= 0.5 / 12f64.sqrt());
    }

    #[test]
    fn a_handful_of_readings_has_no_texture() {
        let view = View { times: &[0, 900, 1800], values: &[1.0, 2.0, 1.0] };
        assert_eq!(Noise::estimate(view, 900, None), None);
    }
}
