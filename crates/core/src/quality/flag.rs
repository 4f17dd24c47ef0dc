//! What a test returns.

use crate::units::{Grade, UnixSeconds, coded};
use serde::{Deserialize, Serialize};

coded!(
    /// The tests of this version; codes as in the record package.
    Test {
        /// Records are missing.
        Gap = "gap",
        /// The same time came more than once.
        Repeated = "repeated",
        /// Exact zeros, sentinels, rail values: no probe at the port.
        NotConnected = "not_connected",
        /// Beyond the range of the probe's model.
        OutOfInstrument = "out_of_instrument",
        /// A water content that soil cannot have.
        Impossible = "impossible",
        /// Water stands around the probe.
        Ponded = "ponded",
        /// Ice hides water from a dielectric probe.
        Frozen = "frozen",
        /// One or a few readings away and back.
        Spike = "spike",
        /// A lasting jump without water, at one probe.
        Step = "step",
        /// No change while noise and neighbours move.
        Stuck = "stuck",
    }
);

impl Test {
    /// The test's name in a heading.
    #[must_use]
    pub const fn title(self) -> &'static str {
        match self {
            Self::Gap => "Gap",
            Self::Repeated => "Came twice",
            Self::NotConnected => "Not connected",
            Self::OutOfInstrument => "Outside the instrument",
            Self::Impossible => "Impossible",
            Self::Ponded => "Ponded",
            Self::Frozen => "Frozen",
            Self::Spike => "Spike",
            Self::Step => "Step",
            Self::Stuck => "Stuck",
        }
    }

    /// The letter that stands on the strip.
    #[must_use]
    pub const fn letter(self) -> char {
        match self {
            Self::Gap => 'G',
            Self::Repeated => 'R',
            Self::NotConnected => 'N',
            Self::OutOfInstrument => 'O',
            Self::Impossible => 'I',
            Self::Ponded => 'P',
            Self::Frozen => 'F',
            Self::Spike => 'S',
            Self::Step => 'J',
            Self::Stuck => 'K',
        }
    }
}

/// Named numbers that a flag rests on, in a fixed order.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Evidence(pub std::collections::BTreeMap<String, f64>);

impl Evidence {
    /// Evidence from names and numbers; numbers are rounded to six significant digits so that they read well and
    /// repeat exactly.
    #[must_use]
    pub fn of(pairs: &[(&str, f64)]) -> Self {
        Self(pairs.iter().map(|(name, value)| ((*name).to_owned(), six_digits(*value))).collect())
    }

    /// The number with this name.
    #[must_use]
    pub fn get(&self, name: &str) -> Option<f64> {
        self.0.get(name).copied()
    }
}

/// Rounds to six significant digits.
fn six_digits(value: f64) -> f64 {
    if value == 0.0 || !value.is_finite() {
        return 0.0;
    }
    format!("{value:.5e}").parse().unwrap_or(value)
}

/// An interval of a channel that a test speaks of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Flag {
    /// First reading concerned (for a gap: first missing one).
    pub start: UnixSeconds,
    /// Last reading concerned, inclusive.
    pub end: UnixSeconds,
    /// The test.
    pub test: Test,
    /// How much it counts.
    pub grade: Grade,
    /// How many readings it concerns (for a gap: how many are missing).
    pub readings: usize,
    /// How far the readings are off, in usual noise; with their number this orders what waits.
    pub strength: f64,
    /// The numbers behind it.
    pub evidence: Evidence,
    /// One sentence that a person understands.
    pub reason: String,
}

impl Flag {
    /// How much harm the flagged readings do if they are used unseen: the more readings and the further off, the
    /// more; by grade first.
    #[must_use]
    pub fn damage(&self) -> f64 {
        let grade = match self.grade {
            Grade::Wrong => 1e6,
            Grade::Doubtful => 1e3,
            Grade::Condition => 1.0,
        };
        grade * (1.0 + (self.readings as f64).ln_1p()) * (1.0 + self.strength.clamp(0.0, 1e3).ln_1p())
    }
}
