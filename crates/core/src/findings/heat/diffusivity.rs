//! Thermal diffusivity between two depths, month by month, by five methods beside each other.

use super::{DAY_S, by_amplitude, by_arctangent, by_logarithm, by_phase};
use crate::findings::year_month;
use crate::series::{DailyWave, Hours, daily_waves};
use crate::statistics::median;
use std::f64::consts::TAU;

/// How a diffusivity was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Method {
    /// By the ratio of ranges of the month's mean day.
    Amplitude,
    /// By the lag between the highest temperatures of the month's mean day.
    Phase,
    /// By four times of the mean day, from the lag between them.
    Arctangent,
    /// By four times of the mean day, from their ratio.
    Logarithm,
    /// By the first harmonic of each day: geometric mean of what its size and its lag tell.
    Harmonic,
}

impl Method {
    /// All five.
    pub const ALL: [Self; 5] = [Self::Amplitude, Self::Phase, Self::Arctangent, Self::Logarithm, Self::Harmonic];

    /// Its name.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Amplitude => "amplitude",
            Self::Phase => "phase",
            Self::Arctangent => "arctangent",
            Self::Logarithm => "logarithm",
            Self::Harmonic => "harmonic",
        }
    }
}

/// What one month tells between two depths.
#[derive(Debug, Clone, PartialEq)]
pub struct Diffusivity {
    /// Upper and lower depth, cm.
    pub between_cm: (f64, f64),
    /// Year and month.
    pub month: (i32, u8),
    /// Days on which both depths have a wave.
    pub days: usize,
    /// κ by each method of [`Method::ALL`], m²/s; `None` where it has no answer.
    pub kappa: [Option<f64>; 5],
    /// κ by the size of the harmonic alone, and by its lag alone, m²/s.
    pub by_parts: (Option<f64>, Option<f64>),
    /// Standard error of the harmonic κ by leaving out each day, m²/s.
    pub standard_error: Option<f64>,
    /// Amplitude of the lower wave, K.
    pub lower_amplitude: f64,
}

/// Methods whose results differ by more than this (highest over lowest less one) do not agree.
const AGREE: f64 = 0.25;
/// Fewer days than this tell no month.
const LEAST_DAYS: usize = 8;
/// A lower wave below this is noise, K.
const LEAST_WAVE_K: f64 = 0.1;

impl Diffusivity {
    /// κ by one method.
    #[must_use]
    pub fn by(&self, method: Method) -> Option<f64> {
        Method::ALL.iter().position(|m| *m == method).and_then(|i| self.kappa[i])
    }

    /// The preferred one: the harmonic, which uses all readings and weighs size and lag alike.
    #[must_use]
    pub fn preferred(&self) -> Option<f64> {
        self.by(Method::Harmonic)
    }

    /// Lowest and highest result.
    #[must_use]
    pub fn range(&self) -> Option<(f64, f64)> {
        let known = self.kappa.iter().flatten();
        let (low, high) = known.fold((f64::INFINITY, 0.0f64), |(low, high), k| (low.min(*k), high.max(*k)));
        (high > 0.0).then_some((low, high))
    }

    /// Whether all methods answer, and alike.
    #[must_use]
    pub fn agrees(&self) -> bool {
        self.kappa.iter().all(Option::is_some) && self.range().is_some_and(|(low, high)| high / low - 1.0 <= AGREE)
    }

    /// Whether they agree and, if not, what does that.
    #[must_use]
    pub fn sentence(&self) -> String {
        let Some((low, high)) = self.range() else {
            return "No method has an answer: the lower wave is not smaller and later than the upper one.".into();
        };
        let apart = 100.0 * (high / low - 1.0);
        if self.agrees() {
            return format!("All five agree within {apart:.0}\u{a0}%.");
        }
        let why = match self.by_parts {
            (Some(size), Some(lag)) if lag > size * (1.0 + AGREE) => {
                "the wave comes sooner than its size allows: water that carried heat down, or a depth that is noted wrong"
            }
            (Some(size), Some(lag)) if lag * (1.0 + AGREE) < size => {
                "the wave comes later than its size allows: the lower probe answers slowly, or water rose"
            }
            (Some(_), Some(_)) => {
                "size and lag of the harmonic agree: it is the shape of the day (cloud, rain) that misleads single times and extremes"
            }
            _ => "the lower wave is not smaller and later on all days",
        };
        format!("They differ by {apart:.0}\u{a0}%: {why}. The harmonic is preferred.")
    }
}

