//! A package's page: what would become of it, taking it, and what became of it.

use super::address;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::{Room, Shell, page, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::bringing::{self, NotTaken, Report, StationReport, Target, Whither};
use ebrel_app::importing::kept_at;
use ebrel_core::roles::Role;
use ebrel_formats::package::{Package, read_path};
use ebrel_store::packages::BroughtPackage;
use std::collections::{BTreeMap, HashMap};

/// What people typed for a package: the study's name, and a code for each station.
type Typed = HashMap<String, String>;

struct StationRow {
    id: i64,
    code: String,
    /// The field with its code here, and what is typed in it.
    field: String,
    code_here: String,
    name: String,
    becomes: &'static str,
    channels: usize,
    readings: String,
    others: Vec<String>,
    contradicting: bool,
    remarks: Vec<String>,
}

impl StationRow {
    /// "cut in the package; a new station".
    fn in_words(&self) -> String {
        let code = if self.code.is_empty() { String::new() } else { format!("{} in the package", self.code) };
        let parts = [code.as_str(), self.becomes];
        parts.into_iter().filter(|p| !p.is_empty()).collect::<Vec<_>>().join("; ")
    }
}

#[derive(Template)]
#[template(path = "rooms/record/packages/taking.html")]
struct TakingPage {
    shell: Shell,
    file: String,
    sha256: String,
    brought: String,
    answer: String,
    action: String,
    /// Name of the study that is begun for it; none where it goes into one that is there.
    study: Option<String>,
    taken: bool,
    may: bool,
    remarks: Vec<String>,
    slips: Vec<String>,
    stations: Vec<StationRow>,
}

pub async fn show_for_new_study(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    typed: web::Query<Typed>,
) -> Result<HttpResponse, Problem> {
    let package = of(&state, &actor, None, *id).await?;
    match package.study_id {
        Some(study) => Ok(see_other(&address(Some(study), *id))),
        None => look(&state, &actor, None, package, &typed, Vec::new()).await,
    }
}

pub async fn show(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    typed: web::Query<Typed>,
) -> Result<HttpResponse, Problem> {
    let (study, id) = path.into_inner();
    let package = of(&state, &actor, Some(study), id).await?;
    look(&state, &actor, Some(study), package, &typed, Vec::new()).await
}

pub async fn take_for_new_study(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let package = of(&state, &actor, None, *id).await?;
    taken(&state, &actor, None, package, &form.0).await
}

pub async fn take(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let (study, id) = path.into_inner();
    let package = of(&state, &actor, Some(study), id).await?;
    taken(&state, &actor, Some(study), package, &form.0).await
}

/// A package that was brought for a study; one without a study is its bringer's alone.
async fn of(state: &State, actor: &Actor, study: Option<i64>, id: i64) -> Result<BroughtPackage, Problem> {
    let package = state.store.package(id).await?;
    let own = match study {
        Some(study) => package.study_id == Some(study),
        None => package.received_by == actor.name(),
    };
    if own { Ok(package) } else { Err(Problem::NotFound("package")) }
}

/// Reads a package that was kept.
async fn read(state: &State, package: &BroughtPackage) -> Result<Package, Problem> {
    let place = state.heavy.take().await?;
    let path = kept_at(&state.data, &package.sha256);
    let read = place.run(move || read_path(&path)).await?;
    read.map_err(|e| Problem::Internal(format!("the package as it was kept cannot be read: {e}")))
}

fn target(actor: &Actor, study: Option<i64>, package: &Package, typed: &Typed) -> Result<Target, String> {
    let whither = match study {
        Some(id) => Whither::Study(id),
        None => {
            let name = typed.get("study").map_or(package.study.name.as_str(), String::as_str);
            let name = if name.is_empty() && !typed.contains_key("study") { &package.title } else { name };
            Whither::New { name: words(name, "the study's name", 120)?, owner: actor.account() }
        }
    };
    let mut codes = BTreeMap::new();
    for (field, code) in typed {
        if let Some(old) = field.strip_prefix("code.") {
            codes.insert(old.to_owned(), words(code, "the station's code", 40)?);
        }
    }
    Ok(Target { whither, codes, by: actor.name().to_owned(), now: wall_clock() })
}

async fn look(
    state: &State,
    actor: &Actor,
    study: Option<i64>,
    brought: BroughtPackage,
    typed: &Typed,
    slips: Vec<String>,
) -> Result<HttpResponse, Problem> {
    if let Some(report) = brought.report.as_deref() {
        let report = serde_json::from_str(report).map_err(|e| Problem::Internal(e.to_string()))?;
        return told(state, actor, study, &brought, (report, true), typed, slips).await;
    }
    if study.is_some() && actor.role().is_none_or(|r| r < Role::Researcher) {
        // Trying it holds the database's lock: that is for who may take it.
        return told(state, actor, study, &brought, (Report::default(), false), typed, slips).await;
    }
    let package = read(state, &brought).await?;
    let (report, mut all) = match target(actor, study, &package, typed) {
        Err(slip) => (bringing::outline(&package), vec![slip]),
        Ok(target) => match bringing::look(&state.store, &package, &target).await {
            Ok(report) => (report, Vec::new()),
            Err(NotTaken::Slips(slips)) => (bringing::outline(&package), slips),
            Err(NotTaken::Already) => return Ok(see_other(&address(study, brought.id))),
            Err(NotTaken::Store(error)) => return Err(error.into()),
        },
    };
    let further: Vec<String> = slips.into_iter().filter(|s| !all.contains(s)).collect();
    all.extend(further);
    let typed = &with_name(typed, study, &package);
    told(state, actor, study, &brought, (report, false), typed, all).await
}

/// What is typed, with the package's own name of its study where nobody typed one.
fn with_name(typed: &Typed, study: Option<i64>, package: &Package) -> Typed {
    let mut typed = typed.clone();
    if study.is_none() {
        let name = if package.study.name.is_empty() { &package.title } else { &package.study.name };
        typed.entry("study".into()).or_insert_with(|| name.clone());
    }
    typed
}

async fn taken(
    state: &State,
    actor: &Actor,
    study: Option<i64>,
    brought: BroughtPackage,
    typed: &Typed,
) -> Result<HttpResponse, Problem> {
    let id = brought.id;
    if brought.report.is_some() {
        return Ok(see_other(&address(brought.study_id, id)));
    }
    let package = read(state, &brought).await?;
    let target = match target(actor, study, &package, typed) {
        Ok(target) => target,
        Err(slip) => return look(state, actor, study, brought, typed, vec![slip]).await,
    };
    match bringing::take(&state.store, &package, &target, &brought).await {
        Ok(report) => Ok(see_other(&address(Some(report.study), id))),
        Err(NotTaken::Slips(slips)) => look(state, actor, study, brought, typed, slips).await,
        Err(NotTaken::Already) => Ok(see_other(&address(state.store.package(id).await?.study_id, id))),
        Err(NotTaken::Store(error)) => Err(error.into()),
    }
}

async fn told(
    state: &State,
    actor: &Actor,
    study: Option<i64>,
    brought: &BroughtPackage,
    (report, taken): (Report, bool),
    typed: &Typed,
    slips: Vec<String>,
) -> Result<HttpResponse, Problem> {
    let (shell, offset) = match study {
        None => (Shell::bare(state, actor, "A package")?, 0),
        Some(id) => {
            let study = state.store.study(id).await?;
            let shell = Shell::within(state, actor, "A package", Room::Record, &study, None).await?;
            (shell, study.utc_offset_minutes)
        }
    };
    let row = |s: StationReport| {
        let field = format!("code.{}", s.code);
        StationRow {
            id: s.id,
            code_here: typed.get(&field).cloned().unwrap_or(s.code_here),
            field,
            becomes: match (s.new, !slips.is_empty()) {
                (_, true) => "",
                (true, _) => "a new station",
                (false, _) => "merged into the one here",
            },
            channels: s.channels,
            readings: readings(&s.readings, taken),
            others: s.others.iter().map(|(what, new, known)| count(what, *new, *known)).collect(),
            contradicting: taken && s.readings.contradicting > 0,
            remarks: {
                let more = (s.more_remarks > 0).then(|| format!("and {} more of this kind", grouped(s.more_remarks)));
                s.remarks.into_iter().chain(more).collect()
            },
            name: s.name,
            code: s.code,
        }
    };
    let given: usize = report.stations.iter().map(|s| s.readings.given).sum();
    let (stations, new) = (report.stations.len(), report.stations.iter().map(|s| s.readings.new).sum::<usize>());
    let of = if stations == 1 { "1 station".to_owned() } else { format!("{stations} stations") };
    page(&TakingPage {
        answer: match (taken, slips.is_empty()) {
            (true, _) => {
                format!("{} of {} readings of {of} are new in {}.", grouped(new), grouped(given), report.study_name)
            }
            (false, true) if stations == 0 => "Nothing of it is taken yet.".to_owned(),
            (false, true) => format!("{} readings of {of}. Nothing is taken yet.", grouped(given)),
            (false, false) => format!("{} readings of {of}. It cannot be taken as it stands.", grouped(given)),
        },
        action: address(study, brought.id),
        study: typed.get("study").cloned().filter(|_| study.is_none()),
        may: study.is_none() || shell.may(Role::Researcher),
        shell,
        file: brought.file_name.clone(),
        sha256: brought.sha256.clone(),
        brought: format!("{} by {}", moment(brought.received_at, offset), brought.received_by),
        taken,
        remarks: report.remarks,
        stations: report.stations.into_iter().map(row).collect(),
        slips,
    })
}

/// What becomes of the readings of a station: its parts add up to what is given.
fn readings(r: &bringing::Readings, taken: bool) -> String {
    if r.given == 0 {
        return "none".into();
    }
    if !taken {
        let empty = if r.empty > 0 { format!(", {} of them without a value", grouped(r.empty)) } else { String::new() };
        return format!("{}{empty}", grouped(r.given));
    }
    let mut parts = vec![format!("{} new", grouped(r.new)), format!("{} known", grouped(r.known))];
    if r.contradicting > 0 {
        parts.push(format!("{} known with another value, kept beside it", grouped(r.contradicting)));
    }
    if r.empty > 0 {
        parts.push(format!("{} without a value", grouped(r.empty)));
    }
    format!("{}: {}", grouped(r.given), parts.join(", "))
}

fn count(what: &str, new: usize, known: usize) -> String {
    match (new, known) {
        (new, 0) => format!("{what}: {} new", grouped(new)),
        (0, known) => format!("{what}: {} known", grouped(known)),
        (new, known) => format!("{what}: {} new, {} known", grouped(new), grouped(known)),
    }
}
