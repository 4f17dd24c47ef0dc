//! One or a few readings away and back.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::{Definition, Event, Evidence, Flag, Noise, SpikeEvidence};
use crate::statistics::{median, quantile};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// What is away and back.
    SpikeSettings {
        /// A departure counts from this many standard deviations of the record's noise.
        sigmas: 8.0 in 3.0..=100_000.0 "σ",
        /// It also passes this many steps of the record's resolution.
        resolutions: 4.0 in 1.0..=1000.0 "steps",
        /// It also passes this many of the record's usual wiggles (97.5th percentile).
        wiggles: 3.0 in 1.0..=1000.0 "wiggles",
        /// The longest departure that is still a spike.
        readings: 4.0 in 1.0..=8.0 "readings",
        /// So much water within the reach of a depth explains a rise.
        rain_mm: 0.5 in 0.0..=100.0 "mm",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Spike",
    mark: "S",
    grade: Grade::Wrong,
    finds: "One or a few readings that leave the record's level and come back to it. A wetting front rises as fast but does not \
            come back, and is let pass.",
    settings: SpikeSettings::LIST,
};

/// A departure that was found: indices, and how far it stands off its surroundings.
#[derive(Debug, Clone, Copy)]
struct Departure {
    first: usize,
    last: usize,
    height: f64,
}

/// A departure of air temperature must be this much larger than one in the soil to count.
const AIR_IS_RESTLESS: f64 = 2.0;
/// How near to the level before, as a share of its height, a rise must come back within an interval or two to be no front: soil drains slower.
/// While rain falls a sandy topsoil fills and empties with it.
fn back(scene: &Scene<'_>, t: i64) -> f64 {
    let falls = scene.water.rain(t - 3600, t + scene.of.interval).mm() >= FALLS_MM;
    if falls { 0.03 } else { 0.2 }
}

/// Rain falls if there was so much in the hour before, mm.
const FALLS_MM: f64 = 0.4;
/// Readings on either side that say what is usual.
const SIDE: usize = 3;
/// Readings on either side that say how restless the record is just here.
const AROUND: usize = 16;

/// Departures of up to `readings` readings that come back to where they left.
///
/// A wetting front rises as fast but does not come back; one that falls back as fast while rain explains it is
/// granted unless it returns to the very level it left.
pub(super) fn spikes(scene: &Scene<'_>, own: &SpikeSettings) -> Vec<Flag> {
    let of = scene.of;
    let Some(noise) = of.noise else { return Vec::new() };
    if of.channel.quantity.is_sum() {
        return Vec::new();
    }
    // Who opens the box lets its air out, and works on its battery.
    let inside = matches!(
        of.channel.quantity,
        Quantity::EnclosureHumidity | Quantity::PanelTemperature | Quantity::BatteryVoltage | Quantity::SignalStrength
    );
    let opened = |t: i64| {
        let near = |e: &Event| e.kind.is_at_work() && e.start.0 - 3600 <= t && t <= e.end.0 + 3600;
        inside && scene.station.events.iter().any(near)
    };
    let x = &of.values;
    // Gusts, clouds and showers move the air as no soil moves.
    let calm = if of.channel.quantity.is_in_soil() { 1.0 } else { AIR_IS_RESTLESS };
    let threshold = calm * noise.threshold(own.sigmas, own.resolutions, own.wiggles);
    let mut found: Vec<Departure> = Vec::new();
    let mut i = 1;
    while i + 1 < x.len() {
        let away = (x[i] - x[i - 1]).abs();
        if away > 0.5 * threshold
            && !opened(of.times[i])
            && let Some(d) = departure(scene, own, &noise, i, threshold)
        {
            i = d.last + 1;
            found.push(d);
            continue;
        }
        i += 1;
    }
    // A loose plug makes many: they are one thing to decide on.
    let near = (2 * 3600 / of.interval) as usize;
    found.chunk_by(|a, b| b.first - a.last <= near).map(|group| flag(scene, &noise, group)).collect()
}

