//! What a station's record says: its believed channels on one grid, and the findings that rest on them.
//!
//! [`Ground`] holds what the computations of `ebrel_core::findings` ask for; everything says how many readings were left out.

mod air;
mod beside;
mod ground;
mod heat;
mod overview;
mod picture;
mod responses;
mod water;

pub use air::{AirAsked, AirFindings, DaysOf, air};
pub use beside::{Beside, BesideError, Question, beside, day_of, in_common};
pub use ground::{Ground, Rain, Selection};
pub use heat::{DepthMonth, HeatFindings, heat};
pub use overview::{Coverage, DAYS, Now, StationPicture, picture};
pub use picture::{ProfileData, What, profile_data};
pub use responses::{Abscissa, PastedResponses, ResponseError, Responses, own_pairs, pasted_responses, responses};
pub use water::{CAPACITY_MM, LevelCapacity, WaterAsked, WaterFindings, planned_sentinel, water};
