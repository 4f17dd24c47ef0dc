//! What each rain brought: stored, passed on, not accounted for; and when the front came to each depth.

use super::front::{Arrival, arrivals};
use super::grid::Grid;
use super::profile::Profile;
use super::storage::{Change, StorageSeries};
use crate::units::{SpanSeconds, UnixSeconds};
use crate::water::DepthError;

/// Where water came from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Inflow {
    /// A gauge told of it.
    Rain,
    /// Somebody gave it.
    Irrigation,
}

/// One fall of water on the soil.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Fall {
    /// Rain, or water that was given.
    pub kind: Inflow,
    /// When it began.
    pub start: UnixSeconds,
    /// When the last of it had come.
    pub end: UnixSeconds,
    /// How much, mm.
    pub mm: f64,
}

/// What counts as one fall, and how long it works on.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WettingRules {
    /// So long without rain ends a fall.
    pub dry: SpanSeconds,
    /// Smaller falls are not listed, mm.
    pub least_mm: f64,
    /// A fall works on for so long at most, or until the next begins.
    pub works_on: SpanSeconds,
    /// So long after its end the front has spread: then what is stored is read, or where the next fall begins before.
    pub spread: SpanSeconds,
}

impl Default for WettingRules {
    fn default() -> Self {
        Self {
            dry: SpanSeconds(6 * 3600),
            least_mm: 5.0,
            works_on: SpanSeconds(36 * 3600),
            spread: SpanSeconds(6 * 3600),
        }
    }
}

/// Falls in rain summed by step ([`super::sums`]), in order of time.
#[must_use]
pub fn falls(grid: &Grid, rain: &[f64], rules: &WettingRules) -> Vec<Fall> {
    let apart = grid.steps(rules.dry);
    let mut all: Vec<(usize, usize, f64)> = Vec::new();
    for (i, mm) in rain.iter().enumerate().filter(|(_, mm)| **mm > 0.0) {
        match all.last_mut().filter(|last| i - last.1 <= apart) {
            Some(last) => (last.1, last.2) = (i, last.2 + mm),
            None => all.push((i, i, *mm)),
        }
    }
    all.retain(|f| f.2 >= rules.least_mm);
    // A sum belongs to the step that ends at its time.
    let fall = |(a, b, mm): (usize, usize, f64)| Fall {
        kind: Inflow::Rain,
        start: grid.time(a) - grid.step(),
        end: grid.time(b),
        mm,
    };
    all.into_iter().map(fall).collect()
}

/// A fall and what the profile made of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Wetting {
    /// The water that came.
    pub fall: Fall,
    /// Gain of the profile above the sentinel's layer once the front has spread; `None` over a gap. While it is sharp, lines between probes
    /// make too much of it.
    pub stored: Option<Change>,
    /// What the sentinel's layer gained: at least so much passed the roots, mm; `None` over a gap or without a sentinel.
    pub passed_mm: Option<f64>,
    /// What came less what was stored and what is known to have passed, mm: leaves, runoff, evaporation, and what went on below.
    pub unexplained_mm: Option<f64>,
    /// The front at each level of the profile.
    pub arrivals: Vec<Option<Arrival>>,
    /// Speed from the first level that it came to to the last one, cm/h, if that is not the first and they come in order.
    pub speed_cm_h: Option<f64>,
    /// Whether a deeper level rose before a shallower one: water ran down another way.
    pub out_of_order: bool,
}

impl Wetting {
    /// Share of what came that is found in the soil, 0 to 1 and above it where the gauge caught less than fell.
    #[must_use]
    pub fn infiltrated(&self) -> Option<f64> {
        let stored = self.stored?.mm + self.passed_mm.unwrap_or(0.0);
        (self.fall.mm > 0.0).then(|| stored / self.fall.mm)
    }
}

/// What the profile made of each fall. `sentinel` is the level below the roots, if one is set; the soil above the middle between it and
/// the level over it counts as stored.
///
/// # Errors
/// [`DepthError`] if the profile has no levels.
pub fn wettings(
    profile: &Profile<'_>,
    falls: &[Fall],
    sentinel: Option<usize>,
    rules: &WettingRules,
) -> Result<Vec<Wetting>, DepthError> {
    let depths = profile.depths();
    let deepest = depths.last().copied().ok_or(DepthError::None)?;
    let roots_end = match sentinel.filter(|s| *s > 0) {
        Some(s) => depths[s - 1].midpoint(depths[s]),
        None => deepest,
    };
    let above = StorageSeries::of(profile, roots_end)?;
    // From the middle to the sentinel: the soil for which it speaks without going on below it.
    let layer_mm = sentinel.filter(|s| *s > 0).map(|s| 10.0 * (depths[s] - roots_end));
    let ends = |k: usize| {
        let next = falls.get(k + 1).map_or(i64::MAX, |next| next.start.0);
        UnixSeconds((falls[k].end + rules.works_on).0.min(next))
    };
    let spread = |k: usize| UnixSeconds((falls[k].end + rules.spread).0.min(ends(k).0));
    let one = |k: usize| wetting(profile, &above, falls[k], (spread(k), ends(k)), sentinel.zip(layer_mm));
    Ok((0..falls.len()).map(one).collect())
}

