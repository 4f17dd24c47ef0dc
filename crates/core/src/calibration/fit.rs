//! Polynomial least squares.

use crate::statistics::{f_upper_tail, t_quantile};
use nalgebra::{DMatrix, DVector};
use thiserror::Error;

/// Whether the polynomial has a constant term.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Intercept {
    /// y = b0 + b1 x + ...
    Free,
    /// y = b1 x + ...; R² is then uncentred.
    Zero,
}

/// Why a polynomial cannot be fitted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum FitError {
    /// Too few samples for the number of coefficients and a residual.
    #[error("{have} samples cannot carry this curve: at least {want} are needed, better five to seven")]
    TooFewSamples {
        /// Samples given.
        have: usize,
        /// Samples wanted.
        want: usize,
    },
    /// The samples do not differ enough in x.
    #[error(
        "the raw readings take only {distinct} different value(s): take samples at {want} or more different wetnesses"
    )]
    TooFewDistinct {
        /// Distinct x.
        distinct: usize,
        /// Distinct x wanted.
        want: usize,
    },
    /// A value is infinite, not a number, or so large or so near another that nothing can be reckoned with it.
    #[error("a raw reading or water content is not a finite number, or is too large to reckon with")]
    NotFinite,
    /// One sample decides a coefficient alone: its leverage is 1, and nothing is left to judge it by.
    #[error(
        "the curve hangs on sample {} alone, the others stand at {others} wetness(es): add a sample near it, or leave it out",
        .sample + 1
    )]
    HangsOnOne {
        /// Index of the sample.
        sample: usize,
        /// Distinct x of the others.
        others: usize,
    },
}

/// A fitted polynomial with the figures by which it is judged.
///
/// The work is done in z = (x − centre)/scale by QR, never by normal equations.
#[derive(Debug, Clone, PartialEq)]
pub struct PolynomialFit {
    /// Degree of the polynomial.
    pub degree: usize,
    /// Coefficients in x, lowest power first (without the constant if it is zero by choice).
    pub coefficients: Vec<f64>,
    /// Standard errors of `coefficients`.
    pub standard_errors: Vec<f64>,
    /// Coefficients in z, lowest power first.
    pub coefficients_z: Vec<f64>,
    /// (A'A)⁻¹ in z, row by row; times s² it is the covariance of `coefficients_z`.
    pub unscaled_covariance_z: Vec<Vec<f64>>,
    /// Centre of z.
    pub centre: f64,
    /// Scale of z.
    pub scale: f64,
    /// Residual sum of squares.
    pub rss: f64,
    /// Residual degrees of freedom n − p.
    pub df: usize,
    /// Residual standard deviation s = √(RSS/(n − p)).
    pub residual_sd: f64,
    /// R²; uncentred without a constant term.
    pub r2: f64,
    /// R² adjusted for the number of coefficients.
    pub r2_adjusted: f64,
    /// AIC = n ln(RSS/n) + 2k, k = p + 1 (Burnham & Anderson 2002, ch. 2.4).
    pub aic: f64,
    /// AICc (Hurvich & Tsai 1989, Biometrika 76:297); `None` where n − k − 1 is not positive.
    pub aicc: Option<f64>,
    /// Leave-one-out error √(mean((e/(1 − h))²)) (Allen 1974).
    pub loo_rmse: f64,
    /// Leverage of each sample.
    pub leverage: Vec<f64>,
    /// Residual of each sample, y − ŷ.
    pub residuals: Vec<f64>,
    /// Externally studentized residual of each sample; `None` where it is not defined.
    pub studentized: Vec<Option<f64>>,
    /// Smallest and largest x.
    pub x_range: (f64, f64),
    /// Residual sum of squares that rounding alone makes.
    rounding: f64,
    intercept: Intercept,
}

/// What a leverage must leave to 1, so that a residual says something of its sample.
const LEVERAGE_LEFT: f64 = 1e-9;

