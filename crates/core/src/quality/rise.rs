//! Soil that wets, and nothing brought water.

use super::answer::{depth_by_heat, wetness};
use super::context::written;
use super::definition::settings;
use super::scene::{Scene, Told, Whole};
use super::screened::{Screened, runs};
use super::water::front_takes;
use super::{Definition, Evidence, Flag, RiseEvidence, Test};
use crate::statistics::{median, quantile};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When a rise has no cause.
    RiseSettings {
        /// A rise counts from this many times the highest that this record makes in dry weather (98.5th percentile).
        times: 2.4 in 1.0..=1000.0 "×",
        /// And from so many standard deviations of the record's noise.
        sigmas: 12.0 in 2.0..=100_000.0 "σ",
        /// And from so many steps of its resolution.
        resolutions: 4.0 in 1.0..=1000.0 "steps",
        /// Before it, beside the time that a front takes to the depth, it was dry for so long.
        dry_hours: 24.0 in 0.0..=2400.0 "h",
        /// It takes no longer than this: what is slower seeps.
        hours: 10.0 in 0.5..=240.0 "h",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Rises without water",
    mark: "U",
    grade: Grade::Doubtful,
    finds: "Soil that wets within hours and stays wetter, where neither rain nor irrigation, thaw nor snow that melts brought water. What this \
            record does in dry weather anyway is let pass. Without a rain gauge nothing is judged.",
    settings: RiseSettings::LIST,
};

/// Hours over which a rise is told from its lowest.
const BACK: i64 = 8;
/// Hours for which the new level must last.
const LASTS: i64 = 4;
/// Fewer dry hours tell no habit.
const LEAST_HOURS: usize = 200;
/// What a shallower probe felt may take so long to go deeper, s for each centimetre of depth.
const SEEPS_CM: f64 = 3.0 * 3600.0;
/// Snow may lie and melt for so long after the air was cold, s.
const SNOW: i64 = 10 * SpanSeconds::DAY.0;
/// Air this cold may bring snow, °C.
const SNOW_C: f64 = 1.0;
/// Soil that stays colder takes up no water, °C.
const TOO_COLD_C: f64 = -1.0;

/// A rise that nothing explains: its channel, when it began, and its flag.
type Unexplained = (usize, i64, Flag);

/// Rises of the hourly record that last, in dry weather, against this record's own habit in dry weather.
///
/// The rise at an hour is the lesser of its level and the median of the next four hours, less the lowest of the eight before. Water that a
/// shallower probe felt, and that is explained, may still be on its way.
pub(super) fn rises(whole: &Whole<'_>, own: &RiseSettings) -> Vec<Told> {
    let depth = |i: usize| depth_by_heat(&whole.all[i], &whole.found[i]);
    let mut moist: Vec<usize> =
        (0..whole.all.len()).filter(|i| whole.all[*i].channel.quantity.is_moisture() && depth(*i).is_some()).collect();
    moist.sort_by(|a, b| depth(*a).unwrap_or(0.0).total_cmp(&depth(*b).unwrap_or(0.0)));
    let mut found: Vec<Unexplained> = Vec::new();
    for i in moist {
        let of = &whole.all[i];
        let scene = Scene { of, all: whole.all, station: whole.station, water: whole.water, found: &whole.found[i] };
        let now: Vec<Unexplained> = of_channel(&scene, own)
            .into_iter()
            .filter(|f| !seeps(whole, i, f.start.0, &found))
            .map(|f| (i, f.start.0, f))
            .collect();
        found.extend(now);
    }
    found.into_iter().map(|(i, _, flag)| (i, flag)).collect()
}

/// Whether a shallower probe rose before, for a reason: then water is on its way down.
fn seeps(whole: &Whole<'_>, i: usize, at: i64, unexplained: &[Unexplained]) -> bool {
    let depth_of = |i: usize| depth_by_heat(&whole.all[i], &whole.found[i]);
    let (of, depth) = (&whole.all[i], depth_of(i).unwrap_or(0.0));
    let back = (depth * SEEPS_CM) as i64;
    whole.all.iter().enumerate().any(|(j, above)| {
        let shallower = depth_of(j).is_some_and(|d| d + 2.0 <= depth);
        if !shallower || above.channel.quantity != of.channel.quantity {
            return false;
        }
        let sign = wetness(above.channel.quantity);
        let (from, to) = ((at - back).div_euclid(3600), at.div_euclid(3600) + 1);
        let rose = (from..to).filter(|h| lasting(above, *h, sign) > above.nothing(12.0, 6.0)).map(|h| h * 3600);
        let known = |t: i64| unexplained.iter().any(|u| u.0 == j && (t - u.1).abs() <= SpanSeconds::DAY.0);
        rose.into_iter().any(|t| !known(t))
    })
}

