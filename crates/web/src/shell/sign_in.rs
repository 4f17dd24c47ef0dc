//! Accounts: the first one, signing in and out, changing a password.

use super::actor::{Actor, Signed};
use super::details::is_machines;
use super::errors::Problem;
use super::forms::Field;
use super::guard::{CheckedForm, NoFields};
use super::limits::{peer, refuse};
use super::routes::{Least, Routes};
use super::{Shell, page, passwords, say, see_other};
use crate::state::{Mode, State, secrets, wall_clock};
use actix_session::{Session, SessionExt};
use actix_web::body::{BoxBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::CONTENT_LENGTH;
use actix_web::middleware::Next;
use actix_web::{Error, HttpMessage, HttpRequest, HttpResponse, web};
use askama::Template;
use serde::Deserialize;
use std::time::{Duration, Instant};

/// Routes of these pages.
pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/first", Least::Anyone, first_page);
    routes.post("/first", Least::Anyone, first);
    routes.get("/sign-in", Least::Anyone, sign_in_page);
    routes.post("/sign-in", Least::Anyone, sign_in);
    routes.get("/account", Least::SignedIn, account_page);
    routes.post("/account", Least::SignedIn, change_password);
    routes.post("/sign-out", Least::SignedIn, sign_out);
    routes.post("/sign-out-everywhere", Least::SignedIn, sign_out_everywhere);
}

/// The cookie's keys: who is signed in, and the secret whose hash the database knows.
const USER: &str = "user";
const SECRET: &str = "secret";

/// Who is signed in, by the cookie and the database; in the demo, the made-up owner of the study.
async fn signed(state: &State, session: &Session) -> Result<Option<Signed>, Problem> {
    if state.mode == Mode::Demo {
        return Ok(Some(Signed { account: None, name: "N. Arvel".to_owned() }));
    }
    let Some(secret) = session.get::<String>(SECRET).ok().flatten() else { return Ok(None) };
    let account = state.store.session(&secrets::hash_of(&secret), wall_clock()).await?;
    let user = session.get::<String>(USER).ok().flatten();
    let account = account.filter(|a| Some(&a.name) == user.as_ref());
    Ok(account.map(|a| Signed { account: Some(a.id), name: a.name }))
}

/// The most that is read of a form before signing in, bytes, and the time that it may take.
const SMALL: u64 = 16 * 1024;
const SOON: Duration = Duration::from_secs(15);

/// Lets nobody in who is not signed in, but for the pages and assets needed to do so. A session that has ended in the database
/// is emptied.
pub async fn require<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    let Some(state) = request.app_data::<web::Data<State>>().cloned() else {
        return Ok(refuse(request, &Problem::Internal("no application state".into())));
    };
    if is_machines(request.path()) {
        // What a machine sends takes a place like anybody's who is not signed in; its handler asks for its key.
        let Some(_place) = state.under_way.enter(peer(&state, request.request())) else {
            return Ok(refuse(request, &Problem::Busy));
        };
        return next.call(request).await.map(ServiceResponse::map_into_boxed_body);
    }
    let session = request.get_session();
    match signed(&state, &session).await? {
        Some(signed) => {
            request.extensions_mut().insert(signed);
            return next.call(request).await.map(ServiceResponse::map_into_boxed_body);
        }
        // A session that has ended in the database is emptied.
        None => {
            session.remove(USER);
            session.remove(SECRET);
        }
    }
    let open = ["/field/", "/field/sw.js", "/field/manifest.webmanifest"].contains(&request.path());
    if open || request.path().starts_with("/assets/") {
        return next.call(request).await.map(ServiceResponse::map_into_boxed_body);
    }
    let Some(_place) = state.under_way.enter(peer(&state, request.request())) else {
        return Ok(refuse(request, &Problem::Busy));
    };
    let sends = !request.method().is_safe();
    if sends && announced(&request).is_none_or(|length| length > SMALL) {
        return Ok(refuse(request, &Problem::TooMuchYet));
    }
    if ["/first", "/sign-in"].contains(&request.path()) || request.path().starts_with("/join/") {
        return match tokio::time::timeout(SOON, next.call(request)).await {
            Ok(answer) => answer.map(ServiceResponse::map_into_boxed_body),
            Err(_) => Err(Problem::TooSlow.into()),
        };
    }
    if sends {
        return Ok(refuse(request, &Problem::SignIn));
    }
    let target = if state.store.has_accounts().await.map_err(Problem::from)? { "/sign-in" } else { "/first" };
    Ok(request.into_response(see_other(target)))
}

/// The length of the body, as its head announces it.
fn announced(request: &ServiceRequest) -> Option<u64> {
    request.headers().get(CONTENT_LENGTH)?.to_str().ok()?.parse().ok()
}

#[derive(Deserialize, Default)]
struct Credentials {
    #[serde(default)]
    name: String,
    #[serde(default)]
    password: String,
    #[serde(default)]
    code: String,
}

#[derive(Template)]
#[template(path = "shell/sign_in.html")]
struct SignInPage {
    shell: Shell,
    first: bool,
    name: Field,
    password: Field,
    code: Field,
}

impl SignInPage {
    fn blank(shell: Shell, first: bool) -> Self {
        Self { shell, first, name: Field::default(), password: Field::default(), code: Field::default() }
    }
}

async fn first_page(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    if state.store.has_accounts().await? {
        return Ok(see_other("/sign-in"));
    }
    let shell = Shell::bare(&state, &actor, "Welcome")?;
    page(&SignInPage::blank(shell, true))
}

