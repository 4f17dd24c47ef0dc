//! Water in the soil and out of it: what a soil holds, what a profile stores, what the air takes.
//!
//! * [`Retention`]: water contents at field capacity and wilting by texture (pedotransfer).
//! * [`VanGenuchten`]: content and tension of one soil, by published classes or by a fit to own pairs ([`fit_retention`]).
//! * [`layer_weights`]: the trapezoid by which contents at some depths become a depth of water.
//! * [`evapotranspiration`]: the reference evapotranspiration of FAO-56, by Penman-Monteith or Hargreaves.

pub mod evapotranspiration;
mod pedotransfer;
mod retention;
mod retention_fit;
mod storage;

pub use pedotransfer::Retention;
pub use retention::{VanGenuchten, head_cm};
pub use retention_fit::{FittedRetention, RetentionFitError, fit_retention};
pub use storage::{DepthError, deficit_mm, layer_weights, storage_mm};
