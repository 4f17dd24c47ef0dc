//! The day at the hole: what is taken along, what comes back from phones, what comes of it, and how a study's stations stand.

mod built;
pub mod moments;
mod outcome;
mod pack;
pub mod photos;
mod receive;
mod removal;
mod site;
mod soil;
mod standing;

pub use built::{Built, built};
pub use outcome::{clock_slips, come_of};
pub use pack::{Pack, PackProbe, PackStep, pack};
pub use receive::{Received, receive};
pub use removal::{Retrieval, ToComeOut, came_back, retrieval};
pub use site::{MOST_LANDMARKS, SiteTaken, Walk, found_again, marks, place_of, points, take_site, walks};
pub use soil::{SoilOfLog, decide_soil, soil_of};
pub use standing::{LogRow, StationStanding, standing};
