//! Soaking and drying a resistive block before it goes into the ground.

use crate::units::UnixSeconds;

/// Whether the block stands in water or in the air.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Stage {
    /// In water, to the top of the block.
    Soak,
    /// In the air, out of the sun.
    Dry,
}

/// A stage with its times.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// What is done.
    pub stage: Stage,
    /// First moment, inclusive.
    pub from: UnixSeconds,
    /// Last moment, inclusive.
    pub to: UnixSeconds,
}

/// The schedule: `cycles` times soaked and dried, then soaked once more, since a block is installed wet.
#[must_use]
pub fn schedule(start: UnixSeconds, cycles: usize, soak_hours: f64, dry_hours: f64) -> Vec<Step> {
    let mut steps = Vec::new();
    let mut at = start.0;
    for i in 0..=2 * cycles {
        let (stage, hours) = if i % 2 == 0 { (Stage::Soak, soak_hours) } else { (Stage::Dry, dry_hours) };
        let to = at + (hours * 3600.0).round() as i64;
        steps.push(Step { stage, from: UnixSeconds(at), to: UnixSeconds(to) });
        at = to;
    }
    steps
}

/// Readings of two soakings that differ by no more than this share agree: the block has taken up all it will.
pub const SOAKED_ALIKE: f64 = 0.05;

/// What the readings at the end of each soaking (resistance or mass) say.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Readiness {
    /// Fewer than two soakings were read.
    Unknown,
    /// The last two differ by this share: soak and dry once more.
    StillChanging(f64),
    /// The last two agree: install it wet.
    Ready,
}

/// Judges readings at the end of each soaking, in order.
#[must_use]
pub fn readiness(soaked: &[f64]) -> Readiness {
    let [.., before, last] = soaked else { return Readiness::Unknown };
    let change = (last - before).abs() / before.abs().max(last.abs()).max(f64::MIN_POSITIVE);
    if change <= SOAKED_ALIKE { Readiness::Ready } else { Readiness::StillChanging(change) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_ends_wet_after_its_cycles() {
        let steps = schedule(UnixSeconds(1000), 3, 12.0, 24.0);
        assert_eq!(steps.len(), 7);
        assert!(steps.windows(2).all(|w| w[0].to == w[1].from && w[0].stage != w[1].stage), "no gap, in turn");
        assert_eq!((steps[6].stage, steps[6].to), (Stage::Soak, UnixSeconds(1000 + (4 * 12 + 3 * 24) * 3600)));
        assert_eq!(schedule(UnixSeconds(0), 0, 12.0, 24.0).len(), 1, "without cycles it is soaked all the same");
    }

    #[test]
    fn it_is_ready_when_two_soakings_agree() {
        assert_eq!(readiness(&[0.6]), Readiness::Unknown);
        assert!(matches!(readiness(&[0.9, 0.6]), Readiness::StillChanging(c) if (c - 1.0 / 3.0).abs() < 1e-9));
        assert_eq!(readiness(&[0.9, 0.56, 0.55]), Readiness::Ready);
    }
}
