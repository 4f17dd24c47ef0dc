//! Photographs from phones: kept by their hash, shown small, with the place and time that they tell of themselves.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::guard;
use crate::shell::routes::{Least, Routes};
use crate::state::State;
use actix_web::{HttpRequest, HttpResponse, web};
use ebrel_app::field::photos::{self, PhotoError};
use ebrel_core::roles::Role;
use serde_json::{Value, json};

pub fn routes(routes: &mut Routes<'_>) {
    routes.post("/stations/{id}/field/photos", Least::Member(Role::Field), take);
    routes.get("/stations/{id}/field/photos/{sha256}", Least::Member(Role::Guest), show);
}

/// Takes a picture as the body of a request: phones have made it small already.
async fn take(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    request: HttpRequest,
    body: Result<web::Bytes, actix_web::Error>,
) -> Result<web::Json<Value>, Problem> {
    let given = request.headers().get("x-ebrel-token").and_then(|v| v.to_str().ok()).unwrap_or_default();
    guard::matches(actor.session(), given)?;
    let too_large = "This picture is larger than 4 MB: the field pages make it smaller before they send it.";
    let body = body.map_err(|_| Problem::Refused(too_large.into()))?;
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let now = state.now(&study);
    let _place = state.heavy.take().await?;
    let sha256 = photos::keep(&state.store, &state.data, &body, actor.name(), now).await.map_err(|e| match e {
        PhotoError::Store(error) => error.into(),
        other => Problem::Refused(other.to_string()),
    })?;
    Ok(web::Json(json!({"sha256": sha256})))
}

/// A picture made anew without what it tells of its place.
async fn show(state: web::Data<State>, path: web::Path<(i64, String)>) -> Result<HttpResponse, Problem> {
    let (station, sha256) = path.into_inner();
    if !state.store.has_photo(station, &sha256).await? {
        return Err(Problem::NotFound("photograph"));
    }
    let small = photos::small(&state.data, &sha256).await.map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(HttpResponse::Ok().content_type("image/jpeg").body(small))
}