/// The residual sum of squares below which exact samples differ from their curve by rounding only: a few units in the last
/// place for each. Never 0, so that its logarithm is finite.
fn rounding_floor(y: impl Iterator<Item = f64> + Clone) -> f64 {
    let n = y.clone().count() as f64;
    let largest = y.fold(0.0, |m: f64, v| m.max(v.abs()));
    (n * (8.0 * f64::EPSILON * largest).powi(2)).max(f64::MIN_POSITIVE)
}

impl PolynomialFit {
    /// Least squares of y on the powers of x up to `degree`.
    ///
    /// x and y have the same length n. Draper & Smith 1998, Applied Regression Analysis, ch. 3 and 5.
    ///
    /// # Errors
    /// [`FitError`] for too few samples, too few distinct x, or values that are not finite.
    pub fn new(x: &[f64], y: &[f64], degree: usize, intercept: Intercept) -> Result<Self, FitError> {
        Self::weighted(x, y, &vec![1.0; x.len()], degree, intercept)
    }

    /// The same with a weight for each sample, as 1/u² of its water content. Weights are scaled to a mean of 1, so that
    /// `residual_sd` is that of a sample of mean weight. Draper & Smith 1998, ch. 9.2.
    ///
    /// # Errors
    /// [`FitError`] as [`PolynomialFit::new`]; a weight that is not above 0 counts as not finite.
    pub fn weighted(
        x: &[f64],
        y: &[f64],
        weights: &[f64],
        degree: usize,
        intercept: Intercept,
    ) -> Result<Self, FitError> {
        let n = x.len().min(y.len()).min(weights.len());
        let (x, y, weights) = (&x[..n], &y[..n], &weights[..n]);
        let mean_weight = weights.iter().sum::<f64>() / n.max(1) as f64;
        let roots: Vec<f64> = weights.iter().map(|w| (w / mean_weight).sqrt()).collect();
        let first_power = match intercept {
            Intercept::Free => 0,
            Intercept::Zero => 1,
        };
        let p = degree + 1 - first_power;
        if n <= p {
            return Err(FitError::TooFewSamples { have: n, want: p + 1 });
        }
        if x.iter().chain(y).any(|v| !v.is_finite()) || roots.iter().any(|w| !(w.is_finite() && *w > 0.0)) {
            return Err(FitError::NotFinite);
        }
        let mut sorted = x.to_vec();
        sorted.sort_by(f64::total_cmp);
        sorted.dedup();
        if sorted.len() < p {
            return Err(FitError::TooFewDistinct { distinct: sorted.len(), want: p });
        }
        let (low, high) = (sorted[0], sorted[sorted.len() - 1]);
        let (centre, scale) = match intercept {
            Intercept::Free => (low.midpoint(high), ((high - low) / 2.0).max(f64::MIN_POSITIVE)),
            Intercept::Zero => (0.0, low.abs().max(high.abs()).max(f64::MIN_POSITIVE)),
        };
        let design = DMatrix::from_fn(n, p, |row, col| {
            roots[row] * ((x[row] - centre) / scale).powi((col + first_power) as i32)
        });
        let qr = design.clone().qr();
        let (q, r) = (qr.q(), qr.r());
        let target = DVector::from_fn(n, |row, _| roots[row] * y[row]);
        let singular = FitError::TooFewDistinct { distinct: sorted.len(), want: p };
        let mut beta = r.solve_upper_triangular(&(q.transpose() * &target)).ok_or(singular)?;
        // One step of refinement gives back the digits lost in the first solve.
        let correction = r.solve_upper_triangular(&(q.transpose() * (&target - &design * &beta))).ok_or(singular)?;
        beta += correction;
        let r_inverse = r.solve_upper_triangular(&DMatrix::identity(p, p)).ok_or(singular)?;
        let unscaled = &r_inverse * r_inverse.transpose();
        // Residuals as they weigh, and as they stand.
        let weighed: Vec<f64> = (&target - &design * &beta).iter().copied().collect();
        let residuals: Vec<f64> = weighed.iter().zip(&roots).map(|(e, w)| e / w).collect();
        let leverage: Vec<f64> = q.row_iter().map(|row| row.norm_squared().min(1.0)).collect();

        if let Some(sample) = leverage.iter().position(|h| *h > 1.0 - LEVERAGE_LEFT) {
            return Err(FitError::HangsOnOne { sample, others: sorted.len() - 1 });
        }

        let rss: f64 = weighed.iter().map(|e| e * e).sum();
        let rounding = rounding_floor(target.iter().copied());
        let df = n - p;
        let s2 = rss / df as f64;
        let mean = y.iter().zip(&roots).map(|(v, w)| v * w * w).sum::<f64>() / n as f64;
        let tss: f64 = (y.iter().zip(&roots))
            .map(|(v, w)| match intercept {
                Intercept::Free => (w * (v - mean)).powi(2),
                Intercept::Zero => (w * v).powi(2),
            })
            .sum();
        let r2 = if tss > 0.0 { 1.0 - rss / tss } else { 1.0 };
        let total_df = (n - usize::from(intercept == Intercept::Free)) as f64;
        let (nf, k) = (n as f64, p as f64 + 1.0);
        let aic = nf * (rss.max(rounding) / nf).ln() + 2.0 * k;
        let aicc = (nf - k - 1.0 > 0.0).then(|| aic + 2.0 * k * (k + 1.0) / (nf - k - 1.0));
        let loo = residuals.iter().zip(&leverage).map(|(e, h)| (e / (1.0 - h)).powi(2)).sum::<f64>() / nf;
        let studentized = weighed
            .iter()
            .zip(&leverage)
            .map(|(e, h)| {
                let without = (rss - e * e / (1.0 - h)) / (df as f64 - 1.0);
                (df > 1 && without > rounding).then(|| e / (without * (1.0 - h)).sqrt())
            })
            .collect();

        let transform = expansion(degree, centre, scale).remove_rows(0, first_power);
        let transform = transform.remove_columns(0, first_power);
        let coefficients = (&transform * &beta).iter().copied().collect();
        let covariance = &transform * &unscaled * transform.transpose() * s2;
        let fit = Self {
            degree,
            coefficients,
            standard_errors: covariance.diagonal().iter().map(|v| v.max(0.0).sqrt()).collect(),
            coefficients_z: beta.iter().copied().collect(),
            unscaled_covariance_z: unscaled.row_iter().map(|row| row.iter().copied().collect()).collect(),
            centre,
            scale,
            rss,
            df,
            residual_sd: s2.sqrt(),
            r2,
            r2_adjusted: 1.0 - (1.0 - r2) * total_df / df as f64,
            aic,
            aicc,
            loo_rmse: loo.sqrt(),
            leverage,
            residuals,
            studentized,
            x_range: (low, high),
            rounding,
            intercept,
        };
        if fit.is_finite() { Ok(fit) } else { Err(FitError::NotFinite) }
    }

