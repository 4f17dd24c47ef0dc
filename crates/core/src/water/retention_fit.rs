//! A retention curve through own pairs of content and tension.

use super::VanGenuchten;
use crate::statistics::{median, quantile};
use nalgebra::{Matrix3, Vector3};
use thiserror::Error;

/// Why pairs make no curve.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RetentionFitError {
    /// Too few pairs.
    #[error("{0} pairs of content and tension; a curve needs at least {LEAST_PAIRS}")]
    Few(usize),
    /// The tensions span too little.
    #[error("the tensions span less than a factor of {LEAST_FACTOR}: wait for a drying of the soil")]
    Narrow,
    /// The search ended nowhere.
    #[error("no curve of this form follows the pairs: content does not fall with tension")]
    Nowhere,
}

/// Fewer pairs than this make no curve.
pub const LEAST_PAIRS: usize = 24;
/// Largest over smallest tension that a curve needs.
pub const LEAST_FACTOR: u32 = 4;
/// Classes of the logarithm of tension in which pairs are gathered.
const CLASSES: usize = 32;

/// A fitted curve.
#[derive(Debug, Clone, PartialEq)]
pub struct FittedRetention {
    /// The curve.
    pub curve: VanGenuchten,
    /// Half width of the band that holds 95 % of the pairs about it, m³/m³: scatter of both probes, and hysteresis.
    pub half_width: f64,
    /// Smallest and largest tension of the pairs, kPa: beyond, the curve is an extrapolation.
    pub range_kpa: (f64, f64),
    /// How many pairs.
    pub pairs: usize,
}

/// Fits [`VanGenuchten`] to pairs of (kPa, m³/m³) with the residual content held at `residual` (no field record reaches it).
///
/// Pairs are gathered by the logarithm of tension, since a record dwells where the soil is wet: the medians of up to 32 classes weigh alike.
/// Least squares by Levenberg and Marquardt (Marquardt 1963, J. Soc. Ind. Appl. Math. 11:431) in θs, ln α and ln(n − 1).
///
/// # Errors
/// [`RetentionFitError`] for fewer than 24 pairs, tensions within a factor of four, and pairs that no such curve follows.
pub fn fit_retention(pairs: &[(f64, f64)], residual: f64) -> Result<FittedRetention, RetentionFitError> {
    let known: Vec<(f64, f64)> =
        pairs.iter().copied().filter(|(kpa, theta)| *kpa > 0.0 && kpa.is_finite() && theta.is_finite()).collect();
    if known.len() < LEAST_PAIRS {
        return Err(RetentionFitError::Few(known.len()));
    }
    let mut tensions: Vec<f64> = known.iter().map(|p| p.0).collect();
    let range_kpa =
        (tensions.iter().copied().fold(f64::INFINITY, f64::min), tensions.iter().copied().fold(0.0, f64::max));
    let (low, high) = (quantile(&mut tensions, 0.01).unwrap_or(0.0), quantile(&mut tensions, 0.99).unwrap_or(0.0));
    if high < low * f64::from(LEAST_FACTOR) {
        return Err(RetentionFitError::Narrow);
    }
    let classes = classes(&known, range_kpa);
    let start = |n: f64| {
        let saturated = classes.iter().map(|c| c.1).fold(0.0, f64::max) + 0.02;
        Vector3::new(saturated, -3.5, (n - 1.0_f64).ln())
    };
    let fits = [1.15, 1.4, 2.0].into_iter().filter_map(|n| descend(&classes, residual, start(n)));
    let (squares, best) = fits.min_by(|a, b| a.0.total_cmp(&b.0)).ok_or(RetentionFitError::Nowhere)?;
    let curve = of(&best, residual);
    let falls = curve.theta(range_kpa.0) - curve.theta(range_kpa.1) > 0.005;
    // A curve that explains less than half of the scatter of the classes follows chance.
    let mean = classes.iter().map(|c| c.1).sum::<f64>() / classes.len() as f64;
    let scatter: f64 = classes.iter().map(|c| (c.1 - mean).powi(2)).sum();
    if !falls || squares > scatter / 2.0 || !(0.05..=1.0).contains(&curve.saturated) || curve.saturated <= residual {
        return Err(RetentionFitError::Nowhere);
    }
    let mut off: Vec<f64> = known.iter().map(|(kpa, theta)| (theta - curve.theta(*kpa)).abs()).collect();
    let half_width = quantile(&mut off, 0.95).unwrap_or(f64::NAN);
    Ok(FittedRetention { curve, half_width, range_kpa, pairs: known.len() })
}

