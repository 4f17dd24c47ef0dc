//! Where nodes and gateways send: a message is answered after its readings are on the disk.

use crate::shell::details::Details;
use crate::shell::errors::Problem;
use crate::shell::limits::peer;
use crate::shell::routes::Routes;
use crate::state::{State, now_of, secrets, wall_clock};
use actix_web::http::header::{AUTHORIZATION, CONTENT_ENCODING, CONTENT_TYPE};
use actix_web::http::{Method, StatusCode};
use actix_web::web::BytesMut;
use actix_web::{HttpRequest, HttpResponse, web};
use ebrel_app::receiving::Receipt;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::message::{self, Form, MessageError};
use ebrel_store::keys::KeyCheck;
use futures_util::StreamExt;
use std::time::Instant;

pub fn routes(routes: &mut Routes<'_>) {
    routes.machines(Method::POST, "/api/v1/nodes/{node}/readings", take);
}

/// Readings of a node.
#[utoipa::path(
    post,
    path = "/api/v1/nodes/{node}/readings",
    params(("node" = i64, Path, description = "Number of the node, as its page shows it")),
    request_body(
        description = "SenML (RFC 8428) with names that end with `port/quantity`, or CSV with the columns time,port,quantity,value,unit; \
            up to 10000 records, plain or with Content-Encoding: gzip",
        content(
            (String = "application/senml+json", example = json!([{"bn": "field:", "bt": 1788242400}, {"n": "A1/raw_output", "u": "mV", "v": 812.5}])),
            (Vec<u8> = "application/senml+cbor"),
            (String = "text/csv", example = "time,port,quantity,value,unit\n2026-09-01T06:00:00Z,A1,raw_output,812.5,mV\n"),
        )
    ),
    responses(
        (status = 200, description = "On the disk: records is the sum of new, known, contradicting and refused", body = Receipt),
        (status = 400, description = "It cannot be told apart into records", body = Details),
        (status = 401, description = "No key, an unknown one, or one that serves no more", body = Details),
        (status = 403, description = "Another node's key", body = Details),
        (status = 404, description = "No such node", body = Details),
        (status = 413, description = "Too many records or bytes", body = Details),
        (status = 415, description = "Neither SenML nor CSV", body = Details),
        (status = 429, description = "Too many wrong keys: wait", body = Details),
        (status = 503, description = "Too much at once: send it again", body = Details),
    ),
    security(("key" = []))
)]
pub async fn take(
    state: web::Data<State>,
    request: HttpRequest,
    node: web::Path<i64>,
    payload: web::Payload,
) -> Result<HttpResponse, Details> {
    let node = *node;
    let now = admit(&state, &request, node).await?;
    let form = form_of(&request)?;
    let bytes = body(&request, payload).await?;
    let message = if bytes.len() <= READ_AT_ONCE {
        message::read(form, &bytes, now)
    } else {
        let place = state.messages.take().await.map_err(Problem::from)?;
        place.run(move || message::read(form, &bytes, now)).await.map_err(Problem::from)?
    };
    let message = message.map_err(unreadable)?;
    let receipt = state.intake.receive(node, message, now).await.map_err(problem)?;
    Ok(HttpResponse::Ok().json(receipt))
}

/// A message of so many bytes is read where it is; a longer one where it keeps nobody waiting.
const READ_AT_ONCE: usize = 16 * 1024;

fn problem(error: ebrel_store::StoreError) -> Details {
    Details::from(Problem::from(error))
}