/// κ between each two neighbouring depths, month by month. `depths` are (cm, hourly record), rising; months by UTC.
///
/// The harmonic is the regression of each day's wave at the lower depth on that at the upper one, as complex numbers: its absolute value is the
/// ratio of sizes, its angle the lag. The other four work on the month's mean day. Hourly means flatten both waves alike.
#[must_use]
pub fn diffusivities(depths: &[(f64, Hours)]) -> Vec<Diffusivity> {
    let waves: Vec<Vec<Option<DailyWave>>> = depths.iter().map(|(_, hours)| daily_waves(hours)).collect();
    let mut all = Vec::new();
    for k in 1..depths.len() {
        let ((z1, upper), (z2, lower)) = (&depths[k - 1], &depths[k]);
        let (a, b) = (upper.days(), lower.days());
        let common = a.start.max(b.start)..a.end.min(b.end);
        let mut day = common.start;
        while day < common.end {
            let month = year_month(day);
            let mut end = day;
            while end < common.end && year_month(end) == month {
                end += 1;
            }
            let pair = |d: i64| {
                let wave = |of: usize, days: &std::ops::Range<i64>| waves[of][(d - days.start) as usize];
                Some((d, wave(k - 1, &a)?, wave(k, &b)?))
            };
            let days: Vec<(i64, DailyWave, DailyWave)> = (day..end).filter_map(pair).collect();
            all.extend(month_of((*z1, *z2), month, (upper, lower), &days));
            day = end;
        }
    }
    all
}

fn month_of(
    between_cm: (f64, f64),
    month: (i32, u8),
    (upper, lower): (&Hours, &Hours),
    days: &[(i64, DailyWave, DailyWave)],
) -> Option<Diffusivity> {
    let mut sizes: Vec<f64> = days.iter().map(|d| d.2.amplitude()).collect();
    let lower_amplitude = median(&mut sizes)?;
    if days.len() < LEAST_DAYS || lower_amplitude < LEAST_WAVE_K {
        return None;
    }
    let apart = (between_cm.1 - between_cm.0) / 100.0;
    let (size, lag, harmonic) = harmonic(apart, days);
    let (first, second) = (mean_day(upper, days)?, mean_day(lower, days)?);
    let of_shape = |f: &dyn Fn([f64; 4], [f64; 4]) -> Option<f64>| {
        let quarter = |of: &[f64; 24], h: usize| [of[h], of[h + 6], of[h + 12], of[h + 18]];
        let mut answers: Vec<f64> = (0..6).filter_map(|h| f(quarter(&first, h), quarter(&second, h))).collect();
        median(&mut answers).filter(|_| answers.len() >= 4)
    };
    let (top, bottom) = (extremes(&first), extremes(&second));
    let lag_s = (bottom.1 - top.1).rem_euclid(24.0) * 3600.0;
    let later = lag_s < DAY_S / 2.0;
    let kappa = [
        by_amplitude(apart, top.0, bottom.0, DAY_S),
        by_phase(apart, lag_s, DAY_S).filter(|_| later),
        of_shape(&|u, l| by_arctangent(apart, u, l, DAY_S)),
        of_shape(&|u, l| by_logarithm(apart, u, l, DAY_S)),
        harmonic,
    ];
    let standard_error = jackknife(apart, days);
    Some(Diffusivity {
        between_cm,
        month,
        days: days.len(),
        kappa,
        by_parts: (size, lag),
        standard_error,
        lower_amplitude,
    })
}

/// κ by size, by lag, and their geometric mean, from the regression of the lower waves on the upper ones.
fn harmonic(apart: f64, days: &[(i64, DailyWave, DailyWave)]) -> (Option<f64>, Option<f64>, Option<f64>) {
    let (mut real, mut imaginary, mut square) = (0.0, 0.0, 0.0);
    for (_, u, l) in days {
        // Re(z exp(iωt)) with z = cos − i sin; a lag turns z backwards.
        real += l.cos * u.cos + l.sin * u.sin;
        imaginary += l.sin * u.cos - l.cos * u.sin;
        square += u.cos * u.cos + u.sin * u.sin;
    }
    let (ratio, lag) = (real.hypot(imaginary) / square, imaginary.atan2(real));
    let size = by_amplitude(apart, 1.0, ratio, DAY_S);
    let lag = by_phase(apart, lag / TAU * DAY_S, DAY_S);
    (size, lag, size.zip(lag).map(|(a, b)| (a * b).sqrt()))
}

/// Standard error of the harmonic κ by leaving out each day (Tukey's jackknife).
fn jackknife(apart: f64, days: &[(i64, DailyWave, DailyWave)]) -> Option<f64> {
    let n = days.len();
    let mut rest = days.to_vec();
    let mut without = Vec::with_capacity(n);
    for i in 0..n {
        let left_out = rest.swap_remove(i);
        without.push(harmonic(apart, &rest).2?);
        rest.push(left_out);
        let last = rest.len() - 1;
        rest.swap(i, last);
    }
    let mean = without.iter().sum::<f64>() / n as f64;
    let square: f64 = without.iter().map(|k| (k - mean).powi(2)).sum();
    Some((square * (n - 1) as f64 / n as f64).sqrt())
}

