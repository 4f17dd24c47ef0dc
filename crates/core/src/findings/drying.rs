//! How fast each depth dries between rains, by day and by night.

use super::Season;
use super::grid::Grid;
use super::profile::Profile;
use super::storage::t_95;
use super::wetting::Fall;
use crate::units::{SpanSeconds, UnixSeconds};

/// Change of content of one level over a dry spell, m³/m³ per day; drying is negative.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Rates {
    /// From sunrise to sunset and on to the next sunrise: the whole day.
    pub whole: f64,
    /// The part of it from sunrise to sunset: uptake by roots, evaporation, and drainage.
    pub by_day: f64,
    /// The part from sunset to sunrise: drainage, and what rises from below.
    pub by_night: f64,
    /// Days that it rests on.
    pub days: usize,
}

/// A stretch without rain that begins a day after the last.
#[derive(Debug, Clone, PartialEq)]
pub struct DrySpell {
    /// First moment.
    pub from: UnixSeconds,
    /// First moment after.
    pub to: UnixSeconds,
    /// Rates by level; `None` where no whole day is known.
    pub levels: Vec<Option<Rates>>,
}

/// A spell lasts at least so long after its first day.
const LEAST: SpanSeconds = SpanSeconds(2 * 86_400);
const DAY: SpanSeconds = SpanSeconds(86_400);

/// Dry spells between falls, with the rates of each level. `rain` as in [`super::sums`]; `sun` gives sunrise and sunset, seconds of UTC, of
/// a day counted from 1970, or `None` where it does not rise or set.
///
/// Contents at sunrise and sunset are means over an hour around them. A probe's own answer to temperature has a daily course, too, and
/// stands in the difference of day and night: it cannot be told from uptake here.
#[must_use]
pub fn dry_spells(
    profile: &Profile<'_>,
    rain: &[f64],
    falls: &[Fall],
    sun: impl Fn(i64) -> Option<(UnixSeconds, UnixSeconds)>,
) -> Vec<DrySpell> {
    let grid = &profile.grid;
    let last = grid.time(grid.len() - 1);
    let mut spells = Vec::new();
    for (k, fall) in falls.iter().enumerate() {
        let (from, until) = (fall.end + DAY, falls.get(k + 1).map_or(last, |f| f.start));
        let silent = grid.between(from, until).find(|i| rain[*i].is_nan());
        // Where no gauge tells, nobody knows that it stayed dry.
        let to = silent.map_or(until, |i| grid.time(i));
        if to - from < LEAST {
            continue;
        }
        let suns = sun_days(&sun, from, to);
        let levels = profile.levels.iter().map(|l| rates(grid, &l.values, &suns)).collect();
        spells.push(DrySpell { from, to, levels });
    }
    spells
}

/// A day as the sun has it: sunrise, sunset, and the next sunrise.
pub(super) type SunDay = (UnixSeconds, UnixSeconds, UnixSeconds);

/// Days by the sun that lie wholly within a stretch.
pub(super) fn sun_days(
    sun: impl Fn(i64) -> Option<(UnixSeconds, UnixSeconds)>,
    from: UnixSeconds,
    to: UnixSeconds,
) -> Vec<SunDay> {
    let days = from.0.div_euclid(DAY.0)..=to.0.div_euclid(DAY.0);
    days.filter_map(|d| Some((sun(d)?, sun(d + 1)?)))
        .map(|((rise, set), (next, _))| (rise, set, next))
        .filter(|(rise, _, next)| *rise >= from && *next <= to)
        .collect()
}

/// Changes of a level from sunrise to sunset and on to the next sunrise; contents are means over an hour around each.
pub(super) fn by_day_and_night(grid: &Grid, values: &[f64], (rise, set, next): SunDay) -> Option<(f64, f64)> {
    let around = |t: UnixSeconds| {
        let part = &values[grid.between(t - SpanSeconds(1800), t + SpanSeconds(1801))];
        let known: Vec<f64> = part.iter().copied().filter(|v| v.is_finite()).collect();
        (!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64)
    };
    let (a, b, c) = (around(rise)?, around(set)?, around(next)?);
    Some((b - a, c - b))
}

fn rates(grid: &Grid, values: &[f64], suns: &[SunDay]) -> Option<Rates> {
    let known: Vec<(f64, f64)> = suns.iter().filter_map(|day| by_day_and_night(grid, values, *day)).collect();
    let days = known.len();
    let mean = |of: fn(&(f64, f64)) -> f64| known.iter().map(of).sum::<f64>() / days as f64;
    let (by_day, by_night) = (mean(|d| d.0), mean(|d| d.1));
    (days > 0).then_some(Rates { whole: by_day + by_night, by_day, by_night, days })
}

