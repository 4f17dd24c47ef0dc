//! What lies between two versions of a probe's calibration.

use super::Curve;
use super::fit::quadratic_form;
use crate::series::DatedCurve;
use crate::statistics::{f_upper_tail, t_quantile};
use crate::units::format_value;
use nalgebra::{DMatrix, DVector};

/// Seconds of a mean year.
const YEAR: f64 = 365.25 * 86_400.0;
/// Chance at which two sound calibrations of one unchanged probe are said to differ.
pub const FALSE_ALARM: f64 = 0.05;
/// Places of the common range at which the curves are told.
const PLACES: usize = 5;

/// The two curves at one raw output.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Apart {
    /// Raw output at which both curves are held against each other.
    pub raw: f64,
    /// Water content by the earlier curve, m³/m³.
    pub before: f64,
    /// And by the later one.
    pub after: f64,
    /// 95 % half width of the difference; `None` if a curve came without its covariance.
    pub half_width: Option<f64>,
}

impl Apart {
    /// Later minus earlier, m³/m³.
    #[must_use]
    pub fn difference(&self) -> f64 {
        self.after - self.before
    }
}

/// The test of the whole curve.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CurveTest {
    /// F of the difference over the whole common range.
    pub f: f64,
    /// Chance of so large an F without drift.
    pub p: f64,
}

/// How far a later calibration of one probe stands from an earlier one.
#[derive(Debug, Clone, PartialEq)]
pub struct Drift {
    /// Raw outputs that both have samples for.
    pub common: (f64, f64),
    /// The curves at five raw outputs from the smallest to the largest.
    pub at: Vec<Apart>,
    /// Mean difference over these, later minus earlier, m³/m³.
    pub mean: f64,
    /// Whether the curves differ anywhere; `None` if one came without what it knows of itself: nothing can be tested then.
    pub test: Option<CurveTest>,
    /// Years between the dates from which they hold.
    pub years: f64,
}

impl Drift {
    /// Change per year, m³/m³; `None` for less than a month.
    #[must_use]
    pub fn per_year(&self) -> Option<f64> {
        (self.years > 1.0 / 12.0).then(|| self.mean / self.years)
    }

    /// Whether the curves differ by more than both know of themselves, at [`FALSE_ALARM`].
    #[must_use]
    pub fn is_real(&self) -> bool {
        self.test.is_some_and(|t| t.p < FALSE_ALARM)
    }

    /// Where they differ most, in m³/m³.
    #[must_use]
    pub fn largest(&self) -> Option<Apart> {
        self.at.iter().copied().max_by(|a, b| a.difference().abs().total_cmp(&b.difference().abs()))
    }

    /// The answer in one sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        let signed = |a: &Apart| {
            let sign = if a.difference() < 0.0 { "" } else { "+" };
            format!("{sign}{} at raw {}", format_value(a.difference(), 3), format_value(a.raw, 0))
        };
        let (Some(first), Some(last), Some(most)) = (self.at.first(), self.at.last(), self.largest()) else {
            return String::new();
        };
        let ends = format!("{} and {} m³/m³", signed(first), signed(last));
        let Some(test) = self.test else {
            return format!(
                "The curves differ by {ends}; one of them came without its samples, so that nothing says whether this is drift."
            );
        };
        let chance = if test.p < 0.001 { "< 0.001".to_owned() } else { format!("= {}", format_value(test.p, 3)) };
        if self.is_real() {
            let half = most.half_width.map(|h| format!(" (±{})", format_value(h, 3))).unwrap_or_default();
            format!(
                "The curve has drifted (p {chance}), most by {}{half} m³/m³; at the ends of the common range by {ends}.",
                signed(&most)
            )
        } else {
            format!(
                "No drift can be told (p {chance}): the curves differ by {ends}, within what both know of themselves."
            )
        }
    }
}

