//! What people say of a finding: a comment, or the wish for a second opinion.

use super::evidence;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::forms::{Field, words};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use ebrel_core::quality::Test;
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use ebrel_store::remarks::Remark;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.post("/stations/{id}/review/said", Least::Member(Role::Field), keep);
}

const LONGEST: usize = 1000;

/// Something said; the finding is named by what outlives a run of the tests.
#[derive(Deserialize)]
struct Said {
    stream: i64,
    test: String,
    start: i64,
    end: i64,
    #[serde(default)]
    words: String,
    #[serde(default)]
    asks: String,
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Said>,
) -> Result<HttpResponse, Problem> {
    let (id, said) = (*id, form.0);
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let here = state.store.streams(id).await?.iter().any(|s| s.id == said.stream);
    let test = Test::from_code(&said.test).filter(|_| here && said.start <= said.end);
    let test =
        test.ok_or_else(|| Problem::Refused("That finding is not of this station: go back to what waits.".into()))?;
    let flags = state.store.flags(id).await?;
    let remark = Remark {
        id: 0,
        stream_id: said.stream,
        test,
        start: UnixSeconds(said.start),
        end: UnixSeconds(said.end),
        words: String::new(),
        asks: said.asks == "yes",
        by: actor.name().to_owned(),
        at: state.now(&study),
    };
    let flag = flags.iter().find(|f| remark.is_of(f.stream_id, &f.flag));
    let remark = match (words(&said.words, "a word", LONGEST), flag) {
        (Ok(words), _) => Remark { words, ..remark },
        (Err(says), Some(flag)) => {
            let typed = Field::wrong(&said.words, says);
            return evidence::shown(&state, &actor, id, flag, (typed, remark.asks)).await;
        }
        (Err(says), None) => return Err(Problem::Refused(says)),
    };
    state.store.remark(&remark).await?;
    say(&actor, if remark.asks { "It waits for a second opinion now." } else { "Your comment is kept." })?;
    let back = flag.map_or_else(String::new, |f| format!("/flags/{}", f.id));
    Ok(see_other(&format!("/stations/{id}/review{back}")))
}