/// Means by hour of what is off the line through the day, over the days; `None` if an hour has none. The two midnights of a day give the line,
/// so that a warming week does not lean the day.
fn mean_day(hours: &Hours, days: &[(i64, DailyWave, DailyWave)]) -> Option<[f64; 24]> {
    let mut sums = [(0.0, 0usize); 24];
    for (day, ..) in days {
        let (a, b) = (hours.at(day * 24), hours.at(day * 24 + 24));
        if !(a.is_finite() && b.is_finite()) {
            continue;
        }
        for (h, sum) in sums.iter_mut().enumerate() {
            let off = hours.at(day * 24 + h as i64) - a - (b - a) * h as f64 / 24.0;
            if off.is_finite() {
                *sum = (sum.0 + off, sum.1 + 1);
            }
        }
    }
    sums.iter().all(|s| s.1 > 0).then(|| sums.map(|(sum, n)| sum / n as f64))
}

/// Half of the range of a mean day, and the hour of its peak, by a parabola through the highest hour and its neighbours.
fn extremes(day: &[f64; 24]) -> (f64, f64) {
    let peak = (0..24).max_by(|a, b| day[*a].total_cmp(&day[*b])).unwrap_or(0);
    let low = day.iter().copied().fold(f64::INFINITY, f64::min);
    let (before, at, after) = (day[(peak + 23) % 24], day[peak], day[(peak + 1) % 24]);
    let bend = before - 2.0 * at + after;
    let shift = if bend < 0.0 { 0.5 * (before - after) / bend } else { 0.0 };
    ((at - low) / 2.0, peak as f64 + shift)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::series::View;
    use crate::statistics::testing::assert_close;

    /// Hourly temperatures of a uniform soil over 40 days from 1 July 2024, whose wave differs from day to day; `extra_lag` in hours.
    fn soil(kappa: f64, depths_cm: &[f64], extra_lag: f64) -> Vec<(f64, Hours)> {
        let omega = TAU / DAY_S;
        let d = (2.0 * kappa / omega).sqrt();
        let record = |cm: f64| {
            let z = cm / 100.0;
            let times: Vec<i64> = (0..24 * 40).map(|i| 19_905 * 86_400 + i * 3600).collect();
            let lag = if cm > depths_cm[0] { extra_lag * 3600.0 } else { 0.0 };
            let value = |t: i64| {
                let wave = |k: f64, a: f64| {
                    let dk = d / k.sqrt();
                    a * (-z / dk).exp() * (k * omega * (t as f64 - lag) - z / dk - 2.0 * k).sin()
                };
                16.0 + 0.05 * (t as f64 / DAY_S) + wave(1.0, 6.0) + wave(2.0, 1.5)
            };
            let values: Vec<f64> = times.iter().map(|t| value(*t)).collect();
            (cm, Hours::of(View { times: &times, values: &values }))
        };
        depths_cm.iter().map(|cm| record(*cm)).collect()
    }

    #[test]
    fn all_methods_find_the_diffusivity_of_a_uniform_soil() {
        for kappa in [3.0e-7, 6.0e-7] {
            let all = diffusivities(&soil(kappa, &[5.0, 15.0, 30.0], 0.0));
            assert_eq!(all.len(), 4, "two pairs in July and August");
            for d in all.iter().filter(|d| d.month == (2024, 7)) {
                assert_close(d.preferred().unwrap(), kappa, 0.02);
                assert_close(d.by(Method::Arctangent).unwrap(), kappa, 0.03);
                assert_close(d.by(Method::Logarithm).unwrap(), kappa, 0.03);
                // Extremes see the second harmonic, too.
                assert_close(d.by(Method::Amplitude).unwrap(), kappa, 0.3);
                assert!(d.standard_error.unwrap() < 0.01 * kappa, "{d:?}");
            }
        }
    }

    #[test]
    fn a_slow_probe_is_named_by_the_lag_that_its_wave_has_too_much() {
        let all = diffusivities(&soil(5.0e-7, &[5.0, 15.0], 1.2));
        let d = &all[0];
        assert!(!d.agrees());
        assert!(d.sentence().contains("answers slowly"), "{}", d.sentence());
        let early = diffusivities(&soil(5.0e-7, &[5.0, 15.0], -0.9));
        assert!(early[0].sentence().contains("carried heat down"), "{}", early[0].sentence());
    }

    #[test]
    fn exchanged_depths_and_short_records_have_no_answer() {
        let mut swapped = soil(5.0e-7, &[5.0, 15.0], 0.0);
        swapped.swap(0, 1);
        (swapped[0].0, swapped[1].0) = (5.0, 15.0);
        let all = diffusivities(&swapped);
        assert!(all[0].preferred().is_none() && all[0].sentence().starts_with("No method"), "{:?}", all[0]);
        assert!(diffusivities(&soil(5.0e-7, &[5.0], 0.0)).is_empty());
        assert!(diffusivities(&[]).is_empty());
        let deep = diffusivities(&soil(3.0e-7, &[5.0, 90.0], 0.0));
        assert!(deep.is_empty(), "of a wave under the noise nothing is said");
    }
}
