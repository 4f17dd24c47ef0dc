//! A battery's trend, and the day on which it will be empty.

use crate::statistics::median;

/// A node's battery is taken for empty at this voltage, V: below it lithium cells give no current for a radio.
pub const EMPTY_V: f64 = 3.3;

/// Days of which the trend is made.
const DAYS: usize = 60;
/// Fewer days tell no trend.
const LEAST_DAYS: usize = 14;
/// 0.975 quantile of the standard normal distribution: 95 %, two-sided.
const Z_975: f64 = 1.959_964;

/// When a battery will be empty.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Emptying {
    /// Too few days tell no trend.
    TooFew,
    /// It does not fall: the trend may as well be none, or rises.
    Holds,
    /// It is empty already.
    Empty,
    /// It falls, and will be empty some day.
    Falls {
        /// Days from the last one until it is empty, by the trend.
        likely: f64,
        /// The same by the steepest trend that fits.
        earliest: f64,
        /// The same by the flattest; `None` if that one would not fall.
        latest: Option<f64>,
    },
}

/// A battery's state.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Battery {
    /// Mean of its last day, V.
    pub volts: f64,
    /// Trend, V per day, with its 95 % range.
    pub trend: Option<(f64, f64, f64)>,
    /// When it will be empty.
    pub emptying: Emptying,
}

/// Judges a battery by its daily means (V; `None` for days without any), the last of which is the present. `None` without any.
///
/// The trend is the median of the slopes between all pairs of days, its range their order statistics (P. K. Sen 1968, J. Am. Stat.
/// Assoc. 63:1379, eqs. 2.6 and 3.1 to 3.5): some odd days do not turn it. It stands for the last 60 days and assumes that days are
/// independent and that the load stays as it is.
#[must_use]
pub fn battery(days: &[Option<f64>]) -> Option<Battery> {
    let recent = &days[days.len().saturating_sub(DAYS)..];
    let points: Vec<(f64, f64)> = recent.iter().enumerate().filter_map(|(i, v)| Some((i as f64, (*v)?))).collect();
    let &(last_day, volts) = points.last()?;
    let trend = trend(&points);
    // The level by all days rather than by the last: one cold night is no empty battery.
    let level = trend.map_or(volts, |(slope, ..)| {
        median(&mut points.iter().map(|(x, v)| v + slope * (last_day - x)).collect::<Vec<_>>()).unwrap_or(volts)
    });
    let until = |slope: f64| (slope < 0.0).then(|| (EMPTY_V - level) / slope);
    let emptying = match trend {
        _ if level <= EMPTY_V => Emptying::Empty,
        None => Emptying::TooFew,
        Some((slope, steepest, flattest)) => match (until(slope), until(steepest)) {
            // A trend that may be none says nothing of an end.
            (Some(likely), Some(earliest)) if flattest < 0.0 || likely < 30.0 => {
                Emptying::Falls { likely, earliest, latest: until(flattest) }
            }
            _ => Emptying::Holds,
        },
    };
    Some(Battery { volts, trend, emptying })
}

/// Median of the slopes of all pairs, and their 95 % range: slope, least, greatest.
fn trend(points: &[(f64, f64)]) -> Option<(f64, f64, f64)> {
    let n = points.len();
    if n < LEAST_DAYS {
        return None;
    }
    let mut slopes = Vec::with_capacity(n * (n - 1) / 2);
    for (i, a) in points.iter().enumerate() {
        slopes.extend(points[i + 1..].iter().map(|b| (b.1 - a.1) / (b.0 - a.0)));
    }
    slopes.sort_by(f64::total_cmp);
    let (count, n) = (slopes.len() as f64, n as f64);
    let reach = Z_975 * (n * (n - 1.0) * (2.0 * n + 5.0) / 18.0).sqrt();
    let at = |rank: f64| slopes[(rank.round() as usize).min(slopes.len() - 1)];
    let (low, high) = (at(((count - reach) / 2.0 - 1.0).max(0.0)), at((count + reach) / 2.0));
    Some((median(&mut slopes)?, low, high))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A line with a wobble that has no trend, and some odd days.
    fn days(n: usize, from: f64, slope: f64) -> Vec<Option<f64>> {
        (0..n)
            .map(|i| match i % 13 {
                5 => None,
                9 => Some(from + slope * i as f64 - 0.2),
                k => Some(from + slope * i as f64 + 0.004 * (k as f64 * 2.3).sin()),
            })
            .collect()
    }

    #[test]
    fn a_line_ends_where_it_meets_the_empty_voltage() {
        let exact: Vec<Option<f64>> = (0..60).map(|i| Some(3.6 - 0.002 * f64::from(i))).collect();
        let found = battery(&exact).unwrap();
        let Emptying::Falls { likely, earliest, latest } = found.emptying else { panic!("{found:?}") };
        // 3.6 − 0.002·59 = 3.482 V; 0.182 V at 0.002 V a day are 91 days.
        assert!([likely, earliest, latest.unwrap()].iter().all(|d| (d - 91.0).abs() < 1e-6), "{found:?}");
        let odd = battery(&days(60, 3.6, -0.002)).unwrap();
        let Emptying::Falls { likely, earliest, latest } = odd.emptying else { panic!("{odd:?}") };
        assert!((likely - 91.0).abs() < 6.0 && earliest < likely && latest.is_some_and(|l| l > likely), "{odd:?}");
        assert!(odd.trend.is_some_and(|(s, low, high)| low <= s && s <= high));
    }

    #[test]
    fn a_battery_that_holds_or_rises_has_no_end_and_an_empty_one_is_empty() {
        assert_eq!(battery(&days(60, 3.9, 0.0)).unwrap().emptying, Emptying::Holds);
        assert_eq!(battery(&days(60, 3.7, 0.003)).unwrap().emptying, Emptying::Holds);
        assert_eq!(battery(&vec![Some(3.6); 60]).unwrap().emptying, Emptying::Holds, "equal values");
        assert_eq!(battery(&days(60, 3.31, -0.002)).unwrap().emptying, Emptying::Empty);
        assert_eq!(battery(&[Some(3.6), None]).unwrap().emptying, Emptying::TooFew);
        assert_eq!((battery(&[]), battery(&[None])), (None, None));
        let one_less: Vec<Option<f64>> = (0..13).map(|i| Some(3.6 - 0.01 * f64::from(i))).collect();
        assert_eq!(battery(&one_less).unwrap().emptying, Emptying::TooFew);
    }

    #[test]
    fn what_lies_before_the_last_sixty_days_does_not_count() {
        let mut all = days(300, 3.9, -0.001);
        all.extend(days(60, 3.8, 0.0));
        assert_eq!(battery(&all).unwrap().emptying, Emptying::Holds, "a new battery");
    }
}
