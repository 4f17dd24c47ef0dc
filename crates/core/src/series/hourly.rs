//! A record by the hour, and the daily wave in it: what slow tests and findings look at.

use super::View;
use crate::statistics::median;
use nalgebra::{Matrix4, Vector4};
use std::f64::consts::TAU;

/// Hourly means of a record; an hour without a reading has none.
#[derive(Debug, Clone, Default)]
pub struct Hours {
    /// The first hour, counted from 1970.
    pub first: i64,
    /// One mean an hour, NaN where there is none: a year is 8,760 of them.
    means: Vec<f32>,
}

/// Seconds of an hour.
const HOUR: i64 = 3600;
/// More hours than these have no grid: a stray stamp of another century must not take all memory.
const MOST_HOURS: i64 = 24 * 366 * 200;

impl Hours {
    /// Means of the readings in each hour.
    pub fn of(view: View<'_>) -> Self {
        let (Some(first), Some(last)) = (view.times.first(), view.times.last()) else { return Self::default() };
        let (first, last) = (first.div_euclid(HOUR), last.div_euclid(HOUR));
        if last - first > MOST_HOURS {
            return Self::default();
        }
        let mut means = vec![f32::NAN; (last - first + 1) as usize];
        let mut i = 0;
        while i < view.times.len() {
            let hour = view.times[i].div_euclid(HOUR);
            let (mut sum, mut n) = (0.0, 0.0);
            while i < view.times.len() && view.times[i].div_euclid(HOUR) == hour {
                if view.values[i].is_finite() {
                    sum += view.values[i];
                    n += 1.0;
                }
                i += 1;
            }
            means[(hour - first) as usize] = (sum / n) as f32;
        }
        Self { first, means }
    }

    /// How many hours, from the first to the last.
    pub const fn len(&self) -> usize {
        self.means.len()
    }

    /// Whether there is none.
    pub const fn is_empty(&self) -> bool {
        self.means.is_empty()
    }

    /// The mean of an hour, NaN if there is none.
    pub fn at(&self, hour: i64) -> f64 {
        let i = usize::try_from(hour - self.first).ok();
        i.and_then(|i| self.means.get(i)).map_or(f64::NAN, |v| f64::from(*v))
    }

    /// The means of the hours `from..to` that have one.
    pub fn between(&self, from: i64, to: i64) -> impl Iterator<Item = f64> + '_ {
        let a = (from - self.first).clamp(0, self.means.len() as i64) as usize;
        let b = (to - self.first).clamp(a as i64, self.means.len() as i64) as usize;
        self.means[a..b].iter().filter(|v| v.is_finite()).map(|v| f64::from(*v))
    }

    /// The mean of the hours `from..to`, if at least `least` of them have one.
    pub fn mean(&self, from: i64, to: i64, least: usize) -> Option<f64> {
        let (n, sum) = self.between(from, to).fold((0, 0.0), |(n, sum), v| (n + 1, sum + v));
        (n >= least.max(1)).then(|| sum / n as f64)
    }

    /// First and last day, counted from 1970, that the record touches.
    pub fn days(&self) -> std::ops::Range<i64> {
        if self.is_empty() {
            return 0..0;
        }
        self.first.div_euclid(24)..(self.first + self.means.len() as i64 - 1).div_euclid(24) + 1
    }
}

/// The wave of 24 h in two days around the noon of a day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DailyWave {
    /// Part that peaks at midnight UTC, in the channel's unit.
    pub cos: f64,
    /// Part that peaks at 6 h UTC.
    pub sin: f64,
}

impl DailyWave {
    /// Half of its range, in the channel's unit.
    pub fn amplitude(self) -> f64 {
        self.cos.hypot(self.sin)
    }

    /// By how many hours another wave peaks later than this one, −12 to 12.
    pub fn lag_to(self, later: Self) -> f64 {
        let hours = (later.sin.atan2(later.cos) - self.sin.atan2(self.cos)) * 24.0 / TAU;
        (hours + 12.0).rem_euclid(24.0) - 12.0
    }

    /// This wave over another, as a complex number: how large against it, and how far ahead in its phase.
    pub fn over(self, other: Self) -> (f64, f64) {
        let square = other.cos.powi(2) + other.sin.powi(2);
        // z = cos − i sin, so that x(t) = Re(z exp(iωt)).
        let real = (self.cos * other.cos + self.sin * other.sin) / square;
        let imaginary = (self.cos * other.sin - self.sin * other.cos) / square;
        (real, imaginary)
    }
}

/// Hours that a two-day window must hold.
const ENOUGH: usize = 40;

/// The daily wave of each day of [`Hours::days`], by least squares of level, trend and one harmonic of 24 h over the 48 hours
/// around its noon (van Wijk & de Vries 1963: a periodic wave in the soil); `None` where more than 8 hours are missing.
pub fn daily_waves(hours: &Hours) -> Vec<Option<DailyWave>> {
    let table: [(f64, f64); 24] = std::array::from_fn(|h| {
        let angle = TAU * h as f64 / 24.0;
        (angle.cos(), angle.sin())
    });
    hours.days().map(|day| wave(hours, day * 24 - 12, &table)).collect()
}

/// The daily wave of a record as its days have it in the middle.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MeanWave {
    /// Median half range, in the channel's unit.
    pub amplitude: f64,
    /// Hour of UTC at which the mean wave peaks, 0 to 24.
    pub peak: f64,
    /// Days that it rests on.
    pub days: usize,
}

