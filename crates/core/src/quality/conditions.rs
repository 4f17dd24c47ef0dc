//! Water contents that soil cannot have, and two states of the soil that explain odd readings.

use super::flag::{Evidence, Flag, Test};
use super::instrument::runs;
use super::station::{Judged, written};
use super::water::Water;
use crate::units::{Grade, Quantity, SpanSeconds, UnixSeconds};

/// Water stands on a soil after this much rain in a day, if at all.
const PONDING_RAIN_MM: f64 = 8.0;
/// Deeper than this, water above the pore space is not ponding.
const PONDING_DEPTH_CM: f64 = 25.0;

/// Water content below zero or above the pore space; the latter after much rain near the surface is ponding.
pub(super) fn impossible(of: &Judged<'_>, water: &Water) -> Vec<Flag> {
    if of.channel.quantity != Quantity::WaterContent {
        return Vec::new();
    }
    let (t, x) = (&of.times, &of.values);
    let sigma = of.noise.map_or(0.0, |n| n.sigma);
    let bridge = (2 * 3600 / of.interval.max(1)) as usize;
    let mut flags = Vec::new();
    let mut push = |test, grade, (a, b): (usize, usize), off: f64, numbers: &[(&str, f64)], reason| {
        flags.push(Flag {
            start: UnixSeconds(t[a]),
            end: UnixSeconds(t[b]),
            test,
            grade,
            readings: b - a + 1,
            strength: off / sigma.max(1e-4),
            evidence: Evidence::of(numbers),
            reason,
        });
    };
    for (a, b) in runs(x.len(), bridge, |i| x[i] < 0.0) {
        let lowest = x[a..=b].iter().copied().fold(f64::INFINITY, f64::min);
        let reason = format!(
            "{} {} down to {}: below zero, so air beside the prongs or a calibration of another soil.",
            b - a + 1,
            if a == b { "reading" } else { "readings" },
            written(Quantity::WaterContent, lowest)
        );
        push(Test::Impossible, Grade::Wrong, (a, b), -lowest, &[("lowest", lowest)], reason);
    }
    let Some(pores) = of.channel.pore_space else { return flags };
    for (a, b) in runs(x.len(), bridge, |i| x[i] > pores) {
        let highest = x[a..=b].iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let rain = water.rain(t[a] - SpanSeconds::DAY.0, t[b]);
        let shallow = of.channel.depth_cm.is_some_and(|d| d <= PONDING_DEPTH_CM);
        let numbers = [("highest", highest), ("pore_space", pores), ("rain_mm", rain)];
        let stands = format!("{:.3} stands {:.3} above the pore space ({pores:.2})", highest, highest - pores);
        if shallow && rain >= PONDING_RAIN_MM {
            let reason = format!("{stands} after {rain:.1}\u{a0}mm of rain: real water, but not soil.");
            push(Test::Ponded, Grade::Condition, (a, b), 0.0, &numbers, reason);
        } else {
            let reason = format!("{stands} with {rain:.1}\u{a0}mm of rain in the day before: no soil holds that.");
            push(Test::Impossible, Grade::Wrong, (a, b), highest - pores, &numbers, reason);
        }
    }
    flags.sort_by_key(|f| f.start);
    flags
}

/// Soil at or below this is taken as freezing: salts lower the point a little, thermometers err a little.
const FREEZING_C: f64 = 0.0;

/// Times at which the soil beside a dielectric probe stands at or below its freezing point.
pub(super) fn frozen(of: &Judged<'_>, all: &[Judged<'_>]) -> Vec<Flag> {
    if !matches!(of.channel.quantity, Quantity::WaterContent | Quantity::RawOutput) {
        return Vec::new();
    }
    let beside = all.iter().find(|other| {
        other.channel.quantity == Quantity::SoilTemperature
            && other.channel.depth_cm.zip(of.channel.depth_cm).is_some_and(|(a, b)| (a - b).abs() <= 2.0)
    });
    let (Some(soil), Some(first), Some(last)) = (beside, of.times.first(), of.times.last()) else { return Vec::new() };
    let bridge = (6 * 3600 / soil.interval.max(1)) as usize;
    runs(soil.times.len(), bridge, |i| soil.values[i] <= FREEZING_C)
        .into_iter()
        .filter(|(a, b)| soil.times[*b] - soil.times[*a] >= 2 * 3600)
        .filter(|(a, b)| soil.times[*a] <= *last && soil.times[*b] >= *first)
        .map(|(a, b)| {
            let coldest = soil.values[a..=b].iter().copied().fold(f64::INFINITY, f64::min);
            let long = SpanSeconds(soil.times[b] - soil.times[a]).in_words();
            Flag {
                start: UnixSeconds(soil.times[a].max(*first)),
                end: UnixSeconds(soil.times[b].min(*last)),
                test: Test::Frozen,
                grade: Grade::Condition,
                readings: b - a + 1,
                strength: 0.0,
                evidence: Evidence::of(&[("coldest", coldest)]),
                reason: format!(
                    "The soil beside the probe stood at or below 0\u{a0}°C for {long} (lowest {}): ice hides water from it.",
                    written(Quantity::SoilTemperature, coldest)
                ),
            }
        })
        .collect()
}
