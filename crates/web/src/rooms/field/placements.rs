//! Correcting what was put where, for what no log can mend. Readings never change by it.

use crate::shell::actor::Actor;
use crate::shell::drafts::TRIES;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, typed_time};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::reviewing;
use ebrel_core::drafts::merge;
use ebrel_core::roles::Role;
use ebrel_core::units::{DepthCm, read_number};
use ebrel_store::StoreError;
use ebrel_store::hands::{Hand, HandDeed};
use ebrel_store::placements::{NewPlacement, Placement};
use ebrel_store::probes::Probe;
use ebrel_store::streams::UnplacedPort;
use serde::{Deserialize, Serialize};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/placements", Least::Member(Role::Guest), list);
    routes.post("/stations/{id}/placements", Least::Member(Role::Field), place);
    routes.post("/stations/{id}/placements/{placement}", Least::Member(Role::Field), correct);
}

/// A placement, or a port that sends and has none yet.
struct Row {
    /// Tells it from the others of the page.
    key: String,
    /// Number of the placement, where there is one.
    placement: Option<i64>,
    /// What there is to know of it: the probe's model, or what the port sends.
    about: String,
    /// What stands, as JSON: what the form is made of.
    was: String,
    typed: Correction,
    error: Option<String>,
}

#[derive(Template)]
#[template(path = "rooms/field/placements.html")]
struct PlacementsPage {
    shell: Shell,
    station: String,
    id: i64,
    answer: String,
    rows: Vec<Row>,
    probes: Vec<Probe>,
    /// What was refused and belongs to no row any more.
    error: Option<String>,
}

#[derive(Clone, Serialize, Deserialize)]
struct Correction {
    port: String,
    serial: String,
    depth: String,
    orientation: String,
    starts: String,
    ends: String,
    /// What the page showed, as JSON.
    #[serde(default, skip_serializing)]
    was: String,
    /// Number of the node, where a port gets its first probe.
    #[serde(default, skip_serializing)]
    node: i64,
}

async fn list(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show(&state, &actor, *id, None).await
}

async fn show(
    state: &State,
    actor: &Actor,
    id: i64,
    refused: Option<(String, Correction, String)>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let offset = study.utc_offset_minutes;
    let unplaced = state.store.unplaced_ports(id).await?;
    let placed = state.store.placements(id).await?;
    let answer = match (unplaced.len(), placed.len()) {
        (0, 0) => "No probe is placed yet.".to_owned(),
        (0, 1) => "1 probe is placed.".to_owned(),
        (0, n) => format!("{n} probes are placed."),
        (1, _) => "1 port sends, and nobody said yet which probe it is.".to_owned(),
        (n, _) => format!("{n} ports send, and nobody said yet which probes they are."),
    };
    let mut rows: Vec<Row> = unplaced.iter().map(|p| new_row(p, offset)).collect();
    for placement in &placed {
        rows.push(row(placement, offset)?);
    }
    let mut error = None;
    if let Some((key, typed, says)) = refused {
        match rows.iter_mut().find(|r| r.key == key) {
            Some(row) => (row.typed, row.error) = (typed, Some(says)),
            None => error = Some(says),
        }
    }
    let shell =
        Shell::within(state, actor, &format!("Probes of {}", station.name), Room::Field, &study, Some(&station))
            .await?;
    let probes = state.store.probes().await?;
    page(&PlacementsPage { shell, station: station.name, id, answer, rows, probes, error })
}

fn row(p: &Placement, offset: i64) -> Result<Row, Problem> {
    let typed = Correction {
        port: p.port.clone(),
        serial: p.probe.serial.clone(),
        depth: p.depth_cm.map(|d| d.to_string().replace('-', "−")).unwrap_or_default(),
        orientation: p.orientation.clone(),
        starts: field(p.starts, offset),
        ends: p.ends.map(|t| field(t, offset)).unwrap_or_default(),
        was: String::new(),
        node: p.node_id,
    };
    let was = serde_json::to_string(&typed).map_err(|e| Problem::Internal(e.to_string()))?;
    let (key, about) = (p.id.to_string(), p.probe.model.clone());
    Ok(Row { key, placement: Some(p.id), about, was, typed, error: None })
}

/// A port that sends and has no probe yet: from its first reading on, unless somebody knows better.
fn new_row(p: &UnplacedPort, offset: i64) -> Row {
    let sends: Vec<&str> = p.quantities.iter().map(|q| q.words()).collect();
    let starts = p.first.map(|t| field(t, offset)).unwrap_or_default();
    let none = String::new;
    let typed = Correction {
        port: p.port.clone(),
        serial: none(),
        depth: none(),
        orientation: none(),
        starts,
        ends: none(),
        was: none(),
        node: p.node_id,
    };
    let about = format!("{} sends {} here. Which probe is it, and where does it lie?", p.node, sends.join(" and "));
    Row { key: new_key(&typed), placement: None, about, was: none(), typed, error: None }
}

