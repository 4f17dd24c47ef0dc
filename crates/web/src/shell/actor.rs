//! Who acts: found out once for every request, before its handler runs.

use super::access::{Entry, Least};
use super::errors::Problem;
use super::limits::refuse;
use crate::state::{Mode, State};
use actix_session::{Session, SessionExt};
use actix_web::body::BoxBody;
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::{Error, FromRequest, HttpMessage, HttpRequest, web};
use ebrel_core::roles::Role;
use ebrel_store::members::Within;
use std::future::{Ready, ready};

/// Who is signed in, as the session says and the database confirms.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signed {
    /// The account; `None` in the demo, where nobody has one.
    pub account: Option<i64>,
    /// The name to sign what is done with.
    pub name: String,
}

/// Who acts, and what they may do where they act.
#[derive(Clone)]
pub struct Actor {
    signed: Option<Signed>,
    role: Option<Role>,
    session: Session,
}

impl Actor {
    /// The name to sign what is done with; empty for nobody.
    #[must_use]
    pub fn name(&self) -> &str {
        self.signed.as_ref().map_or("", |s| &s.name)
    }

    /// Who is signed in, if anybody is.
    #[must_use]
    pub const fn signed(&self) -> Option<&Signed> {
        self.signed.as_ref()
    }

    /// The account; `None` in the demo and for nobody.
    #[must_use]
    pub fn account(&self) -> Option<i64> {
        self.signed.as_ref().and_then(|s| s.account)
    }

    /// The role in the study that the address leads to; outside of studies the highest that the actor has in any.
    #[must_use]
    pub const fn role(&self) -> Option<Role> {
        self.role
    }

    /// The session, with its token and what is to be said on the next page.
    #[must_use]
    pub const fn session(&self) -> &Session {
        &self.session
    }

    /// The studies that are any of the actor's business; `None`: all of them (the demo).
    pub async fn studies(&self, state: &State) -> Result<Option<Vec<i64>>, Problem> {
        match (state.mode, self.account()) {
            (Mode::Demo, _) => Ok(None),
            (_, Some(account)) => Ok(Some(state.store.roles(account).await?.into_iter().map(|r| r.0).collect())),
            (_, None) => Ok(Some(Vec::new())),
        }
    }
}

impl FromRequest for Actor {
    type Error = Error;
    type Future = Ready<Result<Self, Error>>;

    fn from_request(request: &HttpRequest, _: &mut Payload) -> Self::Future {
        let actor = request.extensions().get::<Self>().cloned();
        ready(actor.ok_or_else(|| Problem::Internal("a route without its entry in the table".into()).into()))
    }
}

/// Lets a request through to a handler if its table entry allows it, and hands on who acts.
pub async fn admit(request: ServiceRequest, next: Next<BoxBody>) -> Result<ServiceResponse<BoxBody>, Error> {
    match actor(&request).await {
        Ok(actor) => {
            request.extensions_mut().insert(actor);
            next.call(request).await
        }
        Err(problem) => Ok(refuse(request, &problem)),
    }
}

async fn actor(request: &ServiceRequest) -> Result<Actor, Problem> {
    let unset = |what: &str| Problem::Internal(format!("no {what}"));
    let state = request.app_data::<web::Data<State>>().ok_or_else(|| unset("application state"))?;
    let entry = request.app_data::<Entry>().ok_or_else(|| unset("entry in the table of routes"))?;
    let signed = request.extensions().get::<Signed>().cloned();
    let session = request.get_session();
    if entry.least == Least::Anyone {
        return Ok(Actor { signed, role: None, session });
    }
    let signed = signed.ok_or(Problem::SignIn)?;
    let role = match entry.least {
        Least::Member(_) => role_within(state, request, entry, &signed).await?,
        Least::Anyone | Least::SignedIn | Least::Somewhere(_) | Least::Founder => anywhere(state, &signed).await?,
    };
    let allowed = match entry.least {
        Least::Anyone | Least::SignedIn => true,
        Least::Member(least) | Least::Somewhere(least) => role.is_some_and(|r| r >= least),
        Least::Founder => role == Some(Role::Owner) || state.store.studies().await?.is_empty(),
    };
    if allowed { Ok(Actor { signed: Some(signed), role, session }) } else { Err(Problem::NotAllowed(role)) }
}

/// The highest role that somebody has in any study.
async fn anywhere(state: &State, signed: &Signed) -> Result<Option<Role>, Problem> {
    match (state.mode, signed.account) {
        (Mode::Demo, _) => Ok(Some(Role::Owner)),
        (_, Some(account)) => Ok(state.store.roles(account).await?.into_iter().map(|r| r.1).max()),
        (_, None) => Ok(None),
    }
}

/// The role in the study that the address leads to. To somebody who is not in it, it is not there.
async fn role_within(
    state: &State,
    request: &ServiceRequest,
    entry: &Entry,
    signed: &Signed,
) -> Result<Option<Role>, Problem> {
    let within =
        within(&entry.pattern).ok_or_else(|| Problem::Internal(format!("{} is in no study", entry.pattern)))?;
    let id = request.match_info().get("id").and_then(|id| id.parse().ok()).ok_or(Problem::Nowhere)?;
    if state.mode == Mode::Demo {
        return Ok(Some(Role::Owner));
    }
    let study = state.store.study_of(within, id).await?;
    let role = match signed.account {
        Some(account) => state.store.role(study, account).await?,
        None => None,
    };
    role.map(Some).ok_or(Problem::NotFound(within.noun()))
}

/// What the `{id}` of an address numbers.
fn within(pattern: &str) -> Option<Within> {
    let mut parts = pattern.trim_start_matches('/').split('/');
    match (parts.next()?, parts.next()?) {
        ("studies", "{id}") => Some(Within::Study),
        ("stations", "{id}") => Some(Within::Station),
        ("imports", "{id}") => Some(Within::Import),
        ("bench", "{id}") => Some(Within::Run),
        ("bench", _) if parts.next() == Some("{id}") => Some(Within::Sheet),
        _ => None,
    }
}
