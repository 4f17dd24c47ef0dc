//! Reference samples: what a core of soil in a tin says, and how a container is packed and wetted.
//!
//! [`CoreMasses`] holds what the balance showed; [`CoreMasses::resolve`] gives a [`CoreSample`] with the
//! standard uncertainty of every figure. [`packing`] answers how much moist soil a layer takes and how much
//! water brings a soil from one content to the next; [`drying`] whether a tin came out of the oven dry.

mod core_sample;
mod drift;
mod drying;
pub mod packing;

pub use core_sample::{BalanceUncertainty, CoreError, CoreMasses, CoreSample, Measured};
pub use drift::{PackingDrift, packing_drift};
pub use drying::{CONSTANT_SHARE, Drying, drying};

/// Density of water at 4 °C, g/cm³, taken where no temperature is known.
pub const WATER_DENSITY_G_CM3: f64 = 1.0;
