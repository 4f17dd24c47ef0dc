//! A message that could not be taken, as it came.

use crate::shell::download::bytes;
use crate::shell::errors::Problem;
use crate::shell::routes::{Least, Routes};
use crate::state::State;
use actix_web::{HttpResponse, web};
use ebrel_core::roles::Role;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/asides/{message}", Least::Somewhere(Role::Researcher), fetch);
}

async fn fetch(state: web::Data<State>, message: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let payload = state.store.aside(*message).await?;
    Ok(bytes("application/octet-stream", &format!("message-{message}.bin"), payload))
}
