//! The catalogue of probe and logger models: looked at as tables, changed as JSON, taken in and out.

use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::planning::catalogue;
use ebrel_core::planning::{Catalogue, LoggerModel, ProbeModel};
use ebrel_core::roles::Role;
use ebrel_store::StoreError;
use ebrel_store::drafts::DraftKind;
use ebrel_store::plans::CATALOGUE;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/catalogue", Least::SignedIn, list);
    routes.post("/catalogue", Least::Somewhere(Role::Researcher), take);
    routes.get("/catalogue.json", Least::SignedIn, export);
}

struct ProbeRow {
    code: String,
    name: String,
    gives: String,
    signal: String,
    power: String,
    body: String,
    senses: String,
    cable: String,
    price: String,
    conductors: String,
}

struct LoggerRow {
    code: String,
    name: String,
    ports: String,
    supply: String,
    memory: String,
    asleep: String,
    price: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/catalogue.html")]
struct CataloguePage {
    shell: Shell,
    probes: Vec<ProbeRow>,
    loggers: Vec<LoggerRow>,
    own: bool,
    revision: i64,
    json: String,
    error: Option<String>,
}

async fn list(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    let json =
        serde_json::to_string_pretty(&catalogue(&state.store).await?).map_err(|e| Problem::Internal(e.to_string()))?;
    show(&state, &actor, json, None).await
}

async fn show(state: &State, actor: &Actor, json: String, error: Option<String>) -> Result<HttpResponse, Problem> {
    let known = catalogue(&state.store).await?;
    page(&CataloguePage {
        shell: Shell::bare(state, actor, "Catalogue of models")?,
        probes: known.probes.iter().map(probe_row).collect(),
        loggers: known.loggers.iter().map(logger_row).collect(),
        own: state.store.catalogue().await?.is_some(),
        revision: state.store.revision(DraftKind::Catalogue, CATALOGUE).await?,
        json,
        error,
    })
}

fn probe_row(p: &ProbeModel) -> ProbeRow {
    let sizes = |(a, b, c): (f64, f64, f64)| format!("{a} × {b} × {c}");
    let gives: Vec<&str> = p.quantities.iter().map(|q| q.words()).collect();
    let conductors: Vec<String> = p.conductors.iter().map(|c| format!("{} {}", c.colour, c.function.words())).collect();
    let power = if p.supply_ma > 0.0 {
        format!("{} V, {} mA, {} s", p.supply_v, p.supply_ma, p.warm_up_s)
    } else {
        "none".to_owned()
    };
    ProbeRow {
        code: p.code.clone(),
        name: p.name.clone(),
        gives: gives.join(", "),
        signal: format!("{}{}", p.signal.words(), if p.resistive { ", resistive" } else { "" }),
        power,
        body: sizes(p.body_cm),
        senses: if p.in_soil { sizes(p.senses_cm) } else { "above ground".into() },
        cable: fixed(p.cable_m, 0),
        price: fixed(p.price, 0),
        conductors: conductors.join("; "),
    }
}

fn logger_row(l: &LoggerModel) -> LoggerRow {
    let mut kinds: Vec<(&str, usize)> = Vec::new();
    for port in &l.ports {
        match kinds.iter_mut().find(|k| k.0 == port.kind.words()) {
            Some(kind) => kind.1 += 1,
            None => kinds.push((port.kind.words(), 1)),
        }
    }
    let ports: Vec<String> = kinds.iter().map(|(kind, n)| format!("{n} × {kind}")).collect();
    let volts: Vec<String> = l.supplies_v.iter().map(ToString::to_string).collect();
    LoggerRow {
        code: l.code.clone(),
        name: l.name.clone(),
        ports: ports.join(", "),
        supply: format!("{} V, {} mA{}", volts.join(", "), l.switched_ma, if l.isolates { ", isolates" } else { "" }),
        memory: format!("{} MiB", l.memory_bytes / 1_048_576),
        asleep: format!("{} µA", fixed(l.sleep_ma * 1000.0, 0)),
        price: fixed(l.price, 0),
    }
}

async fn export(state: web::Data<State>) -> Result<HttpResponse, Problem> {
    let json =
        serde_json::to_string_pretty(&catalogue(&state.store).await?).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(attachment("application/json", "catalogue.json", json))
}

#[derive(Deserialize)]
struct Take {
    #[serde(default)]
    json: String,
    #[serde(default, rename = "do")]
    action: String,
    /// The catalogue's revision that the page showed.
    revision: Option<i64>,
}

async fn take(state: web::Data<State>, actor: Actor, form: CheckedForm<Take>) -> Result<HttpResponse, Problem> {
    let Take { json, action, revision } = form.0;
    let (body, done) = if action == "shipped" {
        (None, "The shipped catalogue holds again.".to_owned())
    } else {
        let read = match Catalogue::read(&json) {
            Err(e) => return show(&state, &actor, json, Some(e.to_string())).await,
            Ok(read) => read,
        };
        let body = serde_json::to_string(&read).map_err(|e| Problem::Internal(e.to_string()))?;
        let counts = (read.probes.len(), read.loggers.len());
        (Some(body), format!("{} probes and {} loggers are in the catalogue.", counts.0, counts.1))
    };
    let newest = state.store.revision(DraftKind::Catalogue, CATALOGUE).await?;
    match state.store.keep_catalogue(revision.unwrap_or(newest), body.as_deref()).await {
        Err(StoreError::Stale) => show(&state, &actor, json, Some(STALE.to_owned())).await,
        kept => {
            kept?;
            say(&actor, &done)?;
            Ok(see_other("/catalogue"))
        }
    }
}

const STALE: &str = "Somebody else changed the catalogue meanwhile, and nothing of yours was taken in. The tables above \
                     show theirs, here stands yours: put in what you want of theirs and send it again.";
