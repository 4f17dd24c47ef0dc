//! The numbers that a flag rests on, each test with its own.

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
evidence!(
    /// What a silence is told by.
    GapEvidence {
        /// How often a reading is due, seconds.
        interval_s: Figure,
        /// Readings that were due and did not come.
        missing: Figure,
    }
);

evidence!(
    /// What repeats are told by.
    RepeatedEvidence {
        /// The largest difference between a first and a later value.
        largest_difference: Figure,
        /// How many times came again.
        repeats: Figure,
    }
);

evidence!(
    /// What a port without a probe is told by.
    NotConnectedEvidence {
        /// How many readings.
        readings: Figure,
        /// The value that stands in them.
        value: Figure,
    }
);

evidence!(
    /// What is beyond an instrument, in the unit in which it speaks.
    OutOfInstrumentEvidence {
        /// The largest value that it can give.
        instrument_max: Figure,
        /// The smallest value that it can give.
        instrument_min: Figure,
        /// Length of the stretch, in readings.
        readings: Figure,
        /// The reading that lies furthest out.
        worst: Figure,
    }
);

evidence!(
    /// What standing water is told by.
    PondedEvidence {
        /// The highest reading, m³/m³.
        highest: Figure,
        /// The pore space at this depth, m³/m³.
        pore_space: Figure,
        /// Rain of the day before, mm, as far as a gauge tells.
        rain_mm: Option<Figure>,
    }
);

evidence!(
    /// What frost is told by.
    FrozenEvidence {
        /// The coldest reading beside the probe, °C.
        coldest: Figure,
    }
);

/// What a water content that no soil has is told by, m³/m³.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum ImpossibleEvidence {
    /// Above what the pores hold.
    AbovePores {
        /// The highest reading.
        highest: Figure,
        /// The pore space at this depth.
        pore_space: Figure,
        /// Rain of the day before, mm, as far as a gauge tells, where it was asked for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        rain_mm: Option<Figure>,
    },
    /// A water content below zero.
    BelowZero {
        /// The lowest reading.
        lowest: Figure,
    },
}

evidence!(
    /// What a spike is told by.
    SpikeEvidence {
        /// How many times the record left its level.
        departures: Figure,
        /// How far the tallest stands off its surroundings, in the channel's unit.
        height: Figure,
        /// The record's usual noise, one standard deviation, in the channel's unit.
        noise: Figure,
        /// How many readings.
        readings: Figure,
    }
);

evidence!(
    /// What a step is told by, in the channel's unit.
    StepEvidence {
        /// The level after it.
        after: Figure,
        /// The level before it.
        before: Figure,
        /// The record's usual noise, one standard deviation.
        noise: Figure,
    }
);

evidence!(
    /// What a standstill is told by, in the channel's unit.
    StuckEvidence {
        /// How far a neighbour moved meanwhile, in its unit, where one bears witness.
        neighbour_moved: Option<Figure>,
        /// The record's usual noise, one standard deviation.
        noise: Figure,
        /// How many readings.
        readings: Figure,
        /// The value that stands.
        value: Figure,
    }
);

evidence!(
    /// What a settling is told by.
    SettlingEvidence {
        /// From the day on which the probe was put in to that from which the record counts, days.
        days: Figure,
    }
);

evidence!(
    /// What a visit is told by.
    VisitEvidence {
        /// How long somebody was there, minutes.
        minutes: Figure,
    }
);

/// What a flag rests on.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
#[serde(untagged)]
pub enum Evidence {
    /// Records that are missing.
    Gap(GapEvidence),
    /// Readings that came again.
    Repeated(RepeatedEvidence),
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
    /// How long it took until the record counts.
    Settling(SettlingEvidence),
    /// How long somebody was there.
    Visit(VisitEvidence),
}

impl Evidence {
    /// The test whose evidence this is.
    #[must_use]
    pub const fn test(&self) -> Test {
        match self {
            Self::Gap(_) => Test::Gap,
            Self::Repeated(_) => Test::Repeated,
            Self::NotConnected(_) => Test::NotConnected,
            Self::OutOfInstrument(_) => Test::OutOfInstrument,
            Self::Impossible(_) => Test::Impossible,
            Self::Ponded(_) => Test::Ponded,
            Self::Frozen(_) => Test::Frozen,
            Self::Spike(_) => Test::Spike,
            Self::Step(_) => Test::Step,
            Self::Stuck(_) => Test::Stuck,
            Self::Settling(_) => Test::Settling,
            Self::Visit(_) => Test::Visit,
        }
    }

    /// Reads evidence of a test as it was kept.
    ///
    /// # Errors
    /// [`serde_json::Error`] if the text is no evidence of this test.
    pub fn read(test: Test, json: &str) -> Result<Self, serde_json::Error> {
        Ok(match test {
            Test::Gap => Self::Gap(serde_json::from_str(json)?),
            Test::Repeated => Self::Repeated(serde_json::from_str(json)?),
            Test::NotConnected => Self::NotConnected(serde_json::from_str(json)?),
            Test::OutOfInstrument => Self::OutOfInstrument(serde_json::from_str(json)?),
            Test::Impossible => Self::Impossible(serde_json::from_str(json)?),
            Test::Ponded => Self::Ponded(serde_json::from_str(json)?),
            Test::Frozen => Self::Frozen(serde_json::from_str(json)?),
            Test::Spike => Self::Spike(serde_json::from_str(json)?),
            Test::Step => Self::Step(serde_json::from_str(json)?),
            Test::Stuck => Self::Stuck(serde_json::from_str(json)?),
            Test::Settling => Self::Settling(serde_json::from_str(json)?),
            Test::Visit => Self::Visit(serde_json::from_str(json)?),
        })
    }
}

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
        ];
        for evidence in all {
            let json = serde_json::to_string(&evidence).unwrap();
            assert_eq!(Evidence::read(evidence.test(), &json).unwrap(), evidence, "{json}");
        }
        assert!(Evidence::read(Test::Spike, r#"{"missing": 3}"#).is_err());
    }
}
