//! What the air did: evapotranspiration, degree days, frost; and on how many days the soil was dry, by month.

use super::frame::{Loaded, Tabs, loaded, month, number, part};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::fixed;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{AirAsked, AirFindings, DaysOf, air};
use ebrel_core::findings::climate::{Month, season_of, seasons};
use ebrel_core::findings::{Part, Season};
use ebrel_core::roles::Role;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/findings/air", Least::Member(Role::Guest), show);
}

#[derive(Deserialize, Default)]
struct Query {
    base: Option<String>,
    dry: Option<String>,
    tension: Option<String>,
}

/// A month as shown; the last word is said of what is missing.
struct Row {
    name: String,
    days: usize,
    mean: String,
    extremes: String,
    degree_days: String,
    frost: usize,
    rain: String,
    et: String,
    dry: Vec<String>,
}

#[derive(Template)]
#[template(path = "rooms/findings/air.html")]
struct AirPage {
    shell: Shell,
    tabs: Tabs,
    station: String,
    id: i64,
    answer: String,
    missing: Vec<String>,
    error: Option<String>,
    base: String,
    dry: String,
    tension: String,
    columns: Vec<String>,
    rows: Vec<Row>,
    seasons: Vec<Row>,
    how: Vec<String>,
}

/// Degrees above which plants are taken to grow, °C.
const BASE_C: f64 = 5.0;

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    query: web::Query<Query>,
) -> Result<HttpResponse, Problem> {
    let place = state.thinning.take().await?;
    let Loaded { of, neighbours } = loaded(&state, *id).await?;
    let (study, station) = (of.record.study.clone(), of.record.station.clone());
    let tabs = Tabs::of(&of.record, "Air");
    let shell = Shell::within(&state, &actor, "Air", Room::Findings, &study, Some(&station)).await?;
    let q = query.into_inner();
    let read = || -> Result<AirAsked, String> {
        Ok(AirAsked {
            base_c: number(q.base.as_deref(), "Base temperature", -5.0..=25.0)?.unwrap_or(BASE_C),
            dry_below: number(q.dry.as_deref(), "Dry below", 0.0..=1.0)?,
            tension_above: number(q.tension.as_deref(), "Tension above", 0.0..=2000.0)?,
        })
    };
    let (asked, error) = match read() {
        Ok(asked) => (asked, None),
        Err(e) => (AirAsked { base_c: BASE_C, dry_below: None, tension_above: None }, Some(e)),
    };
    let found = place.run(move || air(&of, &neighbours, &asked)).await?;
    let mut made = AirPage {
        shell,
        tabs,
        station: station.name,
        id: *id,
        answer: String::new(),
        missing: Vec::new(),
        error,
        base: fixed(asked.base_c, 1),
        dry: asked.dry_below.map_or_else(String::new, |v| fixed(v, 3)),
        tension: asked.tension_above.map_or_else(String::new, |v| fixed(v, 0)),
        columns: Vec::new(),
        rows: Vec::new(),
        seasons: Vec::new(),
        how: Vec::new(),
    };
    match found {
        None => made.answer = "There are no readings here yet.".into(),
        Some(found) => made.fill(&found, &asked),
    }
    page(&made)
}

impl AirPage {
    fn fill(&mut self, found: &AirFindings, asked: &AirAsked) {
        self.answer = answer(found);
        if found.air_of.is_none() {
            self.missing.push(
                "No shielded thermometer of the air has readings here or at another station of the study.".into(),
            );
        }
        if found.method.is_none() && found.air_of.is_some() {
            self.missing.push(
                "The latitude of the station is not known: no evapotranspiration. Give its place in the plan; the rest works without.".into(),
            );
        }
        if !found.has_rain {
            self.missing.push("No gauge tells of rain here or within 5 km.".into());
        }
        self.columns = found.dry.iter().map(|d| d.0.clone()).collect();
        let of_month = |key: &(i32, u8), days: &DaysOf| days.get(key).copied();
        let dry = |key: &(i32, u8)| found.dry.iter().map(|d| of_month(key, &d.1)).collect::<Vec<_>>();
        self.rows = found.months.iter().rev().map(|(key, m)| row(month(*key), m, dry(key))).collect();
        let in_season = |key: &(i32, Season)| {
            let of = |days: &DaysOf| {
                let parts = days.iter().filter(|(k, _)| season_of(k.0, k.1) == *key).map(|(_, d)| *d);
                parts.reduce(|a, b| (a.0 + b.0, a.1 + b.1))
            };
            found.dry.iter().map(|d| of(&d.1)).collect::<Vec<_>>()
        };
        let named = |key: &(i32, Season)| part(Part::Season(key.0, key.1));
        self.seasons = seasons(&found.months).iter().rev().map(|(key, m)| row(named(key), m, in_season(key))).collect();
        let base = fixed(asked.base_c, 1);
        self.how.push(format!(
            "Days by the study's clock, of which nine tenths are known. Degree days: mean of a day's extremes less {base}\u{a0}°C, never below 0. \
             Frost days: lowest air temperature below 0\u{a0}°C. Sums are over the days in brackets: a month with days missing is not made up."
        ));
        if let Some(method) = found.method {
            self.how.push(format!("Reference evapotranspiration by {}.", method.words()));
        }
        if let Some(Some(of)) = &found.air_of {
            self.how.push(format!("The air is that of {of}."));
        }
    }
}

/// A month or a season as shown.
fn row(name: String, m: &Month, dry: Vec<Option<(usize, usize)>>) -> Row {
    let of = |(sum, n): (f64, usize)| if n == 0 { "–".into() } else { format!("{} ({n}\u{a0}d)", fixed(sum, 0)) };
    let known = |text: String| if m.days == 0 { "–".into() } else { text };
    Row {
        name,
        days: m.days,
        mean: known(fixed(m.mean_c, 1)),
        extremes: known(format!("{} to {}", fixed(m.extremes_c.0, 1), fixed(m.extremes_c.1, 1))),
        degree_days: known(fixed(m.degree_days, 0)),
        frost: m.frost_days,
        rain: of(m.rain),
        et: of(m.evapotranspiration),
        dry: dry.into_iter().map(|d| d.map_or_else(|| "–".into(), |(n, of)| format!("{n} of {of}"))).collect(),
    }
}

fn answer(found: &AirFindings) -> String {
    let years: Vec<i32> = found.months.keys().map(|k| k.0).collect();
    let whole = years.iter().copied().filter(|y| years.iter().filter(|o| *o == y).count() == 12).max();
    let Some(year) = whole.or_else(|| years.last().copied()) else {
        return "Nothing is known of the air here.".into();
    };
    let of: Vec<_> = found.months.iter().filter(|(k, _)| k.0 == year).map(|(_, m)| m).collect();
    let sum = |f: &dyn Fn(&Month) -> f64| of.iter().map(|m| f(m)).sum::<f64>();
    let (rain, et) = (sum(&|m| m.rain.0), sum(&|m| m.evapotranspiration.0));
    let frost: usize = of.iter().map(|m| m.frost_days).sum();
    let mut words = format!("In {year}");
    if found.has_rain {
        words.push_str(&format!(" {}\u{a0}mm of rain fell", fixed(rain, 0)));
    }
    if et > 0.0 {
        let and = if found.has_rain { " and the air" } else { " the air" };
        words.push_str(&format!("{and} could have taken {}\u{a0}mm", fixed(et, 0)));
    }
    words.push_str(&format!(
        "; {frost} days had frost, and {} degree days were warm enough to grow.",
        fixed(sum(&|m| m.degree_days), 0)
    ));
    words
}
