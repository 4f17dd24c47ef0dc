//! Two places compared, each moment with the same moment.

use super::bootstrap::{BlockBootstrap, Interval};
use super::grid::Grid;
use super::{Season, day_of_year, year_month};
use std::collections::BTreeSet;
use thiserror::Error;

/// Why two records cannot be compared.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PairError {
    /// No day is known at both.
    #[error("the two records have no day in common: nothing can be paired")]
    NoCommonTime,
    /// A stretch is too short.
    #[error("{0} has {1} days known at both places; at least 10 are needed")]
    Short(&'static str, usize),
}

/// One day at two places.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PairedDay {
    /// The day, counted from 1970, by the study's clock.
    pub day: i64,
    /// Mean of the first less the second over the steps that both have.
    pub difference: f64,
    /// The same from 9 to 17 h; NaN if unknown.
    pub by_day: f64,
    /// The same from 21 to 5 h; NaN if unknown.
    pub by_night: f64,
    /// Highest less lowest value of the day at the first and at the second.
    pub range: (f64, f64),
    /// Difference by hour of day; NaN if unknown.
    pub hours: [f32; 24],
}

/// Days at two places, in order.
#[derive(Debug, Clone, PartialEq)]
pub struct Paired {
    /// The days.
    pub days: Vec<PairedDay>,
    /// Steps at which one of both, or both, were missing.
    pub unpaired: usize,
    /// Steps at which both are known.
    pub paired: usize,
}

/// A day needs so many steps in ten known at both places.
const ENOUGH_OF_TEN: usize = 8;

/// Pairs two records on one grid by day.
///
/// # Errors
/// [`PairError::NoCommonTime`] if no day is known at both.
pub fn paired(grid: &Grid, first: &[f64], second: &[f64], offset_minutes: i64) -> Result<Paired, PairError> {
    let of_day = (86_400 / grid.step().0.max(1)).max(1) as usize;
    let mut pairs = Paired { days: Vec::new(), unpaired: 0, paired: 0 };
    let mut i = 0;
    while i < grid.len() {
        let day = grid.day(i, offset_minutes);
        let mut of = DaySums::default();
        while i < grid.len() && grid.day(i, offset_minutes) == day {
            let (a, b) = (first[i], second[i]);
            if a.is_finite() && b.is_finite() {
                let seconds = (grid.time(i).0 + offset_minutes * 60).rem_euclid(86_400);
                of.add((seconds / 3600) as usize, a, b);
            } else {
                pairs.unpaired += 1;
            }
            i += 1;
        }
        pairs.paired += of.n;
        if of.n > 0 && of.n * 10 >= of_day * ENOUGH_OF_TEN {
            pairs.days.push(of.day(day));
        }
    }
    if pairs.days.is_empty() { Err(PairError::NoCommonTime) } else { Ok(pairs) }
}

#[derive(Default)]
struct DaySums {
    n: usize,
    hours: [(f64, usize); 24],
    first: Option<(f64, f64)>,
    second: Option<(f64, f64)>,
}

impl DaySums {
    fn add(&mut self, hour: usize, a: f64, b: f64) {
        self.n += 1;
        let of = &mut self.hours[hour];
        *of = (of.0 + a - b, of.1 + 1);
        let wider = |known: Option<(f64, f64)>, v: f64| {
            known.map_or((v, v), |(low, high): (f64, f64)| (low.min(v), high.max(v)))
        };
        (self.first, self.second) = (Some(wider(self.first, a)), Some(wider(self.second, b)));
    }