/// Median tension and content of each class of ln(tension) that has pairs.
fn classes(pairs: &[(f64, f64)], (low, high): (f64, f64)) -> Vec<(f64, f64)> {
    let mut classes: Vec<(Vec<f64>, Vec<f64>)> = vec![Default::default(); CLASSES];
    let width = (high / low).ln().max(1e-9);
    for (kpa, theta) in pairs {
        let at = ((kpa / low).ln() / width * CLASSES as f64) as usize;
        let class = &mut classes[at.min(CLASSES - 1)];
        class.0.push(*kpa);
        class.1.push(*theta);
    }
    classes.iter_mut().filter_map(|(kpa, theta)| median(kpa).zip(median(theta))).collect()
}

fn of(p: &Vector3<f64>, residual: f64) -> VanGenuchten {
    VanGenuchten { residual, saturated: p[0], alpha_per_cm: p[1].exp(), n: 1.0 + p[2].exp() }
}

/// Sum of squares and parameters where the descent from `p` ends.
fn descend(points: &[(f64, f64)], residual: f64, mut p: Vector3<f64>) -> Option<(f64, Vector3<f64>)> {
    let cost = |p: &Vector3<f64>| {
        let curve = of(p, residual);
        points.iter().map(|(kpa, theta)| (theta - curve.theta(*kpa)).powi(2)).sum::<f64>()
    };
    let (mut now, mut damping) = (cost(&p), 1e-3);
    for _ in 0..200 {
        let (mut normal, mut right) = (Matrix3::zeros(), Vector3::zeros());
        for (kpa, theta) in points {
            let here = of(&p, residual).theta(*kpa);
            let slope = Vector3::from_fn(|i, _| {
                let mut q = p;
                q[i] += 1e-6;
                (of(&q, residual).theta(*kpa) - here) / 1e-6
            });
            normal += slope * slope.transpose();
            right += slope * (theta - here);
        }
        let damped = normal + Matrix3::from_diagonal(&(normal.diagonal() * damping + Vector3::repeat(1e-12)));
        let step = damped.cholesky()?.solve(&right);
        let next = p + step;
        let then = cost(&next);
        if then.is_finite() && then < now {
            let done = now - then < 1e-12 * now;
            (p, now, damping) = (next, then, damping * 0.3);
            if done {
                break;
            }
        } else {
            damping *= 4.0;
            if damping > 1e9 {
                break;
            }
        }
    }
    (now.is_finite() && p.iter().all(|v| v.is_finite())).then_some((now, p))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    fn pairs(of: VanGenuchten, n: usize) -> Vec<(f64, f64)> {
        (0..n).map(|i| 5.0 * 40f64.powf(i as f64 / (n - 1) as f64)).map(|kpa| (kpa, of.theta(kpa))).collect()
    }

    #[test]
    fn a_curve_is_found_again_through_its_own_pairs() {
        let truth = VanGenuchten { residual: 0.067, saturated: 0.45, alpha_per_cm: 0.02, n: 1.41 };
        let found = fit_retention(&pairs(truth, 200), 0.067).unwrap();
        for kpa in [6.0, 20.0, 100.0, 190.0] {
            assert_close(found.curve.theta(kpa), truth.theta(kpa), 0.01);
        }
        assert!(found.half_width < 0.003, "{found:?}");
        assert_eq!((found.pairs, found.range_kpa.0), (200, 5.0));
    }

    #[test]
    fn pairs_that_tell_no_curve_are_refused_with_the_reason() {
        let truth = VanGenuchten::of_class("silt loam").unwrap();
        assert_eq!(fit_retention(&pairs(truth, 23), 0.067), Err(RetentionFitError::Few(23)));
        let narrow: Vec<(f64, f64)> = (0..100).map(|i| (20.0 + f64::from(i) * 0.1, 0.3)).collect();
        assert_eq!(fit_retention(&narrow, 0.067), Err(RetentionFitError::Narrow));
        let rising: Vec<(f64, f64)> = pairs(truth, 100).into_iter().map(|(kpa, t)| (kpa, 0.6 - t)).collect();
        assert_eq!(fit_retention(&rising, 0.067), Err(RetentionFitError::Nowhere));
        let level = vec![(f64::NAN, 0.3); 50];
        assert_eq!(fit_retention(&level, 0.067), Err(RetentionFitError::Few(0)));
    }
}
