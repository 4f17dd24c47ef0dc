//! Heat in the soil of a station.

use super::ground::{Ground, Selection};
use crate::record::Flagged;
use ebrel_core::findings::climate::{DayExtremes, extremes};
use ebrel_core::findings::heat::{
    DAY_S, DepthWave, Diffusivity, Fall, YEAR_S, YearlyWave, daily_by_depth, damping, diffusivities, yearly_by_depth,
};
use ebrel_core::findings::{Counts, Grid, Profile, year_month};
use ebrel_core::series::{Hours, View};
use ebrel_core::units::{Quantity, UnixSeconds};
use std::collections::BTreeMap;
use std::ops::Range;

/// A daily wave below this is noise and rounding, K.
const LEAST_WAVE_K: f64 = 0.1;

/// One month of one depth.
#[derive(Debug, Clone, PartialEq)]
pub struct DepthMonth {
    /// Year and month.
    pub month: (i32, u8),
    /// Means of the days' minima, means and maxima, °C.
    pub mean: (f64, f64, f64),
    /// Days that are known.
    pub days: usize,
}

/// What is found.
pub struct HeatFindings {
    /// Depths of the thermometers, cm.
    pub depths: Vec<f64>,
    /// Months of each depth.
    pub months: Vec<Vec<DepthMonth>>,
    /// The daily wave by depth over the whole record.
    pub daily: Vec<DepthWave>,
    /// How it falls off.
    pub daily_fall: Option<Fall>,
    /// The yearly wave by depth.
    pub yearly: Vec<YearlyWave>,
    /// How that falls off.
    pub yearly_fall: Option<Fall>,
    /// κ by pair of depths and month, by five methods.
    pub diffusivities: Vec<Diffusivity>,
    /// Of each of them, the mean water content between its depths in that month, if probes lie there: m³/m³.
    pub contents: Vec<Option<f64>>,
    /// Days with frost at each depth, of the days known.
    pub frost: Vec<(usize, usize)>,
    /// What became of the readings.
    pub counts: Counts,
    /// First and last moment.
    pub span: (UnixSeconds, UnixSeconds),
}

/// Works a station's heat out; `None` without a thermometer in the soil.
#[must_use]
pub fn heat(of: &Flagged, selection: &Selection) -> Option<HeatFindings> {
    let ground = Ground::new(of, selection)?;
    let profile = ground.profile(Quantity::SoilTemperature);
    let grid = profile.grid;
    if profile.levels.is_empty() {
        return None;
    }
    let offset = of.record.study.utc_offset_minutes;
    let times: Vec<i64> = (0..grid.len()).map(|i| grid.time(i).0).collect();
    let hours: Vec<(f64, Hours)> =
        profile.levels.iter().map(|l| (l.depth_cm, Hours::of(View { times: &times, values: &l.values }))).collect();
    let days: Vec<(f64, Vec<DayExtremes>)> =
        profile.levels.iter().map(|l| (l.depth_cm, extremes(&grid, &l.values, offset))).collect();
    let daily = daily_by_depth(&hours, i64::MIN, i64::MAX);
    let yearly = yearly_by_depth(&days);
    let points = |waves: Vec<(f64, f64)>, period| damping(&waves, period);
    let diffusivities = diffusivities(&hours);
    let moisture = ground.profile(Quantity::WaterContent);
    let spans = month_spans(&moisture.grid, offset);
    let of_month = |d: &Diffusivity| Some(content(&moisture, d.between_cm, spans.get(&d.month)?.clone())).flatten();
    let contents = diffusivities.iter().map(of_month).collect();
    Some(HeatFindings {
        depths: profile.depths(),
        months: days.iter().map(|d| months(&d.1)).collect(),
        daily_fall: points(
            daily.iter().filter(|w| w.amplitude >= LEAST_WAVE_K).map(|w| (w.depth_cm, w.amplitude)).collect(),
            DAY_S,
        ),
        yearly_fall: points(yearly.iter().map(|w| (w.depth_cm, w.amplitude)).collect(), YEAR_S),
        frost: days.iter().map(|(_, d)| (d.iter().filter(|d| d.min < 0.0).count(), d.len())).collect(),
        daily,
        yearly,
        diffusivities,
        contents,
        counts: profile.counts(),
        span: (grid.time(0), grid.time(grid.len() - 1)),
    })
}

fn months(days: &[DayExtremes]) -> Vec<DepthMonth> {
    let mut all: Vec<DepthMonth> = Vec::new();
    for d in days {
        let month = year_month(d.day);
        if all.last().is_none_or(|m| m.month != month) {
            all.push(DepthMonth { month, mean: (0.0, 0.0, 0.0), days: 0 });
        }
        if let Some(m) = all.last_mut() {
            let n = m.days as f64;
            let next = |mean: f64, v: f64| (mean * n + v) / (n + 1.0);
            m.mean = (next(m.mean.0, d.min), next(m.mean.1, d.mean), next(m.mean.2, d.max));
            m.days += 1;
        }
    }
    all
}

/// The times of each month.
fn month_spans(grid: &Grid, offset: i64) -> BTreeMap<(i32, u8), Range<usize>> {
    let mut spans: BTreeMap<(i32, u8), Range<usize>> = BTreeMap::new();
    let (mut day, mut month) = (i64::MIN, (0, 0));
    for i in 0..grid.len() {
        if grid.day(i, offset) != day {
            day = grid.day(i, offset);
            month = year_month(day);
        }
        spans.entry(month).or_insert(i..i).end = i + 1;
    }
    spans
}

/// Mean water content of the levels that lie at or between two depths, over some times; `None` where fewer than half of them are known.
fn content(moisture: &Profile<'_>, (a, b): (f64, f64), times: Range<usize>) -> Option<f64> {
    let levels = moisture.levels.iter().filter(|l| l.depth_cm >= a - 0.5 && l.depth_cm <= b + 0.5);
    let (mut n, mut sum, mut most) = (0usize, 0.0, 0usize);
    for level in levels {
        most += times.len();
        for v in level.values[times.clone()].iter().filter(|v| v.is_finite()) {
            (n, sum) = (n + 1, sum + v);
        }
    }
    (n > 0 && n * 2 >= most).then(|| sum / n as f64)
}
