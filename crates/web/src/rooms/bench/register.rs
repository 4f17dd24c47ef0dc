//! The register of probes: all of them with what stands between each and its use; one probe's page; bulk entry; finding
//! a probe by its serial from anywhere.

use crate::app::App;
use crate::rooms::plan::station::catalogue;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::guard::CheckedForm;
use crate::shell::sign_in::acting;
use crate::shell::{Room, Shell, page, say, see_other};
use actix_session::Session;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::planning::{Catalogue, ProbeModel};
use ebrel_core::register::{EventKind, Trust, trust};
use ebrel_store::Store;
use ebrel_store::placements::Probe;
use ebrel_store::register::{ProbeEvent, ProbePlace};
use ebrel_store::stations::Study;
use serde::Deserialize;
use std::collections::HashMap;

pub fn routes(config: &mut web::ServiceConfig) {
    config
        .service(web::resource("/studies/{id}/probes").get(list).post(enter))
        .service(web::resource("/probes/{serial}").get(show).post(note))
        .route("/find", web::get().to(find));
}

/// What is known of a probe.
struct Known {
    events: Vec<ProbeEvent>,
    places: Vec<ProbePlace>,
    trust: Trust,
}

/// Sorts what the store knows of some probes to each of them.
async fn known(store: &Store, probes: &[Probe]) -> Result<Vec<Known>, Problem> {
    let only = if let [one] = probes { Some(one.id) } else { None };
    let (events, places) = (store.probe_events(only).await?, store.probe_places(only).await?);
    let calibrated = store.calibrated_probes().await?;
    let mut by_probe: HashMap<i64, (Vec<ProbeEvent>, Vec<ProbePlace>)> = HashMap::new();
    for (probe, event) in events {
        by_probe.entry(probe).or_default().0.push(event);
    }
    for (probe, place) in places {
        by_probe.entry(probe).or_default().1.push(place);
    }
    let each = probes.iter().map(|probe| {
        let (events, places) = by_probe.remove(&probe.id).unwrap_or_default();
        let kinds: Vec<EventKind> = events.iter().map(|e| e.kind).collect();
        Known { trust: trust(probe.principle, &kinds, calibrated.contains(&probe.id)), events, places }
    });
    Ok(each.collect())
}

fn place_words(place: &ProbePlace) -> String {
    let depth = place.depth_cm.map(|d| format!(", {d}\u{a0}cm").replace('-', "−")).unwrap_or_default();
    format!("{}, port {}{depth}", place.station, place.port)
}

struct Row {
    serial: String,
    model: String,
    place: String,
    between: String,
    usable: bool,
}

/// A line of a pasted list that could not be taken.
struct Refused {
    line: usize,
    says: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/register.html")]
struct RegisterPage {
    shell: Shell,
    study: i64,
    answer: String,
    rows: Vec<Row>,
    typed: String,
    refused: Vec<Refused>,
    models: Vec<String>,
}

async fn list(app: web::Data<App>, session: Session, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    register(&app, &session, *id, String::new(), Vec::new()).await
}

async fn register(
    app: &App,
    session: &Session,
    id: i64,
    typed: String,
    refused: Vec<Refused>,
) -> Result<HttpResponse, Problem> {
    let study = app.store.study(id).await?;
    let mut rows = Vec::new();
    let probes = app.store.probes().await?;
    let known = known(&app.store, &probes).await?;
    for (probe, known) in probes.into_iter().zip(known) {
        let now = known.places.iter().find(|p| p.ends.is_none());
        rows.push(Row {
            serial: probe.serial,
            model: probe.model,
            place: now.map_or_else(|| "on the shelf".to_owned(), place_words),
            between: known.trust.between.join("; "),
            usable: known.trust.usable,
        });
    }
    let waiting = rows.iter().filter(|r| !r.usable).count();
    let answer = match (rows.len(), waiting) {
        (0, _) => "No probe is known yet: enter them below.".to_owned(),
        (n, 0) => format!("All {n} probes can be used."),
        (n, w) => format!("{w} of {n} probes are not to be trusted yet."),
    };
    let models = catalogue(&app.store).await?.probes.into_iter().map(|m| m.code).collect();
    let shell = Shell::within(app, session, "Probes", Room::Bench, &study, None).await?;
    page(&RegisterPage { shell, study: id, answer, rows, typed, refused, models })
}

#[derive(Deserialize)]
struct Enter {
    #[serde(default)]
    list: String,
}

/// Takes a pasted list: serial, model, and what else is known as a note; tabs, semicolons or commas part them.
async fn enter(
    app: web::Data<App>,
    session: Session,
    id: web::Path<i64>,
    form: CheckedForm<Enter>,
) -> Result<HttpResponse, Problem> {
    let by = acting(&app, &session)?;
    let catalogue = catalogue(&app.store).await?;
    let mut known: Vec<String> = app.store.probes().await?.into_iter().map(|p| p.serial).collect();
    let (mut taken, mut left, mut refused) = (0, Vec::new(), Vec::new());
    for (i, line) in form.0.list.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        match read_line(line, &catalogue, &known) {
            Err(says) => {
                left.push(line.to_owned());
                refused.push(Refused { line: i + 1, says });
            }
            Ok((probe, note_text)) => {
                let probe_id = app.store.ensure_probe(&probe).await?;
                if !note_text.is_empty() {
                    let at = app.now(&app.store.study(*id).await?);
                    let event = ProbeEvent { at, kind: EventKind::Note, note: note_text, by: by.clone() };
                    app.store.add_probe_event(probe_id, &event).await?;
                }
                known.push(probe.serial);
                taken += 1;
            }
        }
    }
    if refused.is_empty() && taken > 0 {
        say(&session, &format!("{taken} probes are in the register."))?;
        return Ok(see_other(&format!("/studies/{}/probes", *id)));
    }
    if taken > 0 {
        say(&session, &format!("{taken} probes are in the register; what could not be taken stands below."))?;
    }
    register(&app, &session, *id, left.join("\n"), refused).await
}

