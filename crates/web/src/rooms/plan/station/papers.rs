//! What is printed or taken along: field sheet, labels, calendar, program.

use super::context;
use super::steps::{NumberRow, SoilRow, WireGroup, numbers, soil, wire_groups};
use crate::components::dig::{Drawing, Measures};
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::when;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, probe_address};
use crate::state::State;
use actix_web::http::header::ContentType;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{Shelf, WorkStep, read_day};
use ebrel_core::roles::Role;
use ebrel_core::sun::{SunTimes, sun_times};
use ebrel_core::units::UnixSeconds;
use qrcode::QrCode;
use qrcode::render::svg;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/plan/sheet", Least::Member(Role::Guest), sheet);
    routes.get("/stations/{id}/plan/labels", Least::Member(Role::Guest), labels);
    routes.get("/stations/{id}/plan/calendar.ics", Least::Member(Role::Guest), calendar);
    routes.get("/stations/{id}/plan/program.json", Least::Member(Role::Guest), program);
}

#[derive(Template)]
#[template(path = "rooms/plan/station/sheet.html")]
struct SheetPage {
    shell: Shell,
    id: i64,
    study: String,
    question: String,
    station: String,
    sentence: String,
    facts: Vec<(&'static str, String)>,
    stops: Vec<String>,
    drawing: Drawing,
    numbers: Vec<NumberRow>,
    soil: Vec<SoilRow>,
    steps: Vec<WorkStep>,
    kit: Vec<(&'static str, Vec<String>)>,
    wires: Vec<WireGroup>,
    readdress: Vec<String>,
    words: Vec<String>,
    pushed: bool,
    piped: bool,
}

async fn sheet(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, *id).await?;
    let found = &context.found;
    let draft = &context.draft;
    let measures = Measures::from_code(draft.choice("measures"));
    let shelf = |shelf: Shelf| {
        let items = found.kit.iter().filter(|i| i.shelf == shelf).map(|i| i.what.clone());
        (shelf.name(), items.collect())
    };
    let readdress = found.wiring.plugged.iter().filter_map(|p| {
        let from = p.readdress_from.as_ref()?;
        let to = p.address.as_ref()?;
        Some(format!("{}: address {from} becomes {to}", found.plan.probes[p.probe].label))
    });
    page(&SheetPage {
        shell: context::shell(&state, &actor, &context).await?,
        id: *id,
        study: context.study.name.clone(),
        question: context.study.question.clone(),
        station: context.station.name.clone(),
        sentence: found.sentence(),
        facts: facts(&context),
        stops: found.stops(None).map(|r| r.says.clone()).collect(),
        drawing: Drawing::of(found, measures),
        numbers: numbers(&context, measures),
        soil: soil(&context, measures),
        steps: found.steps.clone(),
        kit: Shelf::ALL.into_iter().map(shelf).collect(),
        wires: wire_groups(&context),
        readdress: readdress.collect(),
        words: found.plan.program.in_words(),
        pushed: found.dig.set.iter().any(|s| s.marks.is_some()),
        piped: found.dig.set.iter().any(|s| s.pipe_cut_cm.is_some()),
    })
}

fn facts(context: &StationPlan) -> Vec<(&'static str, String)> {
    let draft = &context.draft;
    let mut facts = vec![("Answers", draft.purpose.to_string()), ("Treatment", draft.treatment.to_string())];
    let plan = &context.found.plan;
    if let (Some(lat), Some(lon)) = (plan.latitude, plan.longitude) {
        facts.push(("Place", format!("{lat}° N, {lon}° E").replace('-', "−")));
        if let Some(day) = read_day(&draft.install) {
            facts.push(("Day", when(day, 0, "%A %-d %B %Y")));
            facts.push(("Sun", sun_words(lat, lon, day, context.study.utc_offset_minutes)));
        }
    }
    facts.push(("Known bias", context.station.known_bias.clone()));
    facts.retain(|(_, text)| !text.is_empty());
    facts
}

fn sun_words(lat: f64, lon: f64, day: UnixSeconds, offset: i64) -> String {
    let clock = |minutes: f64| when(UnixSeconds(day.0 + (minutes * 60.0) as i64), offset, "%H:%M");
    match sun_times(lat, lon, day.0) {
        SunTimes::Rises { sunrise, sunset } => format!("{} to {}", clock(sunrise), clock(sunset)),
        SunTimes::PolarNight => "does not rise".into(),
        SunTimes::PolarDay => "does not set".into(),
    }
}

/// A label for one end of a cable.
struct Label {
    serial: String,
    place: String,
    port: String,
    rings: String,
    station: String,
    code: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/labels.html")]
struct LabelsPage {
    shell: Shell,
    id: i64,
    station: String,
    labels: Vec<Label>,
    unnamed: usize,
}

async fn labels(
    state: web::Data<State>,
    actor: Actor,
    request: HttpRequest,
    id: web::Path<i64>,
) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, *id).await?;
    let connection = request.connection_info().clone();
    let mut labels = Vec::new();
    for (number, plugged) in context.found.wiring.plugged.iter().enumerate() {
        let probe = &context.found.plan.probes[plugged.probe];
        // A serial leads to the probe's page; without one yet, to the plan.
        let path = if context.draft.probes[probe.row].serial.is_blank() {
            format!("/stations/{}/plan/depths", *id)
        } else {
            probe_address(&probe.label)
        };
        let address = format!("{}://{}{path}", connection.scheme(), connection.host());
        let code = QrCode::new(address.as_bytes()).map_err(|e| Problem::Internal(e.to_string()))?;
        let code = code.render::<svg::Color<'_>>().quiet_zone(true).min_dimensions(96, 96).build();
        // The renderer opens with an XML declaration, which has no place within a page.
        let code = code.find("<svg").map_or(String::new(), |at| code[at..].to_owned());
        for _ in 0..2 {
            labels.push(Label {
                serial: probe.label.clone(),
                place: probe.place(),
                port: plugged.port.as_ref().map_or_else(|| "no port".to_owned(), |p| p.name.clone()),
                rings: format!("{} ring{}", number + 1, if number == 0 { "" } else { "s" }),
                station: context.station.name.clone(),
                code: code.clone(),
            });
        }
    }
    let unnamed = context.draft.probes.iter().filter(|p| p.serial.is_blank()).count();
    let shell = context::shell(&state, &actor, &context).await?;
    page(&LabelsPage { shell, id: *id, station: context.station.name.clone(), labels, unnamed })
}

async fn calendar(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, *id).await?;
    if context.found.calendar.is_empty() {
        return Err(Problem::Refused(
            "There is no calendar yet: give the day of installation at “Kit and dates”.".into(),
        ));
    }
    let newest = state.store.plan(*id).await?.map_or(UnixSeconds(0), |v| v.made_at);
    let name = format!("{}, {}", context.study.name, context.station.name);
    let text = ebrel_formats::dates::write(&name, &context.station.code, &context.found.calendar, newest);
    Ok(attachment("text/calendar; charset=utf-8", &format!("{}-plan.ics", context.station.code), text))
}

async fn program(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let context = StationPlan::load(&state.store, *id).await?;
    let text =
        serde_json::to_string_pretty(&context.found.plan.program).map_err(|e| Problem::Internal(e.to_string()))?;
    let kind = ContentType::json().to_string();
    Ok(attachment(&kind, &format!("{}-program.json", context.station.code), text))
}
