//! A lasting jump with no water, at one probe.

use super::answer::wetness;
use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::screened::{Screened, neighbours};
use super::water::front_takes;
use super::{Definition, Event, Evidence, Flag, Noise, StepEvidence, Test};
use crate::statistics::{mad_sigma, median};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// What jumps and stays.
    StepSettings {
        /// A jump counts from this many standard deviations of the record's noise.
        sigmas: 9.6 in 3.0..=100_000.0 "σ",
        /// It also passes this many steps of the record's resolution.
        resolutions: 4.8 in 1.0..=1000.0 "steps",
        /// It also passes this many of the record's usual wiggles (97.5th percentile).
        wiggles: 3.6 in 1.0..=1000.0 "wiggles",
        /// So much water within the reach of a depth explains a rise.
        rain_mm: 0.5 in 0.0..=100.0 "mm",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Step",
    mark: "J",
    grade: Grade::Doubtful,
    finds: "A jump between two calm levels within one interval that lasts, where neither water, frost nor a neighbour explains it. \
            Only what lies in the soil is judged.",
    settings: StepSettings::LIST,
};

/// Readings on either side whose median is the level before and after.
const SIDE: usize = 8;
/// Readings after which the new level must still stand.
const LASTS: usize = 48;
/// Soil that a front wetted keeps less of it.
const DRAINS: f64 = 0.85;

/// Times around frost, at which a stuck probe comes back, and at which a clock was set: a jump there is the same fault.
fn explained(scene: &Scene<'_>) -> Vec<(i64, i64)> {
    let near = 2 * scene.of.interval;
    let around = |f: &Flag| match f.test {
        Test::Frozen => vec![(f.start.0 - SpanSeconds::DAY.0, f.end.0 + SpanSeconds::DAY.0)],
        Test::Stuck => vec![(f.start.0, f.end.0 + near)],
        // Where a clock was set, what was hours or days apart stands side by side.
        Test::Clock => vec![(f.start.0 - near, f.start.0 + near), (f.end.0 - near, f.end.0 + near)],
        _ => Vec::new(),
    };
    scene.found.iter().flat_map(around).collect()
}

/// Jumps within one interval between two calm levels that last, where neither water nor a neighbour explains them.
pub(super) fn steps(scene: &Scene<'_>, own: &StepSettings) -> Vec<Flag> {
    let of = scene.of;
    let Some(noise) = of.noise else { return Vec::new() };
    // Air jumps with every front, so only what lies in the soil can be judged by this test.
    if !of.channel.quantity.is_in_soil() {
        return Vec::new();
    }
    let (t, x) = (&of.times, &of.values);
    let threshold = noise.threshold(own.sigmas, own.resolutions, own.wiggles);
    let near = neighbours(of, scene.all);
    let explained = explained(scene);
    let mut flags = Vec::new();
    let mut i = SIDE;
    while i + SIDE <= x.len() {
        let jump = x[i] - x[i - 1];
        if jump.abs() <= 0.7 * threshold || t[i] - t[i - 1] > 2 * of.interval {
            i += 1;
            continue;
        }
        if let Some((before, after)) = levels(x, i, jump, threshold)
            && lasts(x, i, before, after) > least_left(scene, t[i], after - before)
            && !arrives(scene, own.rain_mm, t[i], after - before)
            && !explained.iter().any(|(from, to)| (*from..=*to).contains(&t[i]))
            && !shared(of, &near, t[i], after - before)
        {
            flags.push(flag(scene, &noise, i, (before, after)));
            i += SIDE;
        }
        i += 1;
    }
    flags
}

/// The calm levels before and after reading `i`, if the jump there makes up their difference.
fn levels(x: &[f64], i: usize, jump: f64, threshold: f64) -> Option<(f64, f64)> {
    let mut low = x[i - SIDE..i].to_vec();
    let mut high = x[i..i + SIDE].to_vec();
    let (before, after) = (median(&mut low)?, median(&mut high)?);
    let shift = after - before;
    let calm = mad_sigma(&mut low)?.max(mad_sigma(&mut high)?) < 0.15 * shift.abs();
    let at_once = jump * shift.signum() > 0.75 * shift.abs();
    (shift.abs() > threshold && calm && at_once).then_some((before, after))
}

