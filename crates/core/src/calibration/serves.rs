//! Whom a calibration serves.

use crate::soil::Horizon;

/// Whether a calibration made for a model in a soil serves a probe of model `probe_model` that lies in `soil` and has none of its
/// own. A probe on the shelf or above ground lies in no soil, so none serves it.
///
/// ```
/// # use ebrel_core::{calibration::serves_model, soil::Horizon};
/// let topsoil = Horizon { name: "A".into(), texture: "silt loam".into(), ..Horizon::default() };
/// assert!(serves_model(("blade", "Silt loam"), "blade", Some(&topsoil)));
/// assert!(!serves_model(("blade", "sand"), "blade", Some(&topsoil)), "no curve of another soil is borrowed");
/// assert!(!serves_model(("blade", "silt loam"), "blade", None));
/// ```
#[must_use]
pub fn serves_model((model, made_in): (&str, &str), probe_model: &str, soil: Option<&Horizon>) -> bool {
    !model.is_empty() && model == probe_model && soil.is_some_and(|h| h.goes_by(made_in))
}
