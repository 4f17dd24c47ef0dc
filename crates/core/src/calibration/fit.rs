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
    /// A value is infinite or not a number.
    #[error("a raw reading or water content is not a finite number")]
    NotFinite,
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
    intercept: Intercept,
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

        let rss: f64 = weighed.iter().map(|e| e * e).sum();
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
        let aic = nf * (rss / nf).ln() + 2.0 * k;
        let aicc = (nf - k - 1.0 > 0.0).then(|| aic + 2.0 * k * (k + 1.0) / (nf - k - 1.0));
        let loo = residuals.iter().zip(&leverage).map(|(e, h)| (e / (1.0 - h)).powi(2)).sum::<f64>() / nf;
        let studentized = weighed
            .iter()
            .zip(&leverage)
            .map(|(e, h)| {
                let without = (rss - e * e / (1.0 - h)) / (df as f64 - 1.0);
                (df > 1 && without > 0.0 && *h < 1.0).then(|| e / (without * (1.0 - h)).sqrt())
            })
            .collect();

        let transform = expansion(degree, centre, scale).remove_rows(0, first_power);
        let transform = transform.remove_columns(0, first_power);
        let coefficients = (&transform * &beta).iter().copied().collect();
        let covariance = &transform * &unscaled * transform.transpose() * s2;
        Ok(Self {
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
            intercept,
        })
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

    /// Whether the curve only rises between its smallest and largest x.
    #[must_use]
    pub fn rises_over_range(&self) -> bool {
        const STEPS: usize = 200;
        let (low, high) = self.x_range;
        // Only the value is asked for at each step, so Horner's scheme does without the uncertainty.
        let value = |i: usize| {
            let z = (low + (high - low) * i as f64 / STEPS as f64 - self.centre) / self.scale;
            let sum = self.coefficients_z.iter().rev().fold(0.0, |sum, c| sum * z + c);
            if self.intercept == Intercept::Zero { sum * z } else { sum }
        };
        let mut before = value(0);
        (1..=STEPS).all(|i| {
            let now = value(i);
            std::mem::replace(&mut before, now) < now
        })
    }

    /// F test of this fit against `smaller`, nested in it: (F, upper-tail probability).
    #[must_use]
    pub fn f_test(&self, smaller: &Self) -> (f64, f64) {
        let added = smaller.df - self.df;
        let f = (smaller.rss - self.rss) / added as f64 / (self.rss / self.df as f64);
        (f, f_upper_tail(f, added, self.df))
    }
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
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;
    use proptest::prelude::*;

    const X: [f64; 7] = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
    const Y: [f64; 7] = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];

    fn fit(x: &[f64], y: &[f64], degree: usize) -> PolynomialFit {
        PolynomialFit::new(x, y, degree, Intercept::Free).unwrap()
    }

    #[test]
    fn straight_line_through_the_reference_run() {
        let f = fit(&X, &Y, 1);
        assert_close(f.coefficients[0], -0.251_359_125_802, 1e-9);
        assert_close(f.coefficients[1], 0.000_345_258_676_143, 1e-9);
        assert_close(f.standard_errors[0], 0.014_787_402_145, 1e-9);
        assert_close(f.rss, 0.000_422_917_045_554, 1e-9);
        assert_close(f.residual_sd, 0.009_196_923_893_93, 1e-9);
        assert_close(f.r2, 0.995_167_703_746, 1e-9);
        assert_close(f.r2_adjusted, 0.994_201_244_495, 1e-9);
        assert_close(f.aic, -61.999_712_599_1, 1e-9);
        assert_close(f.aicc.unwrap(), -53.999_712_599_1, 1e-9);
        assert_close(f.loo_rmse, 0.012_521_683_379_6, 1e-9);
        assert_close(f.leverage[0], 0.465_935_952_818, 1e-9);
        let (prediction, confidence) = f.half_widths(1250.0, 0.95);
        assert_close(f.at(1250.0).0, 0.180_214_219_377, 1e-9);
        assert_close(prediction, 0.025_385_079_043_1, 1e-9);
        assert_close(confidence, 0.009_245_771_597_8, 1e-9);
    }

    #[test]
    fn quadratic_through_the_reference_run() {
        let f = fit(&X, &Y, 2);
        assert_close(f.coefficients[2], 8.094_112_595_81e-08, 1e-9);
        assert_close(f.standard_errors[2], 1.418_250_629_81e-08, 1e-9);
        assert_close(f.aicc.unwrap(), -55.490_461_495_3, 1e-9);
        assert_close(f.loo_rmse, 0.004_335_186_639_58, 1e-9);
        assert_close(f.half_widths(1250.0, 0.95).0, 0.010_836_691_450_4, 1e-9);
        let (statistic, p) = f.f_test(&fit(&X, &Y, 1));
        assert_close(statistic, 32.571_106_515_2, 1e-8);
        assert_close(p, 0.004_660_582_979_45, 1e-8);
    }

    #[test]
    fn a_needless_quadratic_is_seen_as_such() {
        let x = [12.0, 18.5, 24.1, 31.0, 37.7, 45.2, 52.9];
        let y = [0.061, 0.092, 0.133, 0.171, 0.219, 0.258, 0.304];
        let (line, quadratic) = (fit(&x, &y, 1), fit(&x, &y, 2));
        assert_close(line.loo_rmse, 0.004_547_000_000_66, 1e-9);
        assert_close(quadratic.loo_rmse, 0.006_637_132_650_29, 1e-9);
        assert_close(quadratic.f_test(&line).1, 0.845_201_673_566, 1e-8);
    }

    #[test]
    fn nist_norris() {
        let x = [
            0.2, 337.4, 118.2, 884.6, 10.1, 226.5, 666.3, 996.3, 448.6, 777.0, 558.2, 0.4, 0.6, 775.5, 666.9, 338.0,
            447.5, 11.6, 556.0, 228.1, 995.8, 887.6, 120.2, 0.3, 0.3, 556.8, 339.1, 887.2, 999.0, 779.0, 11.1, 118.3,
            229.2, 669.1, 448.9, 0.5,
        ];
        let y = [
            0.1, 338.8, 118.1, 888.0, 9.2, 228.1, 668.5, 998.5, 449.1, 778.9, 559.2, 0.3, 0.1, 778.1, 668.8, 339.3,
            448.9, 10.8, 557.7, 228.3, 998.0, 888.8, 119.6, 0.3, 0.6, 557.6, 339.3, 888.0, 998.5, 778.9, 10.2, 117.6,
            228.9, 668.4, 449.2, 0.2,
        ];
        let f = fit(&x, &y, 1);
        assert_close(f.coefficients[0], -0.262_323_073_774_029, 1e-11);
        assert_close(f.coefficients[1], 1.002_116_818_020_45, 1e-13);
        assert_close(f.standard_errors[1], 0.429_796_848_199_937e-3, 1e-11);
        assert_close(f.residual_sd, 0.884_796_396_144_373, 1e-11);
        assert_close(f.r2, 0.999_993_745_883_712, 1e-13);
    }

    #[test]
    fn nist_no_intercept() {
        let x: Vec<f64> = (60..=70).map(f64::from).collect();
        let y: Vec<f64> = (130..=140).map(f64::from).collect();
        let f = PolynomialFit::new(&x, &y, 1, Intercept::Zero).unwrap();
        assert_close(f.coefficients[0], 2.074_380_165_289_26, 1e-12);
        assert_close(f.standard_errors[0], 0.165_289_256_198_347e-1, 1e-12);
        assert_close(f.r2, 0.999_365_492_298_663, 1e-12);
    }

    #[test]
    fn nist_wampler_is_exact_and_with_noise() {
        let x: Vec<f64> = (0..=20).map(f64::from).collect();
        let y: Vec<f64> = x.iter().map(|x| (0..=5).map(|i| x.powi(i)).sum()).collect();
        let exact = fit(&x, &y, 5);
        let noise = [759.0, -2048.0, 2048.0, -2048.0, 2523.0, -2048.0, 2048.0, -2048.0, 1838.0, -2048.0, 2048.0];
        let noisy: Vec<f64> = y.iter().enumerate().map(|(i, y)| y + noise[i.min(20 - i)]).collect();
        let noisy = fit(&x, &noisy, 5);
        for i in 0..=5 {
            assert_close(exact.coefficients[i], 1.0, 1e-7);
            assert_close(noisy.coefficients[i], 1.0, 1e-7);
        }
        assert_close(noisy.residual_sd, 2360.145_023_792_68, 1e-9);
        assert_close(noisy.standard_errors[0], 2152.326_246_781_70, 1e-8);
    }

    #[test]
    fn samples_that_cannot_carry_a_curve_are_refused_with_words() {
        let message =
            |x: &[f64], y: &[f64], degree| PolynomialFit::new(x, y, degree, Intercept::Free).unwrap_err().to_string();
        assert!(message(&X[..2], &Y[..2], 1).contains("2 samples cannot carry this curve"));
        assert!(message(&[900.0; 5], &Y[..5], 1).contains("different wetnesses"));
        assert!(message(&[f64::NAN, 1.0, 2.0], &Y[..3], 1).contains("not a finite number"));
    }

    #[test]
    fn equal_weights_change_nothing_and_a_heavy_sample_draws_the_curve_to_it() {
        let plain = fit(&X, &Y, 1);
        let same = PolynomialFit::weighted(&X, &Y, &[7.0; 7], 1, Intercept::Free).unwrap();
        assert_close(same.residual_sd, plain.residual_sd, 1e-12);
        assert_close(same.coefficients[1], plain.coefficients[1], 1e-12);
        let heavy = [1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1e6];
        let drawn = PolynomialFit::weighted(&X, &Y, &heavy, 1, Intercept::Free).unwrap();
        assert!(drawn.residuals[6].abs() < plain.residuals[6].abs() / 100.0);
        let twice = PolynomialFit::weighted(&X, &Y, &[2.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0], 1, Intercept::Free).unwrap();
        let (mut x, mut y) = (X.to_vec(), Y.to_vec());
        x.push(X[0]);
        y.push(Y[0]);
        assert_close(twice.coefficients[0], fit(&x, &y, 1).coefficients[0], 1e-9);
        assert!(PolynomialFit::weighted(&X, &Y, &[0.0; 7], 1, Intercept::Free).is_err());
    }

    proptest! {
        #[test]
        fn order_and_units_of_raw_do_not_matter(shift in -500.0..500.0f64, factor in 0.01..100.0f64, turn in 0usize..7) {
            let plain = fit(&X, &Y, 2);
            let mut x: Vec<f64> = X.iter().map(|x| (x + shift) * factor).collect();
            let mut y = Y.to_vec();
            x.rotate_left(turn);
            y.rotate_left(turn);
            let moved = fit(&x, &y, 2);
            prop_assert!((plain.loo_rmse - moved.loo_rmse).abs() < 1e-9);
            prop_assert!((plain.at(1250.0).0 - moved.at((1250.0 + shift) * factor).0).abs() < 1e-9);
        }

        #[test]
        fn a_perfect_sample_never_raises_the_residual_sum(at in 850.0..1820.0f64) {
            let plain = fit(&X, &Y, 2);
            let (mut x, mut y) = (X.to_vec(), Y.to_vec());
            x.push(at);
            y.push(plain.at(at).0);
            prop_assert!(fit(&x, &y, 2).rss <= plain.rss * (1.0 + 1e-9));
        }
    }
}
