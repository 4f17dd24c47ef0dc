//! Coming into a study by a link: with an account that is there, or a new one.

use super::actor::Actor;
use super::errors::Problem;
use super::forms::Field;
use super::guard::CheckedForm;
use super::limits::peer;
use super::routes::{Least, Routes};
use super::sign_in::enter;
use super::{Shell, page, passwords, say, see_other};
use crate::state::{State, secrets, wall_clock};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use ebrel_core::roles::Role;
use serde::Deserialize;
use std::time::Instant;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/join/{secret}", Least::Anyone, show);
    routes.post("/join/{secret}", Least::Anyone, join);
}

#[derive(Template)]
#[template(path = "shell/join.html")]
struct JoinPage {
    shell: Shell,
    study: String,
    role: Role,
    by: String,
    name: Field,
    password: Field,
}

async fn show(state: web::Data<State>, actor: Actor, secret: web::Path<String>) -> Result<HttpResponse, Problem> {
    offer(&state, &actor, &secret, Field::default(), Field::default()).await
}

async fn offer(
    state: &State,
    actor: &Actor,
    secret: &str,
    name: Field,
    password: Field,
) -> Result<HttpResponse, Problem> {
    let invitation = state.store.invitation(&secrets::hash_of(secret), wall_clock()).await?;
    let study = state.store.study(invitation.study).await?.name;
    let shell = Shell::bare(state, actor, "Come in")?;
    page(&JoinPage { shell, study, role: invitation.role, by: invitation.by, name, password })
}

#[derive(Deserialize)]
struct Newcomer {
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
    /// "new": make an account of this name; else it is one that is there.
    #[serde(default, rename = "do")]
    how: String,
}

/// Somebody signed in joins as they are. Others show their password, or make an account.
async fn join(
    state: web::Data<State>,
    actor: Actor,
    secret: web::Path<String>,
    request: HttpRequest,
    form: CheckedForm<Newcomer>,
) -> Result<HttpResponse, Problem> {
    let (key, now) = (secrets::hash_of(&secret), wall_clock());
    let address = peer(&state, &request).map(|a| a.to_string()).unwrap_or_default();
    if let Some(account) = actor.account() {
        let study = state.store.join(&key, account, now).await?;
        say(&actor, "You are in.")?;
        return Ok(see_other(&format!("/studies/{study}")));
    }
    let Newcomer { name, password, how } = form.0;
    let name = name.trim();
    // Guessing of links and of passwords is slowed down alike.
    state.throttle.pass(&address, name, Instant::now())?;
    if let Err(problem) = state.store.invitation(&key, now).await {
        state.throttle.note_wrong(&address, "", Instant::now());
        return Err(problem.into());
    }
    if how == "new" {
        let name_field = match super::forms::words(name, "your name", 80) {
            Ok(_) => Field::of(name),
            Err(e) => Field::wrong(name, e),
        };
        let password_field = match passwords::good(&password, name) {
            Ok(()) => Field::default(),
            Err(e) => Field::wrong("", e),
        };
        if name_field.error.is_some() || password_field.error.is_some() {
            return offer(&state, &actor, &secret, name_field, password_field).await;
        }
        if state.store.account(name).await?.is_some() {
            let taken = Field::wrong(name, "This name is taken: choose another, or come in with its password.");
            return offer(&state, &actor, &secret, taken, Field::default()).await;
        }
        let hash = passwords::hash(&state.hashing, password).await?;
        state.store.join_as_new(&key, name, &hash, now).await?;
        return enter(&state, actor.session(), name).await;
    }
    let account = state.store.account(name).await?;
    let known = account.as_ref().map(|a| a.password_hash.clone());
    if !passwords::right(&state.hashing, password, known).await? {
        state.throttle.note_wrong(&address, name, Instant::now());
        let wrong = Field::wrong("", "This name and password do not belong together.");
        return offer(&state, &actor, &secret, Field::of(name), wrong).await;
    }
    state.throttle.note_right(&address, name);
    let account = account.ok_or(Problem::SignIn)?;
    state.store.join(&key, account.id, now).await?;
    enter(&state, actor.session(), name).await
}
