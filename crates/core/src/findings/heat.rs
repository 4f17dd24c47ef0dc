//! Heat in the soil: the daily and the yearly wave by depth, and the thermal diffusivity that they tell.
//!
//! All five methods are those compared by Horton, Wierenga & Nielsen 1983, SSSAJ 47:25–32.

mod diffusivity;
mod methods;
mod waves;

pub use diffusivity::{Diffusivity, Method, diffusivities};
pub use methods::{by_amplitude, by_arctangent, by_logarithm, by_phase};
pub use waves::{DepthWave, Fall, YearlyWave, daily_by_depth, damping, yearly_by_depth};

/// Seconds of a day.
pub const DAY_S: f64 = 86_400.0;
/// Seconds of a mean Gregorian year.
pub const YEAR_S: f64 = 31_556_952.0;
