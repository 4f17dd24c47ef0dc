//! Water contents that soil cannot have, and two states of the soil that explain odd readings.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::screened::{Screened, runs};
use super::{Definition, Evidence, Figure, Flag, FrozenEvidence, ImpossibleEvidence, PondedEvidence, Test};
use crate::units::{Grade, Quantity, SpanSeconds, format_plain};

settings!(
    /// What no soil can hold.
    ImpossibleSettings {
        /// A calibration is off by this much at the dry end before it says anything of the soil.
        below_zero: 0.005 in 0.0..=0.2 "m³/m³",
        /// To this the pore space is known from density and solids: a reading so little above it is no contradiction.
        pores_known_to: 0.03 in 0.0..=0.2 "m³/m³",
        /// So far above the pore space no water around a probe makes it read.
        far_above: 0.08 in 0.01..=0.5 "m³/m³",
    }
);

settings!(
    /// When water stands around a probe.
    PondedSettings {
        /// Water stands on a soil after this much rain in a day, if at all.
        rain_mm: 8.0 in 0.0..=500.0 "mm",
        /// Water above the pores for this long was there, and is no stray.
        hours: 1.0 in 0.0..=240.0 "h",
        /// For this long it stands: a water table, at whatever depth and without rain of that day.
        table_hours: 6.0 in 0.0..=2400.0 "h",
    }
);

settings!(
    /// When soil counts as freezing.
    FrozenSettings {
        /// Soil at or below this is taken as freezing: salts lower the point a little, thermometers err a little.
        at_or_below: 0.0 in -10.0..=2.0 "°C",
        /// For less long than this nothing freezes.
        hours: 2.0 in 0.0..=240.0 "h",
    }
);

pub(super) const IMPOSSIBLE: Definition = Definition {
    title: "Impossible",
    mark: "I",
    grade: Grade::Wrong,
    finds: "Water contents below zero, or above the pore space where nothing explains them.",
    settings: ImpossibleSettings::LIST,
};

pub(super) const PONDED: Definition = Definition {
    title: "Ponded",
    mark: "P",
    grade: Grade::Condition,
    finds: "Water a little above the pore space for long, or after much rain: it stands around the probe. True, but no soil.",
    settings: PondedSettings::LIST,
};

pub(super) const FROZEN: Definition = Definition {
    title: "Frozen",
    mark: "F",
    grade: Grade::Condition,
    finds: "Times at which the soil beside a dielectric probe stood at its freezing point: ice hides water from it.",
    settings: FrozenSettings::LIST,
};

/// "0.481 stands 0.021 above the pore space (0.46)".
fn above(highest: f64, pores: f64) -> String {
    format!("{highest:.3} stands {:.3} above the pore space ({pores:.2})", highest - pores)
}

/// Water content below zero or above the pore space. A little above it, for long or after much rain, water stands around the
/// probe, at whatever depth; far above it, nothing explains the reading.
pub(super) fn water_contents(scene: &Scene<'_>, limits: &ImpossibleSettings, ponding: &PondedSettings) -> Vec<Flag> {
    let of = scene.of;
    if of.channel.quantity != Quantity::WaterContent {
        return Vec::new();
    }
    let (t, x) = (&of.times, &of.values);
    let sigma = of.noise.map_or(0.0, |n| n.sigma);
    let bridge = (2 * 3600 / of.interval) as usize;
    let flag = |(a, b): (usize, usize), off: f64, evidence: Evidence, reason| {
        let grade = if evidence.test() == Test::Ponded { PONDED.grade } else { IMPOSSIBLE.grade };
        Flag::new(grade, (t[a], t[b]), b - a + 1, off / sigma.max(1e-4), evidence, reason)
    };
    let mut flags = Vec::new();
    for (a, b) in runs(x.len(), bridge, |i| x[i] < -limits.below_zero.max(2.0 * sigma)) {
        let lowest = x[a..=b].iter().copied().fold(f64::INFINITY, f64::min);
        let reason = format!(
            "{} {} down to {}: below zero, so air beside the prongs or a calibration of another soil.",
            b - a + 1,
            if a == b { "reading" } else { "readings" },
            written(Quantity::WaterContent, lowest)
        );
        let evidence = Evidence::Impossible(ImpossibleEvidence::BelowZero { lowest: lowest.into() });
        flags.push(flag((a, b), -lowest, evidence, reason));
    }
    let Some(pores) = of.channel.pore_space else { return flags };
    let top = pores + limits.far_above;
    let above_pores = runs(x.len(), bridge, |i| x[i] > pores);
    let high = |(a, b): (usize, usize)| x[a..=b].iter().copied().fold(f64::NEG_INFINITY, f64::max);
    for (a, b) in above_pores.iter().copied().filter(|run| high(*run) > top) {
        let highest = high((a, b));
        let reason = format!("{}: no soil holds that, however much it rained.", above(highest, pores));
        let evidence = above_the_pores(highest, pores, None);
        flags.push(flag((a, b), highest - pores, evidence, reason));
    }
    for (a, b) in above_pores.into_iter().filter(|run| high(*run) <= top) {
        let highest = high((a, b));
        flags.extend(
            a_little_above(scene, (limits, ponding), (a, b), highest, pores)
                .map(|(off, e, reason)| flag((a, b), off, e, reason)),
        );
    }
    flags.sort_by_key(|f| f.start);
    flags
}

