//! Which curve to take, and why.

use super::candidate::Candidate;
use super::choice::{earns, undecided};
use super::fit::{Direction, Intercept, PolynomialFit};
use super::form::Form;
use super::{FACTORY_CLAIM, OUTLIER_LEVEL};
use crate::statistics::t_quantile;
use crate::units::format_value;

/// Samples of a run: what the probe put out, and what the tins say.
#[derive(Debug, Clone, Copy, Default)]
pub struct Samples<'s> {
    /// Raw output of each.
    pub raw: &'s [f64],
    /// Water content of each, m³/m³.
    pub theta: &'s [f64],
    /// Standard uncertainty that each water content has of its own, without what all share; empty: all alike.
    pub u_theta: &'s [f64],
    /// Standard uncertainty of the raw outputs, from repeats; empty: not known.
    pub u_raw: &'s [f64],
    /// Whether the raw output is a relative permittivity.
    pub permittivity: bool,
    /// Pore space of the soil as it was packed, m³/m³: no curve may pass it.
    pub pore_space: Option<f64>,
}

/// The forms tried, the one to take, and the reasons.
#[derive(Debug, Clone, PartialEq)]
pub struct Recommendation {
    /// The forms tried, the straight line first.
    pub candidates: Vec<Candidate>,
    /// The recommended form; `None` if none can be defended.
    pub form: Option<Form>,
    /// The answer in one sentence.
    pub sentence: String,
    /// Why, one sentence each.
    pub reasons: Vec<String>,
    /// What cannot be: water below nothing, or more than the pores hold; one sentence each.
    pub impossible: Vec<String>,
    /// Samples that the recommended form names as outliers: (index, studentized residual).
    pub outliers: Vec<(usize, f64)>,
}

impl Recommendation {
    /// What was tried of a form.
    #[must_use]
    pub fn candidate(&self, form: Form) -> Option<&Candidate> {
        self.candidates.iter().find(|c| c.form == form)
    }
}

/// Uncertainties that differ less than this factor are taken as equal.
const UNEQUAL: f64 = 1.5;
/// Share of the scatter from which on an uncertainty is noticed.
const NOTICED: f64 = 0.3;
/// Rounds of the effective-variance fit; it settles in two or three.
const ROUNDS: usize = 5;

/// Fits the forms of water content on raw output, and says which to take.
///
/// Evidence is the leave-one-out error, an F test of each further coefficient, and that the curve does not turn within its
/// range; never R² alone. The rule is the one that did best in simulation (docs/judgement.md). Where the tins'
/// uncertainties differ, or the raw readings were repeated, samples are weighted by 1/(u²θ + (dθ/dx)² u²x), the
/// effective variance (Orear 1982, American Journal of Physics 50:912).
#[must_use]
pub fn recommend(samples: &Samples<'_>) -> Recommendation {
    let mut reasons = Vec::new();
    let forms = Form::ALL.iter().copied().filter(|form| samples.permittivity || !form.is_root());
    let candidates: Vec<Candidate> = forms.map(|form| fit_form(form, samples)).collect();
    if let Err(error) = &candidates[0].fit {
        let sentence = format!("No curve yet: {error}.");
        return Recommendation {
            candidates,
            form: None,
            sentence,
            reasons,
            impossible: Vec::new(),
            outliers: Vec::new(),
        };
    }
    if let Some(factor) = unequal(samples) {
        reasons.push(format!(
            "Samples are weighted by their uncertainty, which differs by a factor of {factor:.1} among them (effective variance, Orear 1982)."
        ));
    } else if samples.u_raw.iter().any(|u| *u > 0.0) {
        reasons.push(
            "Repeated readings weigh in by their spread, along the slope of the curve (effective variance, Orear 1982)."
                .into(),
        );
    }
    let mut chosen = 0;
    for next in 1..candidates.len() {
        if earns(&candidates[chosen], &candidates[next], &mut reasons) {
            chosen = next;
        }
    }
    let Candidate { form, direction, fit } = &candidates[chosen];
    let Ok(fit) = fit else { unreachable!("the chosen form has a fit") };
    match direction {
        Some(Direction::Rises) => {}
        Some(Direction::Falls) => reasons.push(
            "This probe puts out less the wetter the soil is. If its model does not, raw readings and tins are mixed up."
                .into(),
        ),
        None => reasons.push("Water content does not follow the probe's output: are columns or samples mixed up?".into()),
    }
    reasons.extend(undecided(&candidates, chosen));
    if fit.df < 3 {
        reasons.push(format!(
            "Only {} of {} samples are left to judge by: five to seven points from dry to saturated are usual.",
            fit.df,
            samples.raw.len()
        ));
    }
    let half_width = candidates[chosen].half_width().unwrap_or(fit.residual_sd);
    if half_width < FACTORY_CLAIM {
        reasons.push(format!(
            "Factory curves claim about ±{FACTORY_CLAIM} m³/m³; 95 % of new tins lie within ±{half_width:.3} of this one."
        ));
    }
    let (dry, wet) =
        samples.theta.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), t| (low.min(*t), high.max(*t)));
    let impossible = impossible(&candidates[chosen], samples);
    let sentence = match direction {
        Some(_) => format!("{}, ±{half_width:.3} m³/m³ (95 %) from {dry:.2} to {wet:.2}.", form.title()),
        None => {
            format!("{} fits best, but it turns within its range and cannot be adopted as it is.", form.title())
        }
    };
    let form = direction.is_some().then_some(*form);
    Recommendation { form, sentence, reasons, impossible, outliers: outliers(fit), candidates }
}

