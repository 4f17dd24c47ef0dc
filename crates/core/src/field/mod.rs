//! The day at the hole: a log of entries that merges in any order, a reading judged before the hole is filled, when a record
//! settles, and what a node's clock really said.
//!
//! A phone without a network keeps [`Entry`]s and judges by a table of [`Limits`]; both are made and checked here, so that
//! phone and office say the same.

mod check;
mod clock;
mod deed;
mod judge;
mod limits;
mod log;
mod past;
mod seen;
mod settling;
mod site;
mod walk;

pub use check::{Around, Refusal, check_entry};
pub use clock::{Clock, ClockCheck, ClockError};
pub use deed::{Deed, LogKind, RepairKind, StepOutcome};
pub use judge::{Action, Judgement, Neighbour, Rule, RuleKind, SoilVerdict, judge};
pub use limits::{Limits, ProbeAtDepth, Weather, limits};
pub use log::{Entry, Log};
pub use past::usual_range;
pub use seen::{as_seen, differences, seen};
pub use settling::{Disturbance, Settling, settling};
pub use site::{LandmarkKind, Way, check_place, metres_from};
pub use walk::walking_order;
