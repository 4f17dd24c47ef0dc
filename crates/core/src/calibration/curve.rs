//! An adopted curve: raw output to water content.

use super::fit::PolynomialFit;
use super::form::Form;
use crate::statistics::t_quantile;
use serde::{Deserialize, Deserializer, Serialize};
use thiserror::Error;

/// A calibration curve as it is kept with a probe: coefficients with covariance, and the range it holds in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Curve {
    /// Coefficients in z = (x − centre)/scale, lowest power first.
    pub coefficients_z: Vec<f64>,
    /// (A'A)⁻¹ of those coefficients, row by row; empty if only the residual spread is known.
    pub unscaled_covariance_z: Vec<Vec<f64>>,
    /// Centre of z.
    pub centre: f64,
    /// Scale of z.
    pub scale: f64,
    /// Residual standard deviation, m³/m³; `None` if the curve came without an uncertainty.
    pub residual_sd: Option<f64>,
    /// Residual degrees of freedom.
    pub df: usize,
    /// Smallest raw output among the samples.
    #[serde(deserialize_with = "without_lower_end")]
    pub x_min: f64,
    /// Largest raw output among the samples.
    #[serde(deserialize_with = "without_upper_end")]
    pub x_max: f64,
    /// Whether the polynomial is one in the square root of the raw output (a probe that gives permittivity).
    #[serde(default)]
    pub root: bool,
}

/// JSON has no infinity: a range without an end is written as `null`.
fn without_lower_end<'de, D: Deserializer<'de>>(from: D) -> Result<f64, D::Error> {
    Ok(Option::deserialize(from)?.unwrap_or(f64::NEG_INFINITY))
}

/// As [`without_lower_end`].
fn without_upper_end<'de, D: Deserializer<'de>>(from: D) -> Result<f64, D::Error> {
    Ok(Option::deserialize(from)?.unwrap_or(f64::INFINITY))
}

/// Why coefficients from outside make no curve.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum CurveError {
    /// No coefficients, or one that is not finite.
    #[error("the curve needs one to ten finite coefficients, lowest power first")]
    Coefficients,
    /// The range is empty.
    #[error("x_min must lie below x_max: the curve holds nowhere")]
    Range,
}

/// Water content from one raw reading.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Estimate {
    /// Volumetric water content, m³/m³.
    pub theta: f64,
    /// Half width of the 95 % prediction interval, if the curve has an uncertainty.
    pub half_width: Option<f64>,
    /// The raw reading lies outside the samples: the value is an extrapolation.
    pub beyond_samples: bool,
}

impl Curve {
    /// The curve of a fit that was adopted; `form` says what its polynomial takes.
    #[must_use]
    pub fn from_fit(fit: &PolynomialFit, form: Form) -> Self {
        let raw = |x: f64| if form.is_root() { x * x } else { x };
        Self {
            coefficients_z: fit.coefficients_z.clone(),
            unscaled_covariance_z: fit.unscaled_covariance_z.clone(),
            centre: fit.centre,
            scale: fit.scale,
            residual_sd: Some(fit.residual_sd),
            df: fit.df,
            x_min: raw(fit.x_range.0),
            x_max: raw(fit.x_range.1),
            root: form.is_root(),
        }
    }

    /// The same curve taking its polynomial in the square root of the raw output, or in the raw output itself.
    #[must_use]
    pub fn in_root(self, root: bool) -> Self {
        Self { root, ..self }
    }

    /// A curve from plain coefficients in x, lowest power first, as the record package carries it.
    ///
    /// # Errors
    /// [`CurveError`] for no or infinite coefficients, or an empty range.
    pub fn from_coefficients(
        coefficients: &[f64],
        x_min: f64,
        x_max: f64,
        residual_sd: Option<f64>,
    ) -> Result<Self, CurveError> {
        if coefficients.is_empty() || coefficients.len() > 10 || coefficients.iter().any(|c| !c.is_finite()) {
            return Err(CurveError::Coefficients);
        }
        if x_min.is_nan() || x_max.is_nan() || x_min >= x_max {
            return Err(CurveError::Range);
        }
        Ok(Self {
            coefficients_z: coefficients.to_vec(),
            unscaled_covariance_z: Vec::new(),
            centre: 0.0,
            scale: 1.0,
            residual_sd,
            df: usize::MAX >> 1,
            x_min,
            x_max,
            root: false,
        })
    }

    /// Water content at raw output `x`, without the uncertainty: the fast path for long series.
    #[must_use]
    pub fn theta(&self, x: f64) -> f64 {
        let z = self.z(x);
        self.coefficients_z.iter().rev().fold(0.0, |sum, c| sum * z + c)
    }

    pub(crate) fn z(&self, x: f64) -> f64 {
        let taken = if self.root { x.max(0.0).sqrt() } else { x };
        (taken - self.centre) / self.scale
    }

    /// Whether `x` lies outside the samples.
    #[must_use]
    pub fn is_beyond(&self, x: f64) -> bool {
        !(self.x_min..=self.x_max).contains(&x)
    }

    /// Powers of z at `x`, as the coefficients take them.
    pub(super) fn powers(&self, x: f64) -> Vec<f64> {
        let z = self.z(x);
        (0..self.coefficients_z.len() as i32).map(|i| z.powi(i)).collect()
    }

    /// Whether the curve came with the covariance of its coefficients, and not with its residual spread only.
    #[must_use]
    pub fn has_covariance(&self) -> bool {
        let p = self.coefficients_z.len();
        p > 0 && self.unscaled_covariance_z.len() == p && self.unscaled_covariance_z.iter().all(|row| row.len() == p)
    }

