//! The health of nodes: what came of what was to come, batteries and when they will be empty, silences.
//!
//! Everything is worked out from the times and values that a node sent; what it did not send is not guessed. A day is one of the
//! study's fixed offset, counted from 1970-01-01.

mod battery;
mod signal;

pub use battery::{Battery, EMPTY_V, Emptying, battery};
pub use signal::{Fade, fade};

use crate::series::View;
use crate::statistics::median;
use crate::units::{SpanSeconds, UnixSeconds};

/// A node that missed so many sendings is silent.
pub const SILENT_AFTER: i64 = 3;
/// Humidity in a box above which water stands in it or soon will, %: electronics corrode from about here on.
pub const WET_PCT: f64 = 60.0;
/// Sendings of a node whose habit is not known yet are taken to come this often.
const UNKNOWN_HABIT: SpanSeconds = SpanSeconds(4 * 3600);

/// Number of the day in which a moment lies, at an offset in minutes.
#[must_use]
pub const fn day_of(t: UnixSeconds, offset_minutes: i64) -> i64 {
    (t.0 + offset_minutes * 60).div_euclid(86_400)
}

/// First moment of a day.
#[must_use]
pub const fn start_of(day: i64, offset_minutes: i64) -> UnixSeconds {
    UnixSeconds(day * 86_400 - offset_minutes * 60)
}

/// Records of one day.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Received {
    /// Records that are there.
    pub got: usize,
    /// Records that were to come; 0 for a day before the first or after the last moment.
    pub expected: usize,
}

impl Received {
    /// Share of the expected records that is there, 0 to 1; `None` where none was to come.
    #[must_use]
    pub fn share(self) -> Option<f64> {
        (self.expected > 0).then(|| (self.got as f64 / self.expected as f64).min(1.0))
    }
}

/// Records by day, for days `from` to before `to`, of a node that records every `interval` between `first` and `last`.
///
/// `times` are in order; a time that came twice counts once. A day in which the record begins or ends expects its part.
#[must_use]
pub fn received(
    times: &[i64],
    interval: SpanSeconds,
    (first, last): (UnixSeconds, UnixSeconds),
    (from, to): (i64, i64),
    offset_minutes: i64,
) -> Vec<Received> {
    let every = interval.0.max(1);
    let day = |day: i64| {
        let (start, end) = (start_of(day, offset_minutes).0, start_of(day + 1, offset_minutes).0);
        let (begins, ends) = (start.max(first.0), end.min(last.0 + 1));
        let at = |t: i64| times.partition_point(|own| *own < t);
        let own = &times[at(start)..at(end)];
        let got = own.len() - own.windows(2).filter(|w| w[0] == w[1]).count();
        let expected = if ends > begins { (ends - begins + every - 1) / every } else { 0 };
        Received { got, expected: usize::try_from(expected).unwrap_or(0) }
    };
    (from..to).map(day).collect()
}

/// Least, mean and greatest of a day's values.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayOfValues {
    /// Least value of the day.
    pub least: f64,
    /// Mean of the day's values, each counted once.
    pub mean: f64,
    /// Greatest value of the day.
    pub greatest: f64,
}

/// Values by day, for days `from` to before `to`; `None` for a day without any. Values that are no numbers are none.
#[must_use]
pub fn by_day(view: View<'_>, (from, to): (i64, i64), offset_minutes: i64) -> Vec<Option<DayOfValues>> {
    let day = |day: i64| {
        let at = |t: UnixSeconds| view.times.partition_point(|own| *own < t.0);
        let own = at(start_of(day, offset_minutes))..at(start_of(day + 1, offset_minutes));
        let values = view.values[own].iter().copied().filter(|v| v.is_finite());
        let (mut n, mut sum, mut least, mut greatest) = (0_usize, 0.0, f64::INFINITY, f64::NEG_INFINITY);
        for v in values {
            (n, sum, least, greatest) = (n + 1, sum + v, least.min(v), greatest.max(v));
        }
        (n > 0).then(|| DayOfValues { least, mean: sum / n as f64, greatest })
    };
    (from..to).map(day).collect()
}

/// When a node was heard, and whether it should have been since.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Heard {
    /// Time of its last record.
    pub last: UnixSeconds,
    /// How often it sends.
    pub every: SpanSeconds,
    /// Whether that is its own habit, or assumed because too few of its sendings are known.
    pub habit_known: bool,
    /// Sendings that should have come since and did not.
    pub missed: i64,
}

impl Heard {
    /// So many arrivals, the last ones, tell a habit.
    pub const ARRIVALS: usize = 101;