/// Compares a later calibration with an earlier one of the same probe; `None` if their samples have no raw outputs in common.
///
/// The difference of the two curves is tested as a whole: at k raw outputs spread over the common range (k the larger
/// number of coefficients) d = θ_later − θ_earlier, and F = d' V⁻¹ d / k with V = s²(A M A' + B M B'), the residual variances
/// pooled by their degrees of freedom. For two runs of one form and scatter this is the test of Chow 1960, Econometrica
/// 28:591. Where no covariance can be inverted, nothing is tested.
#[must_use]
pub fn drift(earlier: &DatedCurve, later: &DatedCurve) -> Option<Drift> {
    let (a, b) = (&earlier.curve, &later.curve);
    let common = (a.x_min.max(b.x_min), a.x_max.min(b.x_max));
    if common.0.is_nan() || common.0 >= common.1 {
        return None;
    }
    let pooled = pooled(a, b);
    let at: Vec<Apart> = (places(common, PLACES).into_iter())
        .map(|raw| Apart {
            raw,
            before: a.theta(raw),
            after: b.theta(raw),
            half_width: pooled.and_then(|(s2, df)| {
                let parts = quadratic_form(&a.powers(raw), &a.unscaled_covariance_z)
                    + quadratic_form(&b.powers(raw), &b.unscaled_covariance_z);
                Some(t_quantile(0.975, df) * (s2 * parts).sqrt()).filter(|h| h.is_finite())
            }),
        })
        .collect();
    let mean = at.iter().map(Apart::difference).sum::<f64>() / at.len() as f64;
    let test = pooled.and_then(|(s2, df)| whole_curve(a, b, common, s2, df));
    Some(Drift { common, at, mean, test, years: (later.valid_from.0 - earlier.valid_from.0) as f64 / YEAR })
}

/// `count` places from the smallest to the largest raw output.
fn places(common: (f64, f64), count: usize) -> Vec<f64> {
    (0..count).map(|i| common.0 + (common.1 - common.0) * i as f64 / (count.max(2) - 1) as f64).collect()
}

/// Pooled residual variance with its degrees of freedom; `None` if a curve came without covariance or spread.
fn pooled(a: &Curve, b: &Curve) -> Option<(f64, usize)> {
    let known = |c: &Curve| (c.has_covariance() && c.df > 0).then(|| c.residual_sd.map(|s| (s * s, c.df.min(100_000))));
    let ((va, na), (vb, nb)) = (known(a)??, known(b)??);
    let df = na + nb;
    Some(((va * na as f64 + vb * nb as f64) / df as f64, df))
}