fn new_key(typed: &Correction) -> String {
    format!("new-{}-{}", typed.node, typed.port)
}

/// Says which probe a port has that sends already.
async fn place(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Correction>,
) -> Result<HttpResponse, Problem> {
    let (id, typed) = (*id, form.0);
    let offset = state.store.study(state.store.station(id).await?.study_id).await?.utc_offset_minutes;
    let sends =
        state.store.unplaced_ports(id).await?.into_iter().find(|p| p.node_id == typed.node && p.port == typed.port);
    let probes = state.store.probes().await?;
    let new = match sends {
        Some(port) => resolve(&typed, (port.node_id, ""), &probes, offset),
        None => Err(format!("Port “{}” waits for no probe: see what stands there now.", typed.port)),
    };
    let refused = match new {
        Err(sentence) => sentence,
        Ok(new) => match state.store.place(&new).await {
            Err(StoreError::Rule(sentence)) => sentence,
            done => {
                let hand = Hand { deed: HandDeed::Placed, by: actor.name().to_owned(), at: wall_clock() };
                state.store.note_hand(done?, &hand).await?;
                reviewing::run(&state.store, id).await?;
                say(&actor, &format!("Port {} has its probe: its readings mean something from now on.", new.port))?;
                return Ok(see_other(&format!("/stations/{id}/placements")));
            }
        },
    };
    show(&state, &actor, id, Some((new_key(&typed), typed, refused))).await
}

async fn correct(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    form: CheckedForm<Correction>,
) -> Result<HttpResponse, Problem> {
    let (id, placement) = path.into_inner();
    let station = state.store.station(id).await?;
    let offset = state.store.study(station.study_id).await?.utc_offset_minutes;
    let probes = state.store.probes().await?;
    let mut refused = String::new();
    for _ in 0..TRIES {
        let known = state.store.placements(id).await?.into_iter().find(|p| p.id == placement);
        let known = known.ok_or(Problem::NotFound("placement"))?;
        let resolved = combined(&form.0, &row(&known, offset)?)
            .and_then(|whole| resolve(&whole, (known.node_id, &known.note), &probes, offset));
        refused = match resolved {
            Err(sentence) => sentence,
            Ok(new) => match state.store.correct_placement(placement, &known.given(), &new).await {
                Err(StoreError::Stale) => continue,
                Err(StoreError::Rule(sentence)) => sentence,
                done => {
                    done?;
                    let hand = Hand { deed: HandDeed::Corrected, by: actor.name().to_owned(), at: wall_clock() };
                    state.store.note_hand(placement, &hand).await?;
                    reviewing::run(&state.store, id).await?;
                    say(&actor, CORRECTED)?;
                    return Ok(see_other(&format!("/stations/{id}/placements")));
                }
            },
        };
        break;
    }
    if refused.is_empty() {
        return Err(StoreError::Stale.into());
    }
    show(&state, &actor, id, Some((placement.to_string(), form.0, refused))).await
}

const CORRECTED: &str =
    "The placement is corrected. No reading was changed; the record and its flags follow from it anew.";

/// What was typed on a page, put into what stands by now; a sentence where both changed the same field.
fn combined(typed: &Correction, now: &Row) -> Result<Correction, String> {
    let Ok(was) = serde_json::from_str(&typed.was) else { return Ok(typed.clone()) };
    let json = |c: &Correction| serde_json::to_value(c).map_err(|e| e.to_string());
    let found = merge(&was, &json(typed)?, &json(&now.typed)?);
    if found.conflicts.is_empty() {
        return serde_json::from_value(found.draft).map_err(|e| e.to_string());
    }
    let theirs: Vec<String> =
        (found.conflicts.iter()).map(|c| format!("{} “{}”", c.path, c.theirs.as_str().unwrap_or_default())).collect();
    Err(format!(
        "Somebody else corrected this placement meanwhile, and nothing of yours was taken in. By now it says {}; here stands \
         what you typed: send it again to take yours.",
        theirs.join(", ")
    ))
}

fn resolve(
    form: &Correction,
    (node_id, note): (i64, &str),
    probes: &[Probe],
    offset: i64,
) -> Result<NewPlacement, String> {
    let port = words(&form.port, "the port", 60)?;
    let serial = form.serial.trim();
    let probe = probes.iter().find(|p| p.serial == serial);
    let probe = probe.ok_or_else(|| format!("No probe has the serial “{serial}”: choose one of the list."))?;
    let depth_cm = match form.depth.trim() {
        "" => None,
        text => Some(DepthCm::new(read_number(text)?).map_err(|e| e.to_string())?),
    };
    let time = |text: &str| typed_time(text, offset);
    let starts = time(&form.starts)?;
    let ends = if form.ends.trim().is_empty() { None } else { Some(time(&form.ends)?) };
    Ok(NewPlacement {
        node_id,
        port,
        probe_id: probe.id,
        depth_cm,
        orientation: form.orientation.trim().to_owned(),
        starts,
        ends,
        note: note.to_owned(),
    })
}
