//! What a test returns.

use super::Evidence;
use crate::units::{Grade, UnixSeconds, coded};
use serde::{Deserialize, Serialize};

coded!(
    /// The tests; codes as in the record package.
    Test {
        /// Records are missing.
        Gap = "gap",
        /// Readings arrived long after later ones.
        Late = "late",
        /// The same time came more than once.
        Repeated = "repeated",
        /// A node's clock went wrong.
        Clock = "clock",
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
        /// A burst of noise: a loose plug, a wet connector.
        Noise = "noise",
        /// Soil wets and nothing brought water.
        RiseWithoutWater = "rise_without_water",
        /// Much rain, and a shallow probe is silent.
        MissesRain = "misses_rain",
        /// A deeper probe wets before a shallower one.
        WetsOutOfOrder = "wets_out_of_order",
        /// Water content that follows the daily wave of temperature.
        DailyWiggle = "daily_wiggle",
        /// The daily wave of temperature grows with depth.
        HeatMisorder = "heat_misorder",
        /// Twins at one depth drift apart.
        PairApart = "pair_apart",
        /// A reading taken beside the probe disagrees with it.
        ReferenceApart = "reference_apart",
        /// Air temperature that runs warm in the sun.
        SunlitAir = "sunlit_air",
        /// The node's supply runs down.
        LowPower = "low_power",
        /// Water in the enclosure.
        WetBox = "wet_box",
        /// Before the record counts: soil settles around a probe.
        Settling = "settling",
        /// Somebody was at work beside it.
        Visit = "visit",
        /// Two ports carry each other's probe.
        SwappedPorts = "swapped_ports",
    }
);

/// An interval of a channel that a test speaks of.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Flag {
    /// First reading concerned (for a gap: first missing one).
    pub start: UnixSeconds,
    /// Last reading concerned, inclusive.
    pub end: UnixSeconds,
    /// The test concerned.
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
    /// A flag of the test that the evidence is of.
    pub(super) fn new(
        grade: Grade,
        (start, end): (i64, i64),
        readings: usize,
        strength: f64,
        evidence: Evidence,
        reason: String,
    ) -> Self {
        Self {
            start: UnixSeconds(start),
            end: UnixSeconds(end),
            test: evidence.test(),
            grade,
            readings,
            strength,
            evidence,
            reason,
        }
    }

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
