//! Tests that find what is wrong with a record.
//!
//! [`check_station`] takes what is known of one station ([`StationContext`]) and returns [`Findings`]: for each channel
//! [`Flag`]s, intervals with a test, a grade, the numbers that are the evidence and a sentence that a person understands;
//! and [`Cause`]s, which explain flags of several channels at once. The tests adapt to the noise and the resolution of
//! each record ([`Noise`]); none changes a value. A person's verdict beats a flag and is kept elsewhere.
//!
//! Each test lives in a file with its detector, its settings and its [`Definition`]; `evidence` has what each rests on,
//! `table` what all of them are, and `check` their order: what one pass finds may be hidden from the next.

mod again;
mod answer;
mod burst;
mod cause;
mod check;
mod clock;
mod coded_event;
mod conditions;
mod context;
mod definition;
mod evidence;
mod exchange;
mod flag;
mod gap;
mod handling;
mod heat;
mod instrument;
mod misses;
mod noise;
mod order;
mod pair;
mod reference;
mod repeated;
mod rise;
mod scene;
mod screened;
mod settings;
mod slice;
mod spike;
mod step;
mod stuck;
mod sunlit;
mod supply;
mod table;
#[cfg(test)]
mod testing;
mod unjudged;
mod water;
mod wiggle;

pub use again::{Judged, check_again};
pub use burst::NoiseSettings;
pub use cause::{Cause, CauseKind, Mend};
pub use check::{Findings, check_station};
pub use clock::ClockSettings;
pub use coded_event::EventKind;
pub use conditions::{FrozenSettings, ImpossibleSettings, PondedSettings};
pub use context::{Channel, Delivery, Elsewhere, Event, Place, StationContext};
pub use definition::{Definition, Setting};
pub use evidence::{
    ClockEvidence, Evidence, Figure, FrozenEvidence, GapEvidence, HeatEvidence, ImpossibleEvidence, LateEvidence,
    LowPowerEvidence, MissesRainEvidence, NoiseEvidence, NotConnectedEvidence, OrderEvidence, OutOfInstrumentEvidence,
    PairEvidence, PondedEvidence, ReferenceEvidence, RepeatedEvidence, RiseEvidence, SeenEvidence, SettlingEvidence,
    SpikeEvidence, StepEvidence, StuckEvidence, SunlitEvidence, SwapEvidence, VisitEvidence, WetBoxEvidence,
    WiggleEvidence,
};
pub use exchange::SwapSettings;
pub use flag::{Flag, Test};
pub use gap::GapSettings;
pub use heat::HeatSettings;
pub use misses::MissesRainSettings;
pub use noise::Noise;
pub use order::OrderSettings;
pub use pair::PairSettings;
pub use reference::{Beside, Reference, ReferenceKind, ReferenceSettings};
pub use repeated::Repeat;
pub use rise::RiseSettings;
pub use settings::{SettingError, Settings};
pub use spike::SpikeSettings;
pub use step::StepSettings;
pub use stuck::StuckSettings;
pub use sunlit::SunlitSettings;
pub use supply::{LowPowerSettings, WetBoxSettings};
pub use unjudged::{Unjudged, unjudged};
pub use wiggle::WiggleSettings;
