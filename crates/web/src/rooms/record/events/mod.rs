//! What happened at a station: told, corrected, taken back and put back by hand, from the strips or on a page of its own.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, moment, span, typed_time};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::{State, secrets};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::marks::{self, HAND, is_by_hand};
use ebrel_app::reviewing;
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::roles::Role;
use ebrel_core::units::{UnixSeconds, read_number};
use ebrel_store::StoreError;
use ebrel_store::event_edits::{Change, EventStory};
use ebrel_store::events::StoredEvent;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/events", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/events", Least::Member(Role::Field), keep);
}

const LONGEST_NOTE: usize = 500;
const LONGEST_UNIT: usize = 12;

/// What was typed of an event, or what is to be done with one.
#[derive(Deserialize, Default, Clone)]
pub(super) struct Typed {
    /// Number of the event that is corrected; empty: a new one.
    #[serde(default)]
    pub(super) event: String,
    /// Which of its revisions was on the screen.
    #[serde(default)]
    pub(super) revision: String,
    /// Number that the form gave a new event: sent twice it is kept once.
    #[serde(default)]
    pub(super) number: String,
    #[serde(default)]
    pub(super) kind: String,
    #[serde(default)]
    pub(super) start: String,
    #[serde(default)]
    pub(super) end: String,
    #[serde(default)]
    pub(super) amount: String,
    #[serde(default)]
    pub(super) unit: String,
    #[serde(default)]
    pub(super) note: String,
    /// `remove` or `put_back`.
    #[serde(default, rename = "do")]
    pub(super) deed: String,
    #[serde(default)]
    pub(super) why: String,
    /// Window of the strips to go back to: first and last second.
    #[serde(default)]
    pub(super) from: String,
    #[serde(default)]
    pub(super) to: String,
}

/// A form for an event, as the page and the dialog over the strips have it.
pub(super) struct EventForm {
    pub id: i64,
    pub token: String,
    pub kinds: Vec<(&'static str, &'static str, bool)>,
    pub typed: Typed,
    pub error: Option<String>,
}

impl EventForm {
    /// An empty one, of a water given.
    pub(super) fn new(id: i64, token: &str) -> Self {
        let typed = Typed { number: secrets::code(4), unit: "mm".into(), ..Typed::default() };
        Self::of(id, token, typed, None)
    }

    fn of(id: i64, token: &str, typed: Typed, error: Option<String>) -> Self {
        let kinds = EventKind::BY_HAND.map(|k| (k.code(), k.words(), k.code() == typed.kind));
        Self { id, token: token.to_owned(), kinds: kinds.into(), typed, error }
    }
}

struct Row {
    words: String,
    when: String,
    by: String,
    link: String,
    removed: Option<String>,
    before: Vec<String>,
    number: i64,
    by_hand: bool,
    note: &'static str,
}

#[derive(Template)]
#[template(path = "rooms/record/events/events.html")]
struct EventsPage {
    shell: Shell,
    id: i64,
    station: String,
    may: bool,
    form: EventForm,
    rows: Vec<Row>,
}

#[derive(Deserialize)]
struct Asked {
    /// Number of the event that is to be corrected.
    #[serde(default)]
    event: Option<i64>,
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let (_, study) = whose(&state, *id).await?;
    let offset = study.utc_offset_minutes;
    let stories = state.store.event_stories(*id).await?;
    let wanted = asked.event.and_then(|n| stories.iter().find(|s| s.event.id == n && is_by_hand(&s.event)));
    let typed = match wanted {
        Some(story) => typed_of(&story.event, offset),
        None => EventForm::new(*id, "").typed,
    };
    shown(&state, &actor, *id, typed, None).await
}

/// An event as it stands in the fields.
fn typed_of(event: &StoredEvent, offset: i64) -> Typed {
    Typed {
        event: event.id.to_string(),
        revision: event.revision.to_string(),
        kind: event.event.kind.code().into(),
        start: field(event.event.start, offset),
        end: if event.event.end == event.event.start { String::new() } else { field(event.event.end, offset) },
        amount: event.amount.map(|a| a.to_string()).unwrap_or_default(),
        unit: event.unit.clone(),
        note: event.note.clone(),
        ..Typed::default()
    }
}

async fn whose(state: &State, id: i64) -> Result<(Station, Study), Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    Ok((station, study))
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    typed: Typed,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let (station, study) = whose(state, id).await?;
    let shell = Shell::within(state, actor, "Events", Room::Record, &study, Some(&station)).await?;
    let offset = study.utc_offset_minutes;
    let stories = state.store.event_stories(id).await?;
    page(&EventsPage {
        id,
        may: shell.may(Role::Field),
        form: EventForm::of(id, &shell.token, typed, error),
        rows: stories.into_iter().map(|s| row(s, id, offset)).collect(),
        station: station.name,
        shell,
    })
}

