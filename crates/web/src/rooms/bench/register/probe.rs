//! One probe's page: where it was, its calibrations with their drift, its life.

use super::{known, place_words};
use crate::rooms::bench::run::stations_of;
use crate::rooms::bench::temperature::correction_words;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment, signed};
use crate::shell::forms::at_most;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, probe_address, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::reviewing;
use ebrel_core::calibration::{Drift, drift};
use ebrel_core::register::EventKind;
use ebrel_core::roles::Role;
use ebrel_store::Store;
use ebrel_store::calibrations::{Adopted, Retirement, Subject};
use ebrel_store::probes::Probe;
use ebrel_store::register::{ProbeEvent, ProbePlace};
use ebrel_store::studies::Study;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/probes/{serial}", Least::SignedIn, show);
    routes.post("/probes/{serial}", Least::Somewhere(Role::Field), note);
    routes.post("/calibrations/{id}/retire", Least::Somewhere(Role::Researcher), retire);
}

/// A calibration in the probe's list.
struct CalibrationRow {
    id: i64,
    version: i64,
    statement: String,
    when: String,
    with: String,
    retired: String,
}

impl CalibrationRow {
    fn of(c: &Adopted, offset: i64) -> Self {
        let mut with: Vec<String> = Vec::new();
        if let Subject::Model(_) = c.subject {
            with.push(format!("for every probe of the model in {}", c.made_with.soil));
        } else if !c.made_with.soil.is_empty() {
            with.push(c.made_with.soil.clone());
        }
        with.extend(c.made_with.density.map(|d| format!("{} g/cm³", fixed(d, 2))));
        if !c.made_with.logger.is_empty() {
            with.push(format!("read with {}", c.made_with.logger));
        }
        with.push(format!("holds from {} to {} raw", fixed(c.curve.x_min, 0), fixed(c.curve.x_max, 0)));
        let retired = c.retired.as_ref().map(|r| {
            let why = if r.why.is_empty() { String::new() } else { format!(": {}", r.why) };
            format!("retired {} by {}{why}", moment(r.at, offset), r.by)
        });
        Self {
            id: c.id,
            version: c.version,
            statement: c.statement.clone(),
            when: format!("from {}, by {}", moment(c.valid_from, offset), c.adopted_by),
            with: with.join(", "),
            retired: retired.unwrap_or_default(),
        }
    }
}

/// What lies between two versions.
struct DriftRow {
    sentence: String,
    points: Vec<[String; 4]>,
}

/// Drift between versions in force that follow each other by date, the latest first.
fn drifts(all: &[Adopted]) -> Vec<DriftRow> {
    let mut in_force: Vec<&Adopted> = all.iter().filter(|c| c.retired.is_none()).collect();
    in_force.sort_by_key(|c| c.valid_from);
    let pairs = in_force.windows(2).rev();
    pairs.map(|w| drift_row(w[0], w[1], drift(&w[0].dated(), &w[1].dated()))).collect()
}

fn drift_row(earlier: &Adopted, later: &Adopted, found: Option<Drift>) -> DriftRow {
    let names = format!("version {} to {}", earlier.version, later.version);
    let Some(d) = found else {
        return DriftRow {
            sentence: format!("From {names} nothing can be told: their samples have no raw outputs in common."),
            points: Vec::new(),
        };
    };
    let yearly = d.per_year().filter(|_| d.is_real());
    let yearly = yearly.map(|y| format!(" On average {} m³/m³ a year.", signed(y, 3))).unwrap_or_default();
    let points = d.at.iter().map(|p| {
        let half = p.half_width.map(|h| format!(" ± {}", fixed(h, 3))).unwrap_or_default();
        [fixed(p.raw, 0), fixed(p.before, 3), fixed(p.after, 3), signed(p.difference(), 3) + &half]
    });
    DriftRow { sentence: format!("From {names}: {}{yearly}", d.sentence()), points: points.collect() }
}

