//! Water content that follows the probe's own temperature.

use super::definition::settings;
use super::scene::Scene;
use super::screened::Screened;
use super::{Definition, Evidence, Flag, Test, WiggleEvidence};
use crate::statistics::median;
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When temperature shows in water content.
    WiggleSettings {
        /// So much water content for each kelvin is worth telling.
        per_k: 0.0005 in 0.00001..=0.1 "m³/m³/K",
        /// How well the days of a month agree in phase, 0 to 1.
        agreement: 0.75 in 0.3..=1.0 "",
        /// Water and temperature peak within this of each other, or of the opposite.
        degrees: 25.0 in 5.0..=90.0 "°",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Daily wiggle",
    mark: "W",
    grade: Grade::Doubtful,
    finds: "Water content that goes with its probe's temperature day by day, by as much for each kelvin in all seasons: the instrument, not \
            the soil. Roots draw water by day with a lag and in their season only, and are let pass.",
    settings: WiggleSettings::LIST,
};

/// Days of one verdict.
const WINDOW: i64 = 30;
/// Fewer dry unfrozen days in it tell nothing.
const LEAST_DAYS: usize = 8;
/// Temperature must swing by this, K, for an answer to show.
const LEAST_K: f64 = 0.4;
/// An effect against temperature must be seen over so many days.
const SEASONS: i64 = 150;
/// Fewer windows are no habit.
const LEAST_WINDOWS: usize = 2;

/// What 30 days tell.
struct Month {
    from: i64,
    to: i64,
    days: usize,
    /// m³/m³ per K, in phase with temperature; negative: against it.
    per_k: f64,
    agreement: f64,
    follows: bool,
}

/// Months in which the daily wave of water content stands in one ratio to that of the same port's temperature, in phase or against it.
///
/// The ratio of the two waves is a complex number for each dry, unfrozen day; a temperature effect of the electronics has the same one
/// in all of them. Medians over 30 days, and the mean resultant of its phase.
pub(super) fn wiggles(scene: &Scene<'_>, own: &WiggleSettings) -> Vec<Flag> {
    let of = scene.of;
    if of.channel.quantity != Quantity::WaterContent {
        return Vec::new();
    }
    let (Some(heat), Some(noise)) = (thermometer(scene), of.noise) else { return Vec::new() };
    // A harmonic over 48 hourly means averages noise and rounding by √24.
    let floor = (2.0 * noise.sigma / 24f64.sqrt()).max(0.25 * noise.resolution);
    let days = of.hours().days();
    let mut months: Vec<Month> = Vec::new();
    let mut from = days.start;
    while from < days.end {
        months.extend(month(scene, own, heat, (from, (from + WINDOW).min(days.end)), floor));
        from += WINDOW;
    }
    verdict(scene, own, &months)
}

/// The thermometer of the same probe, else one at its depth.
fn thermometer<'s>(scene: &Scene<'s>) -> Option<&'s Screened<'s>> {
    let of = scene.of.channel;
    let heat = || scene.all.iter().filter(|s| s.channel.quantity == Quantity::SoilTemperature);
    let same_port = heat().find(|s| !of.port.is_empty() && s.channel.port == of.port && s.channel.node == of.node);
    let near = |s: &&Screened<'_>| s.channel.depth_cm.zip(of.depth_cm).is_some_and(|(a, b)| (a - b).abs() <= 1.0);
    same_port.or_else(|| heat().find(near))
}