/// The daily wave of a record: median of the amplitudes of its days (see `daily_waves`), peak of their mean as vectors; `None` with fewer
/// than three days.
#[must_use]
pub fn mean_wave(view: View<'_>) -> Option<MeanWave> {
    let waves: Vec<DailyWave> = daily_waves(&Hours::of(view)).into_iter().flatten().collect();
    let (cos, sin) = waves.iter().fold((0.0, 0.0), |sum, w| (sum.0 + w.cos, sum.1 + w.sin));
    let mut amplitudes: Vec<f64> = waves.iter().map(|w| w.amplitude()).collect();
    let amplitude = median(&mut amplitudes).filter(|_| waves.len() >= 3)?;
    let peak = (f64::atan2(sin, cos) * 24.0 / TAU).rem_euclid(24.0);
    Some(MeanWave { amplitude, peak, days: waves.len() })
}

/// Hourly means of a record less the mean of their day: second at which the hour begins, and how far it is off. Days with fewer than 20
/// hours are left out.
#[must_use]
pub fn day_by_day(view: View<'_>) -> Vec<(i64, f64)> {
    let hours = Hours::of(view);
    let mut off = Vec::new();
    for day in hours.days() {
        let Some(mean) = hours.mean(day * 24, day * 24 + 24, 20) else { continue };
        let known = (day * 24..day * 24 + 24).map(|h| (h * HOUR, hours.at(h) - mean));
        off.extend(known.filter(|(_, v)| v.is_finite()));
    }
    off
}

fn wave(hours: &Hours, from: i64, table: &[(f64, f64); 24]) -> Option<DailyWave> {
    let (mut normal, mut right) = (Matrix4::<f64>::zeros(), Vector4::zeros());
    let mut n = 0;
    for k in 0..48 {
        let y = hours.at(from + k);
        if !y.is_finite() {
            continue;
        }
        n += 1;
        let (cos, sin) = table[(from + k).rem_euclid(24) as usize];
        let row = Vector4::new(1.0, k as f64 / 24.0 - 1.0, cos, sin);
        normal += row * row.transpose();
        right += row * y;
    }
    if n < ENOUGH {
        return None;
    }
    let fit = normal.cholesky()?.solve(&right);
    Some(DailyWave { cos: fit[2], sin: fit[3] })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    fn record(value: impl Fn(f64) -> f64) -> Hours {
        let times: Vec<i64> = (0..4 * 24 * 20).map(|i| 86_400 * 100 + i * 900).collect();
        let values: Vec<f64> = times.iter().map(|t| value(*t as f64 / 3600.0)).collect();
        Hours::of(View { times: &times, values: &values })
    }

    #[test]
    fn the_mean_wave_and_what_is_off_the_day_tell_a_wave_and_not_a_trend() {
        let of = |value: &dyn Fn(f64) -> f64| {
            let times: Vec<i64> = (0..4 * 24 * 20).map(|i| 86_400 * 100 + i * 900).collect();
            let values: Vec<f64> = times.iter().map(|t| value(*t as f64 / 3600.0)).collect();
            (times, values)
        };
        let (times, values) = of(&|h| 9.0 + 0.02 * h + 3.0 * (TAU * (h - 0.375 - 14.0) / 24.0).cos());
        let view = View { times: &times, values: &values };
        let wave = mean_wave(view).unwrap();
        assert_close(wave.amplitude, 3.0, 0.01);
        assert_close(wave.peak, 14.0, 0.02);
        let off = day_by_day(view);
        assert_eq!(off.len(), 20 * 24);
        assert!(off.iter().all(|(_, v)| v.abs() < 3.3), "the trend of the weeks is not in it");
        let short = View { times: &times[..90], values: &values[..90] };
        assert!(mean_wave(short).is_none());
        assert!(day_by_day(View { times: &times[..70], values: &values[..70] }).is_empty(), "less than 20 h of a day");
    }

    #[test]
    fn a_wave_on_a_trend_is_found_with_its_peak() {
        // The mean of an hour of four readings stands for 22.5 min past it.
        let peak = |at: f64| move |h: f64| 9.0 + 0.02 * h + 3.0 * (TAU * (h - 0.375 - at) / 24.0).cos();
        let (early, late) = (daily_waves(&record(peak(14.0))), daily_waves(&record(peak(17.5))));
        assert_eq!(early.len(), 20);
        let (a, b) = (early[9].unwrap(), late[9].unwrap());
        assert_close(a.amplitude(), 3.0, 0.01);
        assert_close(a.lag_to(b), 3.5, 1e-6);
        assert_close(b.lag_to(a), -3.5, 1e-6);
        let (real, imaginary) = b.over(a);
        assert_close(real.hypot(imaginary), 1.0, 1e-6);
        assert_close(imaginary.atan2(real), -3.5 / 24.0 * TAU, 1e-6);
    }

    #[test]
    fn hours_without_readings_have_no_mean_and_days_without_them_no_wave() {
        let times: Vec<i64> = (0..2000).filter(|i| !(300..700).contains(i)).map(|i| i * 900).collect();
        let values = vec![1.5; times.len()];
        let hours = Hours::of(View { times: &times, values: &values });
        assert_eq!(hours.len(), 500);
        assert!(hours.at(80).is_nan() && hours.at(9999).is_nan());
        assert_eq!(hours.mean(0, 10, 10), Some(1.5));
        assert_eq!(hours.mean(70, 90, 10), None);
        let waves = daily_waves(&hours);
        assert!(waves[1].is_some() && waves[4].is_none());
        assert!(daily_waves(&Hours::of(View { times: &[], values: &[] })).is_empty());
        let stray = Hours::of(View { times: &[0, i64::MAX / 2], values: &[1.0, 1.0] });
        assert_eq!(stray.len(), 0, "a stamp of another age makes no grid");
    }
}
