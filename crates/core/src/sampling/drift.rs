//! Whether the packing of a run drifted from its first tin to its last.

use crate::calibration::{Intercept, PolynomialFit};
use crate::statistics::{mad_sigma, median, t_quantile};

/// A packing that changed over a run.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PackingDrift {
    /// Density at the first tin by the line through all, g/cm³.
    pub first: f64,
    /// At the last.
    pub last: f64,
}

/// Tins below which no trend is told.
const FEWEST: usize = 5;
/// A change smaller than this share over the whole run is left alone.
const WORTH: f64 = 0.04;
/// A density this many robust standard deviations off is a slip of its own, not part of a trend.
const SLIP: f64 = 6.0;

/// The trend of bulk densities (g/cm³, in the order of packing): told where the slope of a least-squares line over the order
/// passes its 95 % half width and the change passes 4 %. A single tin that stands far off does not make a trend.
#[must_use]
pub fn packing_drift(densities: &[f64]) -> Option<PackingDrift> {
    let steps: Vec<f64> = densities.windows(2).map(|w| w[1] - w[0]).collect();
    let (middle, sigma) = (median(&mut steps.clone())?, mad_sigma(&mut steps.clone())?.max(0.004));
    if steps.iter().any(|s| (s - middle).abs() > SLIP * sigma) || densities.len() < FEWEST {
        return None;
    }
    let order: Vec<f64> = (0..densities.len()).map(|i| i as f64).collect();
    let line = PolynomialFit::new(&order, densities, 1, Intercept::Free).ok()?;
    let (first, last) = (line.at(0.0).0, line.at(order[order.len() - 1]).0);
    let sure = line.coefficients[1].abs() > t_quantile(0.975, line.df) * line.standard_errors[1];
    (sure && (last / first - 1.0).abs() > WORTH).then_some(PackingDrift { first, last })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_trend_is_told_and_one_slip_or_scatter_is_not() {
        let drift = packing_drift(&[1.18, 1.20, 1.21, 1.24, 1.25, 1.28, 1.29]).unwrap();
        assert!((drift.first - 1.18).abs() < 0.01 && (drift.last - 1.29).abs() < 0.01);
        assert_eq!(packing_drift(&[1.30, 1.31, 1.30, 1.42, 1.30, 1.31, 1.30]), None, "one tin");
        assert_eq!(packing_drift(&[1.30, 1.31, 1.29, 1.31, 1.30, 1.29, 1.31]), None);
        assert_eq!(packing_drift(&[1.2, 1.3, 1.4]), None, "too few to tell");
        assert!(packing_drift(&[1.29, 1.28, 1.25, 1.24, 1.21, 1.20, 1.18]).is_some(), "either way");
    }
}
