//! Water contents that soil cannot have, and two states of the soil that explain odd readings.

use super::flag::{Evidence, Flag, Test};
use super::instrument::runs;
use super::station::{Screened, written};
use super::water::Water;
use crate::units::{Grade, Quantity, SpanSeconds, UnixSeconds};

/// Water stands on a soil after this much rain in a day, if at all.
const PONDING_RAIN_MM: f64 = 8.0;
/// To this the pore space is known from density and solids, m³/m³: a reading so little above it is no contradiction.
const PORES_KNOWN_TO: f64 = 0.03;
/// So far above the pore space no water around a probe makes it read, m³/m³.
const FAR_ABOVE: f64 = 0.08;
/// Water above the pores for this long was there, and is no stray.
const PONDED_FOR: SpanSeconds = SpanSeconds::HOUR;
/// For this long it stands: a water table, at whatever depth and without rain of that day.
const STANDS_FOR: SpanSeconds = SpanSeconds(6 * 3600);
/// A calibration is off by this much at the dry end before it says anything of the soil, m³/m³.
const BELOW_ZERO: f64 = 0.005;

/// "0.481 stands 0.021 above the pore space (0.46)".
fn above(highest: f64, pores: f64) -> String {
    format!("{highest:.3} stands {:.3} above the pore space ({pores:.2})", highest - pores)
}

/// Water content below zero or above the pore space. A little above it, for long or after much rain, water stands around the
/// probe, at whatever depth; far above it, nothing explains the reading.
pub(super) fn impossible(of: &Screened<'_>, water: &Water) -> Vec<Flag> {
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
    for (a, b) in runs(x.len(), bridge, |i| x[i] < -BELOW_ZERO.max(2.0 * sigma)) {
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
    for (a, b) in runs(x.len(), bridge, |i| x[i] > pores + FAR_ABOVE) {
        let highest = x[a..=b].iter().copied().fold(f64::NEG_INFINITY, f64::max);
        let numbers = [("highest", highest), ("pore_space", pores)];
        let reason = format!("{}: no soil holds that, however much it rained.", above(highest, pores));
        push(Test::Impossible, Grade::Wrong, (a, b), highest - pores, &numbers, reason);
    }
    for (a, b) in runs(x.len(), bridge, |i| x[i] > pores && x[i] <= pores + FAR_ABOVE) {
        let highest = x[a..=b].iter().copied().filter(|v| *v <= pores + FAR_ABOVE).fold(f64::NEG_INFINITY, f64::max);
        let fallen = water.rain(t[a] - SpanSeconds::DAY.0, t[b]);
        let rain = fallen.mm();
        let numbers = [("highest", highest), ("pore_space", pores), ("rain_mm", rain)];
        let excess = above(highest, pores);
        let long = t[b] - t[a];
        let stands = long >= STANDS_FOR.0;
        if long >= PONDED_FOR.0 && (rain >= PONDING_RAIN_MM || stands) {
            let reason = if rain >= PONDING_RAIN_MM {
                format!("{excess} after {}: real water, but not soil.", fallen.words())
            } else {
                format!(
                    "{excess} for {}, with {} in the day before: water stands in the pores (a water table), which are known to a few hundredths.",
                    SpanSeconds(long).in_words(),
                    fallen.words()
                )
            };
            push(Test::Ponded, Grade::Condition, (a, b), 0.0, &numbers, reason);
        } else if highest > pores + PORES_KNOWN_TO && !stands {
            let reason = format!("{excess} with {} in the day before: no soil holds that.", fallen.words());
            push(Test::Impossible, Grade::Wrong, (a, b), highest - pores, &numbers, reason);
        }
    }
    flags.sort_by_key(|f| f.start);
    flags
}

/// Soil at or below this is taken as freezing: salts lower the point a little, thermometers err a little.
const FREEZING_C: f64 = 0.0;

/// Times at which the soil beside a dielectric probe stands at or below its freezing point.
pub(super) fn frozen(of: &Screened<'_>, all: &[Screened<'_>]) -> Vec<Flag> {
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
