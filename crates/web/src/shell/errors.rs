//! What can go wrong in a handler, and the page it becomes.

use super::Shell;
use super::details::{Details, is_machines};
use crate::state::UPLOAD_LIMIT;
use crate::state::places::PlaceError;
use crate::state::throttle::Wait;
use actix_multipart::MultipartError;
use actix_web::error::{InternalError, JsonPayloadError, PathError, QueryPayloadError};
use actix_web::http::StatusCode;
use actix_web::http::header::ContentType;
use actix_web::{HttpRequest, HttpResponse, ResponseError};
use askama::Template;
use ebrel_app::planning::PlanError;
use ebrel_core::roles::Role;
use ebrel_core::series::WindowError;
use ebrel_store::StoreError;
use thiserror::Error;

/// What can go wrong in a handler. The sentence is for the person; causes are logged and never sent.
#[derive(Debug, Error)]
pub enum Problem {
    /// Nothing at this address.
    #[error("There is nothing at this address.")]
    Nowhere,
    /// No row of this number.
    #[error("There is no {0} with this number. It may have been in another data directory.")]
    NotFound(&'static str),
    /// The request cannot be taken; the sentence says what to do.
    #[error("{0}")]
    Refused(String),
    /// The form did not come from a page of this session.
    #[error(
        "This form was opened before you signed in, or in another session. Go back, reload the page, and send it again."
    )]
    Token,
    /// The address in the browser's bar is not one that Ebrel answers to.
    #[error(
        "Ebrel does not answer to this name. Open it by the address that its terminal shows; another name is told it with --host when it is started."
    )]
    Host,
    /// Nobody is signed in.
    #[error("Sign in first.")]
    SignIn,
    /// The role does not allow it.
    #[error("{}", not_allowed(*.0))]
    NotAllowed(Option<Role>),
    /// Too many tries.
    #[error("Too many tries. Wait {0} s and try again.")]
    Slowly(u64),
    /// This address has too many requests under way.
    #[error("Too much at once from this address. Wait a moment and try again.")]
    Busy,
    /// The request took longer than any should.
    #[error("The request took too long to arrive. Send it again over a faster line.")]
    TooSlow,
    /// A form that is larger than any before signing in.
    #[error("Sign in first; before that only small forms are taken.")]
    TooMuchYet,
    /// A file over the limit.
    #[error("This file is larger than {} MB, which is more than can be taken at once. Split it, for instance by year, and import the parts.", UPLOAD_LIMIT / 1024 / 1024)]
    TooLarge,
    /// Nothing can be kept.
    #[error(
        "The disk with the data is full or refuses to be written: nothing of this was kept. Make room, go back, and send it once more."
    )]
    NoRoom,
    #[error("Something went wrong with the database. Nothing was changed. The cause is in the log.")]
    Store(StoreError),
    #[error("Something went wrong here. Nothing was changed. The cause is in the log.")]
    Internal(String),
}

fn not_allowed(role: Option<Role>) -> String {
    match role {
        Some(role) => format!(
            "You are here as {}, who {}. Nothing was changed. Ask the study's owner if you need to do more.",
            role.title(),
            role.allows()
        ),
        None => "You are in no study yet: open the link that its owner sent you, or ask for one.".to_owned(),
    }
}

/// Does something beside the request that began it: nobody waits for it, and what goes wrong stands in the log.
pub fn beside(work: impl Future<Output = Result<(), Problem>> + 'static) {
    actix_web::rt::spawn(async move {
        if let Err(error) = work.await {
            tracing::warn!(%error, "what was begun beside a request broke off");
        }
    });
}

impl From<Wait> for Problem {
    fn from(wait: Wait) -> Self {
        Self::Slowly(wait.seconds)
    }
}

impl From<WindowError> for Problem {
    fn from(error: WindowError) -> Self {
        Self::Refused(error.to_string())
    }
}

impl From<PlaceError> for Problem {
    fn from(error: PlaceError) -> Self {
        Self::Internal(error.to_string())
    }
}

impl From<PlanError> for Problem {
    fn from(error: PlanError) -> Self {
        match error {
            PlanError::Store(error) => error.into(),
            PlanError::Catalogue(_) | PlanError::Draft(_) => Self::Internal(error.to_string()),
        }
    }
}