fn row(story: EventStory, id: i64, offset: i64) -> Row {
    let EventStory { event, removed, before } = story;
    let when = |e: &StoredEvent| match e.event.start == e.event.end {
        true => moment(e.event.start, offset),
        false => span(e.event.start, e.event.end, offset),
    };
    let by_hand = is_by_hand(&event);
    let (at, around) = (event.event.start.0, 5 * 86_400);
    Row {
        words: marks::words(&event),
        when: when(&event),
        link: format!("/stations/{id}?from={}&to={}", at - around, event.event.end.0 + around),
        number: event.id,
        by_hand,
        note: match (by_hand, event.event.kind) {
            (true, _) => "",
            (false, EventKind::OfficialStart) => "declared in the Field room",
            (false, _) => "told by a log of the Field room",
        },
        removed: removed
            .map(|(change, why)| format!("taken back by {} {}: {why}", change.by, moment(change.at, offset))),
        before: before
            .iter()
            .map(|(e, c)| {
                format!("until {} {}: {}, {} ({})", moment(c.at, offset), c.by, marks::words(e), when(e), e.by)
            })
            .collect(),
        by: event.by,
    }
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let (id, typed) = (*id, form.0);
    let (_, study) = whose(&state, id).await?;
    let hand = Change { by: actor.name().to_owned(), at: crate::state::wall_clock() };
    let done = if typed.deed.is_empty() {
        match understood(&typed, id, study.utc_offset_minutes, (state.now(&study), &hand.by)) {
            Err(says) => return shown(&state, &actor, id, typed, Some(says)).await,
            Ok(event) if event.id == 0 => state.store.add_event(id, &event).await.map(|()| "The event is kept."),
            Ok(event) => corrected(&state, id, &event, &hand).await,
        }
    } else {
        removed(&state, id, &typed, &hand).await
    };
    match done {
        Ok(says) => {
            reviewing::run(&state.store, id).await?;
            say(&actor, says)?;
            Ok(see_other(&back(&typed, id)))
        }
        Err(StoreError::Stale) => {
            let says = "Somebody changed this event meanwhile: look at the list below, and correct it anew.".to_owned();
            shown(&state, &actor, id, typed, Some(says)).await
        }
        Err(StoreError::Rule(says)) => shown(&state, &actor, id, typed, Some(says)).await,
        Err(error) => Err(error.into()),
    }
}

/// Whether an event was told by hand; a sentence if it was not.
async fn may_be_changed(state: &State, station: i64, event: i64) -> Result<(), StoreError> {
    let stories = state.store.event_stories(station).await?;
    let story = stories.iter().find(|s| s.event.id == event).ok_or(StoreError::NotFound("event"))?;
    if is_by_hand(&story.event) {
        return Ok(());
    }
    Err(StoreError::Rule("This event came of a log or was declared: correct it in the Field room.".into()))
}

async fn corrected(state: &State, id: i64, event: &StoredEvent, hand: &Change) -> Result<&'static str, StoreError> {
    may_be_changed(state, id, event.id).await?;
    state.store.correct_event(id, event, hand).await?;
    Ok("The event is corrected; what it said stays readable.")
}

async fn removed(state: &State, id: i64, typed: &Typed, hand: &Change) -> Result<&'static str, StoreError> {
    let number = typed.event.parse().map_err(|_| StoreError::NotFound("event"))?;
    may_be_changed(state, id, number).await?;
    let why = typed.why.trim();
    match typed.deed.as_str() {
        "put_back" => state.store.remove_event(id, number, hand, None).await.map(|()| "The event is back."),
        _ if why.is_empty() => Err(StoreError::Rule("Say why the event is taken back.".into())),
        _ if why.chars().count() > LONGEST_NOTE => {
            Err(StoreError::Rule(format!("The reason has at most {LONGEST_NOTE} characters: shorten it.")))
        }
        _ => {
            let done = state.store.remove_event(id, number, hand, Some(why)).await;
            done.map(|()| "The event is taken back; it stays readable, and can be put back.")
        }
    }
}

/// Where the strips were, if it was from there; else the page of events.
fn back(typed: &Typed, id: i64) -> String {
    match (typed.from.parse::<i64>(), typed.to.parse::<i64>()) {
        (Ok(from), Ok(to)) if from < to => format!("/stations/{id}?from={from}&to={to}"),
        _ => format!("/stations/{id}/events"),
    }
}

/// The event that was typed, or a sentence that says what to do.
fn understood(typed: &Typed, station: i64, offset: i64, (now, by): (UnixSeconds, &str)) -> Result<StoredEvent, String> {
    let kind = EventKind::from_code(&typed.kind).filter(|k| EventKind::BY_HAND.contains(k));
    let kind = kind.ok_or("Choose what happened.")?;
    let start = typed_time(&typed.start, offset)?;
    let end = if typed.end.trim().is_empty() { start } else { typed_time(&typed.end, offset)? };
    if end < start {
        return Err("It ends before it begins: look at both times.".into());
    }
    if start > now {
        return Err("This is still to come: tell it when it has happened.".into());
    }
    let amount = match typed.amount.trim() {
        "" => None,
        text => Some(
            read_number(text)
                .ok()
                .filter(|a| a.is_finite() && *a > 0.0)
                .ok_or_else(|| format!("“{text}” is no amount: give a number above 0, or leave it empty."))?,
        ),
    };
    let unit = typed.unit.trim();
    if amount.is_some() && unit.is_empty() {
        return Err("Give the amount its unit, such as mm.".into());
    }
    if unit.chars().count() > LONGEST_UNIT || unit.contains(char::is_control) {
        return Err(format!("A unit has at most {LONGEST_UNIT} characters."));
    }
    let note = typed.note.trim();
    if note.chars().count() > LONGEST_NOTE {
        return Err(format!("The note has at most {LONGEST_NOTE} characters: shorten it."));
    }
    // The same form sent twice is one event; gone back to and filled in anew it is another.
    let of_form = format!("{station} {} {kind:?} {start:?} {end:?} {amount:?} {unit} {note}", typed.number);
    Ok(StoredEvent {
        id: typed.event.parse().unwrap_or(0),
        event: Event { kind, start, end },
        amount,
        unit: if amount.is_some() { unit.to_owned() } else { String::new() },
        note: note.to_owned(),
        by: by.to_owned(),
        client_id: Some(format!("{HAND}{}", secrets::hash_of(&of_form))),
        revision: typed.revision.parse().unwrap_or(1),
    })
}