/// What is left of a jump later, as a share of it.
fn lasts(x: &[f64], i: usize, before: f64, after: f64) -> f64 {
    let later = &x[(i + LASTS / 2).min(x.len() - 1)..(i + LASTS).min(x.len())];
    median(&mut later.to_vec()).map_or(1.0, |level| (level - before) / (after - before))
}

/// How much must be left of a jump. Where no gauge tells of rain, the uppermost probe may be the first that a front reaches: that drains at once.
fn least_left(scene: &Scene<'_>, t: i64, shift: f64) -> f64 {
    let of = scene.of;
    let first = |depth| !scene.all.iter().any(|s| is_above(s, of, depth));
    let may_be = wets(of, shift) && of.channel.depth_cm.is_some_and(first) && scene.water.dry_before(t).is_none();
    if may_be { DRAINS } else { 0.5 }
}

/// Whether a change in this direction makes soil wetter; a tension falls when water comes.
fn wets(of: &Screened<'_>, shift: f64) -> bool {
    of.channel.quantity.is_moisture() && shift * wetness(of.channel.quantity) > 0.0
}

/// Whether water explains a change in this direction. Rain is on its way to a depth only if a shallower
/// probe felt it: where all of them dry on, none has come so far.
fn arrives(scene: &Scene<'_>, needed_mm: f64, t: i64, shift: f64) -> bool {
    let of = scene.of;
    let Some(depth) = of.channel.depth_cm.filter(|_| wets(of, shift)) else { return false };
    if !scene.water.may_arrive(t, depth, needed_mm) {
        return false;
    }
    let mut above = scene.all.iter().filter(|s| is_above(s, of, depth)).peekable();
    above.peek().is_none() || above.any(|s| wetted(s, t - front_takes(depth), t + 2 * s.interval))
}

/// Whether a probe of the same kind lies above this one, a little more than by the depth of its own volume.
fn is_above(other: &Screened<'_>, of: &Screened<'_>, depth: f64) -> bool {
    other.channel.quantity == of.channel.quantity
        && other.noise.is_some()
        && other.channel.depth_cm.is_some_and(|d| d + 2.0 <= depth)
}

/// Whether a moisture probe got wetter between two times, beyond its noise.
fn wetted(of: &Screened<'_>, from: i64, to: i64) -> bool {
    let sign = wetness(of.channel.quantity);
    let view = of.between(from, to);
    let (mut lowest, mut rise) = (f64::INFINITY, 0.0f64);
    for v in view.values {
        lowest = lowest.min(v * sign);
        rise = rise.max(v * sign - lowest);
    }
    // Nobody can tell what a silent probe felt.
    view.values.is_empty() || rise > of.nothing(8.0, 4.0)
}

/// Whether a neighbour moves along within two intervals, the same way and far beyond what it does in any such time: then something happened
/// to the soil. Over hours every neighbour moves.
fn shared(of: &Screened<'_>, near: &[&Screened<'_>], t: i64, shift: f64) -> bool {
    near.iter().any(|n| moves_along(n, t, shift, of.channel.quantity))
}

fn moves_along(near: &Screened<'_>, t: i64, shift: f64, quantity: Quantity) -> bool {
    let Some(noise) = near.noise else { return false };
    // A tension and a content answer the same water in opposite ways.
    let opposite = (near.channel.quantity == Quantity::WaterTension) != (quantity == Quantity::WaterTension);
    let view = near.between(t - 3 * near.interval, t + 2 * near.interval);
    let at = view.times.partition_point(|s| *s < t);
    let (before, after) = view.values.split_at(at);
    let (Some(before), Some(after)) = (median(&mut before.to_vec()), median(&mut after.to_vec())) else { return false };
    let moved = if (shift > 0.0) == opposite { before - after } else { after - before };
    let least = (6.0 * noise.sigma).max(3.0 * noise.resolution).max(2.0 * noise.wiggle);
    let alike = near.channel.quantity != quantity || moved > 0.15 * shift.abs();
    moved > least && alike
}

