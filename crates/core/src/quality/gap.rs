//! Records that are missing.

use super::flag::{Evidence, Flag, Test};
use super::station::{Channel, Settings};
use crate::units::{Grade, SpanSeconds, UnixSeconds};

/// Stretches longer than the settings' number of intervals without a reading.
pub(super) fn gaps(channel: &Channel<'_>, interval: i64, settings: &Settings) -> Vec<Flag> {
    let limit = (settings.gap_intervals * interval as f64) as i64;
    channel
        .view
        .times
        .windows(2)
        .filter(|w| w[1] - w[0] > limit)
        .map(|w| {
            let missing = ((w[1] - w[0]) as f64 / interval as f64).round() as usize - 1;
            let (start, end) = (UnixSeconds(w[0] + interval), UnixSeconds((w[1] - interval).max(w[0] + 1)));
            let every = SpanSeconds(interval).in_words();
            let long = SpanSeconds(w[1] - w[0]).in_words();
            Flag {
                start: start.min(end),
                end: end.max(start),
                test: Test::Gap,
                grade: Grade::Condition,
                readings: missing.max(1),
                strength: 0.0,
                evidence: Evidence::of(&[("missing", missing as f64), ("interval_s", interval as f64)]),
                reason: format!("{} of the readings due every {every} are missing: {long} of silence.", missing.max(1)),
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, series};
    use super::*;

    #[test]
    fn a_silence_is_one_flag_with_its_count() {
        let mut s = series(100, |i| i as f64);
        s.times.drain(40..60);
        s.values.drain(40..60);
        let flags = gaps(&channel(&s), 900, &Settings::default());
        assert_eq!(flags.len(), 1);
        assert_eq!((flags[0].start.0, flags[0].end.0, flags[0].readings), (40 * 900, 59 * 900, 20));
        assert!(flags[0].reason.starts_with("20 of the readings due every 15 min are missing"), "{}", flags[0].reason);
    }

    #[test]
    fn a_clock_that_jitters_makes_no_gap() {
        let mut s = series(50, |i| i as f64);
        for (i, t) in s.times.iter_mut().enumerate() {
            *t += (i as i64 % 3) * 60;
        }
        assert!(gaps(&channel(&s), 900, &Settings::default()).is_empty());
    }
}
