//! What shows within hours: silences, marks, spikes, steps, standstills.

use super::{Figure, evidence};
use serde::{Deserialize, Serialize};

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
