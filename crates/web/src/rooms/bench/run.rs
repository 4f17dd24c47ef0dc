//! One calibration run: samples typed or pasted, worked out as one types, adopted as a version.

use super::conditions::{Conditions, conditions};
use super::draft::{Draft, Resolved, Row, RowFigures, is_permittivity, resolve};
use super::plot::{Plot, draw};
use crate::app::App;
use crate::jobs::reviewing;
use crate::rooms::plan::station::catalogue;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, read_field};
use crate::shell::guard::{CheckedForm, CheckedJson};
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::calibration::{Curve, Form, Published, Score, score};
use ebrel_core::units::{Principle, UnixSeconds, read_number};
use ebrel_store::Store;
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
    code: &'static str,
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
    scores: Vec<ScoreRow>,
    conditions: Conditions,
    plot: Option<Plot>,
    unit: String,
}

/// A general or maker's curve on the same samples.
struct ScoreRow {
    name: String,
    rmse: String,
    bias: String,
}

/// What a run is looked at with: the maker's curve of the probe's model, and the logger its station is planned with.
pub struct Surroundings {
    factory: Vec<f64>,
    planned_logger: Option<String>,
}

impl Surroundings {
    /// What is known around a run's probe.
    pub async fn of(store: &Store, run: &Run) -> Result<Self, Problem> {
        let mut found = Self { factory: Vec::new(), planned_logger: None };
        let probes = store.probes().await?;
        let Some(probe) = probes.into_iter().find(|p| Some(p.id) == run.probe_id) else { return Ok(found) };
        let catalogue = catalogue(store).await?;
        found.factory =
            catalogue.probes.iter().find(|m| m.name == probe.model).map_or_else(Vec::new, |m| m.factory.clone());
        for station in store.stations(run.study_id).await? {
            let body = store.plan(station.id).await?.map(|p| p.body).unwrap_or_default();
            let draft: ebrel_core::planning::Draft = serde_json::from_str(&body).unwrap_or_default();
            if draft.probes.iter().any(|p| p.serial.eq_ignore_ascii_case(&probe.serial)) {
                found.planned_logger = catalogue.logger(draft.choice("logger")).map(|l| l.name.clone());
            }
        }
        Ok(found)
    }
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

fn result(draft: &Draft, resolved: &Resolved, around: &Surroundings) -> ResultPart {
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
            trouble: if c.rises { String::new() } else { "turns or falls within the samples' range".to_owned() },
        }
    });
    let outliers = r.outliers.iter().map(|(i, t)| {
        let tin = resolved.used[*i] + 1;
        format!("Sample {tin} stands {} standard deviations off the curve of the others: look at its tin, or tick “out” to leave it out.", fixed(t.abs(), 1))
    });
    ResultPart {
        sentence: r.sentence.clone(),
        defended: r.form.is_some(),
        reasons: r.reasons.clone(),
        scores: scores(draft, resolved, &around.factory),
        conditions: conditions(draft, resolved.used.len(), around.planned_logger.as_deref()),
        outliers: outliers.collect(),
        candidates: candidates.collect(),
        plot: draw(resolved, shown, &around.factory),
        unit: draft.unit.clone(),
    }
}

/// General curves and the maker's, scored on the same samples, so that the gain is seen.
fn scores(draft: &Draft, resolved: &Resolved, factory: &[f64]) -> Vec<ScoreRow> {
    let row = |name: String, score: Option<Score>| {
        let signed = |v: f64| if v > 0.0 { format!("+{}", fixed(v, 3)) } else { fixed(v, 3) };
        score.map(|s| ScoreRow { name, rmse: fixed(s.rmse, 3), bias: signed(s.bias) })
    };
    let (raw, theta) = (&resolved.raw[..], &resolved.theta[..]);
    let mut rows = Vec::new();
    if !factory.is_empty() {
        let maker = |x: f64| factory.iter().rev().fold(0.0, |sum, c| sum * x + c);
        rows.extend(row("the maker's curve".into(), score(maker, raw, theta)));
    }
    if is_permittivity(&draft.unit) {
        let density = read_number(&draft.density).unwrap_or(1.3);
        let each =
            Published::ALL.iter().map(|p| row(p.source().to_owned(), score(|x| p.theta(x, density), raw, theta)));
        rows.extend(each.flatten());
    }
    rows
}

/// The draft of a run, with empty rows to type on.
pub fn draft_of(run: &Run) -> Result<Draft, Problem> {
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
    let part = result(&draft, &resolved, &Surroundings::of(&app.store, &run).await?);
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
    let part = result(&draft, &resolved, &Surroundings::of(&app.store, &run).await?);
    let html = part.render().map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(web::Json(Worked { figures: resolved.figures, result: html, defended: part.defended }))
}

#[derive(Deserialize)]
struct AdoptForm {
    #[serde(default)]
    form: String,
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
    if let Some(line) = left_out_unsaid(run) {
        return Err(format!("Sample {line} is left out without a reason: say why, so that it can be defended."));
    }
    let taken = Form::from_code(&form.form).or(resolved.recommendation.form);
    let candidate = taken.and_then(|f| resolved.recommendation.candidate(f));
    let candidate = candidate.ok_or("There is no curve to adopt yet.")?;
    let fit = candidate.fit.as_ref().map_err(|e| format!("There is no curve to adopt yet: {e}."))?;
    if !candidate.rises {
        return Err("This curve falls or turns within its samples: one reading would mean two contents. Look at the samples, or take the other form.".into());
    }
    let valid_from =
        read_field(&form.valid_from, study.utc_offset_minutes).ok_or("Give the date from which it holds.")?;
    let statement = if Some(candidate.form) == resolved.recommendation.form {
        resolved.recommendation.sentence.clone()
    } else {
        format!("{}, ±{} m³/m³ (not the recommended form).", candidate.form.name(), fixed(fit.loo_rmse, 3))
    };
    Ok(Adoption {
        probe_id,
        run_id: Some(run.id),
        valid_from,
        curve: Curve::from_fit(fit, candidate.form),
        statement,
        samples: run.draft.clone(),
        by,
        at: app.now(study),
    })
}

/// The line of a sample that was left out without a reason, from 1.
fn left_out_unsaid(run: &Run) -> Option<usize> {
    let draft: Draft = serde_json::from_str(&run.draft).ok()?;
    draft.rows.iter().position(|r| r.out && !r.is_empty() && r.why.trim().is_empty()).map(|i| i + 1)
}
