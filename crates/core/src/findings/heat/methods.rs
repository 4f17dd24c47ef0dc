//! The formulas. κ is in m²/s, depths in m, temperatures in °C.

use std::f64::consts::TAU;

/// From amplitudes at two depths: κ = (ω/2) [(z₂ − z₁)/ln(A₁/A₂)]² (Horton et al. 1983, "amplitude"). `None` unless the upper wave is
/// larger. Worked value: 10 cm, 6 and 2.4 K: 4.3308e-7 m²/s.
///
/// ```
/// let kappa = ebrel_core::findings::heat::by_amplitude(0.1, 6.0, 2.4, 86_400.0).unwrap();
/// assert!((kappa / 4.330_814_106_11e-7 - 1.0).abs() < 1e-10);
/// ```
#[must_use]
pub fn by_amplitude(apart_m: f64, upper: f64, lower: f64, period_s: f64) -> Option<f64> {
    let decay = (upper / lower).ln();
    (decay > 0.0 && decay.is_finite()).then(|| TAU / period_s / 2.0 * (apart_m / decay).powi(2))
}

/// From the lag between two depths, s: κ = (1/2ω) [(z₂ − z₁)/lag]² (ibid., "phase"). `None` unless the lower wave is later. Worked value:
/// 10 cm, 3.5 h: 4.3307e-7 m²/s.
#[must_use]
pub fn by_phase(apart_m: f64, lag_s: f64, period_s: f64) -> Option<f64> {
    (lag_s > 0.0 && lag_s.is_finite()).then(|| period_s / (2.0 * TAU) * (apart_m / lag_s).powi(2))
}

/// Differences half a period apart: (T₁ − T₃, T₂ − T₄). The mean and even harmonics fall out.
fn halves(t: [f64; 4]) -> (f64, f64) {
    (t[0] - t[2], t[1] - t[3])
}

/// From four temperatures a quarter of a period apart at each of two depths: κ = ω (z₂ − z₁)²/(2 {arctan […]}²) (Nerpin & Chudnovskii 1967,
/// in Horton et al. 1983). With the arctangent of both parts, so that a lag up to half a period is told. `None` unless the lower is later.
#[must_use]
pub fn by_arctangent(apart_m: f64, upper: [f64; 4], lower: [f64; 4], period_s: f64) -> Option<f64> {
    let ((a, b), (c, d)) = (halves(upper), halves(lower));
    let lag = (a * d - b * c).atan2(a * c + b * d);
    (lag > 0.0).then(|| TAU / period_s * apart_m.powi(2) / (2.0 * lag * lag))
}

/// From the same: κ = 2ω (z₂ − z₁)²/{ln[((T₁ − T₃)² + (T₂ − T₄)²)/((T₁′ − T₃′)² + (T₂′ − T₄′)²)]}² (Seemann 1979, ibid.; its rounded
/// constant 0.0121 is not used). `None` unless the upper wave is larger.
#[must_use]
pub fn by_logarithm(apart_m: f64, upper: [f64; 4], lower: [f64; 4], period_s: f64) -> Option<f64> {
    let ((a, b), (c, d)) = (halves(upper), halves(lower));
    let decay = ((a * a + b * b) / (c * c + d * d)).ln();
    (decay > 0.0 && decay.is_finite()).then(|| 2.0 * TAU / period_s * (apart_m / decay).powi(2))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn published_values_are_met() {
        assert_close(by_amplitude(0.1, 12.0, 4.9, 86_400.0).unwrap() * 1e7, 4.532_508_980_34, 1e-10);
        assert_close(by_phase(0.1, 12_600.0, 86_400.0).unwrap() * 1e7, 4.330_746_750_8, 1e-10);
        assert_close(by_phase(0.1, 11_000.0, 86_400.0).unwrap() * 1e7, 5.682_226_067_41, 1e-10);
        let (upper, lower) = ([14.8248, 16.02, 25.1752, 23.98], [19.8264, 17.2227, 20.1736, 22.7773]);
        assert_close(by_arctangent(0.1, upper, lower, 86_400.0).unwrap() * 1e7, 4.999_824_373_88, 1e-8);
        assert_close(by_logarithm(0.1, upper, lower, 86_400.0).unwrap() * 1e7, 5.000_036_447_98, 1e-8);
        let (upper, lower) = ([14.5663, 15.003, 26.4805, 23.9502], [17.7399, 16.0839, 21.763, 24.4132]);
        assert_close(by_arctangent(0.05, upper, lower, 86_400.0).unwrap() * 1e7, 3.999_985_689_3, 1e-8);
        assert_close(by_logarithm(0.05, upper, lower, 86_400.0).unwrap() * 1e7, 3.999_970_265_53, 1e-8);
    }

    #[test]
    fn a_wave_that_grows_or_comes_first_with_depth_tells_no_diffusivity() {
        assert_eq!(by_amplitude(0.1, 2.0, 2.0, 86_400.0), None);
        assert_eq!(by_amplitude(0.1, 2.0, 0.0, 86_400.0), None);
        assert_eq!(by_phase(0.1, -3.0, 86_400.0), None);
        let (upper, lower) = ([19.8264, 17.2227, 20.1736, 22.7773], [14.8248, 16.02, 25.1752, 23.98]);
        assert_eq!(by_arctangent(0.1, upper, lower, 86_400.0), None);
        assert_eq!(by_logarithm(0.1, upper, lower, 86_400.0), None);
        assert_eq!(by_logarithm(0.1, [1.0; 4], [1.0; 4], 86_400.0), None);
    }
}
