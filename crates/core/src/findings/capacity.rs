//! Field capacity as a record has it: what stays a day or two after big rains.

use super::drying::{by_day_and_night, sun_days};
use super::front::arrivals;
use super::profile::{Level, Profile};
use super::wetting::Fall;
use crate::statistics::{median, quantile};
use crate::units::{SpanSeconds, UnixSeconds};

/// Field capacity at one level, as seen.
#[derive(Debug, Clone, PartialEq)]
pub struct Capacity {
    /// Median over the rains, m³/m³.
    pub median: f64,
    /// Lowest and highest of them, without the outermost twentieths where there are at least twenty.
    pub spread: (f64, f64),
    /// 95 % half width of the calibration there, if it has one: by so much all rains may be off together.
    pub half_width: Option<f64>,
    /// Each rain's end, and the mean content from 24 to 48 h after it.
    pub rains: Vec<(UnixSeconds, f64)>,
    /// What roots and sun took meanwhile, m³/m³: median over the rains, not negative. By so much more might have stayed without them.
    pub taken: f64,
}

impl Capacity {
    /// In which range field capacity lies: the spread of the rains and the calibration's ± on both sides, and above that what roots and sun took.
    #[must_use]
    pub fn interval(&self) -> (f64, f64) {
        let half = self.half_width.unwrap_or(0.0);
        (self.spread.0 - half, self.spread.1 + half + self.taken)
    }
}

/// Below the last level nothing tells whether water went on: so much of a rise, m³/m³, stands for it.
const FILLS: f64 = 0.02;
const DAY: SpanSeconds = SpanSeconds(86_400);
const HALF_DAY: SpanSeconds = SpanSeconds(43_200);
const TWO_DAYS: SpanSeconds = SpanSeconds(2 * 86_400);
/// More rain than this within the two days spoils them, mm.
const MOST_MM: f64 = 1.0;
/// From a rain's end to the middle of the second day, days.
const UNTIL_MIDDLE: f64 = 1.5;

/// What is kept of one rain at one level.
struct Seen {
    end: UnixSeconds,
    content: f64,
    taken: Option<f64>,
}

/// Mean content from 24 to 48 h after each fall of at least `least_mm` that filled the level, so that the front went on to the next one below,
/// and after which the two days stayed dry; one entry a level, `None` where no such fall was seen. `rain` is that of [`super::sums`]; steps of which no gauge tells count as dry only
/// if they are fewer than a tenth.
///
/// What roots and sun take is what the last whole dry day of the three lost from sunrise to sunset beyond the pace of its night; `sun` as in [`super::dry_spells`].
#[must_use]
pub fn capacity_as_seen(
    profile: &Profile<'_>,
    rain: &[f64],
    falls: &[Fall],
    least_mm: f64,
    sun: impl Fn(i64) -> Option<(UnixSeconds, UnixSeconds)>,
) -> Vec<Option<Capacity>> {
    let grid = &profile.grid;
    let mut seen: Vec<Vec<Seen>> = profile.levels.iter().map(|_| Vec::new()).collect();
    for (k, fall) in falls.iter().enumerate().filter(|(_, f)| f.mm >= least_mm) {
        let after = grid.between(fall.end + SpanSeconds(1), fall.end + TWO_DAYS);
        let of = &rain[after.clone()];
        let fallen: f64 = of.iter().filter(|mm| mm.is_finite()).sum();
        let silent = of.iter().filter(|mm| mm.is_nan()).count();
        // Water that was given stands in no gauge.
        let given = falls.get(k + 1).is_some_and(|next| next.start < fall.end + TWO_DAYS);
        let whole = after.len() >= grid.steps(TWO_DAYS) - 1;
        if !whole || fallen > MOST_MM || silent * 10 > of.len() || given {
            continue;
        }
        let window = grid.between(fall.start, fall.end + DAY);
        let came = arrivals(profile, window.start.saturating_sub(1), window);
        let second = grid.between(fall.end + DAY, fall.end + TWO_DAYS);
        // On the first half day drainage slackens so fast that its night tells nothing of its day.
        let dry_until = falls.get(k + 1).map_or(fall.end + TWO_DAYS + DAY, |next| next.start);
        let last_day = sun_days(&sun, fall.end + HALF_DAY, dry_until.min(fall.end + TWO_DAYS + DAY)).pop();
        // A layer that passed nothing on was not filled.
        let filled = |level: usize| match came.get(level + 1) {
            Some(below) => came[level].is_some() && below.is_some(),
            None => came[level].is_some_and(|a| a.rise >= FILLS),
        };
        for level in (0..came.len()).filter(|l| filled(*l)) {
            let known: Vec<f64> =
                profile.levels[level].values[second.clone()].iter().copied().filter(|v| v.is_finite()).collect();
            if known.len() * 10 >= second.len() * 8 {
                let taken = last_day.and_then(|day| {
                    let (by_day, by_night) = by_day_and_night(grid, &profile.levels[level].values, day)?;
                    let (light, dark) = ((day.1 - day.0).0 as f64, (day.2 - day.1).0 as f64);
                    Some(UNTIL_MIDDLE * (by_night * light / dark - by_day))
                });
                let content = known.iter().sum::<f64>() / known.len() as f64;
                seen[level].push(Seen { end: fall.end, content, taken });
            }
        }
    }
    seen.into_iter().zip(&profile.levels).map(|(rains, level)| capacity(rains, level)).collect()
}

