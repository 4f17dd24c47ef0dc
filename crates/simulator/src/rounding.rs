//! Numbers as an instrument shows them.

/// Rounds to a display step without the tails of binary fractions.
pub(crate) fn to_step(value: f64, step: f64) -> f64 {
    let per_unit = (1.0 / step).round();
    (value * per_unit).round() / per_unit
}