    fn day(&self, day: i64) -> PairedDay {
        let over = |hours: &mut dyn Iterator<Item = usize>| {
            let (sum, n) = hours.map(|h| self.hours[h]).fold((0.0, 0), |(s, n), (sum, m)| (s + sum, n + m));
            sum / n as f64
        };
        let range = |of: Option<(f64, f64)>| of.map_or(f64::NAN, |(low, high)| high - low);
        PairedDay {
            day,
            difference: over(&mut (0..24)),
            by_day: over(&mut (9..17)),
            by_night: over(&mut (21..24).chain(0..5)),
            range: (range(self.first), range(self.second)),
            hours: std::array::from_fn(|h| (self.hours[h].0 / self.hours[h].1 as f64) as f32),
        }
    }
}

/// Which days a group holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Part {
    /// All of them.
    All,
    /// A season of a year; a winter is that of its January.
    Season(i32, Season),
    /// One calendar month of one year.
    Month(i32, u8),
    /// Days with at least 1 mm of rain.
    Wet,
    /// Days with less.
    Dry,
}

/// Days compared.
#[derive(Debug, Clone, PartialEq)]
pub struct Group {
    /// Which days.
    pub part: Part,
    /// How many.
    pub days: usize,
    /// Mean difference over the whole day; `None` for fewer than ten days.
    pub whole: Option<Interval>,
    /// From 9 to 17 h.
    pub by_day: Option<Interval>,
    /// From 21 to 5 h.
    pub by_night: Option<Interval>,
}

/// All that two places tell of each other.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// All days, seasons by year, months, then weather where it is known.
    pub groups: Vec<Group>,
    /// Mean difference by hour of day, by the study's clock.
    pub hours: Vec<Option<Interval>>,
}

impl Comparison {
    /// The group of a part.
    #[must_use]
    pub fn group(&self, part: Part) -> Option<&Group> {
        self.groups.iter().find(|g| g.part == part)
    }
}

/// A day with at least so much rain is a wet one, mm.
const WET_MM: f64 = 1.0;

/// Year and season of a day; December belongs to the winter of the next year.
fn season_of(day: i64) -> Part {
    let (year, month) = year_month(day);
    let (year, season) = super::climate::season_of(year, month);
    Part::Season(year, season)
}

/// Mean differences with 95 % intervals by blocks of days, over all days, by season, month and weather, and by hour of day. `rain` gives a
/// day's rain in mm where it is known.
#[must_use]
pub fn compare(pairs: &Paired, rain: impl Fn(i64) -> Option<f64>, boot: &BlockBootstrap) -> Comparison {
    let month_of = |day: i64| {
        let (year, month) = year_month(day);
        Part::Month(year, month)
    };
    let weather = |day: i64| rain(day).map(|mm| if mm >= WET_MM { Part::Wet } else { Part::Dry });
    let of_day = |day: i64| [Some(Part::All), Some(season_of(day)), Some(month_of(day)), weather(day)];
    let parts: BTreeSet<Part> = pairs.days.iter().flat_map(|d| of_day(d.day)).flatten().collect();
    let groups = parts.into_iter().map(|part| {
        let days: Vec<&PairedDay> = pairs.days.iter().filter(|d| of_day(d.day).contains(&Some(part))).collect();
        let mean = |of: fn(&PairedDay) -> f64| {
            let values: Vec<f64> = days.iter().map(|d| of(d)).filter(|v| v.is_finite()).collect();
            boot.mean(&values)
        };
        let (whole, by_day, by_night) = (mean(|d| d.difference), mean(|d| d.by_day), mean(|d| d.by_night));
        Group { part, days: days.len(), whole, by_day, by_night }
    });
    let groups = groups.collect();
    let hour = |h: usize| {
        let values: Vec<f64> = pairs.days.iter().map(|d| f64::from(d.hours[h])).filter(|v| v.is_finite()).collect();
        boot.mean(&values)
    };
    Comparison { groups, hours: (0..24).map(hour).collect() }
}

/// How much larger the daily swing is at the first place than at the second.
#[derive(Debug, Clone, PartialEq)]
pub struct Buffering {
    /// Ratio of daily ranges (geometric mean), by season and over all days; below 1 the first place is the calmer one.
    pub groups: Vec<(Part, Option<Interval>)>,
    /// Days on which both swings stood above the floor.
    pub days: usize,
    /// Days on which one did not.
    pub calm: usize,
}

