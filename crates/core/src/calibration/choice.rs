//! Which of two fitted forms to take, and when the tins cannot say.

use super::candidate::Candidate;
use super::fit::{PolynomialFit, quadratic_form};
use super::form::Form;
use super::{BAND_LEVEL, FACTORY_CLAIM};
use crate::statistics::t_quantile;
use crate::units::format_value;

/// Chance of a false bend that a further coefficient may have by its F test. docs/judgement.md shows what 2.5, 5 and 10 %
/// cost in runs of five to nine tins.
const LEVEL: f64 = 0.05;
/// Two forms of one size are alike if their leave-one-out errors differ by less than this factor.
const ALIKE: f64 = 1.25;
/// Forms that differ by less than this anywhere in the range are one for use, m³/m³.
const SAME: f64 = 0.01;

/// Whether `next` is to be preferred to `now`; the reasons are appended.
///
/// A form of the same size wins by the lower leave-one-out error; one with more coefficients must also pass an F test (exact
/// where the smaller form is nested in it; the line in the root is not, and is held to the same figure).
pub(super) fn earns(now: &Candidate, next: &Candidate, reasons: &mut Vec<String>) -> bool {
    let (name, before) = (next.form.name(), now.form.name());
    // That a cubic adds nothing is no news.
    let mut tell = |text: String| {
        if next.form != Form::Cubic {
            reasons.push(text);
        }
    };
    let Ok(old) = &now.fit else { return false };
    let new = match &next.fit {
        Ok(new) => new,
        Err(error) => {
            tell(format!("The {name} is out of reach: {error}."));
            return false;
        }
    };
    tell(format!(
        "Left out one by one, samples miss the {before} by {:.4} and the {name} by {:.4} m³/m³.",
        old.loo_rmse, new.loo_rmse
    ));
    if next.direction.is_none() {
        tell(format!("The {name} turns within the range of the samples, so one reading would mean two contents."));
        return false;
    }
    let closer = new.loo_rmse < old.loo_rmse;
    if new.df >= old.df {
        return closer;
    }
    let (f, p) = new.f_test(old);
    let chance = if p < 0.001 { "< 0.001".to_owned() } else { format!("= {p:.3}") };
    if closer && p < LEVEL {
        reasons.push(format!("The {name} earns its further coefficient (F = {f:.1}, p {chance}): the bend is real."));
        return true;
    }
    tell(format!("The {name} does not earn its further coefficient (F = {f:.1}, p {chance})."));
    false
}

/// What the tins cannot tell about the chosen form, and which further tin would; `None` where they can.
pub(super) fn undecided(candidates: &[Candidate], chosen: usize) -> Option<String> {
    let taken = &candidates[chosen];
    match taken.form {
        Form::Quadratic | Form::Cubic => return None,
        Form::Line | Form::RootLine => {}
    }
    let with = |form: Form| candidates.iter().find(|c| c.form == form);
    hidden_bend(taken, with(Form::Quadratic)?).or_else(|| {
        let rival = if taken.form == Form::Line { Form::RootLine } else { Form::Line };
        alike(taken, with(rival)?)
    })
}

/// A bend that may hide behind these samples: the 95 % interval of the quadratic's sagitta reaches further than a factory
/// curve claims. The further tin is the one that narrows that interval most (D_s-optimal; Atkinson, Donev & Tobias 2007,
/// Optimum Experimental Designs, ch. 10).
fn hidden_bend(taken: &Candidate, bent: &Candidate) -> Option<String> {
    let fit = bent.fit.as_ref().ok()?;
    // In z the range is −1 to 1, so that the coefficient of z² is the sagitta at the middle.
    let sagitta = *fit.coefficients_z.get(2)?;
    let covariance = &fit.unscaled_covariance_z;
    let half = t_quantile(0.5 + BAND_LEVEL / 2.0, fit.df) * fit.residual_sd * covariance.get(2)?.get(2)?.sqrt();
    let hides = sagitta.abs() + half;
    if hides <= FACTORY_CLAIM {
        return None;
    }
    let gain = |z: f64| {
        let powers = [1.0, z, z * z];
        let along: f64 = covariance[2].iter().zip(powers).map(|(m, a)| m * a).sum();
        along * along / (1.0 + quadratic_form(&powers, covariance))
    };
    let z = (-20..=20).map(|i| f64::from(i) / 20.0).max_by(|a, b| gain(*a).total_cmp(&gain(*b)))?;
    let raw = fit.centre + z * fit.scale;
    Some(format!(
        "These tins cannot exclude a bend: the middle may lie up to {hides:.3} m³/m³ off the {}. A further tin near raw {} \
         (about {} m³/m³) would tell most.",
        taken.form.name(),
        rounded(raw, fit),
        format_value(taken.at(raw)?.0, 2)
    ))
}