fn of_channel(scene: &Scene<'_>, own: &RiseSettings) -> Vec<Flag> {
    let of = scene.of;
    let Some(depth) = depth_by_heat(of, scene.found).filter(|_| of.noise.is_some()) else { return Vec::new() };
    let sign = wetness(of.channel.quantity);
    let hours = of.hours();
    let first = hours.first;
    let rise: Vec<f64> = (0..hours.len() as i64).map(|h| lasting(of, first + h, sign)).collect();
    let dry_for = (own.dry_hours * 3600.0) as i64 + front_takes(depth).min(3 * SpanSeconds::DAY.0);
    let dry: Vec<bool> = (0..rise.len())
        .map(|i| scene.water.dry_before((first + i as i64 + 1) * 3600).is_some_and(|long| long >= dry_for))
        .collect();
    let mut habit: Vec<f64> =
        (0..rise.len()).filter(|i| dry[*i] && rise[*i].is_finite()).map(|i| rise[i].max(0.0)).collect();
    if habit.len() < LEAST_HOURS {
        return Vec::new();
    }
    let usual = quantile(&mut habit, 0.985).unwrap_or(0.0);
    let threshold = (own.times * usual).max(of.nothing(own.sigmas, own.resolutions));
    let found = runs(rise.len(), BACK as usize, |i| dry[i] && rise[i] > threshold);
    let told =
        |(a, b): (usize, usize)| tell(scene, own, (first + a as i64, first + b as i64), &rise[a..=b], (usual, sign));
    found.into_iter().filter_map(told).collect()
}

fn lasting(of: &Screened<'_>, hour: i64, sign: f64) -> f64 {
    let now = of.hours().at(hour) * sign;
    let mut next = [0.0; LASTS as usize];
    let mut n = 0;
    for v in of.hours().between(hour + 1, hour + 1 + LASTS) {
        next[n] = v * sign;
        n += 1;
    }
    let lowest = of.hours().between(hour - BACK, hour).map(|v| v * sign).fold(f64::INFINITY, f64::min);
    match median(&mut next[..n]) {
        Some(later) if n >= 2 && lowest.is_finite() => now.min(later) - lowest,
        _ => f64::NAN,
    }
}

/// Whether the soil around the probe stayed so cold that no water can have come: what melts, or freezes anew, holds it at 0 °C.
fn stays_cold(scene: &Scene<'_>, from: i64, to: i64) -> bool {
    let depth = scene.of.channel.depth_cm;
    let beside = |s: &&Screened<'_>| {
        s.channel.quantity == Quantity::SoilTemperature
            && s.channel.depth_cm.zip(depth).is_some_and(|(a, b)| (a - b).abs() <= 2.0)
    };
    let hours = (from.div_euclid(3600) - 24)..(to.div_euclid(3600) + 12);
    let mut beside = scene.all.iter().filter(beside).peekable();
    beside.peek().is_some() && beside.all(|s| hours.clone().all(|h| s.hours().at(h) < TOO_COLD_C))
}

/// Whether the soil around the probe itself froze or thawed.
fn thaws(scene: &Scene<'_>, from: i64, to: i64) -> bool {
    let near = |f: &Flag| f.start.0 <= to && f.end.0 >= from - 3 * SpanSeconds::DAY.0;
    scene.found.iter().any(|f| f.test == Test::Frozen && near(f))
}

/// Whether it rose while every probe above it and beside it stayed as it was: no water came from above.
fn alone(scene: &Scene<'_>, from: i64, to: i64) -> bool {
    let Some(depth) = scene.of.channel.depth_cm else { return false };
    let above = |s: &&Screened<'_>| {
        s.channel.quantity == scene.of.channel.quantity
            && !std::ptr::eq(s.channel, scene.of.channel)
            && s.channel.depth_cm.is_some_and(|d| d <= depth + 1.0)
    };
    let mut above = scene.all.iter().filter(above).peekable();
    let sign = wetness(scene.of.channel.quantity);
    above.peek().is_some()
        && !above
            .any(|s| (from.div_euclid(3600)..=to.div_euclid(3600)).any(|h| lasting(s, h, sign) > s.nothing(8.0, 4.0)))
}

