//! Landmarks of a site, entered by bearing and distance or by coordinates, and the site as GeoJSON, in and out.

use super::site_plan::{SitePlan, site_plan};
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::forms::words;
use crate::shell::guard::{self, CheckedForm};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_multipart::form::MultipartForm;
use actix_multipart::form::tempfile::TempFile;
use actix_multipart::form::text::Text;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::{MOST_LANDMARKS, SiteTaken, found_again, marks, place_of, points, take_site, walks};
use ebrel_core::field::{LandmarkKind, Way, check_place};
use ebrel_core::quality::Place;
use ebrel_core::roles::Role;
use ebrel_core::units::read_number;
use ebrel_formats::site;
use ebrel_store::landmarks::Landmark;
use ebrel_store::stations::Station;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/field/site", Least::Member(Role::Guest), show);
    routes.get("/studies/{id}/field/site.geojson", Least::Member(Role::Guest), geojson);
    routes.post("/studies/{id}/field/site", Least::Member(Role::Researcher), take_file);
    routes.post("/studies/{id}/field/landmarks", Least::Member(Role::Field), keep);
    routes.post("/studies/{id}/field/landmarks/{landmark}/remove", Least::Member(Role::Field), remove);
}

/// The longest name and the longest note, characters.
const LONGEST_NAME: usize = 80;
/// Farther than this nobody measures by tape or pace, m.
const FARTHEST_M: f64 = 20_000.0;
/// The largest file of a site, bytes.
const LARGEST: usize = 5 * 1024 * 1024;

#[derive(Deserialize, Default)]
struct Typed {
    #[serde(default)]
    name: String,
    #[serde(default)]
    kind: String,
    #[serde(default)]
    note: String,
    /// Number of the station that it was measured from.
    #[serde(default)]
    from: String,
    #[serde(default)]
    metres: String,
    #[serde(default)]
    bearing: String,
    #[serde(default)]
    latitude: String,
    #[serde(default)]
    longitude: String,
}

struct Row {
    id: i64,
    name: String,
    kind: LandmarkKind,
    at: String,
    note: String,
}

#[derive(Template)]
#[template(path = "rooms/field/site.html")]
struct SitePage {
    shell: Shell,
    study: i64,
    answer: String,
    plan: Option<SitePlan>,
    landmarks: Vec<Row>,
    /// Stations with a place, to measure from: number and name.
    stations: Vec<(i64, String)>,
    ways: Vec<(String, Vec<String>)>,
    /// Rounds in the order in which they are walked: the station, what there is to say, and the way to each point.
    rounds: Vec<(String, String, Vec<String>)>,
    /// Serials that a point may be called by.
    serials: Vec<String>,
    typed: Typed,
    error: Option<String>,
    taken: Option<SiteTaken>,
    /// Landmarks and points that a study keeps.
    most: usize,
}

impl SitePage {
    fn is_from(&self, id: &i64) -> bool {
        self.typed.from == id.to_string()
    }
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *id, Typed::default(), None, None).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    typed: Typed,
    error: Option<String>,
    taken: Option<SiteTaken>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(id).await?;
    let stations = state.store.stations(id).await?;
    let landmarks = state.store.landmarks(id).await?;
    let placed: Vec<&Station> = stations.iter().filter(|s| place_of(s).is_some()).collect();
    let walks = walks(&state.store, &stations, &landmarks).await?;
    let answer = match (placed.len(), marks(&landmarks).count()) {
        (0, _) if walks.is_empty() => {
            "No station has a place yet: give coordinates in its plan, or read a file in.".to_owned()
        }
        (n, 0) => format!("{n} of {} stations have a place; no landmark is entered.", stations.len()),
        (n, m) => format!("{n} of {} stations have a place; {m} landmarks.", stations.len()),
    };
    let walked: usize = walks.iter().map(|w| w.points.len()).sum();
    let answer = match walked {
        0 => answer,
        n => format!("{answer} A round walks past {n} points."),
    };
    let ways = placed.iter().map(|s| (s.name.clone(), found_again(s, &landmarks)));
    let ways = ways.filter(|w| !w.1.is_empty()).collect();
    let plan = site_plan(&stations, &landmarks, &walks);
    let rounds = walks.iter().map(|w| {
        let points = w.points.iter().zip(w.ways()).map(|((label, _), way)| format!("{label}: {way}"));
        let says = format!("{} points, {:.0} m", w.points.len(), w.metres());
        (w.station.clone(), says, points.collect())
    });
    let rounds = rounds.collect();
    let serials = state.store.probes().await?.into_iter().map(|p| p.serial).collect();
    let rows = landmarks.into_iter().map(|l| Row {
        id: l.id,
        at: format!("{:.5}°, {:.5}°", l.place.latitude, l.place.longitude),
        name: l.name,
        kind: l.kind,
        note: l.note,
    });
    page(&SitePage {
        shell: Shell::within(state, actor, "The site", Room::Field, &study, None).await?,
        study: id,
        answer,
        plan,
        landmarks: rows.collect(),
        stations: placed.iter().map(|s| (s.id, s.name.clone())).collect(),
        ways,
        rounds,
        serials,
        typed,
        error,
        taken,
        most: MOST_LANDMARKS,
    })
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let stations = state.store.stations(*id).await?;
    let known = state.store.landmarks(*id).await?;
    let another = known.len() >= MOST_LANDMARKS && known.iter().all(|l| l.name != typed.name.trim());
    let full = || format!("This study has {MOST_LANDMARKS} landmarks: take one away first.");
    let landmark = match read(&typed, &stations, actor.name()).and_then(|l| if another { Err(full()) } else { Ok(l) }) {
        Ok(landmark) => landmark,
        Err(says) => return shown(&state, &actor, *id, typed, Some(says), None).await,
    };
    let mut unit = state.store.unit().await?;
    unit.keep_landmark(*id, &landmark).await?;
    unit.commit().await?;
    say(&actor, &format!("“{}” is on the plan.", landmark.name))?;
    Ok(see_other(&format!("/studies/{}/field/site", *id)))
}