/// Lets a message in whose key serves for the node: the moment that counts as now there. Wrong keys make their address wait, longer each
/// time.
async fn admit(state: &State, request: &HttpRequest, node: i64) -> Result<UnixSeconds, Details> {
    let refused = |status, kind: &str, says: String| Err(Details::new(status, kind, says));
    let address = peer(state, request).map(|a| a.to_string()).unwrap_or_default();
    let account = format!("node {node}");
    state.throttle.pass(&address, &account, Instant::now()).map_err(|w| Details::from(Problem::from(w)))?;
    let given = request.headers().get(AUTHORIZATION).and_then(|v| v.to_str().ok());
    let Some(key) = given.and_then(|v| v.strip_prefix("Bearer ")).map(str::trim).filter(|k| !k.is_empty()) else {
        let says = "Send the node's key as “Authorization: Bearer KEY”. It is made on the node's page.";
        return refused(StatusCode::UNAUTHORIZED, "key-needed", says.to_owned());
    };
    let place = state.messages.take().await.map_err(Problem::from)?;
    let checked = state.store.check_key(&secrets::hash_of(key), node, wall_clock()).await.map_err(problem)?;
    drop(place);
    match checked {
        KeyCheck::Serves { fixed_now } => {
            state.throttle.note_right(&address, &account);
            Ok(now_of(fixed_now))
        }
        KeyCheck::Unknown => {
            state.throttle.note_wrong(&address, &account, Instant::now());
            refused(StatusCode::UNAUTHORIZED, "unknown-key", "Nobody knows this key.".to_owned())
        }
        KeyCheck::Ended(at) => {
            let at = ebrel_formats::rfc3339(at);
            let says =
                format!("This key serves no more since {at}. Make another on the node's page; keep what was not sent.");
            refused(StatusCode::UNAUTHORIZED, "ended-key", says)
        }
        KeyCheck::OtherNode if state.store.station_of_node(node).await.is_err() => {
            refused(StatusCode::NOT_FOUND, "not-found", "There is no node of this number.".to_owned())
        }
        KeyCheck::OtherNode => {
            refused(StatusCode::FORBIDDEN, "another-nodes-key", "This key serves for another node.".to_owned())
        }
    }
}

fn form_of(request: &HttpRequest) -> Result<Form, Details> {
    let told = request.headers().get(CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or_default();
    Form::of_media_type(told).ok_or_else(|| {
        let forms = Form::ALL.map(Form::media_type).join(", ");
        let shown: String = told.chars().take(60).collect();
        let says = format!("“{shown}” is no form that is read here. Say by Content-Type which it is: {forms}.");
        Details::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "unknown-form", says)
    })
}

/// The message, unpacked.
async fn body(request: &HttpRequest, mut payload: web::Payload) -> Result<Vec<u8>, Details> {
    let broken = |says: String| Details::new(StatusCode::BAD_REQUEST, "unreadable", says);
    let mut sent = BytesMut::new();
    while let Some(chunk) = payload.next().await {
        let chunk = chunk.map_err(|e| broken(format!("The message broke off ({e}). Send it again.")))?;
        if sent.len() + chunk.len() > message::MOST_SENT {
            return Err(unreadable(MessageError::TooLarge(message::MOST_SENT / 1024 / 1024)));
        }
        sent.extend_from_slice(&chunk);
    }
    let packing = request.headers().get(CONTENT_ENCODING).and_then(|v| v.to_str().ok()).unwrap_or("identity");
    match packing.trim().to_ascii_lowercase().as_str() {
        "identity" | "" => Ok(sent.to_vec()),
        "gzip" => message::unpack(&sent).map_err(unreadable),
        other => {
            let says = format!(
                "“{}” is no packing that is known here: send it plain or as gzip.",
                other.chars().take(40).collect::<String>()
            );
            Err(Details::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, "unknown-packing", says))
        }
    }
}

fn unreadable(error: MessageError) -> Details {
    let (status, kind) = match &error {
        MessageError::TooMany => (StatusCode::PAYLOAD_TOO_LARGE, "too-many-records"),
        MessageError::TooLarge(_) => (StatusCode::PAYLOAD_TOO_LARGE, "too-large"),
        MessageError::Unreadable(_) | MessageError::Version(_) | MessageError::Empty => {
            (StatusCode::BAD_REQUEST, "unreadable")
        }
    };
    let says = error.to_string();
    let mut letters = says.chars();
    let first = letters.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
    Details::new(status, kind, format!("{first}{}.", letters.as_str()))
}