    /// Whether every figure is a finite number; values near the ends of what a float holds can make others.
    fn is_finite(&self) -> bool {
        let single = [self.rss, self.residual_sd, self.r2, self.r2_adjusted, self.aic, self.loo_rmse, self.scale];
        let lists = [&self.coefficients, &self.standard_errors, &self.coefficients_z, &self.residuals, &self.leverage];
        let others = self.aicc.iter().chain(self.studentized.iter().flatten());
        (single.iter().chain(lists.into_iter().flatten()).chain(self.unscaled_covariance_z.iter().flatten()))
            .chain(others)
            .all(|v| v.is_finite())
    }

    /// Fitted value at `x`, and the standard error of that mean.
    #[must_use]
    pub fn at(&self, x: f64) -> (f64, f64) {
        let z = (x - self.centre) / self.scale;
        let first_power = i32::from(self.intercept == Intercept::Zero);
        let powers: Vec<f64> = (0..self.coefficients_z.len() as i32).map(|i| z.powi(i + first_power)).collect();
        let value = powers.iter().zip(&self.coefficients_z).map(|(a, b)| a * b).sum();
        (value, quadratic_form(&powers, &self.unscaled_covariance_z).sqrt() * self.residual_sd)
    }

    /// Half width of the prediction interval of a new sample at `x`: t s √(1 + a'(A'A)⁻¹a)
    /// (Draper & Smith 1998, ch. 5; ISO 11095), and of the confidence interval of the mean (without the 1).
    #[must_use]
    pub fn half_widths(&self, x: f64, level: f64) -> (f64, f64) {
        let t = t_quantile(0.5 + level / 2.0, self.df);
        let (_, se) = self.at(x);
        (t * self.residual_sd.hypot(se), t * se)
    }

