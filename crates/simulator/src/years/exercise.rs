//! Exercises: a year with hidden faults, the same for all who take the same seed.

use super::{Climate, Ground, Kind, Severity, Year, YearPlan, year};
use rand::seq::SliceRandom;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// How hard an exercise is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Level {
    /// Four months, three faults, seen from afar.
    Easy,
    /// Eight months, five faults.
    Middling,
    /// A year, nine faults, some of them near what the record does anyway.
    Hard,
}

impl Level {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Easy, Self::Middling, Self::Hard];

    /// Its code, as addresses have it.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Easy => "easy",
            Self::Middling => "middling",
            Self::Hard => "hard",
        }
    }

    /// The level of this code.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|l| l.code() == code)
    }

    /// What it holds, in words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Easy => "easy: four months, up to 3 faults, seen from afar",
            Self::Middling => "middling: eight months, up to 5 faults, plain to somebody who looks",
            Self::Hard => "hard: a year, up to 9 faults, some of them subtle",
        }
    }

    const fn days(self) -> i64 {
        match self {
            Self::Easy => 120,
            Self::Middling => 240,
            Self::Hard => 365,
        }
    }

    const fn faults(self) -> usize {
        match self {
            Self::Easy => 3,
            Self::Middling => 5,
            Self::Hard => 9,
        }
    }

    const fn severities(self) -> &'static [Severity] {
        match self {
            Self::Easy => &[Severity::Blatant],
            Self::Middling => &[Severity::Blatant, Severity::Clear, Severity::Clear],
            Self::Hard => &[Severity::Clear, Severity::Subtle],
        }
    }
}

/// What is to be practised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Exercise {
    /// Decides everything that the others leave open.
    pub seed: u32,
    /// How hard it is.
    pub level: Level,
    /// The kind of most of its faults; `None`: each of another kind.
    pub kind: Option<Kind>,
}

impl Exercise {
    /// Kinds that show in the strips of a record: what is told by deliveries, clocks and the node's health is not practised.
    #[must_use]
    pub fn kinds() -> Vec<Kind> {
        let hidden = [Kind::Late, Kind::Repeats, Kind::ClockBack, Kind::ClockDrift, Kind::LowPower, Kind::WetBox];
        Kind::ALL.iter().copied().filter(|k| !hidden.contains(k)).collect()
    }

    /// Makes it; a year in which none of its faults found room is made anew from another chance.
    #[must_use]
    pub fn make(&self) -> Year {
        let made = |again| year(&self.plan(again));
        let practises = |y: &Year| match self.kind {
            Some(kind) => y.truth.iter().any(|t| t.kind == kind),
            None => !y.truth.is_empty(),
        };
        (0..20).map(made).find(practises).unwrap_or_else(|| made(0))
    }

    fn plan(&self, again: u64) -> YearPlan {
        let seed = u64::from(self.seed) + (again << 32);
        let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x7a_11_e5);
        let mut kinds = Self::kinds();
        kinds.shuffle(&mut rng);
        // Depths and ports that are both wrong would hide each other.
        let both = [Kind::WrongDepth, Kind::Exchange];
        let spare = kinds.iter().rposition(|k| both.contains(k));
        spare.map(|i| kinds.remove(i));
        if let Some(kind) = self.kind {
            let often = self.level.faults().div_ceil(2) + 1;
            kinds.retain(|k| *k != kind && !(both.contains(k) && both.contains(&kind)));
            let alone =
                both.contains(&kind) || matches!(kind, Kind::Wiggle | Kind::Sunlit | Kind::TwinDrifts | Kind::Bypass);
            kinds.splice(0..0, std::iter::repeat_n(kind, if alone { 1 } else { often }));
        }
        let severities = self.level.severities();
        let faults = kinds.into_iter().take(self.level.faults());
        YearPlan {
            seed,
            climate: Climate::ALL[rng.random_range(0..5)],
            ground: Ground::ALL[rng.random_range(0..5)],
            gauge: true,
            days: self.level.days(),
            faults: faults.map(|k| (k, severities[rng.random_range(0..severities.len())])).collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_same_seed_gives_a_class_the_same_exercise_and_each_level_its_faults() {
        for level in Level::ALL {
            let one = Exercise { seed: 7, level, kind: None };
            let made = one.make();
            assert_eq!(made, one.make());
            assert_ne!(made.channels, Exercise { seed: 8, ..one }.make().channels);
            assert!(!made.truth.is_empty() && made.truth.len() <= level.faults(), "{level:?}");
            assert!(made.truth.iter().all(|t| level.severities().contains(&t.severity)));
            assert!(!made.soil.is_empty());
        }
    }

    #[test]
    fn every_kind_can_be_practised_alone() {
        for kind in Exercise::kinds() {
            let made = Exercise { seed: 3, level: Level::Middling, kind: Some(kind) }.make();
            assert!(made.truth.iter().any(|t| t.kind == kind), "{kind:?}: {:?}", made.truth.len());
        }
    }
}
