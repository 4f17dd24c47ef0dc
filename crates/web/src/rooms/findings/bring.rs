//! Responses brought and taken back.

use super::thresholds::{Query, ThresholdsPage, Typed, answered};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::read_field;
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::{say, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use ebrel_app::findings::pasted_responses;
use ebrel_store::responses::Response;

pub(super) async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let study = state.store.study(*id).await?;
    let offset = study.utc_offset_minutes;
    let mut slips = Vec::new();
    let name = words(&typed.name, "what answered", 120).map_err(|e| slips.push(e)).ok();
    if typed.unit.chars().count() > 30 {
        slips.push("Shorten the unit to 30 characters.".into());
    }
    let pasted = pasted_responses(&typed.rows, |text| read_field(text, offset));
    const SHOWN: usize = 12;
    slips.extend(pasted.slips.iter().take(SHOWN).map(|(line, says)| format!("Line {line}: {says}")));
    if pasted.slips.len() > SHOWN {
        slips.push(format!("… and {} more lines.", pasted.slips.len() - SHOWN));
    }
    if pasted.slips.is_empty() && pasted.values.is_empty() {
        slips.push("Paste rows of time, point and value.".into());
    }
    let Some(name) = name.filter(|_| slips.is_empty()) else {
        let mut made = ThresholdsPage::empty(&state, &actor, *id, None, typed).await?;
        made.slips = slips;
        return answered(&state, made, &Query::default()).await;
    };
    let (n, unit) = (pasted.values.len(), typed.unit.trim().to_owned());
    let by = actor.signed().map(|s| s.name.clone()).unwrap_or_default();
    let table = Response { id: 0, study_id: *id, name, unit, by, at: wall_clock(), values: pasted.values };
    let kept = state.store.add_response(&table).await?;
    say(&actor, &format!("{n} values were kept."))?;
    Ok(see_other(&format!("/studies/{}/findings/thresholds?table={kept}", *id)))
}

pub(super) async fn remove(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    _form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let (study, table) = path.into_inner();
    let done = state.store.remove_response(study, table, wall_clock()).await?;
    say(
        &actor,
        if done { "The table was taken back; it is no longer shown." } else { "That table was taken back already." },
    )?;
    Ok(see_other(&format!("/studies/{study}/findings/thresholds")))
}
