//! Versions of a plan, and the whole of it in and out as JSON.

use super::context;
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::Draft;
use ebrel_core::roles::Role;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/plan/versions", Least::Member(Role::Guest), list);
    routes.post("/stations/{id}/plan/versions", Least::Member(Role::Researcher), import);
    routes.post("/stations/{id}/plan/versions/{version}", Least::Member(Role::Researcher), restore);
    routes.get("/stations/{id}/plan/plan.json", Least::Member(Role::Guest), export);
}

struct Row {
    version: i64,
    at: String,
    by: String,
    changed: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/versions.html")]
struct VersionsPage {
    shell: Shell,
    id: i64,
    station: String,
    rows: Vec<Row>,
    json: String,
    error: Option<String>,
}

async fn list(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show(&state, &actor, *id, String::new(), None).await
}

async fn show(
    state: &State,
    actor: &Actor,
    id: i64,
    json: String,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, id).await?;
    let offset = context.study.utc_offset_minutes;
    let rows = state.store.plan_versions(id).await?.into_iter().map(|v| Row {
        version: v.version,
        at: moment(v.made_at, offset),
        by: v.made_by,
        changed: v.changed,
    });
    let shell = context::shell(state, actor, &context).await?;
    page(&VersionsPage { shell, id, station: context.station.name, rows: rows.collect(), json, error })
}

async fn export(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, *id).await?;
    let text = serde_json::to_string_pretty(&context.draft).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(attachment("application/json", &format!("{}-plan.json", context.station.code), text))
}

#[derive(Deserialize)]
struct Import {
    #[serde(default)]
    json: String,
}

async fn import(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Import>,
) -> Result<HttpResponse, Problem> {
    let json = form.0.json;
    match serde_json::from_str::<Draft>(&json) {
        Err(e) => {
            let error = format!("This is no plan: {e}. Nothing was taken; correct it here and send it again.");
            show(&state, &actor, *id, json, Some(error)).await
        }
        Ok(draft) => {
            let mut context = StationPlan::load(&state.store, *id).await?;
            context::keep(&state, &actor, &mut context, draft, "taken in from JSON").await?;
            say(&actor, "The plan is taken in as a new version. The earlier ones are still here.")?;
            Ok(see_other(&format!("/stations/{}/plan/versions", *id)))
        }
    }
}

async fn restore(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    _form: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    let (id, version) = path.into_inner();
    let old = state.store.plan_versions(id).await?.into_iter().find(|v| v.version == version);
    let old = old.ok_or(Problem::NotFound("version of this plan"))?;
    let draft: Draft = serde_json::from_str(&old.body).map_err(|e| Problem::Internal(e.to_string()))?;
    let mut context = StationPlan::load(&state.store, id).await?;
    context::keep(&state, &actor, &mut context, draft, &format!("back to version {version}")).await?;
    say(&actor, &format!("Version {version} is the plan again, as a new version."))?;
    Ok(see_other(&format!("/stations/{id}/plan/versions")))
}
