//! What a node's clock really said: piecewise linear between checks.

use crate::units::{SpanSeconds, UnixSeconds};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A node's clock held against true time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ClockCheck {
    /// What the node's clock showed.
    pub shown: UnixSeconds,
    /// What it truly was.
    pub truth: UnixSeconds,
    /// Whether the clock was set right at this check: it runs on from the truth.
    pub set: bool,
}

impl ClockCheck {
    /// How far the clock was ahead (positive) or behind, seconds.
    #[must_use]
    pub const fn ahead(&self) -> SpanSeconds {
        SpanSeconds(self.shown.0 - self.truth.0)
    }
}

/// Why checks make no clock.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum ClockError {
    /// Further off than any clock drifts: a slip of the date or of the hour.
    #[error("the node's clock would be {0} off: look at date and hour again, on both")]
    FarOff(Off),
    /// The clock would run backwards between two checks.
    #[error("between two checks the node's clock would run backwards: one of the times is a slip")]
    Backwards,
}

/// By how many seconds a clock is off; written as a span.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Off(pub i64);

impl std::fmt::Display for Off {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&SpanSeconds(self.0.abs()).in_words())
    }
}

/// No clock of a node is further off than this unless somebody slipped, seconds.
const FAR_OFF_S: i64 = 2 * 86_400;
/// A clock that was never checked may be off by this much a day, seconds (a plain quartz, 100 parts in a million).
const UNKNOWN_S_PER_DAY: f64 = 8.64;
/// A check itself is good to this, seconds.
const CHECK_S: f64 = 2.0;

/// The clock of one node.
///
/// Before the first check and after the last one nothing is known of its drift, so readings keep their time there but for the
/// last offset; between two checks the offset runs linearly, and never jumps but where the clock was set.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Clock {
    /// Stretches of the node's time with their offsets at both ends, in order: (from, to, ahead at from, ahead at to).
    pieces: Vec<(i64, i64, f64, f64)>,
    /// How far ahead it runs on after the last check.
    after: f64,
}

impl Clock {
    /// From checks in any order; `started` is when the node began, right (it was set then).
    ///
    /// # Errors
    /// [`ClockError`] if a check is further off than clocks drift, or the clock would run backwards.
    pub fn new(started: UnixSeconds, checks: &[ClockCheck]) -> Result<Self, ClockError> {
        let mut checks = checks.to_vec();
        checks.sort_by_key(|c| c.truth);
        let mut pieces = Vec::new();
        let (mut from, mut ahead) = (started.0, 0.0);
        for check in checks.iter().filter(|c| c.truth > started) {
            let off = check.ahead().0;
            if off.abs() > FAR_OFF_S {
                return Err(ClockError::FarOff(Off(off)));
            }
            if check.shown.0 <= from {
                return Err(ClockError::Backwards);
            }
            pieces.push((from, check.shown.0, ahead, off as f64));
            ahead = if check.set { 0.0 } else { off as f64 };
            from = if check.set { check.truth.0.max(check.shown.0) } else { check.shown.0 };
        }
        Ok(Self { pieces, after: ahead })
    }

    /// Whether any time is moved at all.
    #[must_use]
    pub fn is_right(&self) -> bool {
        self.pieces.iter().all(|p| p.2 == 0.0 && p.3 == 0.0)
    }

    /// How far the clock was ahead at a time that it showed, seconds.
    ///
    /// ```
    /// use ebrel_core::field::{Clock, ClockCheck};
    /// use ebrel_core::units::UnixSeconds;
    /// let check = ClockCheck { shown: UnixSeconds(7 * 86_400 + 40), truth: UnixSeconds(7 * 86_400), set: false };
    /// let clock = Clock::new(UnixSeconds(0), &[check]).unwrap();
    /// assert_eq!(clock.ahead(UnixSeconds(0)), 0.0);
    /// assert!((clock.ahead(UnixSeconds(302_420)) - 20.0).abs() < 0.01, "half of a week's 40 s at its middle");
    /// assert_eq!(clock.corrected(check.shown), check.truth);
    /// ```
    #[must_use]
    pub fn ahead(&self, shown: UnixSeconds) -> f64 {
        let at = self.pieces.partition_point(|p| p.1 < shown.0);
        match self.pieces.get(at) {
            Some((from, to, a, b)) if shown.0 >= *from => a + (b - a) * ((shown.0 - from) as f64 / (to - from) as f64),
            // Between a clock that was set and what it showed before: the piece to come begins right.
            Some((_, _, a, _)) => *a,
            None => self.after,
        }
    }