/// A landmark as it is typed: by coordinates, or by the way from a station.
fn read(typed: &Typed, stations: &[Station], by: &str) -> Result<Landmark, String> {
    let name = words(&typed.name, "the landmark a name", LONGEST_NAME)?;
    let note = typed.note.trim().to_owned();
    if note.chars().count() > LONGEST_NAME {
        return Err(format!("Shorten the note to {LONGEST_NAME} characters."));
    }
    let kind = LandmarkKind::from_code(&typed.kind).unwrap_or(LandmarkKind::Landmark);
    let given = |text: &str| !text.trim().is_empty();
    let number = |text: &str, what: &str| read_number(text).map_err(|e| format!("The {what}: {e}."));
    let place = match (given(&typed.latitude) || given(&typed.longitude), given(&typed.metres) || given(&typed.bearing))
    {
        (true, true) => return Err("Give either coordinates or a bearing and a distance, not both.".into()),
        (true, false) => {
            let (latitude, longitude) = (number(&typed.latitude, "latitude")?, number(&typed.longitude, "longitude")?);
            check_place(latitude, longitude).map_err(|e| format!("The place: {e}."))?
        }
        (false, true) => from_station(typed, stations, number)?,
        (false, false) => return Err("Say where it stands: by coordinates, or by bearing and distance.".into()),
    };
    Ok(Landmark { id: 0, name, kind, place, note, by: by.to_owned() })
}

fn from_station(
    typed: &Typed,
    stations: &[Station],
    number: impl Fn(&str, &str) -> Result<f64, String>,
) -> Result<Place, String> {
    let from = stations.iter().find(|s| s.id.to_string() == typed.from).and_then(place_of);
    let from = from.ok_or("Choose the station that it was measured from: one with a place.")?;
    let (metres, bearing_deg) = (number(&typed.metres, "distance")?, number(&typed.bearing, "bearing")?);
    if !(0.0..=FARTHEST_M).contains(&metres) {
        return Err(format!("A distance lies between 0 and {FARTHEST_M} m."));
    }
    if !(0.0..=360.0).contains(&bearing_deg) {
        return Err("A bearing lies between 0 and 360°, from true north by east.".into());
    }
    Ok(Way { metres, bearing_deg }.leads_to(from))
}

async fn remove(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    _form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let (id, landmark) = path.into_inner();
    if !state.store.remove_landmark(id, landmark).await? {
        return Err(Problem::NotFound("landmark"));
    }
    say(&actor, "The landmark is off the plan.")?;
    Ok(see_other(&format!("/studies/{id}/field/site")))
}

#[derive(MultipartForm)]
struct FileForm {
    token: Text<String>,
    file: TempFile,
}

async fn take_file(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: MultipartForm<FileForm>,
) -> Result<HttpResponse, Problem> {
    let form = form.into_inner();
    guard::matches(actor.session(), &form.token)?;
    let read = if form.file.size > LARGEST {
        Err("A file of the site has at most 5 MB; this is another file.".to_owned())
    } else {
        let text = std::fs::read_to_string(form.file.file.path());
        let text = text.map_err(|_| "This file is no text: choose a GeoJSON file.".to_owned());
        text.and_then(|t| site::read(&t).map_err(|e| e.to_string()))
    };
    let site = match read {
        Ok(site) => site,
        Err(says) => return shown(&state, &actor, *id, Typed::default(), Some(says), None).await,
    };
    let now = state.now(&state.store.study(*id).await?);
    let taken = take_site(&state.store, *id, &site, actor.name(), now).await?;
    shown(&state, &actor, *id, Typed::default(), None, Some(taken)).await
}

/// The site as points; a station without a place is left out, and named in the collection.
async fn geojson(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let (stations, landmarks) = (state.store.stations(*id).await?, state.store.landmarks(*id).await?);
    let (points, nowhere) = points(&stations, &landmarks);
    Ok(attachment("application/geo+json", "site.geojson", site::write(&study.name, &points, &nowhere)))
}
