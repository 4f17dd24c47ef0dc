//! No change while noise and neighbours move.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::screened::{Screened, neighbours};
use super::{Definition, Evidence, Flag, StuckEvidence};
use crate::series::View;
use crate::statistics::quantile;
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// What stands still.
    StuckSettings {
        /// The shortest time without change that can be called stuck.
        hours: 3.0 in 0.25..=2400.0 "h",
        /// The chance that readings which repeat themselves as often as this record's do stand still so long.
        chance: 1e-9 in 1e-30..=0.5 "",
        /// Stretches of the length of a standstill usually move further than this many steps of the record's resolution.
        steps: 2.5 in 0.5..=1000.0 "steps",
        /// The same for moisture, as a share of it: moisture is calm for longer, and jumps.
        moisture_share: 0.6 in 0.01..=10.0 "",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Stuck",
    mark: "K",
    grade: Grade::Wrong,
    finds: "One value for longer than this record ever stands still, while its noise and its neighbours go on. Saturated air, soil \
            at its freezing point and calm deep probes are let pass.",
    settings: StuckSettings::LIST,
};

/// Places at which a record's habit is looked up.
const PLACES: usize = 200;
/// The habit around a run is that of this long on either side, or of three times the run.
const AROUND: i64 = 20 * SpanSeconds::DAY.0;
/// Fewer places than this tell no habit of a season; that of the whole record stands in.
const FEW_PLACES: usize = 8;
/// Places at which a probe and its neighbour are compared, to learn how far both usually move.
const COMPARED: i64 = 60;
/// Readings by which a run must at least be told.
const LEAST: usize = 5;
/// A record whose noise passes this share of its step shows it at every reading; without it, the probe is dead.
const FINE: f64 = 1.2;
/// Soil this near to 0 °C by its thermometer, with what that may err by, stands still by nature while it freezes or thaws, K.
const ZERO_CURTAIN_K: f64 = 0.6;
/// Air this full of water stays so for days, %.
const SATURATED_PCT: f64 = 99.0;

/// A neighbour that may show that the soil moved meanwhile.
struct Witness<'a> {
    name: &'a str,
    quantity: Quantity,
    moved: f64,
}

/// Runs of one value (or of two that lie one step apart) in records that hardly ever stand so still.
///
/// A run counts if three quarters of all stretches of its length move further than `steps` steps, in the whole record
/// and in the season around it. A record finer than its noise needs no more; a coarse or calm one also needs a neighbour
/// that moved so far that this depth would have shown it, by how both usually move.
pub(super) fn stuck(scene: &Scene<'_>, own: &StuckSettings) -> Vec<Flag> {
    let of = scene.of;
    let Some(noise) = of.noise else { return Vec::new() };
    if !may_stick(of.channel.quantity) {
        return Vec::new();
    }
    let by_time = (own.hours * 3600.0 / of.interval as f64).ceil() as usize;
    let moisture = if of.channel.quantity.is_moisture() { own.moisture_share } else { 1.0 };
    let moves = (own.steps * moisture * noise.resolution).max(f64::MIN_POSITIVE);
    let Some(repeats) = usual_repeats(&[&of.values]) else { return Vec::new() };
    let by_chance = |repeats: f64| (own.chance.ln() / repeats.ln()).ceil() as usize;
    let by_habit = least_length(of.view(), by_time.max(by_chance(repeats)).max(LEAST), of.interval, moves);
    let Some(least) = by_habit else { return Vec::new() };
    let fine = noise.sigma > FINE * noise.resolution;
    let near = neighbours(of, scene.all);
    let mut flags = Vec::new();
    for (a, b) in still(of, noise.resolution, least) {
        let (n, x) = (b - a + 1, of.values[a]);
        let curtain = of.channel.quantity == Quantity::SoilTemperature && x.abs() <= ZERO_CURTAIN_K;
        let saturated = is_humidity(of.channel.quantity) && x >= SATURATED_PCT;
        if curtain || saturated || habit(of.view(), (a, b), of.interval, None) <= moves {
            continue;
        }
        let season = AROUND.max(3 * (of.times[b] - of.times[a]));
        // A calm season, or a level in the middle of a step, repeats itself more often than the record does.
        let (from, to) = (
            of.times.partition_point(|t| *t < of.times[a] - season),
            of.times.partition_point(|t| *t <= of.times[b] + season),
        );
        if usual_repeats(&[&of.values[from..a], &of.values[b + 1..to]]).is_some_and(|here| n < by_chance(here)) {
            continue;
        }
        if habit(of.view(), (a, b), of.interval, Some(season)) <= moves {
            continue;
        }
        let witness = near.iter().find_map(|other| witness(of, other, (a, b), moves));
        if fine || near.is_empty() || witness.is_some() {
            flags.push(flag(of, (a, b), noise.sigma, n, witness.as_ref()));
        }
    }
    flags
}

