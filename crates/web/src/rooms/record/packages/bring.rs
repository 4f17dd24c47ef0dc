//! A package comes up: it is kept as it came, and looked at on its page.

use super::address;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::{Room, Shell, guard, page, see_other};
use crate::state::{State, UPLOAD_LIMIT, wall_clock};
use actix_multipart::form::MultipartForm;
use actix_multipart::form::tempfile::TempFile;
use actix_multipart::form::text::Text;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::importing;
use ebrel_formats::package::{PackageError, read_path};
use ebrel_store::packages::BroughtPackage;

#[derive(Template)]
#[template(path = "rooms/record/packages/bring.html")]
struct BringPage {
    shell: Shell,
    /// The study that it is to go into; none: one is begun for it.
    study: Option<String>,
    action: String,
    errors: Vec<String>,
    limit: usize,
}

#[derive(MultipartForm)]
pub struct Upload {
    token: Text<String>,
    file: Option<TempFile>,
}

pub async fn new_study(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    show(&state, &actor, None, Vec::new()).await
}

pub async fn into_study(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show(&state, &actor, Some(*id), Vec::new()).await
}

async fn show(state: &State, actor: &Actor, study: Option<i64>, errors: Vec<String>) -> Result<HttpResponse, Problem> {
    let (shell, name) = match study {
        None => (Shell::bare(state, actor, "Bring in a package")?, None),
        Some(id) => {
            let study = state.store.study(id).await?;
            let shell = Shell::within(state, actor, "Bring in a package", Room::Record, &study, None).await?;
            (shell, Some(study.name))
        }
    };
    let action = study.map_or_else(|| "/packages/new".to_owned(), |s| format!("/studies/{s}/packages/new"));
    page(&BringPage { shell, study: name, action, errors, limit: UPLOAD_LIMIT })
}

pub async fn keep_for_new_study(
    state: web::Data<State>,
    actor: Actor,
    MultipartForm(form): MultipartForm<Upload>,
) -> Result<HttpResponse, Problem> {
    keep(&state, &actor, None, form).await
}

pub async fn keep_for_study(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    MultipartForm(form): MultipartForm<Upload>,
) -> Result<HttpResponse, Problem> {
    keep(&state, &actor, Some(*id), form).await
}

async fn keep(state: &State, actor: &Actor, study: Option<i64>, form: Upload) -> Result<HttpResponse, Problem> {
    guard::matches(actor.session(), &form.token)?;
    let Some(file) = form.file.filter(|f| f.size > 0) else {
        return show(state, actor, study, vec!["Choose a package first.".into()]).await;
    };
    let name = file.file_name.clone().unwrap_or_default();
    let place = state.heavy.take().await?;
    let data = state.data.clone();
    let kept = place.run(move || {
        read_path(file.file.path()).map_err(|e| sentences(&e))?;
        importing::keep_file(&data, file.file.path())
            .map_err(|e| vec![format!("It could not be kept on the disk ({e}).")])
    });
    match kept.await? {
        Err(errors) => show(state, actor, study, errors).await,
        Ok(sha256) => {
            let package = BroughtPackage {
                id: 0,
                file_name: name,
                sha256,
                received_at: wall_clock(),
                received_by: actor.name().to_owned(),
                study_id: study,
                report: None,
            };
            let id = state.store.package_brought(&package).await?;
            Ok(see_other(&address(study, id)))
        }
    }
}

/// What is wrong with a package, a sentence each; the name under which the server keeps a file for the moment is nobody's business.
fn sentences(error: &PackageError) -> Vec<String> {
    match error {
        PackageError::Open { source, .. } => {
            vec![format!("This is no record package: a .zip with channels.csv and readings.csv is needed ({source}).")]
        }
        other => other.to_string().lines().map(str::to_owned).collect(),
    }
}
