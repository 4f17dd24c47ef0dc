//! The plan of one station: a page per step, all on one draft.

mod actions;
mod context;
mod papers;
mod steps;
mod versions;

use crate::shell::actor::Actor;
use crate::shell::draft_form;
use crate::shell::drafts::{At, TRIES, combine, in_words, sent_revision};
use crate::shell::errors::Problem;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use ebrel_app::planning::{PlanError, StationPlan};
use ebrel_core::planning::{Draft, Step};
use ebrel_core::roles::Role;
use ebrel_store::StoreError;
use ebrel_store::drafts::DraftKind;

pub fn routes(routes: &mut Routes<'_>) {
    papers::routes(routes);
    versions::routes(routes);
    routes.get("/stations/{id}/plan", Least::Member(Role::Guest), begin);
    routes.get("/stations/{id}/plan/{step}", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/plan/{step}", Least::Member(Role::Researcher), save);
}

/// Leads to the first step that is to be put right, or to the depths.
async fn begin(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, *id).await?;
    let step =
        Step::ALL.iter().copied().find(|s| context.found.stops(Some(*s)).next().is_some()).unwrap_or(Step::Depths);
    Ok(see_other(&format!("/stations/{}/plan/{}", *id, step.code())))
}

async fn show(state: web::Data<State>, actor: Actor, path: web::Path<(i64, String)>) -> Result<HttpResponse, Problem> {
    let (id, step) = path.into_inner();
    let step = Step::from_code(&step).ok_or(Problem::Nowhere)?;
    steps::show(&state, &actor, &StationPlan::load(&state.store, id).await?, step).await
}

async fn save(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, String)>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let (id, code) = path.into_inner();
    let step = Step::from_code(&code).ok_or(Problem::Nowhere)?;
    let last = |name: &str| form.0.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    // What was typed counts for an action: a school's depths follow the roots typed a moment ago.
    let mut context = take_in(&state, &actor, id, &form.0, !last("do").is_empty()).await?;
    let mut draft = context.draft.clone();
    let mut changed = None;
    let mut landing = String::new();
    if !last("do").is_empty() {
        let done = actions::run(last("do"), &mut draft, &context, &form.0)?;
        landing = done.landing;
        changed = Some(done.changed);
        if let Some(sentence) = done.says {
            say(&actor, &sentence)?;
        }
    }
    if let Some(words) = changed {
        context::keep(&state, &actor, &mut context, draft, &words).await?;
    }
    if last("live") == "yes" {
        return steps::show(&state, &actor, &StationPlan::load(&state.store, id).await?, step).await;
    }
    Ok(see_other(&format!("/stations/{id}/plan/{code}{landing}")))
}

/// Puts a sent form into the newest draft of a plan and keeps it, beside others who may be saving.
async fn take_in(
    state: &State,
    actor: &Actor,
    id: i64,
    form: &[(String, String)],
    begin: bool,
) -> Result<StationPlan, Problem> {
    for _ in 0..TRIES {
        let mut context = StationPlan::load(&state.store, id).await?;
        let at = At { kind: DraftKind::Plan, document: id, revision: context.revision };
        let type_in = |draft: &Draft| Ok(draft_form::apply(draft, form)?.0);
        let found = combine(&state.store, at, sent_revision(form), &context.draft, type_in).await?;
        let words = draft_form::changes(&context.draft, &found.draft).or_else(|| begin.then(|| "begun".to_owned()));
        if let Some(words) = words {
            match context::keep(state, actor, &mut context, found.draft, &words).await {
                Err(PlanError::Store(StoreError::Stale)) => continue,
                kept => kept?,
            }
        }
        if let Some(sentence) = in_words(&found.conflicts) {
            say(actor, &sentence)?;
        }
        return Ok(context);
    }
    Err(StoreError::Stale.into())
}