/// Whether standing still says anything: sums rest at 0, a radio reports few values, a battery is held at its charging
/// voltage, and a tight box keeps its humidity.
fn may_stick(quantity: Quantity) -> bool {
    match quantity {
        Quantity::Rain
        | Quantity::Irrigation
        | Quantity::SignalStrength
        | Quantity::BatteryVoltage
        | Quantity::EnclosureHumidity => false,
        Quantity::WaterContent
        | Quantity::WaterTension
        | Quantity::SoilTemperature
        | Quantity::AirTemperature
        | Quantity::BareAirTemperature
        | Quantity::RelativeHumidity
        | Quantity::ElectricalConductivity
        | Quantity::PanelTemperature
        | Quantity::RawOutput => true,
    }
}

fn is_humidity(quantity: Quantity) -> bool {
    quantity == Quantity::RelativeHumidity
}

/// How often a reading equals the one before it in the calmer days of some stretches (90th percentile of blocks of a hundred, so that a
/// fault over a part of a short record does not hide itself).
fn usual_repeats(stretches: &[&[f64]]) -> Option<f64> {
    const BLOCK: usize = 100;
    let mut shares: Vec<f64> = (stretches.iter().flat_map(|x| x.chunks(BLOCK)))
        .filter(|c| c.len() > 40)
        .map(|c| c.windows(2).filter(|w| w[0] == w[1]).count() as f64 / (c.len() - 1) as f64)
        .filter(|share| *share < 1.0)
        .collect();
    quantile(&mut shares, 0.9).map(|share| share.clamp(0.01, 0.9995))
}

/// Stretches of at least `least` readings that stay within one step and nearly all at one value, without a silence.
fn still(of: &Screened<'_>, step: f64, least: usize) -> Vec<(usize, usize)> {
    let (t, x) = (&of.times, &of.values);
    let mut found = Vec::new();
    let (mut start, mut low, mut high) = (0, f64::INFINITY, f64::NEG_INFINITY);
    for i in 0..=x.len() {
        if i < x.len() {
            let (l, h) = (low.min(x[i]), high.max(x[i]));
            let goes_on = i == start || t[i] - t[i - 1] <= 3 * of.interval;
            // Rounding of a decimal step must not end a run.
            if goes_on && h - l <= step * 1.01 + 1e-9 * h.abs().max(1e-9) {
                (low, high) = (l, h);
                continue;
            }
        }
        if i > start && i - start >= least && nearly_one(&x[start..i]) {
            found.push((start, i - 1));
        }
        if i < x.len() {
            (start, low, high) = (i, x[i], x[i]);
        }
    }
    found
}

/// Whether nine in ten readings are the same: a last bit may flutter, a noisy record between two values is alive.
fn nearly_one(stretch: &[f64]) -> bool {
    let mut sorted = stretch.to_vec();
    let Some(usual) = quantile(&mut sorted, 0.5) else { return false };
    10 * stretch.iter().filter(|v| **v == usual).count() >= 9 * stretch.len()
}

/// The 25th percentile of how far the record moves over stretches as long as `run`, in all of it or within `around` seconds
/// on either side; stretches that touch the run do not count.
fn habit(view: View<'_>, (a, b): (usize, usize), interval: i64, around: Option<i64>) -> f64 {
    let n = b - a + 1;
    let (from, to) = match around {
        None => (0, view.times.len()),
        Some(seconds) => (
            view.times.partition_point(|t| *t < view.times[a] - seconds),
            view.times.partition_point(|t| *t <= view.times[b] + seconds),
        ),
    };
    let mut ranges = moved_over(view, n, interval, (from, to), |start| start > b || start + n <= a);
    if ranges.len() < FEW_PLACES {
        // A short record tells nothing of seasons, and is judged by the other rules alone.
        return if around.is_some() { f64::INFINITY } else { 0.0 };
    }
    quantile(&mut ranges, 0.25).unwrap_or(0.0)
}

