//! The numbers that a flag rests on, each test with its own.

mod quick;
mod slow;

pub use quick::*;
pub use slow::*;

use super::Test;
use serde::{Deserialize, Serialize};

/// A number of six significant digits: enough to read, and the same at every run. What is no number is 0.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Figure(f64);

impl Figure {
    /// The number as it was measured.
    #[must_use]
    pub const fn get(self) -> f64 {
        self.0
    }
}

impl From<f64> for Figure {
    fn from(value: f64) -> Self {
        if value == 0.0 || !value.is_finite() {
            return Self(0.0);
        }
        Self(format!("{value:.5e}").parse().unwrap_or(value))
    }
}

impl From<usize> for Figure {
    fn from(value: usize) -> Self {
        Self::from(value as f64)
    }
}

/// Makes the evidence of one test: named figures, in the order of their names.
macro_rules! evidence {
    ($(#[$doc:meta])* $name:ident { $($(#[$fdoc:meta])+ $field:ident: $kind:ty,)+ }) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, serde::Serialize, serde::Deserialize)]
        pub struct $name {
            $($(#[$fdoc])+ pub $field: $kind,)+
        }
    };
}
use evidence;

/// What a person saw and named as one test would.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SeenEvidence {
    /// Readings that the span holds.
    pub readings: Figure,
    /// The test whose name the person gave it.
    pub seen: Test,
}

impl SeenEvidence {
    fn read(test: Test, json: &str) -> Option<Self> {
        let seen: Self = json.contains("\"seen\"").then(|| serde_json::from_str(json).ok()).flatten()?;
        (seen.seen == test).then_some(seen)
    }
}

/// Makes the sum of all evidence, and the way back from its text.
macro_rules! by_test {
    ($($(#[$doc:meta])+ $test:ident($evidence:ty),)+) => {
        /// What a flag rests on.
        #[derive(Debug, Clone, Copy, PartialEq, Serialize)]
        #[serde(untagged)]
        pub enum Evidence {
            $($(#[$doc])+ $test($evidence),)+
            /// A person saw it, no test did.
            Seen(SeenEvidence),
        }

        impl Evidence {
            /// The test whose evidence this is.
            #[must_use]
            pub const fn test(&self) -> Test {
                match self {
                    $(Self::$test(_) => Test::$test,)+
                    Self::Seen(seen) => seen.seen,
                }
            }

            /// Reads evidence of a test as it was kept.
            ///
            /// # Errors
            /// [`serde_json::Error`] if the text is no evidence of this test.
            pub fn read(test: Test, json: &str) -> Result<Self, serde_json::Error> {
                if let Some(seen) = SeenEvidence::read(test, json) {
                    return Ok(Self::Seen(seen));
                }
                Ok(match test {
                    $(Test::$test => Self::$test(serde_json::from_str(json)?),)+
                })
            }
        }
    };
}

by_test!(
    /// Records that are missing.
    Gap(GapEvidence),
    /// How far behind.
    Late(LateEvidence),
    /// Readings that came again.
    Repeated(RepeatedEvidence),
    /// How far off, and how that grows.
    Clock(ClockEvidence),
    /// The value of a port without a probe.
    NotConnected(NotConnectedEvidence),
    /// The worst reading and the instrument's limits.
    OutOfInstrument(OutOfInstrumentEvidence),
    /// A water content that no soil has.
    Impossible(ImpossibleEvidence),
    /// Water above the pores.
    Ponded(PondedEvidence),
    /// The coldest reading beside the probe.
    Frozen(FrozenEvidence),
    /// Departures from the level around.
    Spike(SpikeEvidence),
    /// The levels before and after.
    Step(StepEvidence),
    /// The value that stands.
    Stuck(StuckEvidence),
    /// The burst and what is usual.
    Noise(NoiseEvidence),
    /// The rise and what is usual in dry weather.
    RiseWithoutWater(RiseEvidence),
    /// The rain and the answer.
    MissesRain(MissesRainEvidence),
    /// Who came first.
    WetsOutOfOrder(OrderEvidence),
    /// Water content for each kelvin.
    DailyWiggle(WiggleEvidence),
    /// The waves of two thermometers.
    HeatMisorder(HeatEvidence),
    /// The difference of twins.
    PairApart(PairEvidence),
    /// The record beside a reading of a visit.
    ReferenceApart(ReferenceEvidence),
    /// Warm by day, not by night.
    SunlitAir(SunlitEvidence),
    /// The voltage.
    LowPower(LowPowerEvidence),
    /// The humidity in the box.
    WetBox(WetBoxEvidence),
    /// How long it took until the record counts.
    Settling(SettlingEvidence),
    /// How long somebody was there.
    Visit(VisitEvidence),
    /// The jumps, taken either way.
    SwappedPorts(SwapEvidence),
);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn figures_read_well_and_repeat() {
        assert_eq!(Figure::from(0.123_456_789).get(), 0.123_457);
        assert_eq!(Figure::from(-1_234_567.0).get(), -1_234_570.0);
        assert_eq!([Figure::from(f64::NAN).get(), Figure::from(f64::INFINITY).get()], [0.0, 0.0]);
    }

    #[test]
    fn evidence_comes_back_as_it_was_kept() {
        let figure = Figure::from(0.25);
        let all = [
            Evidence::Gap(GapEvidence { interval_s: figure, missing: figure }),
            Evidence::Repeated(RepeatedEvidence { largest_difference: figure, repeats: figure }),
            Evidence::NotConnected(NotConnectedEvidence { readings: figure, value: figure }),
            Evidence::Impossible(ImpossibleEvidence::BelowZero { lowest: figure }),
            Evidence::Impossible(ImpossibleEvidence::AbovePores { highest: figure, pore_space: figure, rain_mm: None }),
            Evidence::Stuck(StuckEvidence { neighbour_moved: None, noise: figure, readings: figure, value: figure }),
            Evidence::Seen(SeenEvidence { readings: figure, seen: Test::Stuck }),
        ];
        for evidence in all {
            let json = serde_json::to_string(&evidence).unwrap();
            assert_eq!(Evidence::read(evidence.test(), &json).unwrap(), evidence, "{json}");
        }
        assert!(Evidence::read(Test::Spike, r#"{"missing": 3}"#).is_err());
        assert!(Evidence::read(Test::Spike, r#"{"readings": 3, "seen": "stuck"}"#).is_err(), "named by another test");
    }
}
