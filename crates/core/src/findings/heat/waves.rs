//! The daily and the yearly wave at each depth.

use super::{DAY_S, YEAR_S};
use crate::findings::climate::DayExtremes;
use crate::series::{DailyWave, Hours, daily_waves};
use crate::statistics::median;
use nalgebra::{Matrix3, Vector3};
use std::f64::consts::TAU;

/// The daily wave at one depth over some days.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DepthWave {
    /// Depth, cm.
    pub depth_cm: f64,
    /// Median amplitude of the days, K.
    pub amplitude: f64,
    /// Hour of UTC at which the mean wave peaks.
    pub peak_h: f64,
    /// Days that it rests on.
    pub days: usize,
}

/// The daily wave of each depth over the days `from..to` (counted from 1970); depths with fewer than three such days are left out.
#[must_use]
pub fn daily_by_depth(depths: &[(f64, Hours)], from: i64, to: i64) -> Vec<DepthWave> {
    let wave = |(depth_cm, hours): &(f64, Hours)| {
        let first = hours.days().start;
        let all = daily_waves(hours);
        let of: Vec<DailyWave> = all
            .into_iter()
            .enumerate()
            .filter(|(i, _)| (from..to).contains(&(first + *i as i64)))
            .filter_map(|d| d.1)
            .collect();
        let (cos, sin) = of.iter().fold((0.0, 0.0), |sum, w| (sum.0 + w.cos, sum.1 + w.sin));
        let mut sizes: Vec<f64> = of.iter().map(|w| w.amplitude()).collect();
        let amplitude = median(&mut sizes).filter(|_| of.len() >= 3)?;
        // An hour's mean stands for its middle, or for where its readings lie: half an hour, within what readings tell.
        let peak_h = (f64::atan2(sin, cos) * 24.0 / TAU + 0.5).rem_euclid(24.0);
        Some(DepthWave { depth_cm: *depth_cm, amplitude, peak_h, days: of.len() })
    };
    depths.iter().filter_map(wave).collect()
}

/// How a wave falls off with depth.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fall {
    /// Depth over which the amplitude falls to 1/e, m.
    pub damping_m: f64,
    /// Amplitude that the line gives at the surface, K.
    pub surface: f64,
    /// Thermal diffusivity that goes with it, ω d²/2, m²/s.
    pub kappa: f64,
}

/// Damping depth by a line through ln(amplitude) against depth (van Wijk & de Vries 1963): A(z) = A₀ exp(−z/d). `None` with fewer than two
/// depths, or where the wave does not fall off. `waves` are (depth in cm, amplitude).
///
/// ```
/// // κ 5e-7 m²/s over a day: d = 0.1173 m.
/// let of = |z: f64| (z * 100.0, 8.0 * (-z / 0.117_264_602_857_f64).exp());
/// let fall = ebrel_core::findings::heat::damping(&[of(0.05), of(0.15), of(0.30)], 86_400.0).unwrap();
/// assert!((fall.damping_m - 0.117_264_602_857).abs() < 1e-9 && (fall.kappa - 5e-7).abs() < 1e-12);
/// ```
#[must_use]
pub fn damping(waves: &[(f64, f64)], period_s: f64) -> Option<Fall> {
    let points: Vec<(f64, f64)> = waves.iter().filter(|w| w.1 > 0.0).map(|(z, a)| (z / 100.0, a.ln())).collect();
    let n = points.len() as f64;
    let (mx, my) = (points.iter().map(|p| p.0).sum::<f64>() / n, points.iter().map(|p| p.1).sum::<f64>() / n);
    let sxx: f64 = points.iter().map(|p| (p.0 - mx).powi(2)).sum();
    let slope = points.iter().map(|p| (p.0 - mx) * (p.1 - my)).sum::<f64>() / sxx;
    let damping_m = -1.0 / slope;
    (points.len() >= 2 && sxx > 0.0 && slope < 0.0).then(|| Fall {
        damping_m,
        surface: (my - slope * mx).exp(),
        kappa: TAU / period_s * damping_m.powi(2) / 2.0,
    })
}