async fn first(
    state: web::Data<State>,
    actor: Actor,
    request: HttpRequest,
    form: CheckedForm<Credentials>,
) -> Result<HttpResponse, Problem> {
    if state.store.has_accounts().await? {
        return Err(Problem::Refused("Ebrel has an owner already: sign in.".into()));
    }
    let Credentials { name, password, code } = form.0;
    let address = peer(&state, &request).map(|a| a.to_string()).unwrap_or_default();
    state.throttle.pass(&address, "", Instant::now())?;
    let name_field = match super::forms::words(&name, "your name", 80) {
        Ok(_) => Field::of(&name),
        Err(e) => Field::wrong(&name, e),
    };
    let code_field = if secrets::same_code(&code, &state.first_code) {
        Field::of(&code)
    } else {
        state.throttle.note_wrong(&address, "", Instant::now());
        Field::wrong(&code, "This is not the code that stands at the terminal where Ebrel was started.")
    };
    let password_field = match passwords::good(&password, &name) {
        Ok(()) => Field::default(),
        Err(e) => Field::wrong("", e),
    };
    if [&name_field, &code_field, &password_field].iter().any(|f| f.error.is_some()) {
        let shell = Shell::bare(&state, &actor, "Welcome")?;
        return page(&SignInPage { shell, first: true, name: name_field, password: password_field, code: code_field });
    }
    let hash = passwords::hash(&state.hashing, password).await?;
    state.store.add_owner(name.trim(), &hash).await?;
    enter(&state, actor.session(), name.trim()).await
}

async fn sign_in_page(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    if !state.store.has_accounts().await? {
        return Ok(see_other("/first"));
    }
    let shell = Shell::bare(&state, &actor, "Sign in")?;
    page(&SignInPage::blank(shell, false))
}

async fn sign_in(
    state: web::Data<State>,
    actor: Actor,
    request: HttpRequest,
    form: CheckedForm<Credentials>,
) -> Result<HttpResponse, Problem> {
    let address = peer(&state, &request).map(|a| a.to_string()).unwrap_or_default();
    let Credentials { name, password, .. } = form.0;
    state.throttle.pass(&address, name.trim(), Instant::now())?;
    let account = state.store.account(name.trim()).await?;
    // An unknown name takes as long as a wrong password.
    if passwords::right(&state.hashing, password, account.map(|a| a.password_hash)).await? {
        state.throttle.note_right(&address, name.trim());
        return enter(&state, actor.session(), name.trim()).await;
    }
    state.throttle.note_wrong(&address, name.trim(), Instant::now());
    let shell = Shell::bare(&state, &actor, "Sign in")?;
    let password = Field::wrong("", "This name and password do not belong together.");
    page(&SignInPage { shell, first: false, name: Field::of(&name), password, code: Field::default() })
}

/// Begins a session of an account that has shown its password; forms opened before are of no use in it.
pub async fn enter(state: &State, session: &Session, name: &str) -> Result<HttpResponse, Problem> {
    let account = state.store.account(name).await?.ok_or(Problem::SignIn)?;
    let secret = secrets::secret();
    state.store.begin_session(account.id, &secrets::hash_of(&secret), wall_clock()).await?;
    session.renew();
    super::guard::renew_token(session);
    let internal = |e: actix_session::SessionInsertError| Problem::Internal(e.to_string());
    session.insert(USER, name).map_err(internal)?;
    session.insert(SECRET, secret).map_err(internal)?;
    Ok(see_other("/"))
}

async fn sign_out(state: web::Data<State>, actor: Actor, _: CheckedForm<NoFields>) -> Result<HttpResponse, Problem> {
    if let Some(secret) = actor.session().get::<String>(SECRET).ok().flatten() {
        state.store.end_session(&secrets::hash_of(&secret)).await?;
    }
    actor.session().purge();
    Ok(see_other("/sign-in"))
}

async fn sign_out_everywhere(
    state: web::Data<State>,
    actor: Actor,
    _: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    let name = actor.name().to_owned();
    if let Some(account) = state.store.account(&name).await? {
        state.store.end_sessions(account.id).await?;
    }
    actor.session().purge();
    Ok(see_other("/sign-in"))
}

#[derive(Template)]
#[template(path = "shell/account.html")]
struct AccountPage {
    shell: Shell,
    name: String,
    old: Field,
    new: Field,
}

async fn account_page(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    show_account(&state, &actor, Field::default(), Field::default())
}

fn show_account(state: &State, actor: &Actor, old: Field, new: Field) -> Result<HttpResponse, Problem> {
    let name = actor.name().to_owned();
    page(&AccountPage { shell: Shell::bare(state, actor, "Your account")?, name, old, new })
}

#[derive(Deserialize)]
struct NewPassword {
    #[serde(default)]
    old: String,
    #[serde(default)]
    new: String,
}

async fn change_password(
    state: web::Data<State>,
    actor: Actor,
    request: HttpRequest,
    form: CheckedForm<NewPassword>,
) -> Result<HttpResponse, Problem> {
    let name = actor.name().to_owned();
    let NewPassword { old, new } = form.0;
    let address = peer(&state, &request).map(|a| a.to_string()).unwrap_or_default();
    state.throttle.pass(&address, &name, Instant::now())?;
    if let Err(sentence) = passwords::good(&new, &name) {
        return show_account(&state, &actor, Field::default(), Field::wrong("", sentence));
    }
    let known = state.store.account(&name).await?.map(|a| a.password_hash);
    if !passwords::right(&state.hashing, old, known).await? {
        state.throttle.note_wrong(&address, &name, Instant::now());
        return show_account(&state, &actor, Field::wrong("", "This is not your password."), Field::default());
    }
    let hash = passwords::hash(&state.hashing, new).await?;
    state.store.change_password(&name, &hash).await?;
    say(&actor, "The password is changed. All other sessions have ended.")?;
    enter(&state, actor.session(), &name).await
}