fn read_line(line: &str, catalogue: &Catalogue, known: &[String]) -> Result<(Probe, String), String> {
    let separator = ['\t', ';'].into_iter().find(|s| line.contains(*s)).unwrap_or(',');
    let mut cells = line.splitn(3, separator).map(str::trim);
    let (serial, model, note) =
        (cells.next().unwrap_or(""), cells.next().unwrap_or(""), cells.next().unwrap_or("").to_owned());
    if serial.is_empty() || serial.chars().count() > 40 {
        return Err("a serial of 1 to 40 characters comes first".into());
    }
    if !serial.chars().all(|c| c.is_alphanumeric() || "-_.".contains(c)) {
        return Err(format!("“{serial}” holds more than letters, digits, - _ and ."));
    }
    if known.iter().any(|k| k.eq_ignore_ascii_case(serial)) {
        return Err(format!("{serial} is in the register already"));
    }
    let found = catalogue.probe(model).or_else(|| catalogue.probes.iter().find(|p| p.name.eq_ignore_ascii_case(model)));
    let model = found.ok_or_else(|| format!("“{model}” is no model of the catalogue: give its code"))?;
    Ok((probe_of(serial, model), note))
}

fn probe_of(serial: &str, model: &ProbeModel) -> Probe {
    Probe {
        id: 0,
        serial: serial.to_owned(),
        model: model.name.clone(),
        principle: model.principle,
        instrument_min: Some(model.range.0),
        instrument_max: Some(model.range.1),
        resolution: None,
    }
}

