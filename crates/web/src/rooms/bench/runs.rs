//! The list of calibrations, and beginning one.

use crate::rooms::bench::run::answer_of;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, moment};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::came_back;
use ebrel_core::bench::{RunDraft, SampleRow, School};
use ebrel_core::field::{Deed, Entry, Log};
use ebrel_core::roles::Role;
use ebrel_core::units::{Principle, Quantity, format_short};
use ebrel_store::calibrations::Subject;
use ebrel_store::members::Within;
use ebrel_store::probes::Probe;
use ebrel_store::runs::Run;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/bench", Least::Member(Role::Guest), list);
    routes.post("/studies/{id}/bench", Least::Member(Role::Researcher), begin);
}

struct RunRow {
    id: i64,
    title: String,
    answer: String,
    look: usize,
}

struct ProbeRow {
    serial: String,
    model: String,
    state: String,
    calibrated: bool,
}

#[derive(Template)]
#[template(path = "rooms/bench/runs.html")]
struct RunsPage {
    shell: Shell,
    study: i64,
    answer: String,
    runs: Vec<RunRow>,
    probes: Vec<ProbeRow>,
    serials: Vec<Probe>,
    thermometers: Vec<String>,
    sheets: Vec<(String, String)>,
    stations: Vec<(i64, String)>,
    /// Probes that came back from the field and want a look, and lost ones: serial and what was said.
    back: Vec<(String, String)>,
    lost: Vec<(String, String)>,
}

async fn list(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let runs = state.store.runs(*id).await?;
    let mut rows = Vec::new();
    for r in runs {
        let (answer, look) = answer_of(&state.store, &r).await?;
        rows.push(RunRow { answer, look, id: r.id, title: r.title });
    }
    let all = state.store.probes().await?;
    let thermometers = all.iter().filter(|p| p.principle == Principle::Thermometer).map(|p| p.serial.clone()).collect();
    let dielectric: Vec<Probe> = all.into_iter().filter(|p| p.principle == Principle::Dielectric).collect();
    let sheets = state.store.sheets(*id).await?.into_iter();
    let sheets = sheets.map(|s| (format!("/bench/{}/{}", s.kind, s.id), s.title)).collect();
    let mut stations = Vec::new();
    for station in state.store.stations(*id).await? {
        let bare = |s: &ebrel_store::streams::Stream| s.quantity == Quantity::BareAirTemperature;
        if state.store.streams(station.id).await?.iter().any(bare) {
            stations.push((station.id, station.name));
        }
    }
    let in_force = state.store.calibrations_in_force().await?;
    let served = state.store.served_now(&in_force).await?;
    let probes = dielectric.iter().map(|p| {
        let serves = served.get(&p.id);
        let told = serves.map_or_else(
            || "raw output: no calibration is adopted".to_owned(),
            |c| {
                let whose = match c.subject {
                    Subject::Probe(_) => format!("version {}", c.version),
                    Subject::Model(_) => format!("its model's, in {}", c.made_with.soil),
                };
                let from = moment(c.valid_from, study.utc_offset_minutes);
                format!("{whose}: {}; valid from {from}", c.statement.trim_end_matches('.'))
            },
        );
        ProbeRow { serial: p.serial.clone(), model: p.model.clone(), state: told, calibrated: serves.is_some() }
    });
    let probes: Vec<ProbeRow> = probes.collect();
    let without = probes.iter().filter(|p| !p.calibrated).count();
    let answer = match (probes.len(), without) {
        (0, _) => "No dielectric probe is known yet: import a logger file first.".to_owned(),
        (n, 0) => format!("All {n} dielectric probes are calibrated."),
        (n, without) => format!("{without} of {n} dielectric probes still show raw output."),
    };
    let (back, lost) = came_back(&state.store).await?;
    let told = |probes: Vec<(Probe, String)>| probes.into_iter().map(|(p, said)| (p.serial, said)).collect();
    let shell = Shell::within(&state, &actor, "Bench", Room::Bench, &study, None).await?;
    page(&RunsPage {
        shell,
        study: *id,
        answer,
        runs: rows,
        probes,
        serials: dielectric,
        thermometers,
        sheets,
        stations,
        back: told(back),
        lost: told(lost),
    })
}

#[derive(Deserialize)]
struct Begin {
    #[serde(default)]
    probe: String,
    /// A field log whose cores are to be weighed, with its station.
    #[serde(default)]
    log: String,
    station: Option<i64>,
}

async fn begin(state: web::Data<State>, id: web::Path<i64>, form: CheckedForm<Begin>) -> Result<HttpResponse, Problem> {
    let probe = form.0.probe.parse::<i64>().ok();
    let known = state.store.probes().await?.into_iter().find(|p| Some(p.id) == probe);
    let title = known.map_or_else(|| "Moisture calibration".to_owned(), |p| format!("{}, moisture", p.serial));
    let mut draft = RunDraft::default();
    if let Some(station) = form.0.station.filter(|_| !form.0.log.is_empty()) {
        if state.store.study_of(Within::Station, station).await? != *id {
            return Err(Problem::NotFound("station"));
        }
        let study = state.store.study(*id).await?;
        let entries = state.store.field_entries(station, Some(&form.0.log)).await?;
        (draft.school, draft.rows) = (School::Cores, cores(&entries, study.utc_offset_minutes));
    }
    let draft = serde_json::to_string(&draft).map_err(|e| Problem::Internal(e.to_string()))?;
    let run = Run { id: 0, study_id: *id, title, probe_id: probe, draft, practice: None };
    let run = state.store.add_run(&run).await?;
    Ok(see_other(&format!("/bench/{run}")))
}

/// The cores of a field log as samples that wait for their masses.
fn cores(entries: &[Entry], offset: i64) -> Vec<SampleRow> {
    let log = Log::of(entries);
    let rows = log.stands.iter().filter_map(|e| match &e.deed {
        Deed::Core { tin, volume_cm3, .. } => Some(SampleRow {
            tin: tin.clone(),
            at: field(e.at, offset),
            volume: format_short(*volume_cm3),
            ..SampleRow::default()
        }),
        _ => None,
    });
    rows.collect()
}
