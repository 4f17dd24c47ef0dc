//! Which curve to take, and why.

use super::fit::{FitError, Intercept, PolynomialFit};
use super::{FACTORY_CLAIM, OUTLIER_LEVEL};
use crate::statistics::t_quantile;

/// One form that was tried.
#[derive(Debug, Clone, PartialEq)]
pub struct Candidate {
    /// Degree of the polynomial.
    pub degree: usize,
    /// "straight line" or "quadratic".
    pub form: &'static str,
    /// The fit, or why there is none.
    pub fit: Result<PolynomialFit, FitError>,
    /// Whether the curve rises all over its range; a probe cannot read the same in two wetnesses.
    pub rises: bool,
}

/// The forms tried, the one to take, and the reasons.
#[derive(Debug, Clone, PartialEq)]
pub struct Recommendation {
    /// Straight line first, then quadratic.
    pub candidates: Vec<Candidate>,
    /// Degree of the recommended form; `None` if none can be defended.
    pub degree: Option<usize>,
    /// The answer in one sentence.
    pub sentence: String,
    /// Why, one sentence each.
    pub reasons: Vec<String>,
    /// Samples that the recommended form names as outliers: (index, studentized residual).
    pub outliers: Vec<(usize, f64)>,
}

/// What a polynomial of this degree is called.
#[must_use]
pub(super) fn form_of_degree(degree: usize) -> &'static str {
    match degree {
        0 => "constant",
        1 => "straight line",
        2 => "quadratic",
        3 => "cubic",
        _ => "polynomial",
    }
}

/// An AICc this much lower counts as support (Burnham & Anderson 2002, ch. 2.6).
const AICC_SUPPORT: f64 = 2.0;

/// Fits a straight line and a quadratic of water content (m³/m³) on raw output, and says which to take.
///
/// Evidence is the leave-one-out error, AICc, and that the curve rises over its range; never R² alone.
#[must_use]
pub fn recommend(raw: &[f64], theta: &[f64]) -> Recommendation {
    let candidates: Vec<Candidate> = [1, 2]
        .map(|degree| {
            let fit = PolynomialFit::new(raw, theta, degree, Intercept::Free);
            let rises = fit.as_ref().is_ok_and(PolynomialFit::rises_over_range);
            Candidate { degree, form: form_of_degree(degree), fit, rises }
        })
        .into();
    let mut reasons = Vec::new();
    let chosen = match (&candidates[0].fit, &candidates[1].fit) {
        (Err(error), _) => {
            let sentence = format!("No curve yet: {error}.");
            return Recommendation { candidates, degree: None, sentence, reasons, outliers: Vec::new() };
        }
        (Ok(_), Err(error)) => {
            reasons.push(format!("The quadratic is out of reach: {error}."));
            0
        }
        (Ok(line), Ok(quadratic)) => choose(line, quadratic, candidates[1].rises, &mut reasons),
    };
    let candidate = &candidates[chosen];
    let Ok(fit) = &candidate.fit else { unreachable!("the chosen form has a fit") };
    if !candidate.rises {
        reasons.push("Water content falls where the probe's output rises: are columns or samples mixed up?".into());
    }
    if fit.df < 3 {
        reasons.push(format!(
            "Only {} of {} samples are left to judge by: five to seven points from dry to saturated are usual.",
            fit.df,
            raw.len()
        ));
    }
    if fit.loo_rmse < FACTORY_CLAIM {
        reasons.push(format!("Factory curves claim about ±{FACTORY_CLAIM} m³/m³; this one is closer to its samples."));
    }
    let outliers = outliers(fit);
    let (dry, wet) =
        theta.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), t| (low.min(*t), high.max(*t)));
    let mut form = candidate.form.to_owned();
    form[..1].make_ascii_uppercase();
    let sentence = if candidate.rises {
        format!("{form}, ±{:.3} m³/m³ from {dry:.2} to {wet:.2}.", fit.loo_rmse)
    } else {
        format!("{form} fits best, but it falls within its range and cannot be adopted as it is.")
    };
    let degree = candidate.rises.then_some(candidate.degree);
    Recommendation { degree, sentence, reasons, outliers, candidates }
}