struct LifeRow {
    at: String,
    what: String,
    note: String,
    by: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/probe.html")]
struct ProbePage {
    shell: Shell,
    probe: Probe,
    answer: String,
    usable: bool,
    between: Vec<&'static str>,
    places: Vec<(i64, String, String)>,
    life: Vec<LifeRow>,
    calibrations: Vec<(i64, String, String, bool)>,
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

async fn show(app: web::Data<App>, session: Session, serial: web::Path<String>) -> Result<HttpResponse, Problem> {
    let planned = planned(&app.store, &serial).await?;
    let probe = match one(&app.store, &serial).await {
        Ok(probe) => probe,
        // A label may be printed before its probe is in the register: the plan knows it.
        Err(Problem::NotFound(_)) if !planned.is_empty() => {
            return Ok(see_other(&format!("/stations/{}/plan/depths", planned[0].0)));
        }
        Err(other) => return Err(other),
    };
    let mut known = known(&app.store, std::slice::from_ref(&probe)).await?;
    let known = known.pop().ok_or(Problem::NotFound("probe"))?;
    let study = study_of(&app.store, &known.places).await?;
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
    let calibrations = app.store.calibrations(probe.id).await?.into_iter().map(|c| {
        (
            c.version,
            c.statement,
            format!("from {}, by {}", moment(c.valid_from, offset), c.adopted_by),
            c.retired_at.is_some(),
        )
    });
    let runs = app.store.runs(study.id).await?.into_iter().filter(|r| r.probe_id == Some(probe.id));
    let answer = match (known.trust.usable, known.places.iter().find(|p| p.ends.is_none())) {
        (true, Some(place)) => format!("Can be trusted; it lies at {}.", place_words(place)),
        (true, None) => "Ready for use; it is on the shelf.".to_owned(),
        (false, Some(place)) => format!("Lies at {}, but is not to be trusted yet.", place_words(place)),
        (false, None) => "On the shelf, and not to be trusted yet.".to_owned(),
    };
    let shell = Shell::within(&app, &session, &probe.serial, Room::Bench, &study, None).await?;
    page(&ProbePage {
        shell,
        answer,
        usable: known.trust.usable,
        between: known.trust.between,
        places: places.collect(),
        life: life.collect(),
        calibrations: calibrations.collect(),
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
    app: web::Data<App>,
    session: Session,
    serial: web::Path<String>,
    form: CheckedForm<Noted>,
) -> Result<HttpResponse, Problem> {
    let by = acting(&app, &session)?;
    let probe = one(&app.store, &serial).await?;
    let kind = EventKind::from_code(&form.0.kind)
        .ok_or_else(|| Problem::Refused("Choose what happened to the probe.".into()))?;
    let places: Vec<ProbePlace> =
        app.store.probe_places(Some(probe.id)).await?.into_iter().map(|(_, place)| place).collect();
    let at = app.now(&study_of(&app.store, &places).await?);
    let note = form.0.note.trim().chars().take(500).collect();
    app.store.add_probe_event(probe.id, &ProbeEvent { at, kind, note, by }).await?;
    say(&session, &format!("{}: {} is noted.", probe.serial, kind.words()))?;
    Ok(see_other(&format!("/probes/{}", probe.serial)))
}

#[derive(Deserialize)]
struct Sought {
    #[serde(default)]
    q: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/find.html")]
struct FindPage {
    shell: Shell,
    sought: String,
    hits: Vec<(String, String, String)>,
}

/// Finds a probe by serial, or a station by name; the only hit is opened at once.
async fn find(app: web::Data<App>, session: Session, query: web::Query<Sought>) -> Result<HttpResponse, Problem> {
    let sought = query.q.trim().to_lowercase();
    let mut hits = Vec::new();
    if !sought.is_empty() {
        for p in app.store.probes().await? {
            if p.serial.eq_ignore_ascii_case(&sought) {
                return Ok(see_other(&format!("/probes/{}", p.serial)));
            }
            if p.serial.to_lowercase().contains(&sought) {
                hits.push((format!("/probes/{}", p.serial), p.serial, p.model));
            }
        }
        for study in app.store.studies().await? {
            for s in app.store.stations(study.id).await? {
                if s.name.to_lowercase().contains(&sought) || s.code == sought {
                    hits.push((format!("/stations/{}", s.id), s.name, format!("station of {}", study.name)));
                }
            }
        }
    }
    match &hits[..] {
        [(address, ..)] => Ok(see_other(address)),
        _ => page(&FindPage { shell: Shell::bare(&app, &session, "Find")?, sought, hits }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_with_any_separator_and_refused_with_a_reason() {
        let catalogue = Catalogue::shipped();
        let read = |line: &str| read_line(line, &catalogue, &["BD-0417".to_owned()]);
        let (probe, note) = read("BD-0900;blade-5;bought in May, box 3").unwrap();
        assert_eq!((probe.serial.as_str(), note.as_str()), ("BD-0900", "bought in May, box 3"));
        assert_eq!(read("BD-0901\tBlade dielectric, 5 cm, analog 2.5 V").unwrap().0.instrument_max, Some(2500.0));
        assert_eq!(read("bd-0417,blade-5").unwrap_err(), "bd-0417 is in the register already");
        assert!(read("BD-0902,spade-5").unwrap_err().contains("no model of the catalogue"));
        assert!(read(";blade-5").unwrap_err().contains("serial"));
    }
}
