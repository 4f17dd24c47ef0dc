//! A log as it stands, for the screen and for paper; a carried file read in; the official start declared.

use super::room::words;
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, moment, read_field};
use crate::shell::guard::{self, CheckedForm};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_multipart::form::MultipartForm;
use actix_multipart::form::tempfile::TempFile;
use actix_multipart::form::text::Text;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::{Built, Received, built, clock_slips, receive};
use ebrel_app::planning::StationPlan;
use ebrel_app::reviewing;
use ebrel_core::field::{Deed, Entry, Log, LogKind, StepOutcome};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::roles::Role;
use ebrel_core::units::format_short;
use ebrel_store::events::StoredEvent;
use serde::Deserialize;
use serde_json::Value;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/field/logs/{log}", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/field/logs/{log}/entries.json", Least::Member(Role::Guest), export);
    routes.get("/stations/{id}/field/carried", Least::Member(Role::Field), carried_page);
    routes.post("/stations/{id}/field/carried", Least::Member(Role::Field), carried);
    routes.post("/stations/{id}/field/official", Least::Member(Role::Researcher), official);
}

struct Line {
    at: String,
    by: String,
    what: String,
    warn: bool,
    photo: Option<String>,
}

#[derive(Template)]
#[template(path = "rooms/field/log.html")]
struct LogPage {
    shell: Shell,
    id: i64,
    log: String,
    station: String,
    what: &'static str,
    when: String,
    finished: bool,
    /// Clock checks that contradict others.
    slips: Vec<String>,
    lines: Vec<Line>,
    corrected: Vec<Line>,
    cores: Vec<String>,
    /// Probes as planned and as built, for an installation.
    built: Vec<Built>,
}

impl LogPage {
    fn cm(&self, depth: &Option<f64>) -> String {
        depth.map_or_else(|| "–".to_owned(), |d| format!("{}\u{a0}cm", format_short(d)))
    }

    fn stones(&self, row: &Built) -> String {
        row.given_up_cm.iter().map(|d| format_short(*d)).collect::<Vec<_>>().join(", ")
    }
}

async fn show(state: web::Data<State>, actor: Actor, path: web::Path<(i64, String)>) -> Result<HttpResponse, Problem> {
    let (id, number) = path.into_inner();
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let entries = state.store.field_entries(id, Some(&number)).await?;
    if entries.is_empty() {
        return Err(Problem::NotFound("log"));
    }
    let log = Log::of(&entries);
    let offset = study.utc_offset_minutes;
    let lines = |entries: &[Entry]| entries.iter().map(|e| line(e, offset)).collect::<Vec<_>>();
    let cores = log.stands.iter().filter_map(|e| match &e.deed {
        Deed::Core { tin, depth_cm, volume_cm3 } => {
            Some(format!("tin {tin}: {} cm, {} cm³", format_short(*depth_cm), format_short(*volume_cm3)))
        }
        _ => None,
    });
    let when = log.span().map_or_else(String::new, |(a, b)| format!("{} to {}", moment(a, offset), moment(b, offset)));
    let title = format!("{} at {}", words(log.kind()), station.name);
    page(&LogPage {
        shell: Shell::within(&state, &actor, &title, Room::Field, &study, Some(&station)).await?,
        id,
        station: station.name.clone(),
        what: words(log.kind()),
        when,
        finished: log.is_closed(),
        slips: clock_slips(&state.store, id, &log).await?.into_iter().map(|s| s.1).collect(),
        lines: lines(&log.stands),
        corrected: lines(&log.corrected),
        built: match log.kind() {
            Some(LogKind::Installation) => built(&StationPlan::load(&state.store, id).await?, &log),
            Some(LogKind::Visit | LogKind::Round | LogKind::Removal) | None => Vec::new(),
        },
        cores: cores.collect(),
        log: number,
    })
}