/// How far the record moves over stretches of `n` readings without a silence, at up to [`PLACES`] places between two indices.
fn moved_over(
    view: View<'_>,
    n: usize,
    interval: i64,
    (from, to): (usize, usize),
    takes: impl Fn(usize) -> bool,
) -> Vec<f64> {
    let Some(last) = to.checked_sub(n).filter(|last| *last >= from) else { return Vec::new() };
    let stride = ((last - from) / PLACES).max(1);
    let whole = |start: &usize| view.times[start + n - 1] - view.times[*start] <= (n as i64 + n as i64 / 5) * interval;
    let range = |start: usize| {
        let stretch = &view.values[start..start + n];
        let (low, high) = stretch.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), v| (l.min(*v), h.max(*v)));
        high - low
    };
    (from..=last).step_by(stride).filter(|s| takes(*s)).filter(whole).map(range).collect()
}

/// The shortest length, from `least` on by doublings, over which the record usually moves further than `moves`.
fn least_length(view: View<'_>, least: usize, interval: i64, moves: f64) -> Option<usize> {
    let lengths = std::iter::successors(Some(least), |n| n.checked_mul(2)).take_while(|n| *n <= view.times.len());
    let mut before = least;
    for n in lengths {
        let mut ranges = moved_over(view, n, interval, (0, view.times.len()), |_| true);
        if quantile(&mut ranges, 0.25).is_some_and(|q| q > moves) {
            // Half of it may do already; each run is looked at by its own length.
            return Some(before.max(least));
        }
        before = n;
    }
    None
}

/// A neighbour whose movement during the run would have shown here: damped by how far both usually move.
fn witness<'a>(of: &Screened<'_>, other: &Screened<'a>, (a, b): (usize, usize), moves: f64) -> Option<Witness<'a>> {
    let noise = other.noise?;
    let (from, to) = (of.times[a], of.times[b]);
    let smooth = to - from >= 2 * SpanSeconds::DAY.0;
    let moved = spread(other.view(), from, to, smooth)?;
    if moved <= (8.0 * noise.sigma).max(4.0 * noise.resolution) {
        return None;
    }
    let long = to - from;
    let (first, last) = (*of.times.first()?, *of.times.last()?);
    let places = (0..COMPARED).map(|i| first + (last - first - long) * i / COMPARED);
    let apart = places.filter(|start| *start > to || start + long < from);
    let mut shares: Vec<f64> = apart
        .filter_map(|start| {
            let there = spread(other.view(), start, start + long, smooth)?;
            Some(spread(of.view(), start, start + long, smooth)? / there).filter(|s| s.is_finite())
        })
        .collect();
    let usual = if shares.len() < FEW_PLACES { 0.0 } else { quantile(&mut shares, 0.25)? };
    // Over days a shallower neighbour follows the weather and a deep probe the season: twice as much must have been due.
    let due = if smooth { 2.0 * moves } else { moves };
    (usual * moved > due).then_some(Witness { name: other.channel.name, quantity: other.channel.quantity, moved })
}

/// Spread of the middle 96 % of the readings between two times (one spike must not testify), or of their daily means.
fn spread(view: View<'_>, from: i64, to: i64, daily: bool) -> Option<f64> {
    let (a, b) = (view.times.partition_point(|t| *t < from), view.times.partition_point(|t| *t <= to));
    let values = &view.values[a..b.max(a)];
    let mut values = if daily {
        let days = ((to - from) / SpanSeconds::DAY.0).max(1) as usize;
        let per_day = (values.len() / days).max(1);
        values
            .chunks(per_day)
            .filter(|c| 2 * c.len() > per_day)
            .map(|c| c.iter().sum::<f64>() / c.len() as f64)
            .collect()
    } else {
        values.to_vec()
    };
    Some(quantile(&mut values, 0.98)? - quantile(&mut values, 0.02)?)
}

