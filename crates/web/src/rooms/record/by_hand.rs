//! Readings typed or pasted: a rain gauge, irrigation, an older notebook.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, read_field};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::by_hand::{Kept, keep, read};
use ebrel_app::importing::unit_fits;
use ebrel_core::roles::Role;
use ebrel_core::units::Quantity;
use ebrel_store::StoreError;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/by-hand", Least::Member(Role::Field), show);
    routes.post("/stations/{id}/by-hand", Least::Member(Role::Field), store);
}

const LONGEST_NAME: usize = 60;
/// Slips that the page names.
const NAMED: usize = 20;

#[derive(Deserialize, Default)]
struct Typed {
    #[serde(default)]
    port: String,
    #[serde(default)]
    quantity: String,
    #[serde(default)]
    unit: String,
    #[serde(default)]
    table: String,
}

#[derive(Template)]
#[template(path = "rooms/record/by_hand.html")]
struct ByHandPage {
    shell: Shell,
    id: i64,
    station: String,
    quantities: Vec<(&'static str, &'static str, &'static str)>,
    typed: Typed,
    errors: Vec<String>,
    more: usize,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let typed = Typed { port: "rain gauge".into(), quantity: Quantity::Rain.code().into(), ..Typed::default() };
    shown(&state, &actor, *id, typed, Vec::new()).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    typed: Typed,
    mut errors: Vec<String>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let shell = Shell::within(state, actor, "By hand", Room::Record, &study, Some(&station)).await?;
    let quantities = Quantity::ALL.iter().filter(|q| !q.is_of_the_node()).map(|q| (q.code(), q.words(), q.unit()));
    let more = errors.len().saturating_sub(NAMED);
    errors.truncate(NAMED);
    page(&ByHandPage { shell, id, station: station.name, quantities: quantities.collect(), typed, errors, more })
}

async fn store(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let now = state.now(&study);
    let (table, passed_over) = match understood(&typed, study.utc_offset_minutes, now) {
        Ok(read) => read,
        Err(errors) => return shown(&state, &actor, *id, typed, errors).await,
    };
    match keep(&state.store, *id, &table, now).await {
        Ok(added) => {
            state.brought.notify_one();
            let lines = table.readings.len() + passed_over;
            let none = if passed_over == 0 { String::new() } else { format!(", {passed_over} without a reading") };
            say(
                &actor,
                &format!(
                    "{} lines: {} readings new, {} known, {} with another value than is known{none}.",
                    grouped(lines),
                    grouped(added.new),
                    grouped(added.known),
                    grouped(added.repeated)
                ),
            )?;
            Ok(see_other(&format!("/stations/{id}/placements")))
        }
        Err(StoreError::Rule(says)) => shown(&state, &actor, *id, typed, vec![says]).await,
        Err(error) => Err(error.into()),
    }
}

/// What was typed, and how many lines hold no reading; or everything that is wrong with it.
fn understood(typed: &Typed, offset: i64, now: ebrel_core::units::UnixSeconds) -> Result<(Kept, usize), Vec<String>> {
    let mut errors = Vec::new();
    let port = words(&typed.port, "what it was read from a name", LONGEST_NAME).map_err(|e| errors.push(e)).ok();
    let quantity = Quantity::from_code(&typed.quantity);
    if quantity.is_none() {
        errors.push("Choose what was read.".to_owned());
    }
    // What has one unit is stored in it; raw output has its own.
    let unit = quantity.map(|q| if q.unit().is_empty() { typed.unit.trim() } else { q.unit() }).unwrap_or_default();
    if let Some(Err(says)) = quantity.map(|q| unit_fits(q, unit)) {
        errors.push(says);
    }
    let pasted = read(&typed.table, now, |text| read_field(text, offset));
    errors.extend(pasted.slips.iter().map(|(line, says)| format!("Line {line}: {says}")));
    if pasted.readings.is_empty() && pasted.slips.is_empty() {
        errors.push("Paste at least one line with a time and a value.".to_owned());
    }
    match (port, quantity) {
        (Some(port), Some(quantity)) if errors.is_empty() => {
            Ok((Kept { port, quantity, unit: unit.to_owned(), readings: pasted.readings }, pasted.passed_over))
        }
        _ => Err(errors),
    }
}
