//! What is to go wrong, decided by a seed: the same seed gives the same mishaps, also after a restart.

use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// What is to go wrong; by default nothing does.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Weakness {
    /// Of the mishaps' chance.
    pub seed: u64,
    /// Share of hours in which the gateway reaches nobody, 0 to 1.
    pub outage: f64,
    /// Share of parcels that are sent twice.
    pub twice: f64,
    /// Share of parcels that overtake older ones.
    pub overtaking: f64,
    /// By how much each node's clock is wrong at the start, seconds.
    pub clock_s: i64,
    /// By how much it goes fast, seconds a day.
    pub fast_s_per_day: f64,
    /// Below this signal nothing gets through to the gateway, dBm; none: it always does.
    pub deaf_below_dbm: Option<f64>,
}

/// A battery below this lets its node sleep, V.
pub const EMPTY_V: f64 = 3.3;

impl Weakness {
    fn chance(&self, of: &str, n: i64) -> f64 {
        let salt = of.bytes().fold(17_u64, |a, b| a.wrapping_mul(31).wrapping_add(u64::from(b)));
        let seed = self.seed ^ salt ^ (n as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15);
        ChaCha8Rng::seed_from_u64(seed).random_range(0.0..1.0)
    }

    /// Whether the gateway reaches nobody at this time.
    #[must_use]
    pub fn away(&self, t: i64) -> bool {
        self.chance("away", t.div_euclid(3600)) < self.outage
    }

    /// Whether the parcel that a node makes at this time is sent twice.
    #[must_use]
    pub fn sends_twice(&self, node: i64, t: i64) -> bool {
        self.chance("twice", node * 1_000_003 + t) < self.twice
    }

    /// Which of so many waiting parcels goes next.
    #[must_use]
    pub fn next_of(&self, waiting: usize, sent: i64) -> usize {
        if waiting < 2 || self.chance("overtakes", sent) >= self.overtaking {
            return 0;
        }
        (self.chance("which", sent) * waiting as f64) as usize
    }

    /// What a node's clock shows at a true time; it was right, or wrong by [`Self::clock_s`], at `start`.
    #[must_use]
    pub fn shown(&self, t: i64, start: i64) -> i64 {
        let drift = (self.fast_s_per_day * (t - start) as f64 / 86_400.0).round() as i64;
        t.saturating_add(self.clock_s).saturating_add(drift)
    }

    /// Whether a node is heard with this signal.
    #[must_use]
    pub fn heard(&self, signal_dbm: Option<f64>) -> bool {
        self.deaf_below_dbm.zip(signal_dbm).is_none_or(|(least, signal)| signal >= least)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mishaps_come_as_often_as_asked_and_the_same_again() {
        let weak = Weakness { seed: 5, outage: 0.2, twice: 0.1, overtaking: 0.3, ..Weakness::default() };
        let share = |of: &dyn Fn(i64) -> bool| (0..4000).filter(|n| of(*n)).count() as f64 / 4000.0;
        assert!((share(&|n| weak.away(n * 3600)) - 0.2).abs() < 0.02);
        assert!((share(&|n| weak.sends_twice(3, n * 900)) - 0.1).abs() < 0.02);
        let overtaking = share(&|n| weak.next_of(1000, n) != 0);
        assert!((overtaking - 0.3).abs() < 0.03, "{overtaking}");
        assert!((0..1000).all(|n| weak.next_of(3, n) < 3) && weak.next_of(0, 1) == 0);
        assert_eq!(weak.away(7200), weak.clone().away(7300), "an hour is away or not");
        let sound = Weakness::default();
        assert!(!sound.away(0) && !sound.sends_twice(1, 0) && sound.heard(Some(-140.0)));
        let fast = Weakness { clock_s: -60, fast_s_per_day: 6.0, deaf_below_dbm: Some(-100.0), ..sound };
        assert_eq!(fast.shown(86_400 * 10 + 5, 5), 86_400 * 10 + 5);
        assert!(fast.heard(Some(-99.0)) && !fast.heard(Some(-101.0)) && fast.heard(None));
    }
}
