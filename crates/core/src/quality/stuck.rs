//! No change while noise and neighbours move.

use super::flag::{Evidence, Flag, Test};
use super::station::{Judged, Settings, neighbours, written};
use crate::series::View;
use crate::statistics::quantile;
use crate::units::{Grade, Quantity, SpanSeconds, UnixSeconds};

/// A neighbour that may show that the soil moved meanwhile.
struct Witness<'a> {
    name: &'a str,
    quantity: Quantity,
    moved: f64,
}

/// Runs of one and the same value that are too long for how often this record repeats a value by itself.
///
/// A calm deep probe with a coarse step repeats itself nearly always, so its run must be long, and a neighbour
/// must have moved; a lively one is called stuck within hours.
pub(super) fn stuck(of: &Judged<'_>, all: &[Judged<'_>], settings: &Settings) -> Vec<Flag> {
    let Some(noise) = of.noise else { return Vec::new() };
    if of.channel.quantity.is_sum() {
        return Vec::new();
    }
    let (t, x) = (&of.times, &of.values);
    let same = |a: f64, b: f64| (a - b).abs() <= 1e-9 * a.abs().max(1e-9);
    let Some(repeats) = usual_repeats(x, same) else { return Vec::new() };
    let by_chance = (settings.stuck_chance.ln() / repeats.ln()).ceil() as usize;
    let by_time = (settings.stuck_hours * 3600.0 / of.interval as f64).ceil() as usize;
    let least = by_chance.max(by_time).max(5);
    let near = neighbours(of, all);
    let mut flags = Vec::new();
    let mut start = 0;
    for i in 1..=x.len() {
        if i < x.len() && same(x[i], x[start]) && t[i] - t[i - 1] <= 3 * of.interval {
            continue;
        }
        let n = i - start;
        if n >= least
            && let Some(witness) = witness(&near, t[start], t[i - 1], repeats)
        {
            flags.push(flag(of, start, i - 1, noise.sigma, repeats, witness.as_ref()));
        }
        start = i;
    }
    flags
}

/// How often a reading equals the one before it in the calmer weeks of the record (80th percentile of blocks, so that a fault over a part of a short record does not hide itself).
fn usual_repeats(x: &[f64], same: impl Fn(f64, f64) -> bool) -> Option<f64> {
    const BLOCK: usize = 400;
    let mut shares: Vec<f64> = x
        .chunks(BLOCK)
        .filter(|c| c.len() > 40)
        .map(|c| c.windows(2).filter(|w| same(w[0], w[1])).count() as f64 / (c.len() - 1) as f64)
        .filter(|share| *share < 1.0)
        .collect();
    quantile(&mut shares, 0.8).map(|share| share.clamp(0.01, 0.9995))
}

/// `None`: the soil was calm, so the run proves nothing. `Some(None)`: no neighbour, but the probe is far too lively
/// for such a run. `Some(Some(_))`: a neighbour moved.
fn witness<'a>(near: &[&Judged<'a>], from: i64, to: i64, repeats: f64) -> Option<Option<Witness<'a>>> {
    let best = near
        .iter()
        .filter_map(|n| {
            let noise = n.noise?;
            let moved = range(n.view(), from, to)?;
            let needed = (8.0 * noise.sigma).max(4.0 * noise.resolution);
            (moved > needed)
                .then(|| (moved / needed, Witness { name: n.channel.name, quantity: n.channel.quantity, moved }))
        })
        .next();
    match best {
        Some((_, witness)) => Some(Some(witness)),
        None => (repeats < 0.5).then_some(None),
    }
}

/// Spread of the middle 96 % of the readings between two times: one spike must not testify.
fn range(view: View<'_>, from: i64, to: i64) -> Option<f64> {
    let (a, b) = (view.times.partition_point(|t| *t < from), view.times.partition_point(|t| *t <= to));
    let mut values = view.values[a..b.max(a)].to_vec();
    Some(quantile(&mut values, 0.98)? - quantile(&mut values, 0.02)?)
}

fn flag(of: &Judged<'_>, a: usize, b: usize, sigma: f64, repeats: f64, witness: Option<&Witness<'_>>) -> Flag {
    let quantity = of.channel.quantity;
    let n = b - a + 1;
    let long = SpanSeconds(of.times[b] - of.times[a]).in_words();
    let mut reason = format!("{n} readings hold {} for {long}", written(quantity, of.values[a]));
    if let Some(w) = witness {
        reason.push_str(&format!(" while {} moved by {}", w.name, written(w.quantity, w.moved)));
    }
    reason.push_str(&format!("; its own noise is {sigma:.0$}.", quantity.decimals() + 1));
    Flag {
        start: UnixSeconds(of.times[a]),
        end: UnixSeconds(of.times[b]),
        test: Test::Stuck,
        grade: Grade::Wrong,
        readings: n,
        strength: n as f64,
        evidence: Evidence::of(&[
            ("value", of.values[a]),
            ("readings", n as f64),
            ("noise", sigma),
            ("usual_repeats", repeats),
            ("neighbour_moved", witness.map_or(0.0, |w| w.moved)),
        ]),
        reason,
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{check, check_all, moist};
    use super::*;
    use crate::series::Series;

    #[test]
    fn a_lively_probe_that_stands_still_is_stuck() {
        let mut s = moist(3000, 0.3);
        s.values[1000..1280].fill(0.287);
        let flags = check(&s, None, Test::Stuck);
        assert_eq!(flags.iter().map(|f| (f.start.0 / 900, f.readings)).collect::<Vec<_>>(), [(1000, 280)]);
        assert!(flags[0].reason.starts_with("280 readings hold 0.287"), "{}", flags[0].reason);
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
}