fn flag(of: &Screened<'_>, (a, b): (usize, usize), sigma: f64, n: usize, witness: Option<&Witness<'_>>) -> Flag {
    let quantity = of.channel.quantity;
    let long = SpanSeconds(of.times[b] - of.times[a]).in_words();
    let mut reason = format!("{n} readings hold {} for {long}", written(quantity, of.values[a]));
    if let Some(w) = witness {
        reason.push_str(&format!(" while {} moved by {}", w.name, written(w.quantity, w.moved)));
    }
    reason.push_str(&format!("; its own noise is {sigma:.0$}.", quantity.decimals() + 1));
    let evidence = StuckEvidence {
        neighbour_moved: witness.map(|w| w.moved.into()),
        noise: sigma.into(),
        readings: n.into(),
        value: of.values[a].into(),
    };
    Flag::new(DEFINITION.grade, (of.times[a], of.times[b]), n, n as f64, Evidence::Stuck(evidence), reason)
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, check, check_all, flags_of, found, moist, noisy, series};
    use super::super::{Channel, Test};
    use super::*;
    use crate::series::Series;

    #[test]
    fn a_lively_probe_that_stands_still_is_stuck() {
        let mut s = moist(3000, 0.3);
        s.values[1000..1280].fill(0.287);
        let flags = check(&s, None, Test::Stuck);
        assert_eq!(flags.iter().map(|f| (f.start.0 / 900, f.readings)).collect::<Vec<_>>(), [(1000, 280)]);
        assert!(flags[0].reason.starts_with("280 readings hold 0.287"), "{}", flags[0].reason);
        // A converter's last bit may still flutter.
        for i in (1000..1280).step_by(11) {
            s.values[i] = 0.2871;
        }
        assert_eq!(check(&s, None, Test::Stuck).len(), 1);
    }

    #[test]
    fn a_season_in_which_the_level_rests_in_the_middle_of_a_step_is_calm_and_not_stuck() {
        // The same noise all the time: on the edge of a step it shows at every other reading, in the middle of one hardly ever.
        let level = |i: i64| if (4000..5500).contains(&i) { 0.3 } else { 0.2995 + 0.004 * (i as f64 / 40.0).sin() };
        let s = series(9000, |i| ((level(i) + 3.0e-4 * noisy(i)) * 1e3).round() / 1e3);
        assert_eq!(check(&s, None, Test::Stuck), []);
        let mut dead = s;
        dead.values[1000..1400].fill(0.3);
        assert_eq!(check(&dead, None, Test::Stuck).len(), 1, "among lively weeks it is");
    }

    #[test]
    fn a_calm_deep_probe_is_not_stuck() {
        let calm = Series {
            times: (0..4000).map(|i| i * 900).collect(),
            values: (0..4000).map(|i| 0.36 + 0.001 * f64::from(i / 150)).collect(),
        };
        assert_eq!(check(&calm, None, Test::Stuck), []);
        let lively = moist(4000, 0.2);
        let flags = check_all(&[(&calm, 60.0), (&lively, 5.0)], None);
        assert!(flags[0].iter().all(|f| f.test != Test::Stuck), "{:?}", flags[0]);
    }

    fn of(s: &Series, quantity: Quantity, depth_cm: Option<f64>) -> Vec<(i64, usize)> {
        let flags = found(&Channel { quantity, depth_cm, ..channel(s) }, Test::Stuck);
        flags.iter().map(|f| (f.start.0 / 900, f.readings)).collect()
    }

    #[test]
    fn what_saturates_freezes_or_turns_with_the_season_stands_still_by_nature() {
        let humid = series(4000, |i| (80.0 + 30.0 * (i as f64 / 15.3).sin() + noisy(i)).min(100.0).round());
        assert_eq!(of(&humid, Quantity::RelativeHumidity, None), []);
        let curtain = series(6000, |i| ((i as f64 - 3000.0).abs() / 200.0 - 3.0).max(0.0) + 0.02 * noisy(i).round());
        assert_eq!(of(&curtain, Quantity::SoilTemperature, Some(5.0)), []);
        let deep = series(35_000, |i| {
            ((12.0 + 5.0 * (i as f64 * std::f64::consts::TAU / 35_040.0).sin()) * 10.0).round() / 10.0
        });
        let shallow = series(35_000, |i| {
            let year = (i as f64 * std::f64::consts::TAU / 35_040.0 + 0.5).sin();
            ((12.0 + 9.0 * year + 4.0 * (i as f64 / 15.28).sin()) * 10.0).round() / 10.0
        });
        let thermometer =
            |s, depth| Channel { quantity: Quantity::SoilTemperature, depth_cm: Some(depth), ..channel(s) };
        let flags = flags_of(&[thermometer(&shallow, 5.0), thermometer(&deep, 100.0)]);
        assert!(flags.iter().flatten().all(|f| f.test != Test::Stuck), "{flags:?}");
        let mut dead = deep.clone();
        dead.values[20_000..27_000].fill(11.0);
        let flags = flags_of(&[thermometer(&shallow, 5.0), thermometer(&dead, 100.0)]);
        let found = flags[1].iter().filter(|f| f.test == Test::Stuck).count();
        assert_eq!(found, 1, "ten weeks at one value while the year went on: {:?}", flags[1]);
    }
}
