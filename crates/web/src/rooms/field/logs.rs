//! A log as it stands, for the screen and for paper, with the soil that it saw; a carried file read in.

use super::room::words;
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::forms::words as typed_words;
use crate::shell::guard::{self, CheckedForm};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_multipart::form::MultipartForm;
use actix_multipart::form::tempfile::TempFile;
use actix_multipart::form::text::Text;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::{Built, Received, SoilOfLog, built, clock_slips, decide_soil, receive, soil_of};
use ebrel_app::planning::StationPlan;
use ebrel_app::reviewing;
use ebrel_core::field::{Deed, Entry, Log, LogKind, StepOutcome};
use ebrel_core::roles::Role;
use ebrel_core::units::format_short;
use serde::Deserialize;
use serde_json::Value;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/field/logs/{log}", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/field/logs/{log}/entries.json", Least::Member(Role::Guest), export);
    routes.get("/stations/{id}/field/carried", Least::Member(Role::Field), carried_page);
    routes.post("/stations/{id}/field/carried", Least::Member(Role::Field), carried);
    routes.post("/stations/{id}/field/soil", Least::Member(Role::Researcher), soil);
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
    /// Horizons as seen against the plan, for an installation that saw any.
    soil: Option<SoilOfLog>,
    /// Whether that soil is the station's, and who says so.
    soil_stands: Option<(bool, String)>,
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
    let (mut rows, mut soil) = (Vec::new(), None);
    if log.kind() == Some(LogKind::Installation) {
        let plan = StationPlan::load(&state.store, id).await?;
        rows = built(&plan, &log);
        soil = Some(soil_of(&state.store, &plan, &log).await?).filter(|s| !s.seen.horizons().is_empty());
    }
    let decided = soil.as_ref().and_then(|s| s.decided.as_ref()).filter(|d| d.log == number);
    let soil_stands = decided.map(|d| (d.stands, format!("{}, {}: {}", moment(d.at, offset), d.by, d.why)));
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
        built: rows,
        soil,
        soil_stands,
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
        Deed::Removed { serial, condition, lost, refused } => {
            warn = *lost || *refused;
            let how = match (lost, refused) {
                (true, _) => "not found",
                (_, true) => "taken out, not fit to go out again",
                (..) => "taken out",
            };
            format!("{serial} {how}. {condition}")
        }
        Deed::Photo { sha256, caption, taken, place } => {
            photo = Some(sha256.clone());
            let what = if caption.is_empty() { "Photograph" } else { caption };
            let when = if taken.is_empty() { String::new() } else { format!(", taken {taken}") };
            let at = place.map_or_else(String::new, |[a, b]| format!(", at {a:.5}°, {b:.5}°"));
            format!("{what}{when}{at}")
        }
        Deed::Repair { of, note } => format!("{}: {note}", of.words()),
        Deed::Note { text } => text.clone(),
    };
    Line { at: moment(entry.at, offset), by: entry.by.clone(), what, warn, photo }
}

async fn export(state: web::Data<State>, path: web::Path<(i64, String)>) -> Result<HttpResponse, Problem> {
    let (id, number) = path.into_inner();
    let entries = state.store.field_entries(id, Some(&number)).await?.into_iter();
    let entries: Vec<Entry> = entries.map(|e| Entry { deed: e.deed.without_place(), ..e }).collect();
    let body = serde_json::json!({"format": "ebrel-field-entries", "version": 1, "entries": entries});
    let text = serde_json::to_string_pretty(&body).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(attachment("application/json", &format!("log-{number}.json"), text))
}

#[derive(Deserialize)]
struct SoilDecision {
    #[serde(default)]
    log: String,
    #[serde(default)]
    stands: String,
    #[serde(default)]
    why: String,
}

/// Goes back to the plan's soil, or to that which was seen.
async fn soil(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<SoilDecision>,
) -> Result<HttpResponse, Problem> {
    let why = typed_words(&form.0.why, "the reason", 200).map_err(Problem::Refused)?;
    let station = state.store.station(*id).await?;
    let now = state.now(&state.store.study(station.study_id).await?);
    decide_soil(&state.store, *id, form.0.stands == "seen", (actor.name(), &why), now).await?;
    reviewing::run(&state.store, *id).await?;
    say(
        &actor,
        &format!(
            "The soil of {} is the one {} now.",
            station.name,
            if form.0.stands == "seen" { "that was seen" } else { "of its plan" }
        ),
    )?;
    Ok(see_other(&format!("/stations/{}/field/logs/{}", *id, form.0.log)))
}

#[derive(Template)]
#[template(path = "rooms/field/carried.html")]
struct CarriedPage {
    shell: Shell,
    id: i64,
    station: String,
    taken: Option<(usize, usize)>,
    refused: Vec<Received>,
    error: Option<String>,
}

async fn carried_page(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show_carried(&state, &actor, *id, None, None).await
}

async fn show_carried(
    state: &State,
    actor: &Actor,
    id: i64,
    answers: Option<Vec<Received>>,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let taken = answers.as_ref().map(|a| (a.iter().filter(|r| r.kept).count(), a.len()));
    let refused = answers.into_iter().flatten().filter(|a| !a.kept).collect();
    let shell = Shell::within(state, actor, "Carried entries", Room::Field, &study, Some(&station)).await?;
    page(&CarriedPage { shell, id, station: station.name, taken, refused, error })
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
        Err(error) => return show_carried(&state, &actor, *id, None, Some(error)).await,
    };
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let answers = receive(&state.store, *id, &entries, actor.name(), state.now(&study)).await?;
    show_carried(&state, &actor, *id, Some(answers), None).await
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