fn month(
    scene: &Scene<'_>,
    own: &WiggleSettings,
    heat: &Screened<'_>,
    (from, to): (i64, i64),
    floor: f64,
) -> Option<Month> {
    let (mut real, mut imaginary, mut swings) = (Vec::new(), Vec::new(), Vec::new());
    let mut phase = (0.0, 0.0);
    for day in from..to {
        let Some((water, heat_wave)) = scene.of.wave(day).zip(heat.wave(day)) else { continue };
        let noon = day * SpanSeconds::DAY.0 + SpanSeconds::DAY.0 / 2;
        let (a, b) = (noon - 2 * SpanSeconds::DAY.0, noon + SpanSeconds::DAY.0);
        let frozen = |f: &Flag| f.test == Test::Frozen && f.start.0 <= b && f.end.0 >= a;
        let rained = scene.water.rain(a, b).mm() > 0.5 || scene.water.watered(a, b);
        let swing = heat_wave.amplitude();
        if rained || swing < LEAST_K || scene.found.iter().any(frozen) {
            continue;
        }
        let (x, y) = water.over(heat_wave);
        let size = x.hypot(y);
        real.push(x);
        imaginary.push(y);
        swings.push(swing);
        phase = (phase.0 + x / size.max(1e-12), phase.1 + y / size.max(1e-12));
    }
    let days = real.len();
    if days < LEAST_DAYS {
        return None;
    }
    let (x, y, swing) = (median(&mut real)?, median(&mut imaginary)?, median(&mut swings)?);
    let agreement = phase.0.hypot(phase.1) / days as f64;
    let size = x.hypot(y);
    let off = y.abs().atan2(x.abs()).to_degrees();
    let strict = if x > 0.0 { (own.agreement, own.degrees) } else { (own.agreement.max(0.9), 0.6 * own.degrees) };
    let follows = agreement >= strict.0 && size >= own.per_k && off <= strict.1 && size * swing >= floor;
    Some(Month { from, to, days, per_k: x, agreement, follows })
}

/// The months of one sign that make an effect of temperature, with their size; nothing if they do not.
///
/// Soil itself goes against temperature by day: roots draw, and the evening brings water back. So an effect against it must be the same in
/// all seasons and in the very phase, while one with it is the instrument wherever it shows.
fn habit<'m>(months: &'m [Month], own: &WiggleSettings, with: bool) -> Option<(Vec<&'m Month>, f64)> {
    let follow: Vec<&Month> = months.iter().filter(|m| m.follows && (m.per_k > 0.0) == with).collect();
    let (first, last) = (follow.first()?, follow.last()?);
    let mut sizes: Vec<f64> = follow.iter().map(|m| m.per_k.abs()).collect();
    let size = median(&mut sizes)?;
    let alike = if with { 2.0 } else { 1.4 };
    let even = follow.iter().filter(|m| (1.0 / alike..=alike).contains(&(m.per_k.abs() / size))).count();
    let all_seasons = with || (last.to - first.from >= SEASONS && 10 * follow.len() >= 8 * months.len());
    let holds = follow.len() >= LEAST_WINDOWS && 10 * even >= 7 * follow.len() && size >= own.per_k && all_seasons;
    holds.then_some((follow, size))
}

fn verdict(scene: &Scene<'_>, own: &WiggleSettings, months: &[Month]) -> Vec<Flag> {
    let with = habit(months, own, true);
    let sign = if with.is_some() { 1.0 } else { -1.0 };
    let Some((follow, size)) = with.or_else(|| habit(months, own, false)) else { return Vec::new() };
    let (first, last) = (follow[0], follow[follow.len() - 1]);
    let within = months.iter().filter(|m| m.from >= first.from && m.to <= last.to).count();
    let days: usize = follow.iter().map(|m| m.days).sum();
    let agreement = follow.iter().map(|m| m.agreement).sum::<f64>() / follow.len() as f64;
    let view = scene.of.between(first.from * SpanSeconds::DAY.0, last.to * SpanSeconds::DAY.0 - 1);
    let Some((start, end)) = view.times.first().zip(view.times.last()) else { return Vec::new() };
    let reason = format!(
        "Goes {} its temperature by {:.4}\u{a0}m³/m³ for each kelvin on {days} dry days, alike in {} of {within} months: the instrument feels the temperature, not the soil.",
        if sign > 0.0 { "with" } else { "against" },
        size,
        follow.len(),
    );
    let evidence = Evidence::DailyWiggle(WiggleEvidence {
        agreement: agreement.into(),
        days: days.into(),
        per_k: (size * sign).into(),
    });
    vec![Flag::new(DEFINITION.grade, (*start, *end), view.times.len(), size / own.per_k, evidence, reason)]
}