    /// Half width of the 95 % prediction interval at `x`, if the curve has an uncertainty. For many readings take
    /// [`Curve::half_widths`].
    #[must_use]
    pub fn half_width(&self, x: f64) -> Option<f64> {
        self.half_widths().map(|of| of(x))
    }

    /// What one tin's own scatter takes of the 95 % half width: the term of a prediction interval that stays however many tins there are.
    #[must_use]
    pub fn half_width_of_tin(&self) -> Option<f64> {
        Some(t_quantile(0.5 + super::BAND_LEVEL / 2.0, self.df.min(100_000)) * self.residual_sd?)
    }

    /// The half width as a function of the raw output, if the curve has an uncertainty: Student's t is worked out once.
    #[must_use]
    pub fn half_widths(&self) -> Option<impl Fn(f64) -> f64> {
        let ts = self.half_width_of_tin()?;
        Some(move |x: f64| {
            let z = self.z(x);
            // a'(A'A)⁻¹a by Horner's scheme in both directions.
            let rows = self.unscaled_covariance_z.iter().rev();
            let of_mean = rows.fold(0.0, |sum, row| sum * z + row.iter().rev().fold(0.0, |s, c| s * z + c));
            ts * (1.0 + of_mean.max(0.0)).sqrt()
        })
    }

    /// Water content with its 95 % half width, and whether it is an extrapolation.
    #[must_use]
    pub fn estimate(&self, x: f64) -> Estimate {
        Estimate { theta: self.theta(x), half_width: self.half_width(x), beyond_samples: self.is_beyond(x) }
    }

    /// Coefficients in x (in √x for a curve in the square root), lowest power first.
    #[must_use]
    pub fn coefficients(&self) -> Vec<f64> {
        // Horner in the polynomial ring: multiply by (x − c)/h and add, from the highest power down.
        let mut expanded: Vec<f64> = Vec::new();
        for c in self.coefficients_z.iter().rev() {
            let mut next = vec![0.0; expanded.len() + 1];
            for (power, value) in expanded.iter().enumerate() {
                next[power] -= value * self.centre / self.scale;
                next[power + 1] += value / self.scale;
            }
            next[0] += c;
            expanded = next;
        }
        expanded.truncate(self.coefficients_z.len());
        expanded
    }

    /// Its form; `None` for a polynomial that is none of them (a constant, a fourth power).
    #[must_use]
    pub fn kind(&self) -> Option<Form> {
        match (self.root, self.coefficients_z.len()) {
            (true, 2) => Some(Form::RootLine),
            (false, 2) => Some(Form::Line),
            (false, 3) => Some(Form::Quadratic),
            (false, 4) => Some(Form::Cubic),
            _ => None,
        }
    }

    /// "straight line", "quadratic", ...: the form in words.
    #[must_use]
    pub fn form(&self) -> &'static str {
        match (self.kind(), self.root) {
            (Some(form), _) => form.name(),
            (None, true) => "polynomial in the square root",
            (None, false) => "polynomial",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calibration::Intercept;
    use crate::statistics::testing::assert_close;

    fn quadratic() -> PolynomialFit {
        let x = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
        let y = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];
        PolynomialFit::new(&x, &y, 2, Intercept::Free).unwrap()
    }

    #[test]
    fn the_adopted_curve_says_what_the_fit_said() {
        let fit = quadratic();
        let curve = Curve::from_fit(&fit, Form::Quadratic);
        let estimate = curve.estimate(1250.0);
        assert_close(estimate.theta, 0.172_345_233_241, 1e-9);
        assert_close(estimate.half_width.unwrap(), 0.010_836_691_450_4, 1e-9);
        assert!(!estimate.beyond_samples);
        for (got, want) in curve.coefficients().iter().zip(&fit.coefficients) {
            assert_close(*got, *want, 1e-9);
        }
    }

    #[test]
    fn beyond_the_samples_is_said_and_not_clipped() {
        let curve = Curve::from_fit(&quadratic(), Form::Quadratic);
        let wet = curve.estimate(2100.0);
        assert!(wet.beyond_samples);
        assert!(wet.theta > 0.45, "an extrapolation is computed, not clipped: {}", wet.theta);
        assert!(wet.half_width.unwrap() > 2.0 * curve.half_width(1400.0).unwrap());
    }

    #[test]
    fn a_curve_in_the_square_root_takes_the_root_itself() {
        let raw: [f64; 5] = [4.0, 9.0, 16.0, 20.25, 25.0];
        let theta = raw.map(|e| 0.1138 * e.sqrt() - 0.1758);
        let fit = PolynomialFit::new(&raw.map(f64::sqrt), &theta, 1, Intercept::Free).unwrap();
        let curve = Curve::from_fit(&fit, Form::RootLine);
        assert_close(curve.theta(12.25), 0.1138 * 3.5 - 0.1758, 1e-9);
        assert_eq!((curve.x_min, curve.x_max, curve.form()), (4.0, 25.0, Form::RootLine.name()));
        assert!(curve.is_beyond(26.0) && curve.theta(-1.0).is_finite());
    }

    #[test]
    fn foreign_coefficients_are_checked() {
        assert_eq!(Curve::from_coefficients(&[], 0.0, 1.0, None), Err(CurveError::Coefficients));
        assert_eq!(Curve::from_coefficients(&[0.0, 1.0], 5.0, 5.0, None), Err(CurveError::Range));
        let line = Curve::from_coefficients(&[-0.2, 0.001], 200.0, 600.0, None).unwrap();
        assert_close(line.theta(500.0), 0.3, 1e-12);
        assert_eq!(line.half_width(500.0), None);
    }
}