fn departure(scene: &Scene<'_>, own: &SpikeSettings, noise: &Noise, i: usize, threshold: f64) -> Option<Departure> {
    let of = scene.of;
    let (t, x) = (&of.times, &of.values);
    let before = level(&x[i.saturating_sub(SIDE)..i])?;
    for long in 1..=own.readings as usize {
        let next = i + long;
        if next >= x.len() {
            return None;
        }
        let after = level(&x[next..(next + SIDE).min(x.len())])?;
        let base = before.midpoint(after);
        let block = &x[i..next];
        let height = level(block)? - base;
        let returns = (after - before).abs() < 0.3 * height.abs();
        let whole = block.iter().all(|v| (v - base) * height.signum() > 0.5 * height.abs());
        let edges = (x[i] - x[i - 1]) * height.signum() > 0.6 * height.abs()
            && (x[next - 1] - x[next]) * height.signum() > 0.6 * height.abs();
        if !(returns && whole && edges) {
            continue;
        }
        // Time must run on evenly: a silence may hide the way there or back.
        let span = t[next] - t[i - 1];
        if span > (long as i64 + 2) * of.interval {
            continue;
        }
        let moist = of.channel.quantity.is_moisture();
        let wets = moist && of.channel.depth_cm.is_some_and(|d| scene.water.may_arrive(t[i], d, own.rain_mm));
        // Between two showers a sandy topsoil drains: what looks like a dip are two fronts.
        let between = wets && height < 0.0 && fronts(x, i, next, height);
        let explained = between
            || wets
                && height > 0.0
                && ((after - before).abs() > back(scene, t[i]) * height.abs()
                    || long > 2
                    || fills(scene, t[i], height));
        if !explained && height.abs() > threshold.max(own.sigmas * restless(x, i, next, noise)) {
            return Some(Departure { first: i, last: next - 1, height });
        }
    }
    None
}

/// Whether the rain of the last hour suffices for a rise that drains at once: so much water, in the soil down to the probe.
fn fills(scene: &Scene<'_>, t: i64, height: f64) -> bool {
    let mm = scene.water.rain(t - 3600, t + scene.of.interval).mm();
    scene.of.channel.depth_cm.is_some_and(|cm| height <= mm / (10.0 * cm.max(1.0)))
}

/// Whether a dip lies between two rises that are as sudden as itself, within an hour or two on either side.
fn fronts(x: &[f64], first: usize, next: usize, height: f64) -> bool {
    let rise = |of: &[f64]| of.windows(2).any(|w| w[1] - w[0] > 0.3 * height.abs());
    rise(&x[first.saturating_sub(2 * SIDE)..first])
        && (x[(next + SIDE).min(x.len() - 1)] - x[next]).abs() > 0.1 * height.abs()
}

/// Standard deviation of the fast noise around a candidate, which is left out itself.
fn restless(x: &[f64], first: usize, next: usize, noise: &Noise) -> f64 {
    let before = x[first.saturating_sub(AROUND)..first].windows(2);
    let after = x[next..(next + AROUND).min(x.len())].windows(2);
    let mut steps: Vec<f64> = before.chain(after).map(|w| (w[1] - w[0]).abs()).collect();
    // The lower quartile, scaled for a normal difference: where a plug is loose most steps are faults themselves.
    const QUARTILE_TO_SIGMA: f64 = 0.318_639_363_964_375;
    let local = quantile(&mut steps, 0.25).unwrap_or(0.0) / (QUARTILE_TO_SIGMA * 2f64.sqrt());
    noise.sigma.max(local)
}

fn level(values: &[f64]) -> Option<f64> {
    let mut few = [0.0; 8];
    let n = values.len().min(few.len());
    few[..n].copy_from_slice(&values[..n]);
    median(&mut few[..n])
}

