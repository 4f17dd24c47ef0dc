//! What one peer may take: so many requests at once, so much time for a body, and little of it before signing in.

use super::errors::{Problem, answer_to};
use crate::state::State;
use actix_web::body::{BoxBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::middleware::Next;
use actix_web::{Error, HttpRequest};
use std::net::IpAddr;
use std::time::Duration;

/// Time for a request with all of its body: an upload of the largest file over a slow line.
const WHOLE: Duration = Duration::from_secs(15 * 60);

/// The visitor's address: the peer's, or, where the peer is the trusted proxy, what that says last.
#[must_use]
pub fn peer(state: &State, request: &HttpRequest) -> Option<IpAddr> {
    let direct = request.peer_addr().map(|a| a.ip());
    if direct.is_none() || direct != state.doors.proxy {
        return direct;
    }
    let told = request.headers().get_all("x-forwarded-for").last().and_then(|v| v.to_str().ok());
    told.and_then(|t| t.rsplit(',').next()).and_then(|t| t.trim().parse().ok()).or(direct)
}

/// Ends what takes too long.
///
/// # Errors
/// [`Problem::TooSlow`].
pub async fn limit<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<BoxBody>, Error> {
    match tokio::time::timeout(WHOLE, next.call(request)).await {
        Ok(answer) => answer.map(ServiceResponse::map_into_boxed_body),
        Err(_) => Err(Problem::TooSlow.into()),
    }
}

/// A refusal as an answer, so that the headers of every answer stand on it too.
#[must_use]
pub fn refuse(request: ServiceRequest, problem: &Problem) -> ServiceResponse<BoxBody> {
    let mut answer = answer_to(request.request(), problem);
    // What the client still sends is not read.
    answer.head_mut().set_connection_type(actix_web::http::ConnectionType::Close);
    request.into_response(answer)
}
