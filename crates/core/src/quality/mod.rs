//! Tests that find what is wrong with a record.
//!
//! [`check_station`] takes the channels of one station with their rain and events and returns [`Flag`]s: intervals
//! with a test, a grade, the numbers that are the evidence and a sentence that a person understands. The tests
//! adapt to the noise and the resolution of each record ([`Noise`]); none changes a value. A person's verdict
//! beats a flag and is kept elsewhere.
//!
//! Order matters: what is not connected or outside the instrument is taken out of the way before noise, spikes,
//! steps and stuck readings are judged, and readings flagged as spikes do not count as steps.

mod coded_event;
mod conditions;
mod flag;
mod gap;
mod instrument;
mod noise;
mod repeated;
mod spike;
mod station;
mod step;
mod stuck;
#[cfg(test)]
mod testing;
mod water;

pub use flag::{Evidence, Flag, Test};
pub use noise::Noise;
pub use repeated::Repeat;
pub use station::{Channel, Event, EventKind, Settings, check_station};