    /// Which way the curve goes between its smallest and largest x; `None` if it turns or stands still in between, so that
    /// one reading would mean two contents.
    #[must_use]
    pub fn direction(&self) -> Option<Direction> {
        const STEPS: usize = 200;
        let (low, high) = self.x_range;
        // Only the value is asked for at each step, so Horner's scheme does without the uncertainty.
        let value = |i: usize| {
            let z = (low + (high - low) * i as f64 / STEPS as f64 - self.centre) / self.scale;
            let sum = self.coefficients_z.iter().rev().fold(0.0, |sum, c| sum * z + c);
            if self.intercept == Intercept::Zero { sum * z } else { sum }
        };
        let rises = value(1) > value(0);
        let mut before = value(0);
        let steady = (1..=STEPS).all(|i| {
            let now = value(i);
            let last = std::mem::replace(&mut before, now);
            if rises { last < now } else { last > now }
        });
        steady.then_some(if rises { Direction::Rises } else { Direction::Falls })
    }

    /// F test of this fit against `smaller`, nested in it: (F, upper-tail probability). Residuals that are rounding only
    /// count as such, so that exact samples earn nothing by more coefficients: (0, 1), as for two fits of one size.
    #[must_use]
    pub fn f_test(&self, smaller: &Self) -> (f64, f64) {
        let added = smaller.df.saturating_sub(self.df);
        let gained = smaller.rss.max(self.rounding) - self.rss.max(self.rounding);
        if added == 0 || gained <= 0.0 {
            return (0.0, 1.0);
        }
        let f = gained / added as f64 / (self.rss.max(self.rounding) / self.df as f64);
        (f, f_upper_tail(f, added, self.df))
    }
}

/// Which way water content goes with a rising raw output.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// The wetter, the more the probe puts out.
    Rises,
    /// The wetter, the less it puts out, as a period or a count of a charging time does.
    Falls,
}

/// a' M a, with M by rows.
pub(super) fn quadratic_form(a: &[f64], rows: &[Vec<f64>]) -> f64 {
    let each = a.iter().zip(rows).map(|(ai, row)| ai * row.iter().zip(a).map(|(m, aj)| m * aj).sum::<f64>());
    each.sum::<f64>().max(0.0)
}

/// The matrix that takes coefficients in z = (x − c)/h to coefficients in x, by the binomial theorem.
fn expansion(degree: usize, centre: f64, scale: f64) -> DMatrix<f64> {
    let mut matrix = DMatrix::zeros(degree + 1, degree + 1);
    for power in 0..=degree {
        let mut binomial = 1.0;
        for low in 0..=power {
            matrix[(low, power)] = binomial * (-centre).powi((power - low) as i32) / scale.powi(power as i32);
            binomial *= (power - low) as f64 / (low + 1) as f64;
        }
    }
    matrix
}

#[cfg(test)]
mod tests;
