//! Problems as machines read them: problem details (RFC 9457).

use super::errors::Problem;
use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderValue, RETRY_AFTER, WWW_AUTHENTICATE};
use actix_web::{HttpResponse, ResponseError};
use serde::Serialize;
use std::fmt;
use utoipa::ToSchema;

/// Where machines ask: their problems are data, and they have no session.
#[must_use]
pub fn is_machines(path: &str) -> bool {
    path.starts_with("/api/")
}

/// A problem, as RFC 9457 has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Details {
    /// What kind of problem, as an address that tells no more than its last part.
    #[serde(rename = "type")]
    pub kind: String,
    /// The same in words.
    pub title: String,
    /// The status of the answer.
    pub status: u16,
    /// What is wrong here, and what to do.
    pub detail: String,
    /// Seconds to wait before the next try.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub retry_after_s: Option<u64>,
}

impl Details {
    /// A problem of a kind, by its short name.
    #[must_use]
    pub fn new(status: StatusCode, kind: &str, detail: impl Into<String>) -> Self {
        let title = kind.replace('-', " ");
        let kind = format!("/api/v1/problems/{kind}");
        Self { kind, title, status: status.as_u16(), detail: detail.into(), retry_after_s: None }
    }

    /// A problem that a page would have shown.
    #[must_use]
    pub fn of(problem: &Problem) -> Self {
        let (kind, wait) = match problem {
            Problem::Nowhere | Problem::NotFound(_) => ("not-found", None),
            Problem::Slowly(seconds) => ("too-many-tries", Some(*seconds)),
            Problem::Busy => ("busy", Some(1)),
            Problem::TooLarge | Problem::TooMuchYet => ("too-large", None),
            Problem::TooSlow => ("too-slow", None),
            Problem::Host | Problem::Token => ("wrong-host", None),
            Problem::SignIn | Problem::NotAllowed(_) => ("key-needed", None),
            Problem::Refused(_) => ("refused", None),
            Problem::NoRoom => ("no-room", Some(60)),
            Problem::Store(_) | Problem::Internal(_) => ("server-error", Some(30)),
        };
        Self { retry_after_s: wait, ..Self::new(problem.status_code(), kind, problem.to_string()) }
    }

    /// It as an answer.
    #[must_use]
    pub fn answer(&self) -> HttpResponse {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut answer = HttpResponse::build(status);
        answer.content_type("application/problem+json");
        if let Some(seconds) = self.retry_after_s {
            answer.insert_header((RETRY_AFTER, HeaderValue::from(seconds)));
        }
        if status == StatusCode::UNAUTHORIZED {
            answer.insert_header((WWW_AUTHENTICATE, HeaderValue::from_static("Bearer")));
        }
        answer.json(self)
    }
}

impl fmt::Display for Details {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)
    }
}

impl ResponseError for Details {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        self.answer()
    }
}

impl From<Problem> for Details {
    fn from(problem: Problem) -> Self {
        match &problem {
            Problem::Store(cause) => tracing::error!(%cause, "database"),
            Problem::Internal(cause) => tracing::error!(%cause, "internal"),
            _ => {}
        }
        Self::of(&problem)
    }
}