/// Ratio of the daily ranges of the first place and of the second. Days on which either range is below `floor` (noise, rounding) tell of no
/// swing and are counted apart.
#[must_use]
pub fn buffering(pairs: &Paired, floor: f64, boot: &BlockBootstrap) -> Buffering {
    let swings: Vec<(i64, f64)> = pairs
        .days
        .iter()
        .filter(|d| d.range.0 >= floor && d.range.1 >= floor)
        .map(|d| (d.day, (d.range.0 / d.range.1).ln()))
        .collect();
    let parts: BTreeSet<Part> = swings.iter().flat_map(|d| [Part::All, season_of(d.0)]).collect();
    let groups = parts.into_iter().map(|part| {
        let of: Vec<f64> = swings.iter().filter(|d| part == Part::All || season_of(d.0) == part).map(|d| d.1).collect();
        (part, boot.mean(&of).map(|i| i.map(f64::exp)))
    });
    Buffering { groups: groups.collect(), days: swings.len(), calm: pairs.days.len() - swings.len() }
}

/// What changed at one place against another at a date.
#[derive(Debug, Clone, PartialEq)]
pub struct BeforeAfter {
    /// Mean difference before.
    pub before: Interval,
    /// Mean difference after.
    pub after: Interval,
    /// After less before: what changed at the first place beyond what changed at the second, too.
    pub effect: Interval,
    /// Whether only days of the year were taken that both stretches have, so that seasons do not pass for an effect.
    pub like_with_like: bool,
    /// Days that were left out for that.
    pub left_out: usize,
}

