//! Contents at some depths as a depth of water.

use thiserror::Error;

/// Why depths make no profile.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum DepthError {
    /// No depth at all.
    #[error("no probe lies in the soil: place one, or choose depths")]
    None,
    /// Depths that do not rise, or are not finite.
    #[error("depths must rise from the surface down, each only once")]
    Order,
    /// Nothing lies above the bottom.
    #[error("the bottom must lie below the surface")]
    Bottom,
}

/// How many mm of water one unit of content (m³/m³) at each depth stands for, down to `bottom_cm`.
///
/// The content is taken as that of the first probe from the surface down to it, as linear between probes, and as that of the last
/// one below it: S = 10 Σ wᵢ θᵢ, mm, with depths in cm (trapezoidal rule; the rules at both ends are a definition). Weights sum up
/// to ten times the bottom. A bottom above the last probe cuts the line between two probes.
///
/// # Errors
/// [`DepthError`] for no depths, depths out of order, or a bottom at or above the surface.
///
/// ```
/// use ebrel_core::water::{layer_weights, storage_mm};
/// let weights = layer_weights(&[10.0, 20.0, 30.0, 50.0], 60.0).unwrap();
/// assert!((storage_mm(&weights, &[0.18, 0.22, 0.25, 0.27]) - 140.5).abs() < 1e-9);
/// ```
pub fn layer_weights(depths_cm: &[f64], bottom_cm: f64) -> Result<Vec<f64>, DepthError> {
    let (Some(first), Some(last)) = (depths_cm.first(), depths_cm.last()) else { return Err(DepthError::None) };
    if *first < 0.0
        || !last.is_finite()
        || depths_cm.windows(2).any(|w| w[1].partial_cmp(&w[0]) != Some(std::cmp::Ordering::Greater))
    {
        return Err(DepthError::Order);
    }
    if !(bottom_cm > 0.0 && bottom_cm.is_finite()) {
        return Err(DepthError::Bottom);
    }
    let mut weights = vec![0.0; depths_cm.len()];
    weights[0] += 10.0 * first.min(bottom_cm);
    for i in 1..depths_cm.len() {
        let (a, b) = (depths_cm[i - 1], depths_cm[i]);
        let share = ((bottom_cm - a) / (b - a)).clamp(0.0, 1.0);
        // The integral of the line from a to a + share (b − a): θa (s − s²/2) + θb s²/2, times the thickness.
        weights[i - 1] += 10.0 * (b - a) * (share - share * share / 2.0);
        weights[i] += 10.0 * (b - a) * share * share / 2.0;
    }
    weights[depths_cm.len() - 1] += 10.0 * (bottom_cm - last).max(0.0);
    Ok(weights)
}

/// Water of a profile, mm: the sum of weights of [`layer_weights`] times contents; NaN if one of those that count is missing.
#[must_use]
pub fn storage_mm(weights: &[f64], theta: &[f64]) -> f64 {
    weights.iter().zip(theta).filter(|(w, _)| **w > 0.0).map(|(w, t)| w * t).sum()
}

/// What is missing to field capacity, mm: over the whole profile, where a wet layer makes up for a dry one, and the sum over dry layers
/// alone.
#[must_use]
pub fn deficit_mm(weights: &[f64], theta: &[f64], capacity: &[f64]) -> (f64, f64) {
    let missing = weights.iter().zip(theta).zip(capacity).map(|((w, t), c)| w * (c - t));
    missing.fold((0.0, 0.0), |(net, dry), m| (net + m, dry + m.max(0.0)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;
    use proptest::prelude::*;

    #[test]
    fn the_reference_profiles_store_what_they_store() {
        let at = |depths: &[f64], theta: &[f64], bottom| storage_mm(&layer_weights(depths, bottom).unwrap(), theta);
        assert_close(at(&[10.0, 20.0, 30.0, 50.0], &[0.18, 0.22, 0.25, 0.27], 60.0), 140.5, 1e-11);
        assert_close(at(&[10.0, 30.0, 60.0], &[0.21, 0.24, 0.3], 45.0), 104.25, 1e-11);
    }

    #[test]
    fn the_reference_deficits_are_met() {
        let weights = layer_weights(&[10.0, 20.0, 30.0, 50.0], 60.0).unwrap();
        let (net, dry) = deficit_mm(&weights, &[0.18, 0.22, 0.25, 0.27], &[0.28, 0.28, 0.27, 0.26]);
        assert_close(net, 22.0, 1e-11);
        assert_close(dry, 24.0, 1e-11);
        let weights = layer_weights(&[15.0, 30.0, 60.0], 75.0).unwrap();
        let (net, dry) = deficit_mm(&weights, &[0.2, 0.22, 0.3], &[0.27, 0.27, 0.28]);
        assert_close(net, 21.0, 1e-11);
        assert_close(dry, 27.0, 1e-11);
    }

    #[test]
    fn what_is_no_profile_is_refused_and_a_gap_is_no_zero() {
        assert_eq!(layer_weights(&[], 60.0), Err(DepthError::None));
        for depths in [&[10.0, 10.0][..], &[20.0, 10.0], &[f64::NAN, 10.0], &[-5.0, 10.0]] {
            assert_eq!(layer_weights(depths, 60.0), Err(DepthError::Order), "{depths:?}");
        }
        for bottom in [0.0, -10.0, f64::NAN, f64::INFINITY] {
            assert_eq!(layer_weights(&[10.0], bottom), Err(DepthError::Bottom));
        }
        let weights = layer_weights(&[10.0, 30.0], 40.0).unwrap();
        assert!(storage_mm(&weights, &[0.2, f64::NAN]).is_nan());
        let weights = layer_weights(&[10.0, 30.0], 8.0).unwrap();
        assert_close(storage_mm(&weights, &[0.2, f64::NAN]), 16.0, 1e-12);
    }

    proptest! {
        #[test]
        fn an_even_profile_stores_its_content_times_its_depth(
            steps in prop::collection::vec(0.5f64..40.0, 1..8), bottom in 1.0f64..250.0, theta in 0.0f64..0.6,
        ) {
            let depths: Vec<f64> = steps.iter().scan(0.0, |z, s| { *z += s; Some(*z) }).collect();
            let weights = layer_weights(&depths, bottom).unwrap();
            prop_assert!(weights.iter().all(|w| *w >= 0.0));
            let stored = storage_mm(&weights, &vec![theta; depths.len()]);
            prop_assert!((stored - 10.0 * theta * bottom).abs() < 1e-8);
        }
    }
}
