//! Where things lie in the ground: holes at an angle, marks on a pushing pipe, cable, and sensing volumes.
//!
//! Lengths are in cm (cable in m), angles in degrees from the vertical. Nothing here knows of a plan.

mod cable;
mod hole;
mod volume;

pub use cable::{CableRun, CableSum, cable_sum};
pub use hole::{AngledHole, HoleError, PipeMark, angled_hole, pipe_marks};
pub use volume::{Attitude, SensingVolume, ellipsoid_overlap, overlap_fraction, share_above_surface, sphere_overlap};
