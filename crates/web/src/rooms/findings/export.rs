//! Taking the record out: packages and tables.

use super::frame::Tabs;
use crate::shell::actor::Actor;
use crate::shell::download::made;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, grouped, typed_time};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use ebrel_app::exporting::{self, Origins, Selection};
use ebrel_app::record::{Flagged, StationRecord};
use ebrel_core::roles::Role;
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, Quantity, UnixSeconds};
use ebrel_formats::package::write_zip;
use ebrel_formats::wide::wide_csv;
use ebrel_store::flags::StoredFlag;
use std::fs::File;
use std::io::BufWriter;

/// Routes of this room.
pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/export", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/export/package.zip", Least::Member(Role::Guest), package);
    routes.get("/studies/{id}/package.zip", Least::Member(Role::Guest), whole);
    routes.get("/stations/{id}/export/wide.csv", Least::Member(Role::Guest), wide);
}

struct Check {
    code: &'static str,
    words: &'static str,
    checked: bool,
}

#[derive(Template)]
#[template(path = "rooms/findings/export.html")]
struct ExportPage {
    shell: Shell,
    tabs: Tabs,
    station: String,
    id: i64,
    from: String,
    to: String,
    quantities: Vec<Check>,
    grades: Vec<Check>,
    answer: String,
    error: Option<String>,
}

/// The selection that a query makes; the error is a sentence.
fn selection(query: &str, record: &StationRecord) -> Result<Selection, String> {
    let pairs = web::Query::<Vec<(String, String)>>::from_query(query).map(web::Query::into_inner).unwrap_or_default();
    let first = |name: &str| pairs.iter().find(|p| p.0 == name).map(|p| p.1.as_str()).filter(|v| !v.is_empty());
    let all = |name: &str| pairs.iter().filter(|p| p.0 == name).map(|p| p.1.clone()).collect::<Vec<_>>();
    let offset = record.study.utc_offset_minutes;
    let (start, end) = record.extent().unwrap_or((UnixSeconds(0), UnixSeconds(0)));
    let time = |name: &str, other: UnixSeconds| match first(name) {
        None => Ok(other),
        Some(text) => typed_time(text, offset),
    };
    let (from, to) = (time("from", start)?, time("to", UnixSeconds(end.0 + 60 - end.0.rem_euclid(60)))?);
    if to <= from && record.extent().is_some() {
        return Err("The end must lie after the start.".into());
    }
    let given = pairs.iter().any(|p| p.0 == "chosen");
    let leave_out =
        if given { all("leave_out").iter().filter_map(|g| Grade::from_code(g)).collect() } else { vec![Grade::Wrong] };
    let quantities = all("quantity").iter().filter_map(|q| Quantity::from_code(q)).collect();
    Ok(Selection { from, to, quantities, belief: Belief { leave_out } })
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    request: HttpRequest,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let flags = state.store.flags(*id).await?;
    let chosen = selection(request.query_string(), &record);
    let error = chosen.as_ref().err().cloned();
    let chosen = chosen.or_else(|_| selection("", &record)).map_err(Problem::Refused)?;
    let counts = exporting::counts(&record, &flags, &chosen);
    let mut present: Vec<Quantity> = record.channels.iter().map(ebrel_app::record::ChannelRecord::quantity).collect();
    present.sort_unstable();
    present.dedup();
    let grades =
        [(Grade::Wrong, "wrong"), (Grade::Doubtful, "doubtful"), (Grade::Condition, "condition (ponded, frozen, …)")];
    let shell = Shell::within(&state, &actor, "Export", Room::Findings, &record.study, Some(&record.station)).await?;
    let offset = record.study.utc_offset_minutes;
    page(&ExportPage {
        shell,
        tabs: Tabs::of(&record, "Take out"),
        station: record.station.name.clone(),
        id: *id,
        from: field(chosen.from, offset),
        to: field(chosen.to, offset),
        quantities: present
            .into_iter()
            .map(|q| Check {
                code: q.code(),
                words: q.words(),
                checked: chosen.quantities.is_empty() || chosen.quantities.contains(&q),
            })
            .collect(),
        grades: grades
            .map(|(g, words)| Check { code: g.code(), words, checked: chosen.belief.leave_out.contains(&g) })
            .into(),
        answer: format!(
            "{} readings of {} channels; {} are left out.",
            grouped(counts.readings),
            counts.channels,
            grouped(counts.left_out)
        ),
        error,
    })
}

async fn selected(state: &State, id: i64, query: &str) -> Result<(StationRecord, Vec<StoredFlag>, Selection), Problem> {
    let record = StationRecord::load(&state.store, id).await?;
    let flags = state.store.flags(id).await?;
    let selection = selection(query, &record).map_err(Problem::Refused)?;
    Ok((record, flags, selection))
}

async fn package(state: web::Data<State>, id: web::Path<i64>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    let place = state.heavy.take().await?;
    let (record, flags, selection) = selected(&state, *id, request.query_string()).await?;
    let name = format!("{}.zip", record.station.code);
    let parts = [Flagged { record, flags }];
    let origins = Origins::load(&state.store, &parts).await?;
    let make = move |out: &mut BufWriter<File>| write_zip(exporting::package(&parts, &origins, &selection), out);
    made(&state, &place, ("application/zip", &name), make).await
}

/// All stations of a study as one package: nothing is left out, flags and verdicts go along.
async fn whole(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let place = state.heavy.take().await?;
    let (parts, selection) = exporting::whole_study(&state.store, *id).await?;
    let origins = Origins::load(&state.store, &parts).await?;
    let make = move |out: &mut BufWriter<File>| write_zip(exporting::package(&parts, &origins, &selection), out);
    made(&state, &place, ("application/zip", &format!("study-{id}.zip")), make).await
}

async fn wide(state: web::Data<State>, id: web::Path<i64>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    let place = state.heavy.take().await?;
    let (record, flags, selection) = selected(&state, *id, request.query_string()).await?;
    let name = format!("{}.csv", record.station.code);
    let offset = record.study.utc_offset_minutes;
    let make =
        move |out: &mut BufWriter<File>| Ok(wide_csv(exporting::wide(&record, &flags, &selection), offset, out)?);
    made(&state, &place, ("text/csv; charset=utf-8", &name), make).await
}