    /// The true time of what the clock showed.
    #[must_use]
    pub fn corrected(&self, shown: UnixSeconds) -> UnixSeconds {
        UnixSeconds(shown.0 - self.ahead(shown).round() as i64)
    }

    /// How well the corrected time is known, seconds (half width): as well as a check at a check; in between the drift may have
    /// run unevenly, at most as far as an unchecked clock would in the nearer stretch.
    #[must_use]
    pub fn known_to(&self, shown: UnixSeconds) -> f64 {
        let days = |seconds: i64| seconds.max(0) as f64 / 86_400.0;
        let at = self.pieces.partition_point(|p| p.1 < shown.0);
        let away = match self.pieces.get(at) {
            Some((from, to, ..)) => days((shown.0 - from).min(to - shown.0)),
            None => days(shown.0 - self.pieces.last().map_or(shown.0, |p| p.1)),
        };
        CHECK_S + UNKNOWN_S_PER_DAY * away * if at < self.pieces.len() { 0.25 } else { 1.0 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const WEEK: i64 = 7 * 86_400;

    fn check(week: i64, ahead: i64, set: bool) -> ClockCheck {
        ClockCheck { shown: UnixSeconds(week * WEEK + ahead), truth: UnixSeconds(week * WEEK), set }
    }

    #[test]
    fn it_is_exact_at_checks_and_never_jumps_but_where_it_was_set() {
        let clock =
            Clock::new(UnixSeconds(0), &[check(4, 160, false), check(8, 400, true), check(12, 80, false)]).unwrap();
        for (week, ahead) in [(4, 160), (8, 400), (12, 80)] {
            assert_eq!(clock.corrected(UnixSeconds(week * WEEK + ahead)), UnixSeconds(week * WEEK), "week {week}");
        }
        assert!(clock.ahead(UnixSeconds(8 * WEEK + 401)) < 0.01, "set right: it runs on from the truth");
        assert_eq!(clock.ahead(UnixSeconds(30 * WEEK)), 80.0, "after the last check its offset stands");
        assert!(clock.known_to(UnixSeconds(20 * WEEK)) > clock.known_to(UnixSeconds(10 * WEEK)));
        assert!(Clock::new(UnixSeconds(0), &[]).unwrap().is_right());
    }

    #[test]
    fn slips_are_refused_with_what_to_look_at() {
        let year = ClockCheck { shown: UnixSeconds(WEEK + 31_536_000), truth: UnixSeconds(WEEK), set: false };
        let error = Clock::new(UnixSeconds(0), &[year]).unwrap_err();
        assert!(error.to_string().contains("look at date and hour"), "{error}");
        let back = ClockCheck { shown: UnixSeconds(4 * WEEK - 86_400), truth: UnixSeconds(4 * WEEK + 60), set: false };
        assert_eq!(Clock::new(UnixSeconds(0), &[check(4, 0, false), back]), Err(ClockError::Backwards));
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// Corrected times keep the order in which readings came, at any drift a clock can have.
        #[test]
        fn order_is_kept(drifts in prop::collection::vec((-900i64..900, any::<bool>()), 1..8)) {
            let checks: Vec<ClockCheck> =
                drifts.iter().enumerate().map(|(i, (ahead, set))| check(2 * (i as i64 + 1), *ahead, *set)).collect();
            let clock = Clock::new(UnixSeconds(0), &checks).unwrap();
            // A clock that was set back shows some times twice; within one run order holds.
            for (from, to, ..) in &clock.pieces {
                let step = ((to - from) / 500).max(1);
                let times: Vec<i64> =
                    (0..).map(|i| from + i * step).take_while(|t| t <= to).map(|t| clock.corrected(UnixSeconds(t)).0).collect();
                prop_assert!(times.is_sorted());
            }
        }
    }
}
