//! What is to come out of the ground, by date or by area, where it lies and how it comes out.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, read_field, when};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::{Retrieval, ToComeOut, retrieval};
use ebrel_core::planning::SERVICES;
use ebrel_core::roles::Role;
use ebrel_core::units::{SpanSeconds, UnixSeconds, format_short};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/field/retrieval", Least::Member(Role::Guest), show);
}

#[derive(Deserialize, Default)]
struct Asked {
    /// Stations whose day is not later than this.
    #[serde(default)]
    until: String,
    /// The treatment or the station's number; empty: all.
    #[serde(default)]
    area: String,
}

#[derive(Template)]
#[template(path = "rooms/field/retrieval.html")]
struct RetrievalPage {
    shell: Shell,
    study: i64,
    answer: String,
    asked: Asked,
    error: Option<String>,
    areas: Vec<(String, String)>,
    list: Vec<Retrieval>,
    /// Stations that the question leaves out, with their probes.
    others: Vec<String>,
    offset: i64,
    now: UnixSeconds,
    caution: &'static str,
}

impl RetrievalPage {
    fn due(&self, of: &Retrieval) -> String {
        let Some(until) = of.until else { return "no day is planned".to_owned() };
        let day = when(until, self.offset, "%-d %b %Y");
        let away = SpanSeconds(until.0 - self.now.0);
        let why = if of.why.is_empty() { String::new() } else { format!(" ({})", of.why) };
        if away.0 < 0 { format!("overdue since {day}{why}") } else { format!("by {day}, in {}{why}", away.in_words()) }
    }

    fn overdue(&self, of: &Retrieval) -> bool {
        of.until.is_some_and(|t| t < self.now)
    }

    fn depth(&self, of: &ToComeOut) -> String {
        match of.depth_cm {
            Some(d) if d < 0.0 => format!("{}\u{a0}cm above", format_short(-d)),
            Some(d) => format!("{}\u{a0}cm", format_short(d)),
            None => "–".to_owned(),
        }
    }

    fn since(&self, of: &ToComeOut) -> String {
        when(of.since, self.offset, "%-d %b %Y")
    }
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let (now, offset) = (state.now(&study), study.utc_offset_minutes);
    let mut asked = asked.into_inner();
    let all = retrieval(&state.store, *id, now).await?;
    let mut areas: Vec<(String, String)> = Vec::new();
    for r in &all {
        if !r.treatment.is_empty() && areas.iter().all(|a| a.0 != r.treatment) {
            areas.push((r.treatment.clone(), format!("all: {}", r.treatment)));
        }
    }
    areas.extend(all.iter().map(|r| (r.station.to_string(), r.name.clone())));
    let read = read_field(&asked.until, offset);
    let error = (read.is_none() && !asked.until.trim().is_empty())
        .then(|| format!("“{}” is no date: write it like 2026-11-30. All days are shown.", asked.until.trim()));
    if let Some(day) = read {
        asked.until = field(day, offset).chars().take(10).collect();
    }
    let by_day = |r: &Retrieval| read.is_none_or(|day| r.until.is_some_and(|t| t <= day));
    let by_area =
        |r: &Retrieval| asked.area.is_empty() || r.treatment == asked.area || r.station.to_string() == asked.area;
    let (list, others): (Vec<_>, Vec<_>) = all.into_iter().partition(|r| by_day(r) && by_area(r));
    let probes: usize = list.iter().map(|r| r.probes.len()).sum();
    let answer = match (list.len(), others.len()) {
        (0, 0) => "Nothing lies in the ground.".to_owned(),
        (0, _) => "Nothing is to come out by this question.".to_owned(),
        (1, _) => format!("{probes} probes of one station."),
        (n, _) => format!("{probes} probes of {n} stations."),
    };
    let others = others.iter().map(|r| format!("{} ({} probes)", r.name, r.probes.len())).collect();
    let shell = Shell::within(&state, &actor, "To come out", Room::Field, &study, None).await?;
    let caution = SERVICES;
    page(&RetrievalPage { shell, study: *id, answer, asked, error, areas, list, others, offset, now, caution })
}