fn whole_curve(a: &Curve, b: &Curve, common: (f64, f64), s2: f64, df: usize) -> Option<CurveTest> {
    let k = a.coefficients_z.len().max(b.coefficients_z.len());
    let raws = places(common, k);
    let d = DVector::from_iterator(k, raws.iter().map(|x| b.theta(*x) - a.theta(*x)));
    let spread = |c: &Curve| {
        let p = c.coefficients_z.len();
        let rows: Vec<Vec<f64>> = raws.iter().map(|x| c.powers(*x)).collect();
        let design = DMatrix::from_fn(k, p, |i, j| rows[i][j]);
        let covariance = DMatrix::from_fn(p, p, |i, j| c.unscaled_covariance_z[i][j]);
        &design * covariance * design.transpose()
    };
    let v = spread(a) + spread(b);
    // Exact samples leave no scatter: any difference beyond rounding is then real.
    let size = d.iter().chain(&[a.theta(common.1), b.theta(common.1)]).fold(0.0, |m: f64, x| m.max(x.abs()));
    let s2 = s2.max((8.0 * f64::EPSILON * size).powi(2)).max(f64::MIN_POSITIVE);
    let solved = v.cholesky()?.solve(&d);
    let f = d.dot(&solved) / (k as f64 * s2);
    f.is_finite().then(|| CurveTest { f, p: f_upper_tail(f, k, df) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calibration::{Form, Intercept, PolynomialFit};
    use crate::units::UnixSeconds;

    fn fitted(shift: f64, tilt: f64, from: i64, pattern: [f64; 7]) -> DatedCurve {
        let x: Vec<f64> = (0..7).map(|i| 800.0 + 150.0 * f64::from(i)).collect();
        let y: Vec<f64> = (x.iter().zip(pattern))
            .map(|(x, e)| (x - 650.0) * 3e-4 + shift + tilt * (x - 1250.0) / 450.0 + e)
            .collect();
        let fit = PolynomialFit::new(&x, &y, 1, Intercept::Free).unwrap();
        DatedCurve { valid_from: UnixSeconds(from), curve: Curve::from_fit(&fit, Form::Line) }
    }

    const NOISE: [f64; 7] = [2e-3, -2e-3, 2e-3, -2e-3, 2e-3, -2e-3, 2e-3];
    const YEARS: i64 = 31_557_600;

    #[test]
    fn a_shift_is_drift_and_a_small_one_is_not() {
        let far = drift(&fitted(0.0, 0.0, 0, NOISE), &fitted(0.02, 0.0, 2 * YEARS, NOISE)).unwrap();
        assert!(far.is_real() && (far.mean - 0.02).abs() < 1e-9, "{far:?}");
        assert!((far.per_year().unwrap() - 0.01).abs() < 1e-6);
        let near = drift(&fitted(0.0, 0.0, 0, NOISE), &fitted(0.001, 0.0, 2 * YEARS, NOISE)).unwrap();
        assert!(!near.is_real() && near.sentence().starts_with("No drift can be told"), "{}", near.sentence());
        assert_eq!(drift(&fitted(0.0, 0.0, 0, NOISE), &fitted(0.0, 0.0, 5, NOISE)).unwrap().per_year(), None);
    }

    #[test]
    fn a_tilt_without_a_mean_is_drift_and_is_placed() {
        let tilted = drift(&fitted(0.0, 0.0, 0, NOISE), &fitted(0.0, 0.1, YEARS, NOISE)).unwrap();
        assert!(tilted.mean.abs() < 1e-9 && tilted.is_real(), "{tilted:?}");
        let said = tilted.sentence();
        assert!(said.contains("−0.100 at raw 800") && said.contains("+0.100 at raw 1700"), "{said}");
    }

    #[test]
    fn without_samples_nothing_is_claimed() {
        let plain = Curve::from_coefficients(&[-0.195, 3e-4], 800.0, 1700.0, Some(0.01)).unwrap();
        let earlier = DatedCurve { valid_from: UnixSeconds(0), curve: plain };
        let found = drift(&earlier, &fitted(0.05, 0.0, YEARS, NOISE)).unwrap();
        assert_eq!((found.test, found.is_real()), (None, false));
        assert!(found.sentence().contains("came without its samples") && found.at[0].half_width.is_none());
    }

    #[test]
    fn elsewhere_has_nothing_in_common_and_forms_may_differ() {
        let mut elsewhere = fitted(0.0, 0.0, YEARS, NOISE);
        (elsewhere.curve.x_min, elsewhere.curve.x_max) = (5000.0, 6000.0);
        assert_eq!(drift(&fitted(0.0, 0.0, 0, NOISE), &elsewhere), None);
        let x: Vec<f64> = (0..7).map(|i| 800.0 + 150.0 * f64::from(i)).collect();
        let bent: Vec<f64> = x
            .iter()
            .zip(NOISE)
            .map(|(x, e)| (x - 650.0) * 3e-4 - 0.03 * (1.0 - ((x - 1250.0) / 450.0).powi(2)) + e)
            .collect();
        let fit = PolynomialFit::new(&x, &bent, 2, Intercept::Free).unwrap();
        let later = DatedCurve { valid_from: UnixSeconds(YEARS), curve: Curve::from_fit(&fit, Form::Quadratic) };
        let found = drift(&fitted(0.0, 0.0, 0, NOISE), &later).unwrap();
        assert!(found.is_real() && (found.largest().unwrap().raw - 1250.0).abs() < 1.0, "{found:?}");
        let exact = drift(&fitted(0.0, 0.0, 0, [0.0; 7]), &fitted(0.0, 0.0, YEARS, [0.0; 7])).unwrap();
        assert!(!exact.is_real(), "the same exact run twice is no drift: {exact:?}");
    }
}
