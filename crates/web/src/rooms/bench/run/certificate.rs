//! The certificate of a run: one page and JSON with samples, conditions, fit, uncertainty and chart, enough to repeat it.

use super::draft_of;
use super::plot::{Beside, Plot, draw};
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::bench::{FieldDensity, RunDraft, School, density_target, field_density, resolve, solids};
use ebrel_core::calibration::{BAND_LEVEL, Form};
use ebrel_core::roles::Role;
use ebrel_store::Store;
use ebrel_store::calibrations::Subject;
use ebrel_store::probes::Probe;
use ebrel_store::runs::Run;
use serde_json::{Value, json};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/bench/{id}/certificate", Least::Member(Role::Guest), show);
    routes.get("/bench/{id}/certificate.json", Least::Member(Role::Guest), export);
}

struct SampleRow {
    number: usize,
    tin: String,
    cells: [String; 5],
    w: String,
    density: String,
    theta: String,
    residual: String,
    out: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/run/certificate.html")]
struct CertificatePage {
    shell: Shell,
    run: Run,
    probe: Option<Probe>,
    study: String,
    sentence: String,
    conditions: Vec<(&'static str, String)>,
    samples: Vec<SampleRow>,
    fit: Vec<(&'static str, String)>,
    reasons: Vec<String>,
    adopted: Vec<String>,
    plot: Option<Plot>,
    unit: String,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let run = state.store.run(*id).await?;
    let study = state.store.study(run.study_id).await?;
    let draft = draft_of(&state.store, &run).await?;
    let resolved = resolve(&draft);
    let found = &resolved.recommendation;
    let form = certified(&state.store, &run, found.form).await?;
    let fit = found.candidate(form).and_then(|c| c.fit.as_ref().ok());
    let samples = draft.rows.iter().zip(&resolved.figures).enumerate().filter(|(_, (r, _))| !r.is_empty());
    let samples = samples.map(|(i, (r, f))| {
        let at = resolved.used.iter().position(|u| *u == i);
        let residual = at.zip(fit).map(|(k, fit)| fixed(fit.residuals[k], 4));
        SampleRow {
            number: i + 1,
            tin: r.tin.clone(),
            cells: [if r.raw.trim().is_empty() { &f.recorded } else { &r.raw }, &r.tare, &r.wet, &r.dry, &r.volume]
                .map(|t| t.trim().to_owned()),
            w: f.w.clone(),
            density: f.density.clone(),
            theta: f.theta.clone(),
            residual: residual.unwrap_or_default(),
            out: if r.out { format!("left out: {}", r.why) } else { String::new() },
        }
    });
    let samples: Vec<SampleRow> = samples.collect();
    let mut numbers = Vec::new();
    if let Some(fit) = fit {
        let coefficients: Vec<String> = fit.coefficients.iter().map(|c| format!("{c:.6e}").replace('-', "−")).collect();
        let errors: Vec<String> = fit.standard_errors.iter().map(|c| format!("{c:.1e}").replace('-', "−")).collect();
        let half_width = found.candidate(form).and_then(|c| c.half_width());
        let half_width = half_width.map(|h| format!("±{} m³/m³", fixed(h, 4))).unwrap_or_default();
        let raw = |x: f64| fixed(if form.is_root() { x * x } else { x }, 1);
        numbers = vec![
            ("Form", form.name().to_owned()),
            ("Coefficients, lowest power first", coefficients.join(", ")),
            ("Their standard errors", errors.join(", ")),
            ("Holds for raw output", format!("{} to {} {}", raw(fit.x_range.0), raw(fit.x_range.1), draft.unit)),
            ("95 % of new tins lie within", half_width),
            ("Leave-one-out error", format!("{} m³/m³ (one standard deviation)", fixed(fit.loo_rmse, 4))),
            (
                "Residual standard deviation",
                format!("{} m³/m³, {} degrees of freedom", fixed(fit.residual_sd, 4), fit.df),
            ),
            ("Uncertainty of a tin's water content", budget(&resolved.u_theta, &resolved.u_own, fit.residual_sd)),
        ];
    }
    let offset = study.utc_offset_minutes;
    let adopted = state.store.calibrations_of_run(run.id).await?.into_iter().map(|c| {
        let retired = if c.retired.is_some() { ", retired since" } else { "" };
        let serves = match &c.subject {
            Subject::Probe(_) => String::new(),
            Subject::Model(model) => format!(" for every {model} in {}", c.made_with.soil),
        };
        let (from, at) = (moment(c.valid_from, offset), moment(c.adopted_at, offset));
        format!("version {}{serves} from {from}, by {} on {at}{retired}", c.version, c.adopted_by)
    });
    let adopted: Vec<String> = adopted.collect();
    let probe = state.store.probes().await?.into_iter().find(|p| Some(p.id) == run.probe_id);
    let shell =
        Shell::within(&state, &actor, &format!("Certificate of {}", run.title), Room::Bench, &study, None).await?;
    page(&CertificatePage {
        shell,
        probe,
        study: study.name,
        sentence: found.sentence.clone(),
        conditions: named_conditions(&draft),
        samples,
        fit: numbers,
        reasons: found.reasons.clone(),
        adopted,
        plot: draw(&resolved, form, &Beside::default()),
        unit: draft.unit.clone(),
        run,
    })
}

/// The form that was adopted from this run, or the recommended one before that.
async fn certified(store: &Store, run: &Run, recommended: Option<Form>) -> Result<Form, Problem> {
    let all = store.calibrations_of_run(run.id).await?.into_iter();
    let newest = all.filter(|c| c.retired.is_none()).max_by_key(|c| c.id);
    let adopted = newest.and_then(|c| Form::ALL.iter().copied().find(|f| f.name() == c.curve.form()));
    Ok(adopted.or(recommended).unwrap_or(Form::Line))
}

/// What the tins' own errors, the corer's shared one and all else make of the uncertainty.
fn budget(u_theta: &[f64], u_own: &[f64], residual_sd: f64) -> String {
    let quadratic_mean = |u: &[f64]| (u.iter().map(|u| u * u).sum::<f64>() / u.len().max(1) as f64).sqrt();
    let (all, own) = (quadratic_mean(u_theta), quadratic_mean(u_own));
    let shared = (all * all - own * own).max(0.0).sqrt();
    let rest = (residual_sd * residual_sd - own * own).max(0.0).sqrt();
    format!(
        "{} m³/m³ by the balance, each tin's own; {} by the corer's volume, which all tins share and the scatter does not show (GUM, first order). Packing, contact and mixing: {} of the scatter",
        fixed(own, 4),
        fixed(shared, 4),
        fixed(rest, 4)
    )
}

fn named_conditions(draft: &RunDraft) -> Vec<(&'static str, String)> {
    let with =
        |text: &str, unit: &str| if text.trim().is_empty() { String::new() } else { format!("{} {unit}", text.trim()) };
    let cores = match field_density(&draft.cores) {
        Some(Ok(FieldDensity { sd, n, .. })) => {
            format!(" from {n} cores{}", sd.map(|sd| format!(" ± {}", fixed(sd, 2))).unwrap_or_default())
        }
        _ => String::new(),
    };
    let density = density_target(draft).map(|d| format!("{} g/cm³{cores}", fixed(d, 2))).unwrap_or_default();
    let mut all = vec![
        ("Samples from", draft.school.words().to_owned()),
        ("Soil", with(&draft.soil, "")),
        ("Field density", density),
    ];
    match draft.school {
        School::Packed => all.extend([
            ("Container", format!("{} in {} layers", with(&draft.container, "L"), draft.layers)),
            ("Water per step", with(&draft.water, "mL")),
        ]),
        School::Cores => {}
        School::Drying => all.extend([
            ("Container with probe, empty", with(&draft.pot_tare, "g")),
            ("With dry soil", with(&draft.pot_dry, "g")),
            ("Its volume", with(&draft.pot_volume, "cm³")),
        ]),
    }
    all.extend([
        ("Dried at", format!("{} for {}", with(&draft.dry_temperature, "°C"), with(&draft.dry_hours, "h"))),
        ("Organic matter", with(&draft.organic, "%")),
        ("Density of the solids", format!("{} g/cm³", fixed(solids(draft).get(), 2))),
        ("Read with", with(&draft.logger, "")),
        ("Excitation", with(&draft.excitation, "V")),
        ("Balance step", with(&draft.step, "g")),
        ("Volume known to", with(&draft.volume_pct, "%")),
        ("Band drawn", format!("{} % prediction interval of a new sample", fixed(BAND_LEVEL * 100.0, 0))),
    ]);
    all.retain(|(_, text)| !text.is_empty());
    all
}

async fn export(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let run = state.store.run(*id).await?;
    let draft = draft_of(&state.store, &run).await?;
    let resolved = resolve(&draft);
    let found = &resolved.recommendation;
    let form = certified(&state.store, &run, found.form).await?;
    let fit = found.candidate(form).and_then(|c| c.fit.as_ref().ok());
    let probe = state.store.probes().await?.into_iter().find(|p| Some(p.id) == run.probe_id);
    let samples: Vec<Value> = (0..resolved.used.len())
        .map(|k| {
            let row = &draft.rows[resolved.used[k]];
            json!({"line": resolved.used[k] + 1, "tin": row.tin, "raw": resolved.raw[k], "u_raw": resolved.u_raw[k],
                   "water_content": resolved.theta[k], "u_water_content": resolved.u_theta[k],
                   "residual": fit.map(|f| f.residuals[k])})
        })
        .collect();
    let body = json!({
        "title": run.title, "probe": probe.map(|p| p.serial), "statement": found.sentence, "reasons": found.reasons,
        "form": form.code(), "coefficients_lowest_first": fit.map(|f| f.coefficients.clone()),
        "standard_errors": fit.map(|f| f.standard_errors.clone()),
        "half_width_95_m3_m3": found.candidate(form).and_then(|c| c.half_width()),
        "leave_one_out_m3_m3": fit.map(|f| f.loo_rmse), "residual_sd_m3_m3": fit.map(|f| f.residual_sd),
        "degrees_of_freedom": fit.map(|f| f.df), "samples_in_fit": samples, "as_typed": draft,
    });
    let text = serde_json::to_string_pretty(&body).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(attachment("application/json", &format!("certificate-{}.json", run.id), text))
}