fn line(entry: &Entry, offset: i64) -> Line {
    let short = |v: f64| format_short(v);
    let mut warn = false;
    let mut photo = None;
    let what = match &entry.deed {
        Deed::Begun { .. } => "Begun.".to_owned(),
        Deed::Closed => "Finished.".to_owned(),
        Deed::Step { step, does, outcome, note } => {
            let what = if does.is_empty() { step } else { does };
            warn = *outcome == StepOutcome::Skipped;
            if warn { format!("Left out ({note}): {what}") } else { format!("✓ {what} {note}").trim_end().to_owned() }
        }
        Deed::Horizon { name, top_cm, bottom_cm, texture } => {
            format!("Horizon {name}: {} to {} cm, {texture}", short(*top_cm), short(*bottom_cm))
        }
        Deed::Hole { number, depth_cm } => format!("Hole {number}: {} cm along it", short(*depth_cm)),
        Deed::Core { tin, depth_cm, .. } => format!("Core in tin {tin} at {} cm", short(*depth_cm)),
        Deed::Probe { serial, depth_cm, given_up: true, .. } => {
            warn = true;
            format!("{serial}: stone or root at {} cm, a new hole", short(*depth_cm))
        }
        Deed::Probe { serial, depth_cm, port, orientation, repacked, .. } => {
            let seat = if *repacked { ", repacked seat" } else { "" };
            format!("{serial} at {} cm, port {port}, {orientation}{seat}", short(*depth_cm))
        }
        Deed::Reading { serial, repeats, said } => {
            let values: Vec<String> = repeats.iter().map(|r| short(*r)).collect();
            format!("{serial} read {}. {said}", values.join(", "))
        }
        Deed::Layer { name, kg } => format!("{name}: {} kg put back", short(*kg)),
        Deed::Channel { port, value } => format!("Port {port} through the logger: {}", short(*value)),
        Deed::Clock { node, check } => {
            let set = if check.set { ", set right" } else { "" };
            format!("Clock of {node}: {} s ahead{set}", check.ahead().0)
        }
        Deed::Spot { point, value: Some(value), .. } => format!("{point}: {}", short(*value)),
        Deed::Spot { point, not_reached, .. } => {
            warn = true;
            format!("{point}: not reached, {not_reached}")
        }
        Deed::Removed { serial, condition, lost } => {
            warn = *lost;
            format!("{serial} {}. {condition}", if *lost { "not found" } else { "taken out" })
        }
        Deed::Photo { sha256, caption } => {
            photo = Some(sha256.clone());
            if caption.is_empty() { "Photograph".to_owned() } else { caption.clone() }
        }
        Deed::Repair { of, note } => format!("{}: {note}", of.words()),
        Deed::Note { text } => text.clone(),
    };
    Line { at: moment(entry.at, offset), by: entry.by.clone(), what, warn, photo }
}

async fn export(state: web::Data<State>, path: web::Path<(i64, String)>) -> Result<HttpResponse, Problem> {
    let (id, number) = path.into_inner();
    let entries = state.store.field_entries(id, Some(&number)).await?;
    let body = serde_json::json!({"format": "ebrel-field-entries", "version": 1, "entries": entries});
    let text = serde_json::to_string_pretty(&body).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(attachment("application/json", &format!("log-{number}.json"), text))
}

#[derive(Template)]
#[template(path = "rooms/field/carried.html")]
struct CarriedPage {
    shell: Shell,
    id: i64,
    station: String,
    /// The form of the official start, as it was typed.
    official: OfficialStart,
    taken: Option<(usize, usize)>,
    refused: Vec<Received>,
    error: Option<String>,
}

async fn carried_page(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show_carried(&state, &actor, *id, None, None, None).await
}

