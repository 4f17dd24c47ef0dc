//! From reference samples to a curve that can be defended.
//!
//! [`PolynomialFit`] is least squares with everything one needs to judge it; [`recommend`] compares straight
//! line, quadratic, cubic and the line in the square root of permittivity, and says which and why; [`Curve`] is what is
//! adopted: it turns a raw reading into a water content with its uncertainty and says when it is asked beyond its
//! samples. [`compare`] tells what a new curve would change in a record, [`drift`] what lies between two versions.
//! Nothing here ever changes a reading.

mod candidate;
mod choice;
mod compare;
mod curve;
mod drift;
mod fit;
mod form;
mod literature;
mod recommend;
mod serves;

pub use candidate::Candidate;
pub use compare::{Comparison, ContentBand, DayMeans, Largest, OutOfBounds, compare};
pub use curve::{Curve, CurveError, Estimate};
pub use drift::{Drift, drift};
pub use fit::{Direction, FitError, Intercept, PolynomialFit};
pub use form::Form;
pub use literature::{Published, Score, mixing_theta, score};
pub use recommend::{Recommendation, Samples, recommend};
pub use serves::serves_model;

/// Confidence level of every band that is drawn.
pub const BAND_LEVEL: f64 = 0.95;
/// What a factory curve claims for mineral soils, m³/m³; shown beside a custom curve for comparison.
pub const FACTORY_CLAIM: f64 = 0.03;
/// Chance at which a sound run would name any of its samples an outlier: the externally studentized residual is held
/// against Student's t at this level shared among the samples (Bonferroni; Cook & Weisberg 1982, ch. 2.2).
pub const OUTLIER_LEVEL: f64 = 0.05;
/// A tin whose bulk density strays further than this from the run's median was packed differently.
pub const DENSITY_DRIFT: f64 = 0.05;
