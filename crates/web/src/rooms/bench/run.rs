//! One calibration run: samples typed or pasted, worked out as one types, adopted as a version.

use super::draft::{Draft, Resolved, Row, RowFigures, resolve};
use super::plot::{Plot, draw};
use crate::app::App;
use crate::jobs::reviewing;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, read_field};
use crate::shell::guard::{CheckedForm, CheckedJson};
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::calibration::Curve;
use ebrel_core::units::{Principle, UnixSeconds};
use ebrel_store::calibrations::{Adoption, Run};
use ebrel_store::placements::Probe;
use ebrel_store::stations::Study;
use serde::{Deserialize, Serialize};

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .route("/bench/{id}", web::get().to(show))
        .route("/bench/{id}/draft", web::post().to(keep))
        .route("/bench/{id}/adopt", web::post().to(adopt));
}

/// Rows that a new run offers.
const ROWS: usize = 7;

struct CandidateRow {
    form: &'static str,
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
#[template(path = "rooms/bench/result.html")]
struct ResultPart {
    sentence: String,
    defended: bool,
    reasons: Vec<String>,
    outliers: Vec<String>,
    candidates: Vec<CandidateRow>,
    plot: Option<Plot>,
    unit: String,
}

struct Version {
    version: i64,
    statement: String,
    from: String,
    by: String,
    at: String,
    retired: bool,
}

#[derive(Template)]
#[template(path = "rooms/bench/run.html")]
struct RunPage {
    shell: Shell,
    run: Run,
    draft: Draft,
    figures: Vec<RowFigures>,
    result: ResultPart,
    probes: Vec<Probe>,
    valid_from: String,
    versions: Vec<Version>,
    error: Option<String>,
}

impl RunPage {
    fn is_probe(&self, probe: &Probe) -> bool {
        self.run.probe_id == Some(probe.id)
    }
}

fn result(draft: &Draft, resolved: &Resolved) -> ResultPart {
    let r = &resolved.recommendation;
    let shown = r.degree.unwrap_or(1);
    let candidates = r.candidates.iter().map(|c| {
        let dash = || "–".to_owned();
        let Ok(fit) = &c.fit else {
            let trouble = c.fit.as_ref().err().map(ToString::to_string).unwrap_or_default();
            return CandidateRow {
                form: c.form,
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
            form: c.form,
            chosen: r.degree == Some(c.degree),
            loo: fixed(fit.loo_rmse, 4),
            s: fixed(fit.residual_sd, 4),
            aicc: fit.aicc.map_or_else(dash, |a| fixed(a, 1)),
            r2: fixed(fit.r2, 4),
            coefficients: coefficients.join(", "),
            trouble: if c.rises { String::new() } else { "turns or falls within the samples' range".to_owned() },
        }
    });
    let outliers = r.outliers.iter().map(|(i, t)| {
        let tin = resolved.used[*i] + 1;
        format!("Sample {tin} stands {} standard deviations off the curve of the others: look at its tin, or tick “out” to leave it out.", fixed(t.abs(), 1))
    });
    ResultPart {
        sentence: r.sentence.clone(),
        defended: r.degree.is_some(),
        reasons: r.reasons.clone(),
        outliers: outliers.collect(),
        candidates: candidates.collect(),
        plot: draw(resolved, shown),
        unit: draft.unit.clone(),
    }
}

fn draft_of(run: &Run) -> Result<Draft, Problem> {
    let mut draft: Draft = serde_json::from_str(&run.draft).map_err(|e| Problem::Internal(e.to_string()))?;
    while draft.rows.len() < ROWS || draft.rows.last().is_some_and(|r| !r.is_empty()) {
        draft.rows.push(Row::default());
    }
    Ok(draft)
}

async fn show(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let run = app.store.run(*id).await?;
    show_run(&app, &session, run, None, None).await
}

async fn show_run(
    app: &App,
    session: &Session,
    run: Run,
    typed_from: Option<String>,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let study = app.store.study(run.study_id).await?;
    let draft = draft_of(&run)?;
    let resolved = resolve(&draft);
    let part = result(&draft, &resolved);
    let shell = Shell::within(app, session, &run.title, Room::Bench, &study, None).await?;
    let probes = app.store.probes().await?.into_iter().filter(|p| p.principle == Principle::Dielectric).collect();
    let valid_from = match typed_from {
        Some(typed) => typed,
        None => field(first_placed(app, &study, run.probe_id).await?, study.utc_offset_minutes),
    };
    let mut versions = Vec::new();
    if let Some(probe) = run.probe_id {
        for c in app.store.calibrations(probe).await? {
            versions.push(Version {
                version: c.version,
                statement: c.statement,
                from: moment(c.valid_from, study.utc_offset_minutes),
                by: c.adopted_by,
                at: moment(c.adopted_at, study.utc_offset_minutes),
                retired: c.retired_at.is_some(),
            });
        }
    }
    page(&RunPage { shell, run, draft, figures: resolved.figures, result: part, probes, valid_from, versions, error })
}

/// When the probe was first placed: a calibration usually holds from there.
async fn first_placed(app: &App, study: &Study, probe: Option<i64>) -> Result<UnixSeconds, Problem> {
    let mut first = None;
    for station in app.store.stations(study.id).await? {
        let of = app.store.placements(station.id).await?.into_iter().filter(|p| Some(p.probe.id) == probe);
        first = of.map(|p| p.starts).chain(first).min();
    }
    Ok(first.unwrap_or_else(|| app.now(study)))
}

#[derive(Deserialize)]
struct Typed {
    #[serde(default)]
    title: String,
    probe: Option<i64>,
    draft: Draft,
}

#[derive(Serialize)]
struct Worked {
    figures: Vec<RowFigures>,
    result: String,
    defended: bool,
}

/// Keeps what was typed and answers with what follows from it.
async fn keep(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    typed: CheckedJson<Typed>,
) -> Result<web::Json<Worked>, Problem> {
    acting(&app, &session)?;
    let Typed { title, probe, mut draft } = typed.0;
    draft.rows.truncate(200);
    let mut run = app.store.run(*id).await?;
    let title: String = title.trim().chars().take(120).collect();
    if !title.is_empty() {
        run.title = title;
    }
    run.probe_id = probe;
    run.draft = serde_json::to_string(&draft).map_err(|e| Problem::Internal(e.to_string()))?;
    app.store.keep_run(&run).await?;
    let resolved = resolve(&draft);
    let part = result(&draft, &resolved);
    let html = part.render().map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(web::Json(Worked { figures: resolved.figures, result: html, defended: part.defended }))
}

#[derive(Deserialize)]
struct AdoptForm {
    #[serde(default)]
    degree: String,
    #[serde(default)]
    valid_from: String,
}

async fn adopt(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<AdoptForm>,
) -> Result<HttpResponse, Problem> {
    let by = acting(&app, &session)?;
    let run = app.store.run(*id).await?;
    let study = app.store.study(run.study_id).await?;
    let draft = draft_of(&run)?;
    let resolved = resolve(&draft);
    let from = form.0.valid_from.clone();
    let adoption = match adoption(&app, &study, &run, &resolved, &form.0, by) {
        Ok(adoption) => adoption,
        Err(sentence) => return show_run(&app, &session, run, Some(from), Some(sentence)).await,
    };
    let version = app.store.adopt(&adoption).await?;
    let mut target = format!("/bench/{}", *id);
    for station in app.store.stations(study.id).await? {
        let uses = app.store.placements(station.id).await?.iter().any(|p| p.probe.id == adoption.probe_id);
        if uses {
            reviewing::run(&app.store, station.id).await?;
            target = format!("/stations/{}", station.id);
        }
    }
    say(
        &session,
        &format!("Version {version} is adopted. The record shows water content from it; no reading was changed."),
    )?;
    Ok(see_other(&target))
}

fn adoption(
    app: &App,
    study: &Study,
    run: &Run,
    resolved: &Resolved,
    form: &AdoptForm,
    by: String,
) -> Result<Adoption, String> {
    let probe_id = run.probe_id.ok_or("Choose the probe that was calibrated.")?;
    let degree = form.degree.parse::<usize>().ok().or(resolved.recommendation.degree);
    let candidate = resolved.recommendation.candidates.iter().find(|c| Some(c.degree) == degree);
    let candidate = candidate.ok_or("There is no curve to adopt yet.")?;
    let fit = candidate.fit.as_ref().map_err(|e| format!("There is no curve to adopt yet: {e}."))?;
    if !candidate.rises {
        return Err("This curve falls or turns within its samples: one reading would mean two contents. Look at the samples, or take the other form.".into());
    }
    let valid_from =
        read_field(&form.valid_from, study.utc_offset_minutes).ok_or("Give the date from which it holds.")?;
    let statement = if Some(candidate.degree) == resolved.recommendation.degree {
        resolved.recommendation.sentence.clone()
    } else {
        format!("{}, ±{} m³/m³ (not the recommended form).", candidate.form, fixed(fit.loo_rmse, 3))
    };
    Ok(Adoption {
        probe_id,
        run_id: Some(run.id),
        valid_from,
        curve: Curve::from_fit(fit),
        statement,
        samples: run.draft.clone(),
        by,
        at: app.now(study),
    })
}