fn capacity(rains: Vec<Seen>, level: &Level<'_>) -> Option<Capacity> {
    let mut contents: Vec<f64> = rains.iter().map(|r| r.content).collect();
    let mut taken: Vec<f64> = rains.iter().filter_map(|r| r.taken).collect();
    let taken = median(&mut taken).unwrap_or(0.0).max(0.0);
    let outer = if contents.len() >= 20 { 0.05 } else { 0.0 };
    let spread = (quantile(&mut contents, outer)?, quantile(&mut contents, 1.0 - outer)?);
    let median = median(&mut contents)?;
    let half_width = level.half_width_near(median);
    let rains = rains.iter().map(|r| (r.end, r.content)).collect();
    Some(Capacity { median, spread, half_width, rains, taken })
}

#[cfg(test)]
mod tests {
    use super::super::profile::testing::profile;
    use super::super::wetting::{WettingRules, falls};
    use super::*;

    /// Four rains of 20 mm, five days apart; the content rises to 0.4 and drains to 0.3 with a half time of 6 h. The deep level hardly moves.
    fn world(extra: impl Fn(usize) -> f64) -> (Profile<'static>, Vec<f64>) {
        let n = 96 * 22;
        let since = |i: usize| i.checked_sub(96).map(|k| k % 480);
        let top = (0..n).map(|i| since(i).map_or(0.25, |s| 0.3 + 0.1 * 0.5f64.powf(s as f64 / 24.0))).collect();
        let rain = (0..n).map(|i| if since(i) == Some(0) { 20.0 } else { extra(i) }).collect();
        // A little goes on to the deep level: enough to tell that the upper one was filled, too little to have filled it.
        let deep = (0..n).map(|i| 0.33 + since(i).map_or(0.0, |s| 0.01 * 0.5f64.powf(s as f64 / 24.0)));
        (profile(900, &[(10.0, top), (60.0, deep.collect())]), rain)
    }

    /// Sun from 6 to 18 h UTC.
    fn sun(day: i64) -> Option<(UnixSeconds, UnixSeconds)> {
        Some((UnixSeconds(day * 86_400 + 6 * 3600), UnixSeconds(day * 86_400 + 18 * 3600)))
    }

    #[test]
    fn what_roots_take_by_day_may_be_missing() {
        let (mut p, rain) = world(|_| 0.0);
        let known = falls(&p.grid, &rain, &WettingRules::default());
        let all = |p: &Profile<'_>| capacity_as_seen(p, &rain, &known, 10.0, sun)[0].clone().unwrap();
        let before = all(&p).taken;
        assert!(before < 0.003, "of what drains hardly anything passes for taken: {before}");
        // From sunrise to sunset 0.012 goes, every day alike since the rain.
        let drinks = |t: UnixSeconds| ((t.0.rem_euclid(86_400) - 21_600).clamp(0, 43_200)) as f64 / 43_200.0 * 0.012;
        for i in 96..p.grid.len() {
            let days = ((i - 96) % 480 / 96) as f64;
            p.levels[0].values[i] -= 0.012 * days + drinks(p.grid.time(i));
        }
        let seen = all(&p);
        assert!((seen.taken - before - 0.018).abs() < 0.001, "a day and a half of 0.012: {seen:?}");
        assert!((seen.interval().1 - seen.spread.1 - seen.taken).abs() < 1e-12 && seen.interval().0 == seen.spread.0);
        let dark = capacity_as_seen(&p, &rain, &known, 10.0, |_| None)[0].clone().unwrap();
        assert!(dark.taken == 0.0 && dark.median == seen.median, "a polar night tells of no uptake");
    }

    #[test]
    fn what_stays_after_a_day_is_field_capacity_where_the_front_came() {
        let (p, rain) = world(|_| 0.0);
        let falls = falls(&p.grid, &rain, &WettingRules::default());
        let seen = capacity_as_seen(&p, &rain, &falls, 10.0, sun);
        let top = seen[0].as_ref().unwrap();
        assert_eq!(top.rains.len(), 4);
        assert!(
            (0.300..0.304).contains(&top.median) && top.spread.0 <= top.median && top.median <= top.spread.1,
            "{top:?}"
        );
        assert_eq!(seen[1], None);
        assert!(capacity_as_seen(&p, &rain, &falls, 25.0, sun)[0].is_none());
    }

    #[test]
    fn a_rain_that_passes_nothing_on_fills_nothing() {
        let (mut p, rain) = world(|_| 0.0);
        p.levels[1].values.fill(0.33);
        let known = falls(&p.grid, &rain, &WettingRules::default());
        assert_eq!(capacity_as_seen(&p, &rain, &known, 10.0, sun), [None, None]);
    }

    #[test]
    fn rain_or_a_silent_gauge_within_two_days_spoils_them() {
        let (p, rain) = world(|i| if i % 480 == 150 { 2.0 } else { 0.0 });
        let known = falls(&p.grid, &rain, &WettingRules::default());
        assert_eq!(capacity_as_seen(&p, &rain, &known, 10.0, sun)[0], None);
        let (p, rain) = world(|i| if i % 480 > 120 && i % 480 < 180 { f64::NAN } else { 0.0 });
        let known = falls(&p.grid, &rain, &WettingRules::default());
        assert_eq!(capacity_as_seen(&p, &rain, &known, 10.0, sun)[0], None);
    }
}