fn above_the_pores(highest: f64, pores: f64, rain_mm: Option<Figure>) -> Evidence {
    let (highest, pore_space) = (highest.into(), pores.into());
    Evidence::Impossible(ImpossibleEvidence::AbovePores { highest, pore_space, rain_mm })
}

/// What is said of a run a little above the pores: how far it is off, the evidence, the sentence.
fn a_little_above(
    scene: &Scene<'_>,
    (limits, ponding): (&ImpossibleSettings, &PondedSettings),
    (a, b): (usize, usize),
    highest: f64,
    pores: f64,
) -> Option<(f64, Evidence, String)> {
    let t = &scene.of.times;
    let fallen = scene.water.rain(t[a] - SpanSeconds::DAY.0, t[b]);
    let (excess, rain_mm) = (above(highest, pores), fallen.known_mm().map(Figure::from));
    let long = t[b] - t[a];
    let stands = long as f64 >= 3600.0 * ponding.table_hours;
    let rained = fallen.mm() >= ponding.rain_mm;
    if long as f64 >= 3600.0 * ponding.hours && (rained || stands) {
        let reason = if rained {
            format!("{excess} after {}: real water, but not soil.", scene.water.words(fallen))
        } else {
            format!(
                "{excess} for {}, with {} in the day before: water stands in the pores (a water table), which are known to a few hundredths.",
                SpanSeconds(long).in_words(),
                scene.water.words(fallen)
            )
        };
        let evidence = PondedEvidence { highest: highest.into(), pore_space: pores.into(), rain_mm };
        return Some((0.0, Evidence::Ponded(evidence), reason));
    }
    let contradicts = highest > pores + limits.pores_known_to && !stands;
    let reason = || format!("{excess} with {} in the day before: no soil holds that.", scene.water.words(fallen));
    contradicts.then(|| (highest - pores, above_the_pores(highest, pores, rain_mm), reason()))
}

/// Times at which the soil beside a dielectric probe stands at or below its freezing point, as any thermometer within two
/// centimetres of its depth tells: a probe exchanged for another leaves two thermometers that follow each other.
pub(super) fn frozen(scene: &Scene<'_>, limits: &FrozenSettings) -> Vec<Flag> {
    let of = scene.of;
    if !matches!(of.channel.quantity, Quantity::WaterContent | Quantity::RawOutput) {
        return Vec::new();
    }
    let beside = scene.all.iter().filter(|other| {
        other.channel.quantity == Quantity::SoilTemperature
            && other.channel.depth_cm.zip(of.channel.depth_cm).is_some_and(|(a, b)| (a - b).abs() <= 2.0)
    });
    let mut cold: Vec<Cold> = beside.flat_map(|soil| colds(soil, limits)).collect();
    cold.sort_by_key(|c| (c.from, c.to));
    cold.dedup_by(|next, kept| {
        let joined = next.from <= kept.to;
        if joined {
            kept.to = kept.to.max(next.to);
            kept.lowest = kept.lowest.min(next.lowest);
        }
        joined
    });
    let told = |cold: Cold| {
        let (a, b) = (of.times.partition_point(|t| *t < cold.from), of.times.partition_point(|t| *t <= cold.to));
        let span = (*of.times.get(a)?, *of.times.get(b.checked_sub(1)?)?);
        let reason = format!(
            "The soil beside the probe stood at or below {}\u{a0}°C for {} (lowest {}): ice hides water from it.",
            format_plain(limits.at_or_below),
            SpanSeconds(cold.to - cold.from).in_words(),
            written(Quantity::SoilTemperature, cold.lowest)
        );
        let evidence = Evidence::Frozen(FrozenEvidence { coldest: cold.lowest.into() });
        (a < b).then(|| Flag::new(FROZEN.grade, span, b - a, 0.0, evidence, reason))
    };
    cold.into_iter().filter_map(told).collect()
}

/// A time at which soil stood at its freezing point.
struct Cold {
    from: i64,
    to: i64,
    /// °C.
    lowest: f64,
}

/// When a thermometer stood at or below the freezing point for long enough.
fn colds(soil: &Screened<'_>, limits: &FrozenSettings) -> Vec<Cold> {
    let bridge = (6 * 3600 / soil.interval) as usize;
    runs(soil.times.len(), bridge, |i| soil.values[i] <= limits.at_or_below)
        .into_iter()
        .map(|(a, b)| {
            let lowest = soil.values[a..=b].iter().copied().fold(f64::INFINITY, f64::min);
            Cold { from: soil.times[a], to: soil.times[b], lowest }
        })
        .filter(|c| (c.to - c.from) as f64 >= 3600.0 * limits.hours)
        .collect()
}