/// Where samples or curve pass the bounds of soil: no water, and full pores. A miss within the fit's own scatter is none.
fn impossible(chosen: &Candidate, samples: &Samples<'_>) -> Vec<String> {
    let Ok(fit) = &chosen.fit else { return Vec::new() };
    let mut says = Vec::new();
    let (low, high) = fit.x_range;
    let (dry, wet) = match chosen.direction {
        Some(Direction::Falls) => (fit.at(high).0, fit.at(low).0),
        Some(Direction::Rises) | None => (fit.at(low).0, fit.at(high).0),
    };
    if dry < -2.0 * fit.residual_sd {
        says.push(format!(
            "At its driest sample the curve gives {} m³/m³, less than no water: look at that tin's dry mass.",
            format_value(dry, 3)
        ));
    }
    if let Some(pores) = samples.pore_space {
        let wettest = samples.theta.iter().copied().fold(0.0, f64::max);
        if wettest > pores {
            says.push(format!(
                "A sample holds {wettest:.3} m³/m³, more than the pores do ({pores:.3} at this density): free water in the tin, or a volume or density that is off."
            ));
        } else if wet > pores + 2.0 * fit.residual_sd {
            says.push(format!(
                "At its wettest sample the curve gives {wet:.3} m³/m³, above the pore space of {pores:.3}."
            ));
        }
    }
    says
}

/// By which factor the uncertainties of the samples differ, if it matters: an uncertainty far below the scatter about a
/// line is no reason to weigh.
fn unequal(samples: &Samples<'_>) -> Option<f64> {
    let u = samples.u_theta;
    let largest = u.iter().copied().fold(0.0, f64::max);
    let smallest = u.iter().copied().fold(f64::INFINITY, f64::min);
    let factor = largest / smallest;
    if u.len() != samples.raw.len() || smallest <= 0.0 || !factor.is_finite() || factor < UNEQUAL {
        return None;
    }
    let line = PolynomialFit::new(samples.raw, samples.theta, 1, Intercept::Free).ok()?;
    (largest > line.residual_sd * NOTICED).then_some(factor)
}

