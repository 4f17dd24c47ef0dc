//! A new station: its name and its soil.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::forms::{Field, at_most, optional, words};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::roles::Role;
use ebrel_core::soil::Horizon;
use ebrel_core::units::{ranges, read_number};
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use std::collections::HashMap;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/stations/new", Least::Member(Role::Researcher), show);
    routes.post("/studies/{id}/stations/new", Least::Member(Role::Researcher), add);
}

/// Horizons that the form offers.
const HORIZONS: usize = 6;

#[derive(Default, Clone)]
struct HorizonForm {
    name: String,
    texture: String,
    bottom: Field,
    density: Field,
}

#[derive(Template)]
#[template(path = "rooms/plan/new_station.html")]
struct NewStationPage {
    shell: Shell,
    study: Study,
    name: Field,
    code: Field,
    treatment: String,
    horizons: Vec<HorizonForm>,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let shell = Shell::within(&state, &actor, "New station", Room::Plan, &study, None).await?;
    let horizons = vec![HorizonForm::default(); HORIZONS];
    page(&NewStationPage {
        shell,
        study,
        name: Field::default(),
        code: Field::default(),
        treatment: String::new(),
        horizons,
    })
}

async fn add(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<HashMap<String, String>>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let text = |name: &str| form.0.get(name).map_or("", |t| t.trim());
    let name = words(text("name"), "the station's name", 80);
    let code = code(text("code"), text("name"));
    let (mut horizons, mut shown, mut top, mut good) = (Vec::new(), Vec::new(), 0.0, true);
    for i in 0..HORIZONS {
        let (form, horizon) = horizon(&text, i, top);
        good &= form.bottom.error.is_none() && form.density.error.is_none();
        if let Some(h) = horizon {
            top = h.bottom_cm;
            horizons.push(h);
        }
        shown.push(form);
    }
    let mut code_error = code.as_ref().err().cloned();
    if let (Ok(name), Ok(code), true) = (&name, &code, good) {
        let station = Station {
            id: 0,
            study_id: study.id,
            code: code.clone(),
            name: name.clone(),
            latitude: None,
            longitude: None,
            elevation_m: None,
            treatment: at_most(text("treatment"), "the treatment", 200)?,
            cover: String::new(),
            known_bias: String::new(),
        };
        match state.store.add_station(&station, &horizons).await {
            Ok(station) => return Ok(see_other(&format!("/stations/{station}/plan/site"))),
            Err(ebrel_store::StoreError::Rule(sentence)) => code_error = Some(sentence),
            Err(other) => return Err(other.into()),
        }
    }
    let shell = Shell::within(&state, &actor, "New station", Room::Plan, &study, None).await?;
    page(&NewStationPage {
        shell,
        study,
        name: Field { text: text("name").to_owned(), error: name.err() },
        code: Field { text: text("code").to_owned(), error: code_error },
        treatment: text("treatment").to_owned(),
        horizons: shown,
    })
}

/// The code as given, or made of the name.
fn code(given: &str, name: &str) -> Result<String, String> {
    let source = if given.is_empty() { name } else { given };
    let tidy: String = source.to_lowercase().chars().map(|c| if c.is_alphanumeric() { c } else { '-' }).collect();
    let tidy = tidy.trim_matches('-').chars().take(24).collect::<String>();
    if tidy.is_empty() {
        Err("Give a short code of letters and digits; files and commands use it.".into())
    } else {
        Ok(tidy)
    }
}

/// One line of the soil; an empty one is passed over.
fn horizon<'t>(text: &impl Fn(&str) -> &'t str, i: usize, top: f64) -> (HorizonForm, Option<Horizon>) {
    let [name, texture, bottom, density] =
        ["name", "texture", "bottom", "density"].map(|f| text(&format!("h-{f}-{i}")));
    let mut form = HorizonForm {
        name: name.to_owned(),
        texture: texture.to_owned(),
        bottom: Field::of(bottom),
        density: Field::of(density),
    };
    if [name, texture, bottom, density].iter().all(|t| t.is_empty()) {
        return (form, None);
    }
    for (words, text, most) in [("name", name, 20), ("texture", texture, 40)] {
        let length = text.chars().count();
        if length > most {
            form.bottom.error = Some(format!("Shorten the {words} to {most} characters; it has {length}."));
            return (form, None);
        }
    }
    let lower = read_number(bottom).and_then(|b| {
        if b > top && b <= 1000.0 {
            Ok(b)
        } else {
            Err(format!("Give a depth below {top} cm, where the horizon above ends."))
        }
    });
    let dense = optional(density, ranges::BULK_DENSITY_G_CM3);
    form.bottom.error = lower.as_ref().err().cloned();
    form.density.error = dense.as_ref().err().cloned();
    let horizon = lower.ok().zip(dense.ok()).map(|(bottom_cm, bulk_density_g_cm3)| Horizon {
        top_cm: top,
        bottom_cm,
        name: name.to_owned(),
        texture: texture.to_owned(),
        sand_pct: None,
        clay_pct: None,
        organic_matter_pct: None,
        bulk_density_g_cm3,
    });
    (form, horizon)
}