#[derive(Deserialize)]
struct Why {
    #[serde(default)]
    why: String,
    #[serde(default)]
    serial: String,
}

/// Takes a calibration out of use, with the reason.
async fn retire(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Why>,
) -> Result<HttpResponse, Problem> {
    let by = actor.name().to_owned();
    let calibration = state.store.calibration(*id).await?;
    let why = at_most(&form.0.why, "the reason", 200)?;
    let back = probe_address(form.0.serial.trim());
    if why.is_empty() {
        say(&actor, "Not retired: say why, so that it can be understood years later.")?;
        return Ok(see_other(&back));
    }
    let places = match calibration.subject {
        Subject::Probe(probe) => state.store.probe_places(Some(probe)).await?,
        Subject::Model(_) => Vec::new(),
    };
    let places: Vec<ProbePlace> = places.into_iter().map(|(_, place)| place).collect();
    let study = study_of(&state.store, &places).await?;
    state.store.retire(*id, &Retirement { at: state.now(&study), by, why }).await?;
    for study in state.store.studies().await? {
        for station in stations_of(&state.store, study.id, &calibration.subject).await? {
            reviewing::run(&state.store, station).await?;
        }
    }
    say(&actor, &format!("Version {} is retired. It stays on record; no reading was changed.", calibration.version))?;
    Ok(see_other(&back))
}

