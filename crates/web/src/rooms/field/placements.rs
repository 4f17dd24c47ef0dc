//! Correcting what was put where, for what no log can mend. Readings never change by it.

use crate::shell::actor::Actor;
use crate::shell::drafts::TRIES;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, typed_time};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::reviewing;
use ebrel_core::drafts::merge;
use ebrel_core::roles::Role;
use ebrel_core::units::{DepthCm, read_number};
use ebrel_store::StoreError;
use ebrel_store::placements::{NewPlacement, Placement};
use ebrel_store::probes::Probe;
use serde::{Deserialize, Serialize};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/placements", Least::Member(Role::Guest), list);
    routes.post("/stations/{id}/placements/{placement}", Least::Member(Role::Field), correct);
}

struct Row {
    id: i64,
    model: String,
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
    rows: Vec<Row>,
    probes: Vec<Probe>,
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
}

async fn list(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    show(&state, &actor, *id, None).await
}

async fn show(
    state: &State,
    actor: &Actor,
    id: i64,
    refused: Option<(i64, Correction, String)>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let offset = study.utc_offset_minutes;
    let mut rows: Vec<Row> =
        state.store.placements(id).await?.iter().map(|p| row(p, offset)).collect::<Result<_, _>>()?;
    if let Some((placement, typed, error)) = refused
        && let Some(row) = rows.iter_mut().find(|r| r.id == placement)
    {
        row.typed = typed;
        row.error = Some(error);
    }
    let shell =
        Shell::within(state, actor, &format!("Probes of {}", station.name), Room::Field, &study, Some(&station))
            .await?;
    page(&PlacementsPage { shell, station: station.name, id, rows, probes: state.store.probes().await? })
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
    };
    let was = serde_json::to_string(&typed).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(Row { id: p.id, model: p.probe.model.clone(), was, typed, error: None })
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
        let resolved =
            combined(&form.0, &row(&known, offset)?).and_then(|whole| resolve(&whole, &known, &probes, offset));
        refused = match resolved {
            Err(sentence) => sentence,
            Ok(new) => match state.store.correct_placement(placement, &known.given(), &new).await {
                Err(StoreError::Stale) => continue,
                Err(StoreError::Rule(sentence)) => sentence,
                done => {
                    done?;
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
    show(&state, &actor, id, Some((placement, form.0, refused))).await
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

fn resolve(form: &Correction, known: &Placement, probes: &[Probe], offset: i64) -> Result<NewPlacement, String> {
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
        node_id: known.node_id,
        port,
        probe_id: probe.id,
        depth_cm,
        orientation: form.orientation.trim().to_owned(),
        starts,
        ends,
        note: known.note.clone(),
    })
}
