//! What is worked out of the samples of a run: the answer, what is said, the forms, and each sample's part in it.

use super::KnownCurves;
use super::plot::{Beside, Plot, draw};
use crate::shell::figures::{fixed, signed};
use askama::Template;
use ebrel_core::bench::{Conditions, Resolved, RunDraft, conditions, density_target, is_permittivity, solids};
use ebrel_core::calibration::{Form, Published, Score, score};

/// A form that was tried, as a row.
pub struct CandidateRow {
    pub code: &'static str,
    pub form: &'static str,
    chosen: bool,
    loo: String,
    s: String,
    aicc: String,
    r2: String,
    coefficients: String,
    trouble: String,
}

/// What is worked out of the samples; also sent alone while one types.
#[derive(Template)]
#[template(path = "rooms/bench/run/result.html")]
pub struct ResultPart {
    sentence: String,
    /// Whether a form can be adopted.
    pub defended: bool,
    reasons: Vec<String>,
    impossible: Vec<String>,
    outliers: Vec<String>,
    parts: Vec<PartRow>,
    pub candidates: Vec<CandidateRow>,
    scores: Vec<ScoreRow>,
    conditions: Conditions,
    plot: Option<Plot>,
    unit: String,
}

/// What one sample does to the fit.
struct PartRow {
    line: usize,
    residual: String,
    studentized: String,
    leverage: String,
    balance: String,
    volume: String,
    without: String,
}

/// A general or maker's curve on the same samples.
struct ScoreRow {
    name: String,
    rmse: String,
    bias: String,
}

/// Works the part out.
pub fn result(draft: &RunDraft, resolved: &Resolved, around: &KnownCurves) -> ResultPart {
    let r = &resolved.recommendation;
    let shown = r.form.unwrap_or(Form::Line);
    let candidates = r.candidates.iter().map(|c| {
        let dash = || "–".to_owned();
        let Ok(fit) = &c.fit else {
            let trouble = c.fit.as_ref().err().map(ToString::to_string).unwrap_or_default();
            return CandidateRow {
                code: c.form.code(),
                form: c.form.name(),
                chosen: false,
                loo: dash(),
                s: dash(),
                aicc: dash(),
                r2: dash(),
                coefficients: String::new(),
                trouble,
            };
        };
        let coefficients: Vec<String> = fit
            .coefficients
            .iter()
            .map(|b| format!("{b:.5e}").replace("e-", "e−").replace("-", "−").replace("−−", "−"))
            .collect();
        CandidateRow {
            code: c.form.code(),
            form: c.form.name(),
            chosen: r.form == Some(c.form),
            loo: fixed(fit.loo_rmse, 4),
            s: fixed(fit.residual_sd, 4),
            aicc: fit.aicc.map_or_else(dash, |a| fixed(a, 1)),
            r2: fixed(fit.r2, 4),
            coefficients: coefficients.join(", "),
            trouble: if c.direction.is_some() { String::new() } else { "turns within the samples' range".to_owned() },
        }
    });
    let outliers = r.outliers.iter().map(|(i, t)| {
        let tin = resolved.used[*i] + 1;
        format!("Sample {tin} stands {} standard deviations off the curve of the others: look at its tin, or tick “out” to leave it out.", fixed(t.abs(), 1))
    });
    let published_at = is_permittivity(&draft.unit).then(|| density_target(draft).unwrap_or(USUAL_DENSITY));
    let published_at = published_at.map(|density| (density, solids(draft)));
    let beside = Beside { factory: &around.factory, truth: &around.truth, published_at };
    ResultPart {
        sentence: r.sentence.clone(),
        defended: r.form.is_some(),
        reasons: r.reasons.clone(),
        impossible: r.impossible.clone(),
        parts: parts(resolved, shown),
        scores: scores(draft, resolved, &around.factory),
        conditions: conditions(draft, resolved, &around.context),
        outliers: outliers.collect(),
        candidates: candidates.collect(),
        plot: draw(resolved, shown, &beside),
        unit: draft.unit.clone(),
    }
}

/// Density with which published curves are drawn where none is known, g/cm³: a usual mineral topsoil.
const USUAL_DENSITY: f64 = 1.3;

/// Samples beyond which the answer without each of them is not worked out as one types.
const MOST_WITHOUT: usize = 60;

/// Each sample's residual, studentized residual, leverage, and the answer without it.
fn parts(resolved: &Resolved, form: Form) -> Vec<PartRow> {
    let Some(Ok(fit)) = resolved.recommendation.candidate(form).map(|c| &c.fit) else { return Vec::new() };
    let few = resolved.used.len() <= MOST_WITHOUT;
    let row = |(k, line): (usize, &usize)| PartRow {
        line: line + 1,
        residual: fixed(fit.residuals[k], 4),
        studentized: fit.studentized[k].map(|t| fixed(t, 1)).unwrap_or_default(),
        leverage: fixed(fit.leverage[k], 2),
        balance: fixed(resolved.u_own[k], 4),
        volume: fixed((resolved.u_theta[k].powi(2) - resolved.u_own[k].powi(2)).max(0.0).sqrt(), 4),
        without: if few { resolved.without(k).sentence } else { String::new() },
    };
    resolved.used.iter().enumerate().map(row).collect()
}

/// General curves and the maker's, scored on the same samples, so that the gain is seen.
fn scores(draft: &RunDraft, resolved: &Resolved, factory: &[f64]) -> Vec<ScoreRow> {
    let row = |name: String, score: Option<Score>| {
        score.map(|s| ScoreRow { name, rmse: fixed(s.rmse, 3), bias: signed(s.bias, 3) })
    };
    let (raw, theta) = (&resolved.raw[..], &resolved.theta[..]);
    let mut rows = Vec::new();
    if !factory.is_empty() {
        let maker = |x: f64| factory.iter().rev().fold(0.0, |sum, c| sum * x + c);
        rows.extend(row("the maker's curve".into(), score(maker, raw, theta)));
    }
    if is_permittivity(&draft.unit) {
        let density = density_target(draft).unwrap_or(USUAL_DENSITY);
        let each = Published::ALL
            .iter()
            .map(|p| row(p.source().to_owned(), score(|x| p.theta(x, density, solids(draft)), raw, theta)));
        rows.extend(each.flatten());
    }
    rows
}