fn wetting(
    profile: &Profile<'_>,
    above: &StorageSeries<'_>,
    fall: Fall,
    (spread, until): (UnixSeconds, UnixSeconds),
    sentinel: Option<(usize, f64)>,
) -> Wetting {
    let grid = &profile.grid;
    let window = grid.between(fall.start, until + SpanSeconds(1));
    let before = window.start.saturating_sub(1);
    let until_spread = grid.between(fall.start, spread + SpanSeconds(1));
    let whole = above.mm[before].is_finite() && until_spread.clone().all(|i| above.mm[i].is_finite());
    let stored = until_spread.last().filter(|_| whole).and_then(|i| above.change(before, i));
    let came_to = arrivals(profile, before, window.clone());
    let passed_mm = sentinel.and_then(|(level, layer_mm)| {
        let values = &profile.levels[level].values;
        let most = window.clone().map(|i| values[i]).fold(f64::NAN, f64::max);
        let gap = window.clone().any(|i| values[i].is_nan());
        let rise = most - values[before];
        // A rise within noise is no water.
        let came = came_to[level].is_some();
        (rise.is_finite() && !gap).then_some(if came { rise * layer_mm } else { 0.0 })
    });
    let arrivals = came_to;
    let came: Vec<(f64, Arrival)> =
        profile.levels.iter().zip(&arrivals).filter_map(|(l, a)| Some((l.depth_cm, (*a)?))).collect();
    let out_of_order = came.windows(2).any(|w| w[1].1.time < w[0].1.time);
    let speed = came.first().zip(came.last()).filter(|_| !out_of_order).and_then(|(a, b)| {
        let hours = (b.1.time - a.1.time).0 as f64 / 3600.0;
        (hours > 0.0).then(|| (b.0 - a.0) / hours)
    });
    Wetting {
        fall,
        unexplained_mm: stored.map(|s| fall.mm - s.mm - passed_mm.unwrap_or(0.0)),
        stored,
        passed_mm,
        arrivals,
        speed_cm_h: speed,
        out_of_order,
    }
}

#[cfg(test)]
mod tests {
    use super::super::profile::testing::profile;
    use super::*;
    use crate::statistics::testing::assert_close;

    /// A front of 0.1 m³/m³ that comes to 10, 30 and 60 cm after 1, 5 and 20 h, in a record of three days; rain in the first hour of day two.
    fn world() -> (Profile<'static>, Vec<f64>) {
        let step = |at: usize| (0..288).map(|i| if i < at { 0.2 } else { 0.3 }).collect::<Vec<f64>>();
        let p = profile(900, &[(10.0, step(104)), (30.0, step(120)), (60.0, step(180))]);
        let mut rain = vec![0.0; 288];
        rain[100..104].fill(10.0);
        (p, rain)
    }

    #[test]
    fn rain_is_one_fall_until_six_dry_hours_pass() {
        let (p, mut rain) = world();
        rain[20] = 3.0;
        rain[127] = 1.0;
        let found = falls(&p.grid, &rain, &WettingRules::default());
        assert_eq!(found.len(), 1, "{found:?}");
        assert_eq!((found[0].start, found[0].end, found[0].mm), (p.grid.time(99), p.grid.time(127), 41.0));
        rain[127] = 0.0;
        rain[128] = 6.0;
        assert_eq!(falls(&p.grid, &rain, &WettingRules::default()).len(), 2);
        assert!(falls(&p.grid, &[f64::NAN; 288], &WettingRules::default()).is_empty());
    }

    #[test]
    fn what_came_is_stored_passes_or_is_not_explained_and_the_sum_agrees() {
        let (p, rain) = world();
        let rules = WettingRules::default();
        let all = wettings(&p, &falls(&p.grid, &rain, &rules), Some(2), &rules).unwrap();
        let w = &all[0];
        let (stored, passed) = (w.stored.unwrap().mm, w.passed_mm.unwrap());
        // Six hours after the rain the front has passed 30 cm and not yet come to 60.
        assert_close(stored, 0.1 * (200.0 + 100.0 + 0.75 * 150.0), 1e-9);
        assert_close(passed, 0.1 * 150.0, 1e-9);
        assert_close(stored + passed + w.unexplained_mm.unwrap(), w.fall.mm, 1e-9);
        assert_close(w.infiltrated().unwrap(), (stored + passed) / 40.0, 1e-9);
        let hours: Vec<f64> = w.arrivals.iter().map(|a| (a.unwrap().time - w.fall.start).0 as f64 / 3600.0).collect();
        assert_eq!(hours, [1.25, 5.25, 20.25]);
        assert_close(w.speed_cm_h.unwrap(), 50.0 / 19.0, 1e-9);
        assert!(!w.out_of_order);
    }

    #[test]
    fn over_a_gap_nothing_is_said_and_a_bypass_is_seen() {
        let (mut p, rain) = world();
        let rules = WettingRules::default();
        let falls = falls(&p.grid, &rain, &rules);
        p.levels[1].values[110] = f64::NAN;
        let w = &wettings(&p, &falls, Some(2), &rules).unwrap()[0];
        assert!(w.stored.is_none() && w.unexplained_mm.is_none() && w.passed_mm.is_some());
        let (mut p, _) = world();
        p.levels.swap(0, 2);
        (p.levels[0].depth_cm, p.levels[2].depth_cm) = (10.0, 60.0);
        let w = &wettings(&p, &falls, None, &rules).unwrap()[0];
        assert!(w.out_of_order && w.speed_cm_h.is_none() && w.passed_mm.is_none());
    }
}
