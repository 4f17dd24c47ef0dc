//! What became of each day of a channel.

use crate::series::LeftOut;
use crate::units::{SpanSeconds, UnixSeconds};

/// A channel's day.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum DayState {
    /// Fewer than half of the readings came.
    Missing,
    /// They came and are believed.
    Measured,
    /// Some wait for a verdict.
    Doubtful,
    /// More than a tenth stay out.
    LeftOut,
}

impl DayState {
    /// One letter for it.
    #[must_use]
    pub const fn letter(self) -> char {
        match self {
            Self::Missing => '-',
            Self::Measured => 'm',
            Self::Doubtful => 'd',
            Self::LeftOut => 'x',
        }
    }
}

/// The state of each of `days` days from the one that begins at `first` on. `doubtful` are spans that wait for a verdict.
#[must_use]
pub fn coverage(
    times: &[i64],
    usual: SpanSeconds,
    out: &LeftOut,
    doubtful: &LeftOut,
    first: UnixSeconds,
    days: usize,
) -> Vec<DayState> {
    const DAY: i64 = 86_400;
    let expected = (DAY / usual.0.clamp(1, DAY)) as usize;
    let mut start = times.partition_point(|t| *t < first.0);
    (0..days as i64)
        .map(|d| {
            let end = start + times[start..].partition_point(|t| *t < first.0 + (d + 1) * DAY);
            let of = &times[start..end];
            start = end;
            if of.len() * 2 < expected.max(1) {
                DayState::Missing
            } else if out.count(of) * 10 > of.len() {
                DayState::LeftOut
            } else if doubtful.count(of) > 0 {
                DayState::Doubtful
            } else {
                DayState::Measured
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_day_has_the_state_of_its_readings() {
        let times: Vec<i64> = (0..96 * 5).map(|i| i * 900).filter(|t| !(86_400..150_000).contains(t)).collect();
        let span = |a: i64, b: i64| LeftOut::of([(UnixSeconds(a), UnixSeconds(b))]);
        let (out, doubtful) = (span(2 * 86_400, 2 * 86_400 + 20_000), span(3 * 86_400, 3 * 86_400));
        let states = coverage(&times, SpanSeconds(900), &out, &doubtful, UnixSeconds(0), 6);
        let letters: String = states.iter().map(|s| s.letter()).collect();
        assert_eq!(letters, "m-xdm-");
        assert_eq!(coverage(&[], SpanSeconds(900), &out, &doubtful, UnixSeconds(0), 2), [DayState::Missing; 2]);
        let daily: Vec<i64> = (0..3).map(|d| d * 86_400 + 40_000).collect();
        let states = coverage(&daily, SpanSeconds(86_400), &LeftOut::default(), &LeftOut::default(), UnixSeconds(0), 3);
        assert_eq!(states, [DayState::Measured; 3]);
    }
}
