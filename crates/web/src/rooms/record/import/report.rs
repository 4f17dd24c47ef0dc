//! After storing: what became of the file, every loss as a file, setting the import aside and reading it anew.

use super::opened::Opened;
use crate::shell::actor::Actor;
use crate::shell::download::made;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment, span};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::{Room, Shell, page, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::importing::withdrawing;
use ebrel_app::importing::{self, Report};
use ebrel_app::reviewing;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{self, Group};
use ebrel_store::StoreError;
use ebrel_store::imports::{Import, Withdrawn};
use ebrel_store::stations::Station;
use serde::Deserialize;
use std::collections::HashMap;

/// An import that is being stored.
#[derive(Template)]
#[template(path = "rooms/record/import/running.html")]
pub struct RunningPage {
    shell: Shell,
    station: Station,
    import: Import,
    lines: usize,
    all: usize,
}

impl RunningPage {
    /// How far an import is.
    pub async fn show(state: &State, actor: &Actor, import: Import) -> Result<HttpResponse, Problem> {
        let station = state.store.station(import.station_id).await?;
        let study = state.store.study(station.study_id).await?;
        let shell = Shell::within(state, actor, "Import", Room::Record, &study, Some(&station)).await?;
        let running = state.work.of(import.id);
        let (lines, all) = running.map_or((0, 0), |r| (r.progress.lines(), r.lines));
        page(&Self { shell, station, import, lines, all })
    }
}

#[derive(Template)]
#[template(path = "rooms/record/import/report.html")]
struct ReportPage {
    shell: Shell,
    station: Station,
    import: Import,
    answer: String,
    said: Option<String>,
    /// Why it was set aside, by whom and when.
    withdrawn: Option<(String, String, String)>,
    facts: Vec<(String, String)>,
    /// Lines by kind: what, how many, share of a bar in per cent.
    kinds: Vec<(&'static str, String, String)>,
    lines: String,
    groups: Vec<Group>,
    missing: Vec<(String, String)>,
    noted: Vec<(String, String)>,
    /// Against the import that this one reads anew.
    compared: Vec<(String, String, String)>,
    /// Imports that read this one's file anew.
    later: Vec<(i64, String)>,
    error: Option<String>,
}

/// The report of an import; `error` stands at the field of the reason.
pub async fn show_report(
    state: &State,
    actor: &Actor,
    import: Import,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let report = report_of(&import)?;
    let station = state.store.station(import.station_id).await?;
    let study = state.store.study(station.study_id).await?;
    let shell = Shell::within(state, actor, "Import report", Room::Record, &study, Some(&station)).await?;
    let offset = study.utc_offset_minutes;
    let before = match import.instead_of {
        Some(id) => Some(state.store.import(id).await?),
        None => None,
    };
    let compared = match &before {
        Some(before) => compared(&report_of(before)?, &report, offset),
        None => Vec::new(),
    };
    let later = state.store.imports(station.id).await?.into_iter().filter(|i| i.instead_of == Some(import.id));
    let later = later.map(|i| (i.id, moment(i.created_at, offset))).collect();
    let total = report.tally.sum().max(1) as f64;
    let kinds = report.tally.kinds().into_iter();
    let kinds = kinds.map(|(what, n)| (what, grouped(n), format!("{:.2}", 100.0 * n as f64 / total))).collect();
    let withdrawn = import.withdrawn.as_ref().map(|w| (w.why.clone(), w.by.clone(), moment(w.at, offset)));
    page(&ReportPage {
        shell,
        station,
        answer: answer(&report),
        said: report.cancelled.map(|n| {
            format!(
                "Storing ended after {} lines; what was stored until then stands. Send the file again to go on.",
                grouped(n)
            )
        }),
        withdrawn,
        facts: facts(&import, &report, offset),
        kinds,
        lines: grouped(report.tally.sum()),
        missing: report.missing.iter().map(|(c, n)| (c.clone(), grouped(*n))).collect(),
        noted: report.noted.iter().map(|(c, n)| (c.clone(), grouped(*n))).collect(),
        groups: report.groups,
        compared,
        later,
        import,
        error,
    })
}

fn report_of(import: &Import) -> Result<Report, Problem> {
    Report::of_json(import.report.as_deref().unwrap_or("{}")).map_err(|e| Problem::Internal(e.to_string()))
}

fn answer(r: &Report) -> String {
    let stored = match (r.new_records, r.known_records) {
        (0, known) => format!("Nothing new: all {} records were known already.", grouped(known)),
        (new, 0) => format!("{} records are stored.", grouped(new)),
        (new, known) => format!("{} records are stored; {} were known already.", grouped(new), grouped(known)),
    };
    match r.losses() {
        0 => stored,
        n => format!("{stored} {} could not be read.", importing::lines_or_cells(n)),
    }
}

fn facts(import: &Import, r: &Report, offset: i64) -> Vec<(String, String)> {
    let mut facts = vec![
        ("Readings stored".to_owned(), grouped(r.new_readings)),
        ("Readings known with the same value".to_owned(), grouped(r.known_readings)),
        ("Readings known with another value (kept beside the first)".to_owned(), grouped(r.repeated_readings)),
        ("Lines or cells that could not be read".to_owned(), grouped(r.losses())),
    ];
    if let Some((a, b)) = r.span() {
        facts.insert(0, ("Time".to_owned(), span(a, b, offset)));
    }
    if r.first_counts > 0 {
        facts.push(("First counts of counters, with nothing to count from".to_owned(), grouped(r.first_counts)));
    }
    if !r.left_out.is_empty() {
        facts.push(("Columns left out".to_owned(), r.left_out.join(", ")));
    }
    facts.push(("Imported".to_owned(), format!("{}, by {}", moment(import.created_at, offset), import.created_by)));
    facts
}

/// What reading anew changed: what, before, now.
fn compared(before: &Report, now: &Report, offset: i64) -> Vec<(String, String, String)> {
    let time = |t: Option<(UnixSeconds, UnixSeconds)>, last: bool| {
        t.map_or_else(String::new, |(a, b)| moment(if last { b } else { a }, offset))
    };
    let readings = |r: &Report| grouped(r.new_readings + r.known_readings + r.repeated_readings);
    vec![
        ("Records".to_owned(), grouped(before.tally.records), grouped(now.tally.records)),
        ("Readings".to_owned(), readings(before), readings(now)),
        ("First record".to_owned(), time(before.span(), false), time(now.span(), false)),
        ("Last record".to_owned(), time(before.span(), true), time(now.span(), true)),
        ("Lines or cells lost".to_owned(), grouped(before.losses()), grouped(now.losses())),
    ]
}

/// Every line and cell that could not be read, as a file.
pub async fn losses(state: web::Data<State>, _: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let opened = Opened::load(&state, *id).await?;
    let (recipe, _) = opened.kept()?;
    let (text, latest) = (opened.text.clone(), importing::latest(state.now(&opened.study)));
    made(&state, &opened.place, ("text/csv; charset=utf-8", &format!("losses-{}.csv", *id)), move |out| {
        let mut table = csv::Writer::from_writer(out);
        table.write_record(["line", "reason", "as it stands"])?;
        let mut written = Ok(());
        let told = logger::losses(&text, &recipe, latest, |loss| {
            let line = if loss.line == 0 { String::new() } else { loss.line.to_string() };
            let row = [line, loss.fault.to_string(), loss.text.clone()];
            written = std::mem::replace(&mut written, Ok(())).and_then(|()| table.write_record(row));
        });
        told.map_err(std::io::Error::other)?;
        written?;
        table.flush()
    })
    .await
}

/// The file as it came.
pub async fn file(state: web::Data<State>, _: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let place = state.heavy.take().await?;
    let import = state.store.import(*id).await?;
    let path = importing::kept_at(&state.data, &import.sha256);
    let name = import.file_name.rsplit('/').next().unwrap_or("file").to_owned();
    made(&state, &place, ("application/octet-stream", &name), move |out| {
        std::io::copy(&mut std::fs::File::open(path)?, out).map(drop)
    })
    .await
}

/// Why an import is set aside.
#[derive(Deserialize)]
pub struct Why {
    #[serde(default)]
    why: String,
}

/// Sets an import aside.
pub async fn withdraw(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Why>,
) -> Result<HttpResponse, Problem> {
    let import = state.store.import(*id).await?;
    let why = match words(&form.0.why, "the reason", 300) {
        Ok(why) => why,
        Err(sentence) => return show_report(&state, &actor, import, Some(sentence)).await,
    };
    let study = state.store.study(state.store.station(import.station_id).await?.study_id).await?;
    let set_aside = Withdrawn { at: state.now(&study), by: actor.name().to_owned(), why };
    let done = withdrawing::withdraw(&state.store, &state.data, *id, &set_aside).await.map(drop);
    changed(&state, &actor, import, done).await
}

/// Takes back that an import was set aside.
pub async fn restore(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    _: CheckedForm<HashMap<String, String>>,
) -> Result<HttpResponse, Problem> {
    let import = state.store.import(*id).await?;
    let done = withdrawing::restore(&state.store, *id).await.map(drop);
    changed(&state, &actor, import, done).await
}

/// After readings came or went with an import: the tests run, and its page is shown; a refusal is told on it.
async fn changed(
    state: &State,
    actor: &Actor,
    import: Import,
    done: Result<(), StoreError>,
) -> Result<HttpResponse, Problem> {
    match done {
        Ok(()) => {
            reviewing::run(&state.store, import.station_id).await?;
            Ok(see_other(&format!("/imports/{}", import.id)))
        }
        Err(StoreError::Rule(sentence)) => show_report(state, actor, import, Some(sentence)).await,
        Err(other) => Err(other.into()),
    }
}

/// Begins to read the file of an import anew, with its recipe as it was to begin with.
pub async fn anew(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    _: CheckedForm<HashMap<String, String>>,
) -> Result<HttpResponse, Problem> {
    let import = state.store.import(*id).await?;
    let study = state.store.study(state.store.station(import.station_id).await?.study_id).await?;
    let new = Import {
        sha256: import.sha256,
        archive: import.archive,
        recipe: import.recipe,
        mapping: import.mapping,
        instead_of: Some(*id),
        ..Import::begun(import.station_id, &import.file_name, state.now(&study), actor.name())
    };
    let new = state.store.begin_import(&new).await?;
    Ok(see_other(&format!("/imports/{new}")))
}
