//! Storing: small files at once, large ones in the background, with a bar and a way to end it.

use super::opened::{Opened, of_json};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::guard::CheckedForm;
use crate::shell::see_other;
use crate::state::State;
use actix_web::{HttpResponse, web};
use ebrel_app::importing::{self, Job, Report, withdrawing};
use ebrel_app::reviewing;
use ebrel_store::StoreError;
use ebrel_store::imports::Import;
use serde::Deserialize;

/// Files of more lines are stored in the background.
const AT_ONCE: usize = 60_000;

/// Stores an import: small ones before this returns, others after it.
///
/// # Errors
/// [`StoreError`] if the database refuses, as long as it is known then.
pub async fn store(state: &web::Data<State>, import: &Import, job: Job) -> Result<(), StoreError> {
    let Some(running) = state.work.begin(import.id, job.survey.tally.sum()) else { return Ok(()) };
    if job.survey.tally.sum() <= AT_ONCE {
        let stored = importing::store(&state.store, import, &job, &running.progress).await;
        state.work.end(import.id);
        stored?;
        reviewing::run(&state.store, import.station_id).await?;
        return Ok(());
    }
    let (state, import) = (state.clone(), import.clone());
    tokio::spawn(async move {
        let stored = importing::store(&state.store, &import, &job, &running.progress).await;
        if let Err(e) = stored {
            tracing::error!(import = import.id, "storing broke off: {e}");
            // It ends as a record in any case: what was stored stands, and why it ended is told.
            let mut report = Report::default();
            (report.groups, report.cancelled) = (vec![broke_off(&e)], Some(running.progress.lines()));
            let told = serde_json::to_string(&report).ok();
            let kept = state.store.keep_import(&Import { report: told, progress: None, ..import.clone() }).await;
            if let Err(e) = kept {
                tracing::error!(import = import.id, "that it broke off could not be kept: {e}");
            }
        }
        if let Err(e) = reviewing::run(&state.store, import.station_id).await {
            tracing::error!(import = import.id, "the tests did not run: {e}");
        }
        state.work.end(import.id);
    });
    Ok(())
}

fn broke_off(e: &StoreError) -> ebrel_formats::logger::Group {
    let reason = match e {
        StoreError::Rule(sentence) => sentence.clone(),
        _ => "The database refused to go on: see the log.".to_owned(),
    };
    ebrel_formats::logger::Group { reason, count: 1, cells: false, lines: Vec::new(), last: 0, text: String::new() }
}

/// Goes on with imports that a kill cut off.
pub async fn finish_cut_off(state: &web::Data<State>) {
    let Ok(cut_off) = state.store.imports_cut_off().await else { return };
    for import in cut_off {
        let id = import.id;
        if let Err(e) = go_on(state, id).await {
            tracing::error!(import = id, "it could not be gone on with: {e:?}");
        }
    }
}

async fn go_on(state: &web::Data<State>, id: i64) -> Result<(), Problem> {
    let opened = Opened::load(state, id).await?;
    let now = state.now(&opened.study);
    if opened.import.due_again {
        withdrawing::read_again(&state.store, &state.data, &opened.import, now).await?;
        reviewing::run(&state.store, opened.station.id).await?;
        return Ok(());
    }
    let (recipe, mapping) = opened.kept()?;
    let survey = opened.survey(&recipe, now).await?.map_err(|e| Problem::Internal(e.to_string()))?;
    let job = opened.job(recipe, mapping, survey, now);
    Ok(store(state, &opened.import, job).await?)
}

/// How far an import is.
pub async fn progress(state: web::Data<State>, _: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let Some(running) = state.work.of(*id) else {
        return Ok(HttpResponse::Ok().json(serde_json::json!({ "done": true })));
    };
    let lines = running.progress.lines();
    let seconds = running.since.elapsed().as_secs_f64().max(0.001);
    Ok(HttpResponse::Ok().json(serde_json::json!({
        "done": false, "lines": lines, "all": running.lines, "per_second": (lines as f64 / seconds).round(),
        "ending": running.progress.is_cancelled(),
    })))
}

/// Ends an import after the piece at hand.
pub async fn cancel(
    state: web::Data<State>,
    _: Actor,
    id: web::Path<i64>,
    _: CheckedForm<std::collections::HashMap<String, String>>,
) -> Result<HttpResponse, Problem> {
    if let Some(running) = state.work.of(*id) {
        running.progress.cancel();
    }
    Ok(see_other(&format!("/imports/{}", *id)))
}

/// Numbers of imports, parted by commas.
#[derive(Deserialize)]
pub struct Several {
    imports: String,
}

/// Stores all of several imports that leave no question open; the others stay as they are.
pub async fn store_all(
    state: web::Data<State>,
    _: Actor,
    station: web::Path<i64>,
    form: CheckedForm<Several>,
) -> Result<HttpResponse, Problem> {
    for id in form.0.imports.split(',').filter_map(|i| i.trim().parse::<i64>().ok()).take(2000) {
        let opened = Opened::load(&state, id).await?;
        if opened.import.station_id != *station || opened.import.report.is_some() || opened.import.progress.is_some() {
            continue;
        }
        let (recipe, mapping): (_, importing::Mapping) =
            (of_json(&opened.import.recipe)?, of_json(&opened.import.mapping)?);
        let now = state.now(&opened.study);
        let Ok(survey) = opened.survey(&recipe, now).await? else { continue };
        let streams = state.store.streams(*station).await?;
        if importing::hindrances(&survey, &mapping, &streams, now).is_empty() {
            let job = opened.job(recipe, mapping, survey, now);
            match store(&state, &opened.import, job).await {
                Ok(()) | Err(StoreError::Rule(_)) => {}
                Err(e) => return Err(e.into()),
            }
        }
    }
    Ok(see_other(&format!("/stations/{}/import?these={}", *station, form.0.imports)))
}