fn flag(scene: &Scene<'_>, noise: &Noise, i: usize, levels: (f64, f64)) -> Flag {
    let of = scene.of;
    let t = of.times[i];
    let quantity = of.channel.quantity;
    let shift = levels.1 - levels.0;
    let verb = if shift > 0.0 { "Jumps up" } else { "Drops" };
    let mut reason = format!(
        "{verb} by {} within {} and stays",
        written(quantity, shift.abs()),
        SpanSeconds(of.interval).in_words()
    );
    if quantity.is_moisture() {
        reason.push_str(&format!("; {}", scene.water.dryness(t)));
    }
    let near = |e: &&Event| e.start.0 - 3600 <= t && t <= e.end.0 + 3600;
    let beside = scene.station.events.iter().filter(near).min_by_key(|e| ((e.start.0 - t).abs(), e.kind.code()));
    match beside {
        Some(event) => reason.push_str(&format!(". It falls together with {}.", event.kind.words())),
        None => reason.push_str(", and no neighbour moves."),
    }
    // The jump itself is flagged with the hours around it; what is true after it, a person decides.
    let last = (i + SIDE / 2).min(of.times.len() - 1);
    let evidence = StepEvidence { after: levels.1.into(), before: levels.0.into(), noise: noise.sigma.into() };
    let strength = shift.abs() / noise.sigma.max(f64::MIN_POSITIVE);
    Flag::new(DEFINITION.grade, (t, of.times[last]), last - i + 1, strength, Evidence::Step(evidence), reason)
}

#[cfg(test)]
mod tests {
    use super::super::testing::{check, check_all, moist};
    use super::*;
    use crate::series::Series;

    #[test]
    fn a_lasting_jump_without_water_is_a_step() {
        let mut s = moist(3000, 0.3);
        s.values[1200..].iter_mut().for_each(|v| *v -= 0.05);
        let flags = check(&s, None, Test::Step);
        assert_eq!(flags.iter().map(|f| f.start.0 / 900).collect::<Vec<_>>(), [1200]);
        assert!(flags[0].reason.starts_with("Drops by 0.05"), "{}", flags[0].reason);
    }

    #[test]
    fn a_front_after_rain_is_no_step_even_within_one_interval() {
        let mut s = moist(3000, 0.2);
        s.values[1200..].iter_mut().for_each(|v| *v += 0.12);
        let rain = Series { times: vec![1196 * 900].into(), values: vec![9.0] };
        assert_eq!(check(&s, Some(&rain), Test::Step), []);
        assert_eq!(check(&s, None, Test::Step).len(), 1, "the same jump out of a blue sky is one");
    }

    #[test]
    fn a_neighbour_that_dries_explains_no_drop() {
        let mut s = moist(3000, 0.3);
        s.values[1200..].iter_mut().for_each(|v| *v -= 0.05);
        let mut deeper = moist(3000, 0.3);
        deeper.values.iter_mut().enumerate().for_each(|(i, v)| *v -= 1e-4 * i as f64);
        let flags = check_all(&[(&s, 5.0), (&deeper, 15.0)], None);
        assert_eq!(flags[0].iter().filter(|f| f.test == Test::Step).count(), 1);
    }

    #[test]
    fn what_the_neighbour_shares_is_no_step() {
        let mut s = moist(3000, 0.2);
        s.values[1200..].iter_mut().for_each(|v| *v += 0.12);
        let mut deeper = moist(3000, 0.3);
        deeper.values[1201..].iter_mut().for_each(|v| *v += 0.04);
        let flags = check_all(&[(&s, 5.0), (&deeper, 15.0)], None);
        assert!(flags[0].iter().all(|f| f.test != Test::Step));
    }
}