/// Rates of one level in one season, over its spells.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SeasonRates {
    /// Which level.
    pub level: usize,
    /// Season of the spells' begin.
    pub season: Season,
    /// Means over days.
    pub rates: Rates,
    /// 95 % half width of the whole day's rate by the scatter between spells; `None` with one spell.
    pub half_width: Option<f64>,
    /// How many spells.
    pub spells: usize,
}

/// Rates by level and season.
#[must_use]
pub fn rates_by_season(grid: &Grid, spells: &[DrySpell], levels: usize, offset_minutes: i64) -> Vec<SeasonRates> {
    let season = |s: &DrySpell| {
        let day = grid.at(s.from).map_or(0, |i| grid.day(i, offset_minutes));
        Season::of_month(super::year_month(day).1)
    };
    let mut all = Vec::new();
    for level in 0..levels {
        for of in Season::ALL {
            let known: Vec<Rates> = spells.iter().filter(|s| season(s) == of).filter_map(|s| s.levels[level]).collect();
            let days: usize = known.iter().map(|r| r.days).sum();
            if days == 0 {
                continue;
            }
            let mean = |of: fn(&Rates) -> f64| known.iter().map(|r| of(r) * r.days as f64).sum::<f64>() / days as f64;
            let rates =
                Rates { whole: mean(|r| r.whole), by_day: mean(|r| r.by_day), by_night: mean(|r| r.by_night), days };
            let n = known.len();
            let scatter =
                known.iter().map(|r| r.days as f64 / days as f64 * (r.whole - rates.whole).powi(2)).sum::<f64>();
            let half_width = (n > 1).then(|| t_95(n - 1) * (scatter / (n - 1) as f64).sqrt());
            all.push(SeasonRates { level, season: of, rates, half_width, spells: n });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::super::profile::testing::profile;
    use super::super::wetting::{WettingRules, falls};
    use super::*;
    use crate::statistics::testing::assert_close;

    /// Sun from 6 to 18 h UTC.
    fn sun(day: i64) -> Option<(UnixSeconds, UnixSeconds)> {
        Some((UnixSeconds(day * 86_400 + 6 * 3600), UnixSeconds(day * 86_400 + 18 * 3600)))
    }

    #[test]
    fn a_root_drinks_by_day_and_drainage_goes_on_at_night() {
        // From day 1 on 0.01 a day by day, 0.002 by night, in a record of ten days from 1 June 1970; rain at the begin and near the end.
        let (first, n) = (151 * 86_400, 960);
        let theta = |i: usize| {
            let hours = i as f64 / 4.0;
            let (days, hour) = ((hours / 24.0).floor(), hours % 24.0);
            let lit = (hour - 6.0).clamp(0.0, 12.0);
            0.35 - 0.012 * days - 0.01 * lit / 12.0 - 0.002 * (hour - lit) / 12.0
        };
        let p = profile(first, &[(10.0, (0..n).map(theta).collect()), (40.0, vec![0.3; n])]);
        let mut rain = vec![0.0; n];
        rain[10] = 8.0;
        rain[900] = 8.0;
        let falls = falls(&p.grid, &rain, &WettingRules { least_mm: 1.0, ..Default::default() });
        let spells = dry_spells(&p, &rain, &falls, sun);
        assert_eq!(spells.len(), 1, "{spells:?}");
        let top = spells[0].levels[0].unwrap();
        assert_close(top.by_day, -0.01, 0.05);
        assert_close(top.by_night, -0.002, 0.15);
        assert_close(top.whole, -0.012, 1e-6);
        assert_close(spells[0].levels[1].unwrap().whole + 1.0, 1.0, 1e-12);
        let seasons = rates_by_season(&p.grid, &spells, 2, 0);
        assert_eq!((seasons.len(), seasons[0].season, seasons[0].half_width), (2, Season::Summer, None));
        rain[300] = f64::NAN;
        let cut = dry_spells(&p, &rain, &falls, sun);
        assert!(cut.len() == 1 && cut[0].to == p.grid.time(300), "nobody knows what fell while the gauge was silent");
        assert!(dry_spells(&p, &rain, &[], sun).is_empty());
    }
}