/// Samples whose studentized residual is too large for chance.
fn outliers(fit: &PolynomialFit) -> Vec<(usize, f64)> {
    if fit.df < 2 {
        return Vec::new();
    }
    let limit = t_quantile(1.0 - OUTLIER_LEVEL / (2.0 * fit.residuals.len() as f64), fit.df - 1);
    let each = fit.studentized.iter().enumerate();
    each.filter_map(|(i, t)| t.filter(|t| t.abs() > limit).map(|t| (i, t))).collect()
}

/// Index of the better form; the reasons are appended.
fn choose(line: &PolynomialFit, quadratic: &PolynomialFit, quadratic_rises: bool, reasons: &mut Vec<String>) -> usize {
    let loo = format!(
        "Left out one by one, samples miss the straight line by {:.4} and the quadratic by {:.4} m³/m³.",
        line.loo_rmse, quadratic.loo_rmse
    );
    reasons.push(loo);
    if !quadratic_rises {
        reasons.push(
            "The quadratic turns within the range of the samples, so one reading would mean two contents.".into(),
        );
        return 0;
    }
    let gain = match (line.aicc, quadratic.aicc) {
        (Some(line), Some(quadratic)) => line - quadratic,
        _ => {
            reasons.push("Too few samples to weigh the extra coefficient by AICc: the simpler form stands.".into());
            return 0;
        }
    };
    let (f, p) = quadratic.f_test(line);
    if quadratic.loo_rmse < line.loo_rmse && (gain >= AICC_SUPPORT || (gain > 0.0 && p < 0.05)) {
        reasons
            .push(format!("AICc is lower by {gain:.1} for the quadratic (F = {f:.1}, p = {p:.3}): the bend is real."));
        1
    } else {
        reasons.push(format!(
            "The quadratic does not earn its extra coefficient (AICc gain {}, p = {p:.2}).",
            format!("{gain:.1}").replace('-', "−")
        ));
        0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_bend_is_found_where_it_is_real() {
        let x = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
        let y = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];
        let r = recommend(&x, &y);
        assert_eq!(r.degree, Some(2), "{:?}", r.reasons);
        assert_eq!(r.sentence, "Quadratic, ±0.004 m³/m³ from 0.05 to 0.39.");
    }

    #[test]
    fn the_line_stands_where_the_bend_is_noise() {
        let x = [12.0, 18.5, 24.1, 31.0, 37.7, 45.2, 52.9];
        let y = [0.061, 0.092, 0.133, 0.171, 0.219, 0.258, 0.304];
        let r = recommend(&x, &y);
        assert_eq!(r.degree, Some(1));
        assert!(r.reasons.iter().any(|s| s.contains("does not earn")), "{:?}", r.reasons);
    }

    #[test]
    fn an_outlying_tin_is_named() {
        let x: Vec<f64> = (0..8).map(|i| 800.0 + 150.0 * f64::from(i)).collect();
        let mut y: Vec<f64> = x.iter().enumerate().map(|(i, x)| (x - 650.0) * 3e-4 + [1e-3, -1e-3][i % 2]).collect();
        y[3] += 0.05;
        let r = recommend(&x, &y);
        assert_eq!(r.outliers.iter().map(|o| o.0).collect::<Vec<_>>(), [3]);
    }

    #[test]
    fn a_curve_that_falls_is_not_recommended() {
        let r = recommend(&[1.0, 2.0, 3.0, 4.0, 5.0], &[0.4, 0.31, 0.2, 0.11, 0.0]);
        assert_eq!(r.degree, None);
        assert!(r.reasons.iter().any(|s| s.contains("mixed up")));
    }

    #[test]
    fn two_samples_or_one_wetness_get_words_not_numbers() {
        assert!(recommend(&[1.0, 2.0], &[0.1, 0.2]).sentence.starts_with("No curve yet: 2 samples"));
        assert!(recommend(&[9.0; 6], &[0.1, 0.2, 0.3, 0.1, 0.2, 0.3]).sentence.contains("different wetnesses"));
    }
}
