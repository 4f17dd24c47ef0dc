//! From when a record counts: declared by a person, with the reason and how things stood.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, moment, read_field, typed_time};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::moments::{Moment, day_before};
use ebrel_app::field::standing;
use ebrel_app::reviewing;
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::roles::Role;
use ebrel_store::events::StoredEvent;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/field/official", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/field/official", Least::Member(Role::Researcher), declare);
}

/// The longest reason, characters.
const LONGEST_WHY: usize = 500;

/// The form as it is typed.
#[derive(Deserialize, Default)]
struct Typed {
    #[serde(default)]
    at: String,
    #[serde(default)]
    why: String,
    /// The start that is corrected, seconds of UTC; empty for another one.
    #[serde(default)]
    instead: String,
    /// Whether to declare, or only to look how things stood.
    #[serde(default)]
    look: String,
}

/// A start that was declared.
struct Declared {
    key: i64,
    at: String,
    why: String,
    by: String,
}

#[derive(Template)]
#[template(path = "rooms/field/official.html")]
struct OfficialPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    typed: Typed,
    error: Option<String>,
    declared: Vec<Declared>,
    /// How things stood on the day before the moment that is typed.
    conditions: Option<Moment>,
}

impl OfficialPage {
    fn corrects(&self, key: &i64) -> bool {
        self.typed.instead == key.to_string()
    }

    fn mm(&self, rain: &f64) -> String {
        fixed(*rain, 1)
    }
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    typed: web::Query<Typed>,
) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *id, typed.into_inner(), None).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    mut typed: Typed,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let (offset, now) = (study.utc_offset_minutes, state.now(&study));
    let stands = standing(&state.store, study.id, now).await?.into_iter().find(|s| s.station.id == id);
    let settles = stands.as_ref().and_then(|s| s.settles.clone());
    let events = state.store.events(id).await?;
    let declared: Vec<&StoredEvent> = events.iter().filter(|e| e.event.kind == EventKind::OfficialStart).collect();
    let answer = match (&settles, declared.last()) {
        (Some(s), None) => format!("Settles until {}: {}.", moment(s.until, offset), s.because),
        (_, Some(last)) => format!("The record counts from {}.", moment(last.event.start, offset)),
        (None, None) if stands.is_some_and(|s| s.lying > 0) => "Settled; no start is declared yet.".to_owned(),
        (None, None) => "Nothing lies in the ground here yet.".to_owned(),
    };
    if typed.at.is_empty() {
        typed.at = field(settles.map_or(now, |s| s.until.min(now)), offset);
    }
    let conditions = match read_field(&typed.at, offset).filter(|at| *at <= now) {
        Some(at) => {
            Some(day_before(&state.store, id, at).await?).filter(|m| !m.said.is_empty() || !m.silent.is_empty())
        }
        None => None,
    };
    let declared = declared.into_iter().map(|e| Declared {
        key: e.event.start.0,
        at: moment(e.event.start, offset),
        why: e.note.clone(),
        by: e.by.clone(),
    });
    page(&OfficialPage {
        shell: Shell::within(state, actor, "Official start", Room::Field, &study, Some(&station)).await?,
        id,
        station: station.name,
        answer,
        declared: declared.collect(),
        typed,
        error,
        conditions,
    })
}

async fn declare(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    if !typed.look.is_empty() {
        return shown(&state, &actor, *id, typed, None).await;
    }
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let offset = study.utc_offset_minutes;
    let read = typed_time(&typed.at, offset);
    let wrong = match read.clone() {
        Err(says) => Some(says),
        Ok(at) if at > state.now(&study) => {
            Some("This is still to come: declare it when the record counts, not before.".to_owned())
        }
        Ok(_) if typed.why.trim().chars().count() > LONGEST_WHY => {
            Some(format!("The reason has at most {LONGEST_WHY} characters: shorten it."))
        }
        Ok(_) if typed.why.trim().is_empty() => {
            Some("Say why the record counts from there: settled, wetted, checked against what?".to_owned())
        }
        Ok(_) => None,
    };
    let (Ok(at), None) = (read, &wrong) else { return shown(&state, &actor, *id, typed, wrong).await };
    let events = state.store.events(*id).await?;
    let starts = || events.iter().filter(|e| e.event.kind == EventKind::OfficialStart);
    let was = typed.instead.parse::<i64>().ok().and_then(|key| starts().find(|e| e.event.start.0 == key));
    if was.is_none() && starts().any(|e| e.event.start == at) {
        let says = "This start is declared already: choose it below to correct its reason.".to_owned();
        return shown(&state, &actor, *id, typed, Some(says)).await;
    }
    let mut note = typed.why.trim().to_owned();
    let stood = day_before(&state.store, *id, at).await?.words();
    if !stood.is_empty() {
        note.push_str(&format!(". On the day before: {stood}"));
    }
    if let Some(was) = was {
        note.push_str(&format!(". Until now: {}, {}, {}", moment(was.event.start, offset), was.by, was.note));
    }
    let event = StoredEvent {
        id: 0,
        event: Event { kind: EventKind::OfficialStart, start: at, end: at },
        amount: None,
        unit: String::new(),
        note,
        by: actor.name().to_owned(),
        client_id: None,
        revision: 1,
    };
    match was {
        Some(was) => {
            if !state.store.correct_start(*id, was.event.start, &event).await? {
                let says = "Somebody corrected this start meanwhile: look again.".to_owned();
                return shown(&state, &actor, *id, typed, Some(says)).await;
            }
        }
        None => state.store.add_event(*id, &event).await?,
    }
    reviewing::run(&state.store, *id).await?;
    let from = moment(at, offset);
    say(&actor, &format!("The record of {} counts from {from}; what was before stays, marked.", station.name))?;
    Ok(see_other(&format!("/studies/{}/field", study.id)))
}