/// Compares the differences of two places (treated less control) before and from `date` on: before-after-control-impact (Stewart-Oaten,
/// Murdoch & Parker 1986, Ecology 67:929), with blocks of days for the interval. Where both stretches share at least ten days of the year on
/// each side, only those count.
///
/// # Errors
/// [`PairError::Short`] if fewer than ten days are left before or after.
pub fn before_after(pairs: &Paired, date: i64, boot: &BlockBootstrap) -> Result<BeforeAfter, PairError> {
    let split = |keep: &dyn Fn(u16) -> bool| -> (Vec<f64>, Vec<f64>) {
        let of = |after: bool| {
            let days = pairs.days.iter().filter(|d| (d.day >= date) == after && keep(day_of_year(d.day)));
            days.map(|d| d.difference).collect()
        };
        (of(false), of(true))
    };
    let days_of = |after: bool| -> BTreeSet<u16> {
        pairs.days.iter().filter(|d| (d.day >= date) == after).map(|d| day_of_year(d.day)).collect()
    };
    let shared: BTreeSet<u16> = days_of(false).intersection(&days_of(true)).copied().collect();
    let (mut before, mut after) = split(&|d| shared.contains(&d));
    let like_with_like = before.len() >= 10 && after.len() >= 10;
    if !like_with_like {
        (before, after) = split(&|_| true);
    }
    let left_out = pairs.days.len() - before.len() - after.len();
    let mean = |of: &[f64], which| boot.mean(of).ok_or(PairError::Short(which, of.len()));
    let (b, a) = (mean(&before, "the time before")?, mean(&after, "the time after")?);
    let effect = boot.difference(&before, &after).ok_or(PairError::Short("the time before", before.len()))?;
    Ok(BeforeAfter { before: b, after: a, effect, like_with_like, left_out })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::units::{SpanSeconds, UnixSeconds};

    /// Hourly records over `days` from 1 January 2024: the first swings by 4 K and is 1.5 K warmer from day `from` on, the second by 2 K.
    fn records(days: usize, from: usize) -> (Grid, Vec<f64>, Vec<f64>) {
        let first = 19_723 * 86_400;
        let last = UnixSeconds(first + days as i64 * 86_400 - 3600);
        let grid = Grid::over(UnixSeconds(first), last, SpanSeconds(3600)).unwrap();
        let wave = |i: usize| -(std::f64::consts::TAU * (i % 24) as f64 / 24.0).cos();
        let weather = |i: usize| 0.4 * ((i / 24) as f64 * 0.7).sin();
        let a = (0..grid.len()).map(|i| 10.0 + 4.0 * wave(i) + weather(i) + if i / 24 >= from { 1.5 } else { 0.0 });
        let b = (0..grid.len()).map(|i| 10.0 + 2.0 * wave(i));
        (grid, a.collect(), b.collect())
    }

    #[test]
    fn a_difference_is_found_in_each_part_of_year_and_day() {
        let (grid, a, b) = records(800, 0);
        let pairs = paired(&grid, &a, &b, 0).unwrap();
        assert_eq!((pairs.days.len(), pairs.unpaired, pairs.paired), (800, 0, 800 * 24));
        let c = compare(&pairs, |day| Some(if day % 3 == 0 { 2.0 } else { 0.0 }), &BlockBootstrap::default());
        let all = c.group(Part::All).unwrap();
        let i = all.whole.unwrap();
        assert!((i.estimate - 1.5).abs() < 0.05 && i.low < 1.5 && 1.5 < i.high, "{i:?}");
        assert!(all.by_day.unwrap().estimate > 2.5 && all.by_night.unwrap().estimate < 0.5);
        let summer = c.group(Part::Season(2024, Season::Summer)).unwrap();
        assert_eq!(summer.days, 92);
        assert_eq!(
            c.group(Part::Season(2025, Season::Winter)).unwrap().days,
            90,
            "December counts to the next year's winter"
        );
        assert_eq!(c.group(Part::Wet).unwrap().days + c.group(Part::Dry).unwrap().days, 800);
        assert_eq!(c.hours.len(), 24);
        assert!(c.hours[12].unwrap().estimate > c.hours[0].unwrap().estimate + 3.0);
        let ratio = buffering(&pairs, 0.1, &BlockBootstrap::default());
        let all = ratio.groups[0].1.unwrap();
        assert!((all.estimate - 2.0).abs() < 1e-6 && ratio.calm == 0, "{all:?}");
    }

    #[test]
    fn records_without_common_time_are_refused_and_gaps_are_counted() {
        let (grid, mut a, b) = records(30, 0);
        a[..200].fill(f64::NAN);
        let pairs = paired(&grid, &a, &b, 0).unwrap();
        assert_eq!((pairs.unpaired, pairs.paired), (200, 30 * 24 - 200));
        assert_eq!(pairs.days.len(), 21, "a day of which eight hours are missing is none");
        assert_eq!(paired(&grid, &vec![f64::NAN; grid.len()], &b, 0), Err(PairError::NoCommonTime));
    }

    #[test]
    fn an_impact_is_told_from_the_season_by_like_days() {
        let (grid, a, b) = records(731, 366);
        let pairs = paired(&grid, &a, &b, 0).unwrap();
        let date = 19_723 + 366;
        let found = before_after(&pairs, date, &BlockBootstrap::default()).unwrap();
        assert!(found.like_with_like && (found.effect.estimate - 1.5).abs() < 0.1, "{found:?}");
        assert!(found.effect.is_off_zero() && found.left_out <= 2);
        let (grid, a, b) = records(100, 60);
        let pairs = paired(&grid, &a, &b, 0).unwrap();
        let found = before_after(&pairs, 19_723 + 60, &BlockBootstrap::default()).unwrap();
        assert!(!found.like_with_like, "no day of the year lies on both sides");
        assert_eq!(
            before_after(&pairs, 19_723 + 95, &BlockBootstrap::default()),
            Err(PairError::Short("the time after", 5))
        );
    }
}
