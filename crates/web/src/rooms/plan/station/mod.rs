//! The plan of one station: a page per step, all on one draft.

mod actions;
mod context;
pub mod edit;
pub mod fields;
mod papers;
mod steps;
mod versions;

pub use context::{Context, Said, catalogue};
pub use papers::attachment;

use crate::app::App;
use crate::shell::errors::Problem;
use crate::shell::guard::CheckedForm;
use crate::shell::{say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use ebrel_core::planning::Step;

pub fn routes(config: &mut web::ServiceConfig) {
    papers::routes(config);
    versions::routes(config);
    config
        .route("/stations/{id}/plan", web::get().to(begin))
        .service(web::resource("/stations/{id}/plan/{step}").get(show).post(save));
}

/// Leads to the first step that is to be put right, or to the depths.
async fn begin(app: web::Data<App>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let context = Context::load(&app.store, *id).await?;
    let step = Step::ALL.into_iter().find(|s| context.found.stops(Some(*s)).next().is_some()).unwrap_or(Step::Depths);
    Ok(see_other(&format!("/stations/{}/plan/{}", *id, step.code())))
}

async fn show(app: web::Data<App>, session: Session, path: web::Path<(i64, String)>) -> Result<HttpResponse, Problem> {
    let (id, step) = path.into_inner();
    let step = Step::from_code(&step).ok_or(Problem::Nowhere)?;
    steps::show(&app, &session, &Context::load(&app.store, id).await?, step).await
}

async fn save(
    app: web::Data<App>,
    session: Session,
    path: web::Path<(i64, String)>,
    form: CheckedForm<Vec<(String, String)>>,
) -> Result<HttpResponse, Problem> {
    let (id, code) = path.into_inner();
    let step = Step::from_code(&code).ok_or(Problem::Nowhere)?;
    let mut context = Context::load(&app.store, id).await?;
    let last = |name: &str| form.0.iter().rev().find(|f| f.0 == name).map_or("", |f| f.1.trim());
    let (mut draft, mut changed) = edit::apply(&context.draft, &form.0)?;
    let mut landing = String::new();
    if !last("do").is_empty() {
        // What was typed counts for the action: a school's depths follow the roots typed a moment ago.
        context.keep(&app, &session, draft.clone(), changed.as_deref().unwrap_or("begun")).await?;
        let done = actions::run(last("do"), &mut draft, &context, &form.0)?;
        landing = done.landing;
        changed = Some(done.changed);
        if let Some(sentence) = done.says {
            say(&session, &sentence)?;
        }
    }
    if let Some(words) = changed {
        context.keep(&app, &session, draft, &words).await?;
    }
    if last("live") == "yes" {
        return steps::show(&app, &session, &Context::load(&app.store, id).await?, step).await;
    }
    Ok(see_other(&format!("/stations/{id}/plan/{code}{landing}")))
}