fn fit_form(form: Form, samples: &Samples<'_>) -> Candidate {
    let x: Vec<f64> = samples.raw.iter().map(|r| form.takes(*r)).collect();
    let n = x.len();
    let repeated = samples.u_raw.len() == n && samples.u_raw.iter().any(|u| *u > 0.0);
    let mut fit = PolynomialFit::new(&x, samples.theta, form.degree(), Intercept::Free);
    if unequal(samples).is_some() || repeated {
        for _ in 0..ROUNDS {
            let Ok(last) = &fit else { break };
            let weights: Vec<f64> = (0..n)
                .map(|i| {
                    let step = (samples.raw[i].abs() * 1e-6).max(1e-9);
                    let slope = (last.at(form.takes(samples.raw[i] + step)).0 - last.at(x[i]).0) / step;
                    let own = samples.u_theta.get(i).copied().unwrap_or(0.0);
                    let raw = slope * samples.u_raw.get(i).copied().unwrap_or(0.0);
                    // Packing and mixing differ from tin to tin by more than the balance does.
                    1.0 / (own * own + raw * raw + last.residual_sd.powi(2)).max(1e-14)
                })
                .collect();
            fit = PolynomialFit::weighted(&x, samples.theta, &weights, form.degree(), Intercept::Free);
        }
    }
    let direction = fit.as_ref().ok().and_then(PolynomialFit::direction);
    Candidate { form, fit, direction }
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

#[cfg(test)]
mod tests {
    use super::*;

    fn of(raw: &[f64], theta: &[f64]) -> Recommendation {
        recommend(&Samples { raw, theta, ..Samples::default() })
    }

    #[test]
    fn the_bend_is_found_where_it_is_real() {
        let x = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
        let y = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];
        let r = of(&x, &y);
        assert_eq!(r.form, Some(Form::Quadratic), "{:?}", r.reasons);
        assert_eq!(r.sentence, "Quadratic, ±0.011 m³/m³ (95 %) from 0.05 to 0.39.");
    }

    #[test]
    fn the_line_stands_where_the_bend_is_noise() {
        let x = [12.0, 18.5, 24.1, 31.0, 37.7, 45.2, 52.9];
        let y = [0.061, 0.092, 0.133, 0.171, 0.219, 0.258, 0.304];
        let r = of(&x, &y);
        assert_eq!(r.form, Some(Form::Line));
        assert!(r.reasons.iter().any(|s| s.contains("does not earn")), "{:?}", r.reasons);
    }

    #[test]
    fn an_outlying_tin_is_named() {
        let x: Vec<f64> = (0..8).map(|i| 800.0 + 150.0 * f64::from(i)).collect();
        let mut y: Vec<f64> = x.iter().enumerate().map(|(i, x)| (x - 650.0) * 3e-4 + [1e-3, -1e-3][i % 2]).collect();
        y[3] += 0.05;
        let r = of(&x, &y);
        assert_eq!(r.outliers.iter().map(|o| o.0).collect::<Vec<_>>(), [3]);
    }

    #[test]
    fn a_probe_whose_output_falls_is_calibrated_and_told_so() {
        let raw: [f64; 5] = [1.0, 2.0, 3.0, 4.0, 5.0];
        let r = of(&raw, &[0.4, 0.31, 0.2, 0.11, 0.0]);
        assert_eq!(r.form, Some(Form::Line));
        assert!(r.reasons.iter().any(|s| s.contains("puts out less the wetter")), "{:?}", r.reasons);
        let theta = [0.40, 0.31, 0.21, 0.12, -0.05];
        let r = recommend(&Samples { raw: &raw, theta: &theta, pore_space: Some(0.5), ..Samples::default() });
        assert!(r.impossible.iter().all(|s| !s.contains("wettest")), "its dry end is the high one: {:?}", r.impossible);
        let mirrored = of(&raw.map(|x| -x), &[0.4, 0.31, 0.2, 0.11, 0.0]);
        assert_eq!(mirrored.sentence, of(&raw, &[0.4, 0.31, 0.2, 0.11, 0.0]).sentence);
    }

    #[test]
    fn only_a_curve_that_turns_is_refused() {
        let r = of(&[1.0, 2.0, 3.0, 4.0, 5.0, 6.0], &[0.2; 6]);
        assert_eq!(r.form, None);
        assert!(r.sentence.contains("turns within its range") && r.reasons.iter().any(|s| s.contains("mixed up")));
    }

    #[test]
    fn a_tin_that_decides_alone_and_exact_tins_get_words_not_nan() {
        let pinned = of(&[900.0, 900.0, 900.0, 1500.0], &[0.1, 0.11, 0.12, 0.3]);
        assert_eq!(pinned.form, None);
        assert!(pinned.sentence.contains("hangs on sample 4 alone"), "{}", pinned.sentence);
        let raw: Vec<f64> = (0..9).map(|i| 10.0 * f64::from(i)).collect();
        let theta: Vec<f64> = (0..9).map(|i| 0.05 + 0.08 * f64::from(i)).collect();
        let exact = of(&raw, &theta);
        assert_eq!(exact.sentence, "Straight line, ±0.000 m³/m³ (95 %) from 0.05 to 0.69.");
        assert!(exact.outliers.is_empty(), "rounding names no outlier: {:?}", exact.outliers);
    }

    #[test]
    fn two_samples_or_one_wetness_get_words_not_numbers() {
        assert!(of(&[1.0, 2.0], &[0.1, 0.2]).sentence.starts_with("No curve yet: 2 samples"));
        assert!(of(&[9.0; 6], &[0.1, 0.2, 0.3, 0.1, 0.2, 0.3]).sentence.contains("different wetnesses"));
    }

    #[test]
    fn permittivity_is_a_line_in_its_root_and_a_cubic_only_where_it_earns_it() {
        let raw = [3.5f64, 6.0, 9.0, 12.0, 16.0, 20.0, 25.0, 30.0];
        let error = [3e-3, -2e-3, 1e-3, -3e-3, 2e-3, -1e-3, 3e-3, -3e-3];
        let theta: Vec<f64> = raw.iter().zip(error).map(|(e, d)| 0.1138 * e.sqrt() - 0.1758 + d).collect();
        let r = recommend(&Samples { raw: &raw, theta: &theta, permittivity: true, ..Samples::default() });
        assert_eq!(r.form, Some(Form::RootLine), "{:?}", r.reasons);
        let x: Vec<f64> = (0..12).map(|i| 800.0 + 100.0 * f64::from(i)).collect();
        let s_shaped = |x: f64| 0.25 + 1.2e-4 * (x - 1350.0) + 4.5e-10 * (x - 1350.0).powi(3);
        let y: Vec<f64> = x.iter().enumerate().map(|(i, x)| s_shaped(*x) + [1e-3, -1e-3][i % 2]).collect();
        assert_eq!(of(&x, &y).form, Some(Form::Cubic), "{:?}", of(&x, &y).reasons);
    }

    #[test]
    fn more_water_than_pores_and_less_than_none_are_said() {
        let raw = [850.0, 1012.0, 1175.0, 1340.0, 1496.0];
        let theta = [0.10, 0.2, 0.3, 0.4, 0.5];
        let with =
            |theta: &[f64], pore_space| recommend(&Samples { raw: &raw, theta, pore_space, ..Samples::default() });
        assert!(with(&theta, Some(0.51)).impossible.is_empty());
        assert!(with(&theta, None).impossible.is_empty(), "without a density nothing is known of the pores");
        let full = with(&theta, Some(0.45)).impossible;
        assert!(full.len() == 1 && full[0].contains("0.450") && full[0].contains("holds 0.500"), "{full:?}");
        let dry = with(&theta.map(|t| t - 0.15), Some(0.5)).impossible;
        assert!(dry[0].contains("gives −0.050 m³/m³, less than no water"), "{dry:?}");
    }

    #[test]
    fn a_doubtful_tin_weighs_less_and_it_is_said() {
        let x: Vec<f64> = (0..7).map(|i| 800.0 + 150.0 * f64::from(i)).collect();
        let mut y: Vec<f64> = x.iter().enumerate().map(|(i, x)| (x - 650.0) * 3e-4 + [1e-3, -1e-3][i % 2]).collect();
        y[6] += 0.03;
        let mut u = vec![0.002; 7];
        u[6] = 0.05;
        let plain = of(&x, &y);
        let weighted = recommend(&Samples { raw: &x, theta: &y, u_theta: &u, ..Samples::default() });
        let slope = |r: &Recommendation| r.candidate(Form::Line).unwrap().fit.as_ref().unwrap().coefficients[1];
        assert!((slope(&weighted) - 3e-4).abs() < (slope(&plain) - 3e-4).abs() / 2.0);
        assert!(weighted.reasons[0].contains("differs by a factor of 25.0"));
        let spread = vec![40.0; 7];
        let both = recommend(&Samples { raw: &x, theta: &y, u_raw: &spread, ..Samples::default() });
        assert!((slope(&both) - slope(&plain)).abs() < 1e-5, "equal spread weighs all alike");
    }
}