    /// Judges a node by its last record, the times at which its messages arrived (in order), and its record's interval.
    ///
    /// Its habit is the median of the last hundred times between arrivals, and never shorter than its interval.
    #[must_use]
    pub fn judge(last: UnixSeconds, arrivals: &[i64], interval: SpanSeconds, now: UnixSeconds) -> Self {
        let recent = &arrivals[arrivals.len().saturating_sub(Self::ARRIVALS)..];
        let mut gaps: Vec<f64> = recent.windows(2).map(|w| (w[1] - w[0]) as f64).filter(|g| *g > 0.0).collect();
        let habit = if gaps.len() >= 3 { median(&mut gaps) } else { None };
        let every = habit.map_or(UNKNOWN_HABIT, |g| SpanSeconds(g.round() as i64));
        let every = SpanSeconds(every.0.max(interval.0).max(1));
        let missed = ((now - last).0 / every.0).max(0);
        Self { last, every, habit_known: habit.is_some(), missed }
    }

    /// Whether it is silent.
    #[must_use]
    pub const fn is_silent(&self) -> bool {
        self.missed >= SILENT_AFTER
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const Q: SpanSeconds = SpanSeconds(900);
    const DAY: i64 = 86_400;

    #[test]
    fn a_day_expects_its_part_of_a_record_that_begins_and_ends_within_it() {
        let (first, last) = (UnixSeconds(DAY + 6 * 3600), UnixSeconds(3 * DAY + 12 * 3600));
        let times: Vec<i64> = (0..).map(|i| first.0 + i * 900).take_while(|t| *t <= last.0).collect();
        let days = received(&times, Q, (first, last), (0, 5), 0);
        let told: Vec<_> = days.iter().map(|d| (d.got, d.expected)).collect();
        assert_eq!(told, [(0, 0), (72, 72), (96, 96), (49, 49), (0, 0)]);
        assert_eq!(days[0].share(), None);
        // An hour missing, one record twice, by a clock two hours east.
        let holes: Vec<i64> =
            times.iter().copied().filter(|t| !(2 * DAY..2 * DAY + 3600).contains(t)).chain([last.0]).collect();
        let east = received(&holes, Q, (first, last), (1, 4), 120);
        assert_eq!(east.iter().map(|d| (d.got, d.expected)).collect::<Vec<_>>(), [(64, 64), (92, 96), (57, 57)]);
        assert!((east[1].share().unwrap() - 92.0 / 96.0).abs() < 1e-12);
    }

    #[test]
    fn a_silence_begins_with_the_third_sending_that_is_missed_and_ends_with_the_next() {
        let arrivals: Vec<i64> = (0..20).map(|i| i * 3600 + (i % 3) * 20).collect();
        let judge = |last: i64, now: i64| Heard::judge(UnixSeconds(last), &arrivals, Q, UnixSeconds(now));
        let last = 19 * 3600;
        let heard = judge(last, last + 3 * 3660);
        assert!(heard.habit_known && (3500..=3660).contains(&heard.every.0), "{heard:?}");
        assert!(heard.is_silent() && !judge(last, last + 2 * 3600).is_silent());
        assert!(!judge(last, last - 500).is_silent(), "a clock that was set back");
        let few = Heard::judge(UnixSeconds(0), &[5], Q, UnixSeconds(12 * 3600));
        assert!(few.is_silent() && !few.habit_known);
        // A logger that sends more often than it records is not silent between records.
        let eager = Heard::judge(UnixSeconds(0), &[0, 60, 120, 180, 240], SpanSeconds(DAY), UnixSeconds(2 * DAY));
        assert!(!eager.is_silent());
    }

    proptest! {
        #[test]
        fn no_record_is_counted_twice_or_lost(steps in prop::collection::vec(1..4000i64, 1..300), offset in -720..780i64) {
            let times: Vec<i64> = steps.iter().scan(1_700_000_000, |t, s| { *t += s; Some(*t) }).collect();
            let (first, last) = (UnixSeconds(times[0]), UnixSeconds(times[times.len() - 1]));
            let days = (day_of(first, offset), day_of(last, offset) + 1);
            let got: usize = received(&times, Q, (first, last), days, offset).iter().map(|d| d.got).sum();
            prop_assert_eq!(got, times.len());
            let values: Vec<f64> = times.iter().map(|t| (*t % 17) as f64).collect();
            for day in by_day(View { times: &times, values: &values }, days, offset).into_iter().flatten() {
                prop_assert!(day.least <= day.mean && day.mean <= day.greatest);
            }
        }
    }
}
