//! Finding a probe by serial or a station by name.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::{Shell, page, probe_address, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_store::studies::Study;
use serde::Deserialize;

/// What is sought.
#[derive(Deserialize)]
pub struct Sought {
    #[serde(default)]
    q: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/register/find.html")]
struct FindPage {
    shell: Shell,
    sought: String,
    hits: Vec<(String, String, String)>,
}

/// Finds a probe by serial, or a station by name; the only hit is opened at once.
pub async fn find(state: web::Data<State>, actor: Actor, query: web::Query<Sought>) -> Result<HttpResponse, Problem> {
    let sought = query.q.trim().to_lowercase();
    let mut hits = Vec::new();
    if !sought.is_empty() {
        for p in state.store.probes().await? {
            if p.serial.eq_ignore_ascii_case(&sought) {
                return Ok(see_other(&probe_address(&p.serial)));
            }
            if p.serial.to_lowercase().contains(&sought) {
                hits.push((probe_address(&p.serial), p.serial, p.model));
            }
        }
        let own = actor.studies(&state).await?;
        let mine = |study: &Study| own.as_ref().is_none_or(|own| own.contains(&study.id));
        for study in state.store.studies().await?.into_iter().filter(mine) {
            for s in state.store.stations(study.id).await? {
                if s.name.to_lowercase().contains(&sought) || s.code == sought {
                    hits.push((format!("/stations/{}", s.id), s.name, format!("station of {}", study.name)));
                }
            }
        }
    }
    match &hits[..] {
        [(address, ..)] => Ok(see_other(address)),
        _ => page(&FindPage { shell: Shell::bare(&state, &actor, "Find")?, sought, hits }),
    }
}
