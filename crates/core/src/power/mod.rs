//! What a node draws, how long its battery lasts, and what a panel gives back.

mod battery;
mod memory;
mod solar;

pub use battery::{Phase, SelfDischarge, average_current, battery_days, derating};
pub use memory::{Memory, RecordLoad, memory};
pub use solar::{DayLight, SolarRun, daylight, mid_month_day, solar_run};
