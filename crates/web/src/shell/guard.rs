//! What guards every request: security headers, the host's name, and the origin and token of forms.

use super::errors::Problem;
use super::limits::refuse;
use crate::state::{Mode, State};
use actix_session::{Session, SessionExt};
use actix_web::body::{BoxBody, MessageBody};
use actix_web::dev::{Payload, ServiceRequest, ServiceResponse};
use actix_web::http::header::{CACHE_CONTROL, HeaderName, HeaderValue, STRICT_TRANSPORT_SECURITY};
use actix_web::middleware::Next;
use actix_web::{Error, FromRequest, HttpRequest, web};
use serde::de::DeserializeOwned;
use std::future::Future;
use std::pin::Pin;
use subtle::ConstantTimeEq;

/// Scripts, styles, fonts and data come from Ebrel itself and from nowhere else; nothing stands inline.
const CONTENT_POLICY: &str = "default-src 'self'; img-src 'self' data:; style-src 'self'; script-src 'self'; \
     object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";

/// Adds the security headers to every answer; pages and data are kept nowhere on the way or in the browser.
pub async fn headers(
    request: ServiceRequest,
    next: Next<impl MessageBody>,
) -> Result<ServiceResponse<impl MessageBody>, Error> {
    let https = request.app_data::<web::Data<State>>().is_some_and(|a| a.mode == Mode::Serve { https: true });
    let asset = request.path().starts_with("/assets/");
    let mut response = next.call(request).await?;
    let headers = response.headers_mut();
    for (name, value) in [
        ("content-security-policy", CONTENT_POLICY),
        ("x-content-type-options", "nosniff"),
        ("referrer-policy", "same-origin"),
        ("cross-origin-opener-policy", "same-origin"),
    ] {
        headers.insert(HeaderName::from_static(name), HeaderValue::from_static(value));
    }
    if https {
        headers.insert(STRICT_TRANSPORT_SECURITY, HeaderValue::from_static("max-age=31536000"));
    }
    if !asset {
        headers.insert(CACHE_CONTROL, HeaderValue::from_static("no-store"));
    }
    Ok(response)
}

/// Refuses requests by a name that Ebrel was not told, and those that another site made a browser send.
pub async fn check<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    let header = |name: &str| request.headers().get(name).and_then(|v| v.to_str().ok()).map(str::to_owned);
    let host = header("host").or_else(|| request.uri().host().map(str::to_owned)).unwrap_or_default();
    if !request.app_data::<web::Data<State>>().is_some_and(|a| a.doors.answers_to(&host)) {
        return Ok(refuse(request, &Problem::Host));
    }
    if !request.method().is_safe() {
        let from_here = match (header("sec-fetch-site"), header("origin")) {
            (Some(site), _) => site == "same-origin" || site == "none",
            (None, Some(origin)) => origin.split_once("://").is_some_and(|(_, o)| o == host),
            // No browser: the token decides.
            (None, None) => true,
        };
        if !from_here {
            return Ok(refuse(request, &Problem::Token));
        }
    }
    next.call(request).await.map(ServiceResponse::map_into_boxed_body)
}

const TOKEN: &str = "token";

/// Gives the session another token: a form opened before signing in is of no use after it.
pub fn renew_token(session: &Session) {
    session.remove(TOKEN);
}

/// The token of this session's forms; made at first need.
pub fn token(session: &Session) -> Result<String, Problem> {
    let internal = |e: String| Problem::Internal(e);
    if let Some(token) = session.get::<String>(TOKEN).map_err(|e| internal(e.to_string()))? {
        return Ok(token);
    }
    let fresh = actix_web::cookie::Key::generate();
    let token = hex::encode(&fresh.master()[..24]);
    session.insert(TOKEN, &token).map_err(|e| internal(e.to_string()))?;
    Ok(token)
}

/// Whether `given` is this session's token. Compared over its whole length.
pub fn matches(session: &Session, given: &str) -> Result<(), Problem> {
    let known = session.get::<String>(TOKEN).ok().flatten().unwrap_or_default();
    let same: bool = known.as_bytes().ct_eq(given.as_bytes()).into();
    if same && !known.is_empty() { Ok(()) } else { Err(Problem::Token) }
}

type Extracted<T> = Pin<Box<dyn Future<Output = Result<T, Error>>>>;

#[derive(serde::Deserialize)]
struct WithToken {
    #[serde(default)]
    token: String,
}

/// A form of this session: its `token` field was checked.
pub struct CheckedForm<T>(pub T);

impl<T: DeserializeOwned + 'static> FromRequest for CheckedForm<T> {
    type Error = Error;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let session = request.get_session();
        let bytes = web::Bytes::from_request(request, payload);
        Box::pin(async move {
            let bytes = bytes.await.map_err(|_| Problem::TooLarge)?;
            let unreadable = |e: String| Problem::Refused(format!("The form could not be read ({e}). Send it again."));
            let text = String::from_utf8_lossy(&bytes);
            let with = web::Query::<WithToken>::from_query(&text).map_err(|e| unreadable(e.to_string()))?;
            matches(&session, &with.token)?;
            let form = web::Query::<T>::from_query(&text).map_err(|e| unreadable(e.to_string()))?;
            Ok(Self(form.into_inner()))
        })
    }
}

/// A form of nothing but its token: a button.
#[derive(serde::Deserialize)]
pub struct NoFields {}

/// JSON that a script of this session sent: its `x-ebrel-token` header was checked.
pub struct CheckedJson<T>(pub T);

impl<T: DeserializeOwned + 'static> FromRequest for CheckedJson<T> {
    type Error = Error;
    type Future = Extracted<Self>;

    fn from_request(request: &HttpRequest, payload: &mut Payload) -> Self::Future {
        let session = request.get_session();
        let given = request.headers().get("x-ebrel-token").and_then(|v| v.to_str().ok()).unwrap_or_default().to_owned();
        let json = web::Json::<T>::from_request(request, payload);
        Box::pin(async move {
            matches(&session, &given)?;
            Ok(Self(json.await?.into_inner()))
        })
    }
}