/// Two forms of one size that the samples do not tell apart. The further tin lies where they differ most
/// (T-optimal; Atkinson & Fedorov 1975, Biometrika 62:57).
fn alike(taken: &Candidate, rival: &Candidate) -> Option<String> {
    let (a, b) = (taken.fit.as_ref().ok()?, rival.fit.as_ref().ok()?);
    if rival.direction.is_none() || b.loo_rmse > a.loo_rmse * ALIKE {
        return None;
    }
    let line = if taken.form == Form::Line { a } else { b };
    let apart = |z: &f64| {
        let raw = line.centre + z * line.scale;
        Some((raw, (taken.at(raw)?.0 - rival.at(raw)?.0).abs()))
    };
    let places: Vec<f64> = (-20..=20).map(|i| f64::from(i) / 20.0).collect();
    let (raw, most) = places.iter().filter_map(apart).max_by(|a, b| a.1.total_cmp(&b.1))?;
    (most >= SAME).then(|| {
        format!(
            "These tins do not tell the {} from the {}: they differ by up to {most:.3} m³/m³. A further tin near raw {} would \
             tell most.",
            taken.form.name(),
            rival.form.name(),
            rounded(raw, line)
        )
    })
}

/// A raw output to about a hundredth of the samples' range: nobody sets a tin more exactly.
fn rounded(raw: f64, fit: &PolynomialFit) -> String {
    let decimals = (2.0 - (2.0 * fit.scale).log10().floor()).clamp(0.0, 6.0) as usize;
    format_value(raw, decimals.saturating_sub(1))
}

#[cfg(test)]
mod tests {
    use crate::calibration::{Form, Samples, recommend};

    #[test]
    fn few_tins_say_what_they_cannot_tell_and_which_tin_would() {
        let raw = [850.0, 1100.0, 1340.0, 1580.0, 1820.0];
        let theta = [0.052, 0.139, 0.232, 0.304, 0.400];
        let found = recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() });
        assert_eq!(found.form, Some(Form::Line));
        let said = found.reasons.iter().find(|r| r.contains("cannot exclude a bend"));
        assert!(
            said.is_some_and(|s| s.contains("A further tin near raw 133") || s.contains("raw 134")),
            "{:?}",
            found.reasons
        );
    }

    #[test]
    fn many_clean_tins_say_nothing_of_the_kind() {
        let raw: Vec<f64> = (0..9).map(|i| 800.0 + 100.0 * f64::from(i)).collect();
        let theta: Vec<f64> =
            raw.iter().enumerate().map(|(i, x)| (x - 650.0) * 3e-4 + [2e-3, -1e-3, -1e-3][i % 3]).collect();
        let found = recommend(&Samples { raw: &raw, theta: &theta, ..Samples::default() });
        assert!(found.reasons.iter().all(|r| !r.contains("cannot exclude")), "{:?}", found.reasons);
    }

    #[test]
    fn root_and_line_over_a_narrow_range_are_not_told_apart() {
        let raw: [f64; 6] = [3.0, 6.0, 11.0, 16.0, 22.0, 28.0];
        let theta = raw.map(|e| 0.5 * (0.1138 * e.sqrt() - 0.1758) + 0.5 * (0.0157 * e));
        let found = recommend(&Samples { raw: &raw, theta: &theta, permittivity: true, ..Samples::default() });
        let told = found.reasons.iter().any(|r| r.contains("do not tell") || r.contains("cannot exclude"));
        assert!(told || found.form == Some(Form::Quadratic), "{:?}: {:?}", found.form, found.reasons);
    }
}
