//! The owner's account, signing in and out.

use super::errors::Problem;
use super::forms::Field;
use super::guard::CheckedForm;
use super::{Shell, page, see_other};
use crate::app::{App, Mode};
use actix_session::{Session, SessionExt};
use actix_web::body::{EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::{Error, HttpRequest, HttpResponse, web};
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use askama::Template;
use governor::{DefaultKeyedRateLimiter, Quota, RateLimiter};
use serde::Deserialize;
use std::num::NonZeroU32;

/// Slows down guessing: six tries at once, then one every ten seconds, per address.
pub struct Throttle(DefaultKeyedRateLimiter<String>);

impl Default for Throttle {
    fn default() -> Self {
        const TRIES: NonZeroU32 = NonZeroU32::new(6).expect("six is not zero");
        Self(RateLimiter::keyed(Quota::per_minute(TRIES)))
    }
}

impl Throttle {
    fn pass(&self, address: &str) -> Result<(), Problem> {
        self.0.check_key(&address.to_owned()).map_err(|_| Problem::Slowly)
    }
}

/// Length of a password that is taken.
const SHORTEST_PASSWORD: usize = 10;

/// Routes of this page.
pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(web::resource("/first").get(first_page).post(first))
        .service(web::resource("/sign-in").get(sign_in_page).post(sign_in))
        .route("/sign-out", web::post().to(sign_out));
}

/// Who is signed in; in the demo, the made-up owner of the study.
pub fn user(app: &App, session: &Session) -> Option<String> {
    match app.mode {
        Mode::Demo => Some("N. Arvel".to_owned()),
        Mode::Serve { .. } => session.get::<String>("user").ok().flatten(),
    }
}

/// Who is signed in, for handlers that write down who did something.
pub fn acting(app: &App, session: &Session) -> Result<String, Problem> {
    user(app, session).ok_or(Problem::SignIn)
}

/// Lets nobody in who is not signed in, but for the pages and assets needed to do so.
pub async fn require<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B>>, Error> {
    let Some(app) = request.app_data::<web::Data<App>>().cloned() else {
        return Err(Problem::Internal("no application state".into()).into());
    };
    let open = ["/first", "/sign-in"].contains(&request.path()) || request.path().starts_with("/assets/");
    if open || user(&app, &request.get_session()).is_some() {
        return next.call(request).await.map(ServiceResponse::map_into_left_body);
    }
    if *request.method() != actix_web::http::Method::GET {
        return Err(Problem::SignIn.into());
    }
    let target = if app.store.has_accounts().await.map_err(Problem::from)? { "/sign-in" } else { "/first" };
    Ok(request.into_response(see_other(target)).map_into_right_body())
}

#[derive(Deserialize, Default)]
struct Credentials {
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
}

#[derive(Template)]
#[template(path = "shell/sign_in.html")]
struct SignInPage {
    shell: Shell,
    first: bool,
    name: Field,
    password: Field,
}

async fn first_page(app: web::Data<App>, session: Session) -> Result<HttpResponse, Problem> {
    if app.store.has_accounts().await? {
        return Ok(see_other("/sign-in"));
    }
    let shell = Shell::bare(&app, &session, "Welcome")?;
    page(&SignInPage { shell, first: true, name: Field::default(), password: Field::default() })
}

async fn first(app: web::Data<App>, session: Session, form: CheckedForm<Credentials>) -> Result<HttpResponse, Problem> {
    let Credentials { name, password } = form.0;
    let name_field = match super::forms::words(&name, "your name", 80) {
        Ok(_) => Field::of(&name),
        Err(e) => Field::wrong(&name, e),
    };
    let length = password.chars().count();
    let password_field = if length < SHORTEST_PASSWORD {
        Field::wrong("", format!("Take at least {SHORTEST_PASSWORD} characters; several words are good."))
    } else {
        Field::default()
    };
    if name_field.error.is_some() || password_field.error.is_some() {
        let shell = Shell::bare(&app, &session, "Welcome")?;
        return page(&SignInPage { shell, first: true, name: name_field, password: password_field });
    }
    let hash = web::block(move || Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string()))
        .await
        .map_err(|e| Problem::Internal(e.to_string()))?
        .map_err(|e| Problem::Internal(e.to_string()))?;
    app.store.add_owner(name.trim(), &hash).await?;
    enter(&session, name.trim())
}

async fn sign_in_page(app: web::Data<App>, session: Session) -> Result<HttpResponse, Problem> {
    if !app.store.has_accounts().await? {
        return Ok(see_other("/first"));
    }
    let shell = Shell::bare(&app, &session, "Sign in")?;
    page(&SignInPage { shell, first: false, name: Field::default(), password: Field::default() })
}

async fn sign_in(
    app: web::Data<App>,
    session: Session,
    request: HttpRequest,
    form: CheckedForm<Credentials>,
) -> Result<HttpResponse, Problem> {
    let peer = request.peer_addr().map(|a| a.ip().to_string()).unwrap_or_default();
    app.throttle.pass(&peer)?;
    let Credentials { name, password } = form.0;
    let account = app.store.account(name.trim()).await?;
    // An unknown name takes as long as a wrong password.
    let hash = account.map(|a| a.password_hash);
    let right = web::block(move || {
        let argon = Argon2::default();
        match hash.as_deref().map(PasswordHash::new) {
            Some(Ok(known)) => argon.verify_password(password.as_bytes(), &known).is_ok(),
            _ => argon.hash_password(password.as_bytes()).is_err(),
        }
    })
    .await
    .map_err(|e| Problem::Internal(e.to_string()))?;
    if right {
        return enter(&session, name.trim());
    }
    let shell = Shell::bare(&app, &session, "Sign in")?;
    let password = Field::wrong("", "This name and password do not belong together.");
    page(&SignInPage { shell, first: false, name: Field::of(&name), password })
}

fn enter(session: &Session, name: &str) -> Result<HttpResponse, Problem> {
    session.renew();
    session.insert("user", name).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(see_other("/"))
}

#[derive(Deserialize)]
struct Nothing {}

async fn sign_out(session: Session, _: CheckedForm<Nothing>) -> HttpResponse {
    session.purge();
    see_other("/sign-in")
}
