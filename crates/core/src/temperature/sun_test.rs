//! Whether the sun makes the bias of an air thermometer: day against night, clear against overcast.

use crate::statistics::t_quantile;
use crate::sun::{SunTimes, sun_times};
use crate::units::UnixSeconds;
use std::collections::BTreeMap;

/// Both thermometers at one time, °C.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SunPair {
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
    /// In its shield.
    pub shielded: f64,
    /// The one that is asked about.
    pub bare: f64,
}

/// Differences of a group of days, bare minus shielded: each day counts once, since readings of one day follow each other.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Group {
    /// Days with enough pairs in sun.
    pub days: usize,
    /// Mean of their mean differences, K.
    pub mean: f64,
    /// 95 % half width of that mean, K.
    pub half_width: f64,
}

/// What the record says of the sun.
#[derive(Debug, Clone, PartialEq)]
pub struct SunTest {
    /// Pairs without sun; `None` if there are too few.
    pub night: Option<Group>,
    /// By day, all days.
    pub day: Option<Group>,
    /// By day, the third of the days with the widest swing of temperature: clear ones.
    pub clear: Option<Group>,
    /// By day, the third with the narrowest: overcast ones.
    pub overcast: Option<Group>,
    /// Whether the sun makes it.
    pub by_sun: bool,
    /// The answer in one sentence.
    pub sentence: String,
}

/// Fewest days of a group, and readings of one day or night.
const FEW_DAYS: usize = 5;
const FEW_READINGS: usize = 8;
/// Seconds of a day.
const DAY: i64 = 86_400;
/// A difference below this is not worth a word, K.
const WORTH_K: f64 = 0.2;

/// Compares a bare sensor with a shielded one over a record at a place (degrees north and east).
///
/// Days run from one solar midnight of the place to the next. Day and night by the sun's place; clear and overcast days by the swing of the shielded temperature, which clouds damp
/// (Agricultural and Forest Meteorology 31:159, 1984).
#[must_use]
pub fn sun_test(pairs: &[SunPair], latitude: f64, longitude: f64) -> SunTest {
    // Mean solar time runs ahead of UTC by four minutes a degree east.
    let ahead = (longitude * 240.0) as i64;
    let mut days: BTreeMap<i64, Vec<(bool, f64, f64)>> = BTreeMap::new();
    for p in pairs {
        let date = (p.at.0 + ahead).div_euclid(DAY);
        let minutes = (p.at.0 - date * DAY) as f64 / 60.0;
        let lit = match sun_times(latitude, longitude, date * DAY) {
            SunTimes::PolarNight => false,
            SunTimes::PolarDay => true,
            SunTimes::Rises { sunrise, sunset } => (sunrise..=sunset).contains(&minutes),
        };
        days.entry(date).or_default().push((lit, p.shielded, p.bare - p.shielded));
    }
    let mean_of = |readings: &[(bool, f64, f64)], by_day: bool| {
        let part: Vec<f64> = readings.iter().filter(|r| r.0 == by_day).map(|r| r.2).collect();
        (part.len() >= FEW_READINGS).then(|| part.iter().sum::<f64>() / part.len() as f64)
    };
    let mut lit: Vec<(f64, f64)> = Vec::new();
    for readings in days.values() {
        let (low, high) =
            readings.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), r| (l.min(r.1), h.max(r.1)));
        lit.extend(mean_of(readings, true).map(|difference| (high - low, difference)));
    }
    lit.sort_by(|a, b| a.0.total_cmp(&b.0));
    let third = lit.len() / 3;
    let differences = |days: &[(f64, f64)]| group(&days.iter().map(|d| d.1).collect::<Vec<f64>>());
    let dark: Vec<f64> = days.values().filter_map(|r| mean_of(r, false)).collect();
    let mut test = SunTest {
        night: group(&dark),
        day: differences(&lit),
        clear: differences(&lit[lit.len() - third..]),
        overcast: differences(&lit[..third]),
        by_sun: false,
        sentence: String::new(),
    };
    conclude(&mut test);
    test
}

fn group(differences: &[f64]) -> Option<Group> {
    let n = differences.len();
    if n < FEW_DAYS {
        return None;
    }
    let mean = differences.iter().sum::<f64>() / n as f64;
    let sd = (differences.iter().map(|d| (d - mean).powi(2)).sum::<f64>() / (n as f64 - 1.0)).sqrt();
    Some(Group { days: n, mean, half_width: t_quantile(0.975, n - 1) * sd / (n as f64).sqrt() })
}