struct LifeRow {
    at: String,
    what: String,
    note: String,
    by: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/register/probe.html")]
struct ProbePage {
    shell: Shell,
    probe: Probe,
    answer: String,
    usable: bool,
    blockers: Vec<&'static str>,
    places: Vec<(i64, String, String)>,
    life: Vec<LifeRow>,
    calibrations: Vec<CalibrationRow>,
    drifts: Vec<DriftRow>,
    contradictions: Vec<String>,
    corrections: Vec<(String, bool)>,
    runs: Vec<(i64, String)>,
    planned: Vec<(i64, String)>,
    kinds: Vec<(&'static str, &'static str)>,
}

async fn one(store: &Store, serial: &str) -> Result<Probe, Problem> {
    let probes = store.probes().await?;
    probes.into_iter().find(|p| p.serial.eq_ignore_ascii_case(serial)).ok_or(Problem::NotFound("probe"))
}

/// The study whose rooms a probe's page stands in: where it lies, or the first.
async fn study_of(store: &Store, places: &[ProbePlace]) -> Result<Study, Problem> {
    match places.first() {
        Some(place) => Ok(store.study(place.study_id).await?),
        None => store.studies().await?.into_iter().next().ok_or(Problem::NotFound("study")),
    }
}

async fn show(state: web::Data<State>, actor: Actor, serial: web::Path<String>) -> Result<HttpResponse, Problem> {
    let planned = planned(&state.store, &serial).await?;
    let probe = match one(&state.store, &serial).await {
        Ok(probe) => probe,
        // A label may be printed before its probe is in the register: the plan knows it.
        Err(Problem::NotFound(_)) if !planned.is_empty() => {
            return Ok(see_other(&format!("/stations/{}/plan/depths", planned[0].0)));
        }
        Err(other) => return Err(other),
    };
    let mut known = known(&state.store, std::slice::from_ref(&probe)).await?;
    let known = known.pop().ok_or(Problem::NotFound("probe"))?;
    let study = study_of(&state.store, &known.places).await?;
    let offset = study.utc_offset_minutes;
    let life = known.events.iter().rev().map(|e| LifeRow {
        at: moment(e.at, offset),
        what: e.kind.words().to_owned(),
        note: e.note.clone(),
        by: e.by.clone(),
    });
    let places = known.places.iter().map(|p| {
        let ends = p.ends.map_or_else(|| "still there".to_owned(), |t| format!("until {}", moment(t, offset)));
        (p.station_id, place_words(p), format!("from {}, {ends}", moment(p.starts, offset)))
    });
    let all = state.store.calibrations(&Subject::Probe(probe.id)).await?;
    let general = state.store.calibrations(&Subject::Model(probe.model.clone())).await?;
    let corrections = state.store.corrections(probe.id).await?;
    let corrections = corrections.iter().map(|c| (correction_words(c, offset), c.withdrawn.is_none()));
    let drifts = drifts(&all);
    let mut contradictions = Vec::new();
    for place in &known.places {
        let profile = state.store.profile(place.station_id).await?;
        let soil = place.depth_cm.and_then(|d| profile.at(d));
        let history = state.store.history(probe.id, &probe.model, soil).await?;
        contradictions.extend(history.contradictions().iter().map(|at| {
            format!(
                "Two calibrations for its soil at {} begin at the same moment ({}): the one adopted last is taken. Retire the other.",
                place_words(place),
                moment(*at, offset)
            )
        }));
    }
    let calibrations = all.iter().chain(&general).map(|c| CalibrationRow::of(c, offset)).collect();
    let runs = state.store.runs(study.id).await?.into_iter().filter(|r| r.probe_id == Some(probe.id));
    let answer = match (known.fitness.usable, known.places.iter().find(|p| p.ends.is_none())) {
        (true, Some(place)) => format!("Can be trusted; it lies at {}.", place_words(place)),
        (true, None) => "Ready for use; it is on the shelf.".to_owned(),
        (false, Some(place)) => format!("Lies at {}, but is not to be trusted yet.", place_words(place)),
        (false, None) => "On the shelf, and not to be trusted yet.".to_owned(),
    };
    let shell = Shell::within(&state, &actor, &probe.serial, Room::Bench, &study, None).await?;
    page(&ProbePage {
        shell,
        answer,
        usable: known.fitness.usable,
        blockers: known.fitness.blockers,
        places: places.collect(),
        life: life.collect(),
        calibrations,
        drifts,
        contradictions,
        corrections: corrections.collect(),
        runs: runs.map(|r| (r.id, r.title)).collect(),
        planned,
        kinds: EventKind::ALL.iter().map(|k| (k.code(), k.words())).collect(),
        probe,
    })
}

/// Stations whose plan names a serial.
async fn planned(store: &Store, serial: &str) -> Result<Vec<(i64, String)>, Problem> {
    let mut found = Vec::new();
    for study in store.studies().await? {
        for station in store.stations(study.id).await? {
            let body = store.plan(station.id).await?.map(|p| p.body).unwrap_or_default();
            let draft: ebrel_core::planning::Draft = serde_json::from_str(&body).unwrap_or_default();
            if draft.probes.iter().any(|p| p.serial.eq_ignore_ascii_case(serial)) {
                found.push((station.id, station.name));
            }
        }
    }
    Ok(found)
}

#[derive(Deserialize)]
struct Noted {
    #[serde(default)]
    kind: String,
    #[serde(default)]
    note: String,
}

async fn note(
    state: web::Data<State>,
    actor: Actor,
    serial: web::Path<String>,
    form: CheckedForm<Noted>,
) -> Result<HttpResponse, Problem> {
    let by = actor.name().to_owned();
    let probe = one(&state.store, &serial).await?;
    let kind = EventKind::from_code(&form.0.kind)
        .ok_or_else(|| Problem::Refused("Choose what happened to the probe.".into()))?;
    let places: Vec<ProbePlace> =
        state.store.probe_places(Some(probe.id)).await?.into_iter().map(|(_, place)| place).collect();
    let at = state.now(&study_of(&state.store, &places).await?);
    let note = at_most(&form.0.note, "the note", 500)?;
    state.store.add_probe_event(probe.id, &ProbeEvent { at, kind, note, by }).await?;
    say(&actor, &format!("{}: {} is noted.", probe.serial, kind.words()))?;
    Ok(see_other(&probe_address(&probe.serial)))
}
