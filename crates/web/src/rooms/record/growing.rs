//! A station's page is told when its record grows (server-sent events), so that it need not be loaded again.

use crate::shell::errors::Problem;
use crate::shell::routes::{Least, Routes};
use crate::state::State;
use actix_web::http::header::{CACHE_CONTROL, CONTENT_ENCODING};
use actix_web::web::Bytes;
use actix_web::{HttpResponse, web};
use ebrel_core::roles::Role;
use futures_util::stream::unfold;
use std::convert::Infallible;
use std::time::Duration;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/growing", Least::Member(Role::Guest), growing);
}

/// How often it is looked whether something came.
const LOOK: Duration = Duration::from_millis(800);
/// So many looks without anything, and a word goes out: proxies and browsers give up lines that say nothing.
const QUIET: u32 = 20;
/// A line is ended after so many looks; the browser opens the next one, which asks again who it is.
const LONGEST: u32 = 1000;

async fn growing(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let id = *id;
    let first = told(&state, id).await?;
    let looks = unfold((state, first, 0_u32, 0_u32), move |(state, last, mut quiet, mut looked)| async move {
        loop {
            if looked >= LONGEST {
                return None;
            }
            tokio::time::sleep(LOOK).await;
            looked += 1;
            // A database that is busy just now is asked again.
            let now = told(&state, id).await.unwrap_or_else(|_| last.clone());
            if now != last {
                let event = Bytes::from(format!("data: {{\"last\": {}}}\n\n", now.1));
                return Some((Ok::<_, Infallible>(event), (state, now, 0, looked)));
            }
            quiet += 1;
            if quiet >= QUIET {
                return Some((Ok(Bytes::from_static(b": still here\n\n")), (state, last, 0, looked)));
            }
        }
    });
    Ok(HttpResponse::Ok()
        .content_type("text/event-stream")
        .insert_header((CACHE_CONTROL, "no-store"))
        // Packing would hold events back until there are many.
        .insert_header((CONTENT_ENCODING, "identity"))
        .streaming(looks))
}

/// What tells that something changed, and the last moment of the record.
async fn told(state: &State, id: i64) -> Result<(String, i64), Problem> {
    let stamp = state.store.stamp(id).await?;
    let last = state.store.extent(id).await?.map_or(0, |e| e.1.0);
    Ok((stamp, last))
}