/// The yearly wave at one depth.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct YearlyWave {
    /// Depth, cm.
    pub depth_cm: f64,
    /// Mean of the year, °C.
    pub mean: f64,
    /// Amplitude, K.
    pub amplitude: f64,
    /// Day of the (mean) year at which it is warmest, from 0.
    pub peak_day: f64,
    /// Days that it rests on.
    pub days: usize,
}

/// A year's wave wants at least so many days, spread over at least as many.
const LEAST_DAYS: usize = 330;

/// The yearly wave of each depth, by least squares of a level and one harmonic of a year; depths with less than 330 days are left out.
#[must_use]
pub fn yearly_by_depth(depths: &[(f64, Vec<DayExtremes>)]) -> Vec<YearlyWave> {
    let wave = |(depth_cm, days): &(f64, Vec<DayExtremes>)| {
        let spread = days.last()?.day - days.first()?.day;
        if days.len() < LEAST_DAYS || (spread as usize) < LEAST_DAYS {
            return None;
        }
        let (mut normal, mut right) = (Matrix3::zeros(), Vector3::zeros());
        for d in days {
            let angle = TAU * (d.day as f64 + 0.5) * DAY_S / YEAR_S;
            let row = Vector3::new(1.0, angle.cos(), angle.sin());
            normal += row * row.transpose();
            right += row * d.mean;
        }
        let fit = normal.cholesky()?.solve(&right);
        let peak_day = (fit[2].atan2(fit[1]) / TAU * YEAR_S / DAY_S).rem_euclid(YEAR_S / DAY_S);
        Some(YearlyWave {
            depth_cm: *depth_cm,
            mean: fit[0],
            amplitude: fit[1].hypot(fit[2]),
            peak_day,
            days: days.len(),
        })
    };
    depths.iter().filter_map(wave).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::series::View;
    use crate::statistics::testing::assert_close;

    #[test]
    fn waves_fall_off_and_come_later_with_depth() {
        let d = 0.12;
        let at = |z: f64| {
            let times: Vec<i64> = (0..96 * 30).map(|i| i * 900).collect();
            let wave = |t: i64| 15.0 + 6.0 * (-z / d).exp() * (TAU * (t as f64 / 86_400.0 - 14.0 / 24.0) - z / d).cos();
            let values: Vec<f64> = times.iter().map(|t| wave(*t)).collect();
            (z * 100.0, Hours::of(View { times: &times, values: &values }))
        };
        let depths = [at(0.05), at(0.20)];
        let waves = daily_by_depth(&depths, 2, 25);
        assert_eq!((waves.len(), waves[0].days), (2, 23));
        assert_close(waves[0].amplitude, 6.0 * (-0.05f64 / d).exp(), 0.005);
        assert_close(waves[1].peak_h - waves[0].peak_h, 0.15 / d * 24.0 / TAU, 1e-4);
        let points: Vec<(f64, f64)> = waves.iter().map(|w| (w.depth_cm, w.amplitude)).collect();
        assert_close(damping(&points, DAY_S).unwrap().damping_m, d, 1e-4);
        assert!(damping(&points[..1], DAY_S).is_none() && damping(&[(5.0, 1.0), (10.0, 2.0)], DAY_S).is_none());
        assert!(daily_by_depth(&depths, 2, 4).is_empty());
    }

    #[test]
    fn a_years_wave_wants_a_year() {
        let days = |n: i64| {
            let temperature =
                |day: i64| 9.0 + 7.0 * (TAU * ((day as f64 + 0.5) * DAY_S / YEAR_S - 200.0 / 365.2425)).cos();
            (0..n).map(|day| DayExtremes { day, min: 0.0, mean: temperature(day), max: 0.0 }).collect::<Vec<_>>()
        };
        let waves = yearly_by_depth(&[(5.0, days(400)), (30.0, days(300)), (60.0, Vec::new())]);
        assert_eq!(waves.len(), 1);
        assert_close(waves[0].amplitude, 7.0, 1e-9);
        assert_close(waves[0].mean, 9.0, 1e-9);
        assert_close(waves[0].peak_day, 200.0, 1e-6);
    }
}