/// Whether snow may have lain: air, or soil where no air is measured, whose mean of a day was near freezing.
fn snow(scene: &Scene<'_>, from: i64, to: i64) -> bool {
    // A frosty night brings no snow that lasts; a day that stays cold may.
    let cold = |of: &Screened<'_>| {
        ((from - SNOW).div_euclid(SpanSeconds::DAY.0)..=to.div_euclid(SpanSeconds::DAY.0))
            .any(|day| of.hours().mean(day * 24, day * 24 + 24, 12).is_some_and(|mean| mean < SNOW_C))
    };
    let air = |s: &&Screened<'_>| matches!(s.channel.quantity, Quantity::AirTemperature | Quantity::BareAirTemperature);
    let mut airs = scene.all.iter().filter(air).peekable();
    if airs.peek().is_some() {
        return airs.any(cold);
    }
    scene.all.iter().filter(|s| s.channel.quantity == Quantity::SoilTemperature).any(cold)
}

fn tell(
    scene: &Scene<'_>,
    own: &RiseSettings,
    (a, b): (i64, i64),
    rise: &[f64],
    (usual, sign): (f64, f64),
) -> Option<Flag> {
    let of = scene.of;
    let highest = rise.iter().copied().fold(0.0, f64::max);
    let (from, to) = ((a - BACK) * 3600, (b + LASTS) * 3600);
    let spoilt = |f: &Flag| {
        matches!(f.test, Test::Noise | Test::Spike | Test::Stuck | Test::Settling | Test::Visit | Test::SwappedPorts)
            && f.start.0 <= to
            && f.end.0 >= from
    };
    let at_work =
        scene.station.events.iter().any(|e| e.kind.is_at_work() && e.start.0 - 3600 <= to && e.end.0 + 3600 >= from);
    let melts = || thaws(scene, from, to) || (snow(scene, from, to) && !alone(scene, from, to));
    if scene.found.iter().any(spoilt) || at_work || (!stays_cold(scene, from, to) && melts()) {
        return None;
    }
    // From where it leaves its lowest to where it has all but reached its height.
    let view = of.between(from, to);
    let level = |v: f64| v * sign;
    let lowest = view.values.iter().copied().map(level).enumerate().min_by(|x, y| x.1.total_cmp(&y.1))?;
    let peak = view.values[lowest.0..].iter().copied().map(level).fold(f64::NEG_INFINITY, f64::max);
    let leaves = (lowest.0..view.values.len()).find(|i| level(view.values[*i]) > lowest.1 + 0.1 * (peak - lowest.1))?;
    let reaches = (leaves..view.values.len()).find(|i| level(view.values[*i]) > lowest.1 + 0.95 * (peak - lowest.1))?;
    let span = (view.times[leaves], view.times[reaches.max(leaves)]);
    let depth = depth_by_heat(of, scene.found).unwrap_or(0.0);
    let dry_for = (own.dry_hours * 3600.0) as i64 + front_takes(depth).min(3 * SpanSeconds::DAY.0);
    let dry = scene.water.dry_before(span.0).is_some_and(|long| long >= dry_for - BACK * 3600);
    if !dry || (span.1 - span.0) as f64 > own.hours * 3600.0 {
        return None;
    }
    let reason = format!(
        "Rises by {} in {} and stays; {}. In dry weather this record rises by {} at most.",
        written(of.channel.quantity, highest),
        SpanSeconds((span.1 - span.0).max(of.interval)).in_words(),
        scene.water.dryness(span.0),
        written(of.channel.quantity, usual),
    );
    let evidence = Evidence::RiseWithoutWater(RiseEvidence { rise: highest.into(), usual: usual.into() });
    let strength = highest / of.nothing(1.0, 0.3).max(f64::MIN_POSITIVE);
    Some(Flag::new(DEFINITION.grade, span, reaches - leaves + 1, strength, evidence, reason))
}
