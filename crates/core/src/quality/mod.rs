//! Tests that find what is wrong with a record.
//!
//! [`check_station`] takes what is known of one station ([`StationContext`]) and returns [`Findings`]: for each channel
//! [`Flag`]s, intervals with a test, a grade, the numbers that are the evidence and a sentence that a person understands;
//! and [`Cause`]s, which explain flags of several channels at once. The tests adapt to the noise and the resolution of
//! each record ([`Noise`]); none changes a value. A person's verdict beats a flag and is kept elsewhere.
//!
//! Each test lives in a file with its detector, its settings and its [`Definition`]; `evidence` has what each rests on,
//! `table` what all of them are, and `check` their order: what one pass finds may be hidden from the next.

mod cause;
mod check;
mod coded_event;
mod conditions;
mod context;
mod definition;
mod evidence;
mod flag;
mod gap;
mod handling;
mod instrument;
mod noise;
mod repeated;
mod scene;
mod screened;
mod settings;
mod spike;
mod step;
mod stuck;
mod table;
#[cfg(test)]
mod testing;
mod water;

pub use cause::{Cause, CauseKind};
pub use check::{Findings, check_station};
pub use coded_event::EventKind;
pub use conditions::{FrozenSettings, ImpossibleSettings, PondedSettings};
pub use context::{Channel, Delivery, Elsewhere, Event, Place, StationContext};
pub use definition::{Definition, Setting};
pub use evidence::{
    Evidence, Figure, FrozenEvidence, GapEvidence, ImpossibleEvidence, NotConnectedEvidence, OutOfInstrumentEvidence,
    PondedEvidence, RepeatedEvidence, SettlingEvidence, SpikeEvidence, StepEvidence, StuckEvidence, VisitEvidence,
};
pub use flag::{Flag, Test};
pub use gap::GapSettings;
pub use noise::Noise;
pub use repeated::Repeat;
pub use settings::{SettingError, Settings};
pub use spike::SpikeSettings;
pub use step::StepSettings;
pub use stuck::StuckSettings;
