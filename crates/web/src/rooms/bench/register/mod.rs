//! The register of probes: all of them with what stands between each and its use; one probe's page; bulk entry; finding
//! a probe by its serial from anywhere.

mod find;
mod probe;

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::planning::catalogue;
use ebrel_core::planning::{Catalogue, ProbeModel};
use ebrel_core::register::{EventKind, Fitness, check_serial, fitness};
use ebrel_core::roles::Role;
use ebrel_store::Store;
use ebrel_store::probes::Probe;
use ebrel_store::register::{ProbeEvent, ProbePlace};
use serde::Deserialize;
use std::collections::{HashMap, HashSet};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/probes", Least::Member(Role::Guest), list);
    routes.post("/studies/{id}/probes", Least::Member(Role::Researcher), enter);
    routes.get("/find", Least::SignedIn, find::find);
    probe::routes(routes);
}

/// What is known of a probe.
struct Known {
    events: Vec<ProbeEvent>,
    places: Vec<ProbePlace>,
    fitness: Fitness,
}

/// Sorts what the store knows of some probes to each of them.
async fn known(store: &Store, probes: &[Probe]) -> Result<Vec<Known>, Problem> {
    let only = if let [one] = probes { Some(one.id) } else { None };
    let (events, places) = (store.probe_events(only).await?, store.probe_places(only).await?);
    let in_force = store.calibrations_in_force().await?;
    let served = store.served_now(&in_force).await?;
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
        Known { fitness: fitness(probe.principle, &kinds, served.contains_key(&probe.id)), events, places }
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
    blockers: String,
    usable: bool,
}

/// A line of a pasted list that could not be taken.
struct Refused {
    line: usize,
    says: String,
}

#[derive(Template)]
#[template(path = "rooms/bench/register/register.html")]
struct RegisterPage {
    shell: Shell,
    study: i64,
    answer: String,
    rows: Vec<Row>,
    typed: String,
    refused: Vec<Refused>,
    models: Vec<String>,
}

async fn list(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    register(&state, &actor, *id, String::new(), Vec::new()).await
}

async fn register(
    state: &State,
    actor: &Actor,
    id: i64,
    typed: String,
    refused: Vec<Refused>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(id).await?;
    let mut rows = Vec::new();
    let probes = state.store.probes().await?;
    let known = known(&state.store, &probes).await?;
    for (probe, known) in probes.into_iter().zip(known) {
        let now = known.places.iter().find(|p| p.ends.is_none());
        rows.push(Row {
            serial: probe.serial,
            model: probe.model,
            place: now.map_or_else(|| "on the shelf".to_owned(), place_words),
            blockers: known.fitness.blockers.join("; "),
            usable: known.fitness.usable,
        });
    }
    let waiting = rows.iter().filter(|r| !r.usable).count();
    let answer = match (rows.len(), waiting) {
        (0, _) => "No probe is known yet: enter them below.".to_owned(),
        (n, 0) => format!("All {n} probes can be used."),
        (n, w) => format!("{w} of {n} probes are not to be trusted yet."),
    };
    let models = catalogue(&state.store).await?.probes.into_iter().map(|m| m.code).collect();
    let shell = Shell::within(state, actor, "Probes", Room::Bench, &study, None).await?;
    page(&RegisterPage { shell, study: id, answer, rows, typed, refused, models })
}

#[derive(Deserialize)]
struct Enter {
    #[serde(default)]
    list: String,
}

/// Takes a pasted list: serial, model, and what else is known as a note; tabs, semicolons or commas part them.
async fn enter(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Enter>,
) -> Result<HttpResponse, Problem> {
    let by = actor.name().to_owned();
    let catalogue = catalogue(&state.store).await?;
    let mut known: HashSet<String> = state.store.probes().await?.into_iter().map(|p| p.serial.to_lowercase()).collect();
    let at = state.now(&state.store.study(*id).await?);
    let (mut taken, mut left, mut refused) = (0, Vec::new(), Vec::new());
    // All that can be taken is taken in one action: a list of thousands waits for the disk once.
    let mut unit = state.store.unit().await?;
    for (i, line) in form.0.list.lines().enumerate().filter(|(_, l)| !l.trim().is_empty()) {
        match read_line(line, &catalogue, &known) {
            Err(says) => {
                left.push(line.to_owned());
                refused.push(Refused { line: i + 1, says });
            }
            Ok((probe, note_text)) => {
                let probe_id = unit.ensure_probe(&probe).await?;
                if !note_text.is_empty() {
                    let event = ProbeEvent { at, kind: EventKind::Note, note: note_text, by: by.clone() };
                    unit.add_probe_event(probe_id, &event).await?;
                }
                known.insert(probe.serial.to_lowercase());
                taken += 1;
            }
        }
    }
    unit.commit().await?;
    if refused.is_empty() && taken > 0 {
        say(&actor, &format!("{taken} probes are in the register."))?;
        return Ok(see_other(&format!("/studies/{}/probes", *id)));
    }
    if taken > 0 {
        say(&actor, &format!("{taken} probes are in the register; what could not be taken stands below."))?;
    }
    register(&state, &actor, *id, left.join("\n"), refused).await
}

fn read_line(line: &str, catalogue: &Catalogue, known: &HashSet<String>) -> Result<(Probe, String), String> {
    let separator = ['\t', ';'].into_iter().find(|s| line.contains(*s)).unwrap_or(',');
    let mut cells = line.splitn(3, separator).map(str::trim);
    let (serial, model, note) =
        (cells.next().unwrap_or(""), cells.next().unwrap_or(""), cells.next().unwrap_or("").to_owned());
    let serial = check_serial(serial).map_err(|e| format!("the serial comes first: {e}"))?;
    if known.contains(&serial.to_lowercase()) {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_with_any_separator_and_refused_with_a_reason() {
        let catalogue = Catalogue::shipped();
        let read = |line: &str| read_line(line, &catalogue, &HashSet::from(["bd-0417".to_owned()]));
        let (probe, note) = read("BD-0900;blade-5;bought in May, box 3").unwrap();
        assert_eq!((probe.serial.as_str(), note.as_str()), ("BD-0900", "bought in May, box 3"));
        assert_eq!(read("BD-0901\tBlade dielectric, 5 cm, analog 2.5 V").unwrap().0.instrument_max, Some(2500.0));
        assert_eq!(read("bd-0417,blade-5").unwrap_err(), "bd-0417 is in the register already");
        assert!(read("BD-0902,spade-5").unwrap_err().contains("no model of the catalogue"));
        assert!(read(";blade-5").unwrap_err().contains("serial"));
    }
}
