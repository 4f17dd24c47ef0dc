//! A line a request in the log, with an id that joins it to what was logged meanwhile. The address stands as its pattern: what a
//! link or a search holds is nobody's business.

use actix_web::Error;
use actix_web::body::MessageBody;
use actix_web::dev::{ServiceRequest, ServiceResponse};
use tracing::Span;
use tracing_actix_web::{RequestId, RootSpanBuilder};

/// Begins and ends the span of a request.
pub struct ByPattern;

impl RootSpanBuilder for ByPattern {
    fn on_request_start(request: &ServiceRequest) -> Span {
        use actix_web::HttpMessage;
        let id = request.extensions().get::<RequestId>().map(ToString::to_string).unwrap_or_default();
        let route = request.match_pattern().unwrap_or_default();
        let method = request.method().as_str();
        tracing::info_span!("request", %id, method, route, status = tracing::field::Empty)
    }

    fn on_request_end<B: MessageBody>(span: Span, outcome: &Result<ServiceResponse<B>, Error>) {
        let status = match outcome {
            Ok(answer) => answer.status(),
            Err(error) => error.as_response_error().status_code(),
        };
        span.record("status", status.as_u16());
    }
}