fn conclude(test: &mut SunTest) {
    let (Some(night), Some(clear), Some(overcast)) = (test.night, test.clear, test.overcast) else {
        test.sentence = format!(
            "Too few days with both sensors: at least {FEW_DAYS} clear, {FEW_DAYS} overcast and their nights are needed."
        );
        return;
    };
    let k = |v: f64| format!("{v:+.2}").replace('-', "−");
    let apart = clear.mean - clear.half_width > overcast.mean + overcast.half_width
        && clear.mean - clear.half_width > night.mean + night.half_width;
    test.by_sun = apart && clear.mean - night.mean > WORTH_K;
    let numbers = format!(
        "{} K on clear days, {} K on overcast ones, {} K at night",
        k(clear.mean),
        k(overcast.mean),
        k(night.mean)
    );
    test.sentence = if test.by_sun {
        format!(
            "The sun makes it: {numbers}. No constant can remove that: a better shield, less mass, or the shielded sensor by day."
        )
    } else if night.mean.abs() > WORTH_K {
        format!("Not the sun: {numbers}. The difference stands at night too: check both in one bath.")
    } else {
        format!("No difference worth a word: {numbers}.")
    };
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Sixty days at 47° N from 1 June 2026, every third clear; the sun warms the bare sensor by `warm` K when it is clear.
    fn record(warm: f64, constant: f64) -> Vec<SunPair> {
        let start = 1_780_272_000;
        let mut pairs = Vec::new();
        for day in 0..60i64 {
            let clear = [1.0, 0.5, 0.1][(day % 3) as usize];
            for i in 0..96i64 {
                let hour = i as f64 / 4.0;
                let sun = ((hour - 12.0) / 8.0 * std::f64::consts::FRAC_PI_2).cos().max(0.0)
                    * f64::from((4.0..20.0).contains(&hour));
                let shielded = 14.0 + 8.0 * clear * sun;
                let at = UnixSeconds(start + day * 86_400 + i * 900);
                pairs.push(SunPair { at, shielded, bare: shielded + constant + warm * clear * sun });
            }
        }
        pairs
    }

    #[test]
    fn sun_is_told_from_a_constant_and_from_nothing() {
        let sunny = sun_test(&record(2.0, 0.0), 47.0, 0.0);
        assert!(sunny.by_sun && sunny.sentence.starts_with("The sun makes it"), "{}", sunny.sentence);
        assert!(sunny.clear.unwrap().mean > 4.0 * sunny.overcast.unwrap().mean);
        assert!(sunny.night.unwrap().mean.abs() < 0.05, "day and night are told apart: {:?}", sunny.night);
        let constant = sun_test(&record(0.0, 0.6), 47.0, 0.0);
        assert!(!constant.by_sun && constant.sentence.starts_with("Not the sun"));
        assert!(sun_test(&record(0.0, 0.0), 47.0, 0.0).sentence.starts_with("No difference"));
    }

    #[test]
    fn days_are_the_places_own_wherever_it_lies() {
        let here = sun_test(&record(2.0, 0.0), 47.0, 0.0);
        for degrees_east in [170.0, -170.0, 90.0, -120.0] {
            let later = (degrees_east * 240.0) as i64;
            let moved: Vec<SunPair> =
                record(2.0, 0.0).iter().map(|p| SunPair { at: UnixSeconds(p.at.0 - later), ..*p }).collect();
            let there = sun_test(&moved, 47.0, degrees_east);
            let (a, b) = (here.clear.unwrap(), there.clear.unwrap());
            assert!(there.by_sun && a.days.abs_diff(b.days) <= 1, "{degrees_east}: {} {} days", a.days, b.days);
            assert!((a.mean - b.mean).abs() < 0.03, "{degrees_east}: {} and {}", a.mean, b.mean);
            assert!((here.night.unwrap().mean - there.night.unwrap().mean).abs() < 0.03, "{degrees_east}");
        }
    }

    #[test]
    fn a_short_record_gets_words() {
        let test = sun_test(&record(2.0, 0.0)[..400], 47.0, 0.0);
        assert!(test.sentence.starts_with("Too few days") && test.clear.is_none());
    }
}
