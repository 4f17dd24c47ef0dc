//! The list of calibrations, and beginning one.

use crate::rooms::bench::run::answer_of;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::guard::CheckedForm;
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, see_other};
use crate::state::State;
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::bench::RunDraft;
use ebrel_core::units::{Principle, Quantity};
use ebrel_store::calibrations::Subject;
use ebrel_store::placements::Probe;
use ebrel_store::runs::Run;
use serde::Deserialize;

pub fn routes(config: &mut web::ServiceConfig) {
    config.route("/studies/{id}/bench", web::get().to(list)).route("/studies/{id}/bench", web::post().to(begin));
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
}

async fn list(state: web::Data<State>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
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
        let bare = |s: &ebrel_store::stations::Stream| s.quantity == Quantity::BareAirTemperature;
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
    let shell = Shell::within(&state, &session, "Bench", Room::Bench, &study, None).await?;
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
    })
}

#[derive(Deserialize)]
struct Begin {
    #[serde(default)]
    probe: String,
}

async fn begin(
    state: web::Data<State>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Begin>,
) -> Result<HttpResponse, Problem> {
    acting(&state, &session)?;
    let probe = form.0.probe.parse::<i64>().ok();
    let known = state.store.probes().await?.into_iter().find(|p| Some(p.id) == probe);
    let title = known.map_or_else(|| "Moisture calibration".to_owned(), |p| format!("{}, moisture", p.serial));
    let draft = serde_json::to_string(&RunDraft::default()).map_err(|e| Problem::Internal(e.to_string()))?;
    let run = Run { id: 0, study_id: *id, title, probe_id: probe, draft, practice: None };
    let run = state.store.add_run(&run).await?;
    Ok(see_other(&format!("/bench/{run}")))
}