async fn show_carried(
    state: &State,
    actor: &Actor,
    id: i64,
    answers: Option<Vec<Received>>,
    official: Option<OfficialStart>,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let taken = answers.as_ref().map(|a| (a.iter().filter(|r| r.kept).count(), a.len()));
    let refused = answers.into_iter().flatten().filter(|a| !a.kept).collect();
    let shell = Shell::within(state, actor, "Carried entries", Room::Field, &study, Some(&station)).await?;
    let now = || OfficialStart { at: field(state.now(&study), study.utc_offset_minutes), why: String::new() };
    page(&CarriedPage {
        shell,
        id,
        station: station.name,
        official: official.unwrap_or_else(now),
        taken,
        refused,
        error,
    })
}

#[derive(MultipartForm)]
struct CarriedForm {
    token: Text<String>,
    file: TempFile,
}

/// The largest carried file, bytes.
const LARGEST: usize = 20 * 1024 * 1024;

async fn carried(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: MultipartForm<CarriedForm>,
) -> Result<HttpResponse, Problem> {
    let form = form.into_inner();
    guard::matches(actor.session(), &form.token)?;
    let entries = read_carried(&form.file);
    let entries = match entries {
        Ok(entries) => entries,
        Err(error) => return show_carried(&state, &actor, *id, None, None, Some(error)).await,
    };
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let answers = receive(&state.store, *id, &entries, actor.name(), state.now(&study)).await?;
    show_carried(&state, &actor, *id, Some(answers), None, None).await
}

/// The entries of a carried file, or a sentence that says what is wrong with it.
fn read_carried(file: &TempFile) -> Result<Vec<Value>, String> {
    if file.size > LARGEST {
        return Err("A carried file has at most 20 MB; this is another file.".into());
    }
    let text = std::fs::read_to_string(file.file.path())
        .map_err(|_| "This file is no text: choose the one that the phone carried.".to_owned())?;
    let json: Value = serde_json::from_str(&text).map_err(|e| {
        format!("This file breaks off or is damaged ({e}). The entries are still on the phone: carry them again.")
    })?;
    if json.get("format").and_then(Value::as_str) != Some("ebrel-field-entries") {
        return Err("This is no file of field entries: choose the one that the phone carried.".into());
    }
    Ok(json.get("entries").and_then(Value::as_array).cloned().unwrap_or_default())
}

/// The longest reason, characters.
const LONGEST_WHY: usize = 500;

#[derive(Deserialize)]
struct OfficialStart {
    #[serde(default)]
    at: String,
    #[serde(default)]
    why: String,
}

async fn official(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<OfficialStart>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let read = read_field(&form.0.at, study.utc_offset_minutes);
    let wrong = match read {
        None => Some(format!("“{}” is no date and time: write it like 2026-05-01 06:00.", form.0.at.trim())),
        Some(at) if at > state.now(&study) => {
            Some("This is still to come: declare it when the record counts, not before.".to_owned())
        }
        Some(_) if form.0.why.trim().chars().count() > LONGEST_WHY => {
            Some(format!("The reason has at most {LONGEST_WHY} characters: shorten it."))
        }
        Some(_) if form.0.why.trim().is_empty() => {
            Some("Say why the record counts from there: settled, wetted, checked against what?".to_owned())
        }
        Some(_) => None,
    };
    let (Some(at), None) = (read, &wrong) else {
        return show_carried(&state, &actor, *id, None, Some(form.0), wrong).await;
    };
    let event = StoredEvent {
        event: Event { kind: EventKind::OfficialStart, start: at, end: at },
        amount: None,
        unit: String::new(),
        note: form.0.why.trim().to_owned(),
        by: actor.name().to_owned(),
        client_id: None,
        revision: 1,
    };
    state.store.add_event(*id, &event).await?;
    reviewing::run(&state.store, *id).await?;
    say(
        &actor,
        &format!(
            "The record of {} counts from {}; what was before stays.",
            station.name,
            moment(at, study.utc_offset_minutes)
        ),
    )?;
    Ok(see_other(&format!("/studies/{}/field", study.id)))
}
