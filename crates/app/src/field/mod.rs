//! The day at the hole: what is taken along, what comes back from phones, what comes of it, and how a study's stations stand.

mod built;
mod outcome;
mod pack;
pub mod photos;
mod receive;
mod standing;

pub use built::{Built, built};
pub use outcome::{clock_slips, come_of};
pub use pack::{Pack, PackProbe, PackStep, pack};
pub use receive::{Received, receive};
pub use standing::{LogRow, StationStanding, standing};