impl From<StoreError> for Problem {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::NotFound(what) => Self::NotFound(what),
            StoreError::Rule(sentence) => Self::Refused(sentence),
            StoreError::Stale => Self::Refused(
                "Somebody else changed this at the same moment. Load the page again and send yours once more.".into(),
            ),
            other if other.is_no_room() => {
                tracing::error!(cause = %other, "no room");
                Self::NoRoom
            }
            other => Self::Store(other),
        }
    }
}

#[derive(Template)]
#[template(path = "shell/error.html")]
struct ErrorPage {
    shell: Shell,
    heading: &'static str,
    sentence: String,
}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        match self {
            Self::Nowhere | Self::NotFound(_) => StatusCode::NOT_FOUND,
            Self::Refused(_) => StatusCode::UNPROCESSABLE_ENTITY,
            Self::Token | Self::Host | Self::NotAllowed(_) => StatusCode::FORBIDDEN,
            Self::SignIn => StatusCode::UNAUTHORIZED,
            Self::Slowly(_) => StatusCode::TOO_MANY_REQUESTS,
            Self::Busy => StatusCode::SERVICE_UNAVAILABLE,
            Self::TooSlow => StatusCode::REQUEST_TIMEOUT,
            Self::TooLarge | Self::TooMuchYet => StatusCode::PAYLOAD_TOO_LARGE,
            Self::NoRoom => StatusCode::INSUFFICIENT_STORAGE,
            Self::Store(_) | Self::Internal(_) => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }

    fn error_response(&self) -> HttpResponse {
        match self {
            Self::Store(cause) => tracing::error!(%cause, "database"),
            Self::Internal(cause) => tracing::error!(%cause, "internal"),
            _ => {}
        }
        let heading = match self {
            Self::Nowhere | Self::NotFound(_) => "Nothing here",
            Self::Refused(_) | Self::TooLarge | Self::TooSlow => "This cannot be taken",
            Self::Token | Self::Host => "Not from here",
            Self::NotAllowed(_) => "Not for you to do",
            Self::SignIn | Self::Slowly(_) | Self::Busy | Self::TooMuchYet => "Not yet",
            Self::NoRoom | Self::Store(_) | Self::Internal(_) => "Something went wrong",
        };
        let shell = Shell {
            title: heading.to_owned(),
            study: None,
            nav: Vec::new(),
            user: None,
            role: None,
            demo: false,
            live: false,
            making: None,
            token: String::new(),
            disk: None,
            said: None,
            revision: 0,
        };
        let body = ErrorPage { shell, heading, sentence: self.to_string() }.render();
        HttpResponse::build(self.status_code())
            .content_type(ContentType::html())
            .body(body.unwrap_or_else(|_| self.to_string()))
    }
}

/// What an address answers that leads nowhere: a page, or data for machines.
pub async fn nowhere(request: HttpRequest) -> HttpResponse {
    answer_to(&request, &Problem::Nowhere)
}

/// A problem as whoever asked can read it.
pub fn answer_to(request: &HttpRequest, problem: &Problem) -> HttpResponse {
    if is_machines(request.path()) { Details::of(problem).answer() } else { problem.error_response() }
}

/// A part of an address that is no number.
pub fn path_error(_: PathError, request: &HttpRequest) -> actix_web::Error {
    let answer = answer_to(request, &Problem::Nowhere);
    InternalError::from_response(Problem::Nowhere, answer).into()
}

/// JSON that a script sent and that cannot be read.
pub fn json_error(error: JsonPayloadError, _: &HttpRequest) -> actix_web::Error {
    match error {
        JsonPayloadError::Overflow { .. } | JsonPayloadError::OverflowKnownLength { .. } => Problem::TooLarge,
        other => Problem::Refused(format!("What this page sent could not be read ({other}). Reload it and try again.")),
    }
    .into()
}

/// An address whose question mark leads to nothing that can be read.
pub fn query_error(error: QueryPayloadError, _: &HttpRequest) -> actix_web::Error {
    Problem::Refused(format!("This address cannot be read ({error}).")).into()
}

/// An upload that could not be taken.
pub fn upload_error(error: &MultipartError) -> Problem {
    match error {
        MultipartError::Payload(actix_web::error::PayloadError::Overflow) => Problem::TooLarge,
        MultipartError::MissingField(_) => {
            Problem::Refused("No file came with the form: choose one and send it again.".into())
        }
        other => Problem::Refused(format!("The upload broke off ({other}). Send the file again.")),
    }
}