fn flag(scene: &Scene<'_>, noise: &Noise, group: &[Departure]) -> Flag {
    let of = scene.of;
    let quantity = of.channel.quantity;
    let readings: usize = group.iter().map(|d| d.last - d.first + 1).sum();
    let tallest = group.iter().fold(0.0f64, |h, d| if d.height.abs() > h.abs() { d.height } else { h });
    let (start, end) = (of.times[group[0].first], of.times[group[group.len() - 1].last]);
    let sign = if tallest > 0.0 { "+" } else { "" };
    let height = format!("{sign}{}", written(quantity, tallest));
    let mut reason = if let [one] = group {
        let there = SpanSeconds(of.times[one.first] - of.times[one.first - 1]).in_words();
        let back = of.times.get(one.last + 1).map_or(0, |t| t - of.times[one.last]);
        format!("{height} in {there}, back in {}", SpanSeconds(back).in_words())
    } else {
        format!(
            "{} departures of {readings} readings within {}, up to {height}",
            group.len(),
            SpanSeconds(end - start).in_words()
        )
    };
    if quantity.is_moisture() && tallest > 0.0 {
        reason.push_str(&format!("; {}", scene.water.dryness(start)));
    }
    reason.push_str(&format!("; its noise is {:.1$}.", noise.sigma, quantity.decimals() + 1));
    let evidence = SpikeEvidence {
        departures: group.len().into(),
        height: tallest.into(),
        noise: noise.sigma.into(),
        readings: readings.into(),
    };
    let strength = tallest.abs() / noise.sigma.max(f64::MIN_POSITIVE);
    Flag::new(DEFINITION.grade, (start, end), readings, strength, Evidence::Spike(evidence), reason)
}

#[cfg(test)]
mod tests {
    use super::super::Test;
    use super::super::testing::{check, moist, noisy};
    use crate::series::Series;

    #[test]
    fn away_and_back_is_a_spike() {
        let mut s = moist(3000, 0.3);
        s.values[700] += 0.16;
        s.values[1500] -= 0.09;
        s.values[1501] -= 0.1;
        let flags = check(&s, None, Test::Spike);
        let found: Vec<_> = flags.iter().map(|f| (f.start.0 / 900, f.end.0 / 900)).collect();
        assert_eq!(found, [(700, 700), (1500, 1501)]);
        assert!(flags[0].reason.starts_with("+0.16"), "{}", flags[0].reason);
    }

    #[test]
    fn a_fast_front_with_rain_is_no_spike() {
        let mut s = moist(3000, 0.2);
        for i in 1000..3000 {
            s.values[i] += 0.2 * (-((i - 1000) as f64) / 300.0).exp();
        }
        let rain = Series { times: vec![999 * 900].into(), values: vec![14.0] };
        assert_eq!(check(&s, Some(&rain), Test::Spike), []);
        assert_eq!(check(&s, None, Test::Spike), [], "it does not come back, so it is no spike without rain either");
    }

    #[test]
    fn a_dip_between_two_showers_is_two_fronts_and_without_rain_a_spike() {
        let mut s = moist(3000, 0.2);
        for i in 1000..3000 {
            s.values[i] += 0.1 * (-((i - 1000) as f64) / 36.0).exp();
        }
        s.values[1003] -= 0.05;
        let rain = Series { times: vec![999 * 900, 1003 * 900].into(), values: vec![8.0, 6.0] };
        assert_eq!(check(&s, Some(&rain), Test::Spike), []);
        let dry = check(&s, None, Test::Spike);
        assert_eq!(dry.iter().map(|f| f.start.0 / 900).collect::<Vec<_>>(), [1003]);
        // Long after the front a dip is one, rain or not.
        s.values[1003] += 0.05;
        s.values[2000] -= 0.05;
        let later = Series { times: vec![999 * 900, 1999 * 900].into(), values: vec![8.0, 6.0] };
        assert_eq!(check(&s, Some(&later), Test::Spike).len(), 1);
    }

    #[test]
    fn a_noisy_probe_is_not_all_spikes() {
        let s = Series {
            times: (0..4000).map(|i| i * 900).collect(),
            values: (0..4000).map(|i| 0.3 + 0.01 * noisy(i)).collect(),
        };
        assert_eq!(check(&s, None, Test::Spike), []);
    }

    #[test]
    fn a_loose_plug_is_one_thing_to_decide() {
        let mut s = moist(9000, 0.4);
        for i in [800, 803, 806] {
            s.values[i] += 0.1;
        }
        let flags = check(&s, None, Test::Spike);
        assert_eq!(flags.len(), 1);
        assert!(flags[0].reason.contains("departures of"), "{}", flags[0].reason);
        for i in (800..900).step_by(3) {
            s.values[i] = 0.45;
        }
        assert_eq!(check(&s, None, Test::Spike), [], "a day of it is noise");
        assert_eq!(check(&s, None, Test::Noise).len(), 1);
    }
}
