//! The station page: the section and the strips.

use super::events::EventForm;
use crate::components::strips::{self, Drawing, drawing};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped, moment, span};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::http::header::{ACCEPT_ENCODING, CONTENT_ENCODING};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_app::stamped::Asked;
use ebrel_app::window::{Show, window};
use ebrel_core::roles::Role;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use std::io::Read;
use std::sync::Arc;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/window.json", Least::Member(Role::Guest), window_json);
}

#[derive(Template)]
#[template(path = "rooms/record/station.html")]
struct StationPage {
    shell: Shell,
    name: String,
    id: i64,
    facts: String,
    bias: String,
    health: String,
    /// How many checks of its nodes' clocks move its times.
    clock_checks: usize,
    uncalibrated: Vec<String>,
    /// Readings that came twice with different values and wait for somebody to choose.
    twice: usize,
    drawing: Option<Drawing>,
    /// The form over the strips, for who may tell events.
    form: Option<EventForm>,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let (study, station) = (&record.study, &record.station);
    let shell = Shell::within(&state, &actor, &station.name, Room::Record, study, Some(station)).await?;
    let raw = record.channels.iter().filter(|c| c.quantity() == Quantity::RawOutput);
    let mut uncalibrated: Vec<(String, usize)> = Vec::new();
    for label in raw.map(|c| c.channel.label()) {
        match uncalibrated.iter_mut().find(|u| u.0 == label) {
            Some(known) => known.1 += 1,
            None => uncalibrated.push((label, 1)),
        }
    }
    let counted = |(label, n): (String, usize)| if n == 1 { label } else { format!("{label} ({n} probes)") };
    let form = shell.may(Role::Field).then(|| EventForm::new(*id, &shell.token));
    page(&StationPage {
        form,
        shell,
        name: station.name.clone(),
        id: *id,
        facts: facts(&record),
        bias: station.known_bias.clone(),
        health: health(&record, state.now(study)),
        clock_checks: record.clock_checks.len(),
        uncalibrated: uncalibrated.into_iter().map(counted).collect(),
        twice: record.channels.iter().map(|c| c.repeats.len()).sum(),
        drawing: drawing(&record),
    })
}

/// Soil, probes and the length of the record in one line.
fn facts(record: &StationRecord) -> String {
    let mut parts = Vec::new();
    let textures = record.soil.horizons().iter().map(|h| h.texture.as_str());
    let textures: Vec<&str> = textures.filter(|t| !t.is_empty()).collect();
    let mut distinct: Vec<&str> = Vec::new();
    textures.iter().for_each(|t| {
        if distinct.last() != Some(t) {
            distinct.push(t);
        }
    });
    if !distinct.is_empty() {
        parts.push(distinct.join(" over "));
    }
    if !record.station.treatment.is_empty() {
        parts.push(record.station.treatment.clone());
    }
    if let Some((first, last)) = record.extent() {
        let readings: usize = record.channels.iter().map(|c| c.view().times.len()).sum();
        let offset = record.study.utc_offset_minutes;
        parts.push(format!("{} readings, {}", grouped(readings), span(first, last, offset)));
    }
    parts.join(" · ")
}

/// When the station was last heard, and its battery.
fn health(record: &StationRecord, now: UnixSeconds) -> String {
    let Some((_, last)) = record.extent() else { return String::new() };
    let ago = SpanSeconds((now - last).0.max(0));
    let mut words = if ago > SpanSeconds(90 * 60) {
        let at = moment(last, record.study.utc_offset_minutes);
        format!("last record {at}, {} ago", ago.in_words())
    } else {
        format!("last record {} ago", ago.in_words())
    };
    let battery = record.channels.iter().find(|c| c.quantity() == Quantity::BatteryVoltage);
    if let Some(volts) = battery.and_then(|c| c.view().values.last().copied()) {
        words.push_str(&format!(" · battery {}\u{a0}V", fixed(volts, 2)));
    }
    words
}

async fn window_json(
    state: web::Data<State>,
    id: web::Path<i64>,
    query: web::Query<strips::Asked>,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    let window_asked = query.window()?;
    let strips::Asked { from, to, columns, show } = query.into_inner();
    let internal = |e: String| Problem::Internal(e);
    let accepts = request.headers().get(ACCEPT_ENCODING).and_then(|v| v.to_str().ok());
    let packs = accepts.is_some_and(|a| a.contains("gzip"));
    let send = |body: Arc<[u8]>| {
        let mut answer = HttpResponse::Ok();
        answer.content_type("application/json");
        if packs {
            return Ok(answer.insert_header((CONTENT_ENCODING, "gzip")).body(body.to_vec()));
        }
        let mut plain = Vec::new();
        GzDecoder::new(&body[..]).read_to_end(&mut plain).map_err(|e| Problem::Internal(e.to_string()))?;
        Ok(answer.body(plain))
    };
    // The stamp first: what changes while the answer is made makes it another one.
    let stamp = state.store.stamp(*id).await?;
    let asked = Asked { station: *id, span: (from, to), columns, show };
    if let Some(known) = state.windows.get(&asked, &stamp) {
        return send(known);
    }
    let place = state.thinning.take().await?;
    // Others asked for the same meanwhile.
    if let Some(known) = state.windows.get(&asked, &stamp) {
        return send(known);
    }
    let record = StationRecord::load(&state.store, *id).await?;
    let flags = state.store.flags(*id).await?;
    let show = Show::from_word(&asked.show);
    let made = place.run(move || {
        let mut packed = GzEncoder::new(Vec::new(), Compression::fast());
        serde_json::to_writer(&mut packed, &window(&record, &flags, &window_asked, show)).map_err(|e| e.to_string())?;
        packed.finish().map_err(|e| e.to_string())
    });
    let made: Arc<[u8]> = made.await?.map_err(internal)?.into();
    state.windows.put(asked, stamp, Arc::clone(&made));
    send(made)
}
