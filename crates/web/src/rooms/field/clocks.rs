//! The clocks of a station's nodes: their checks, how far they ran ahead, and what a time that came was in truth.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, fixed, signed, typed_time, when};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::{NodeCheck, StationRecord};
use ebrel_core::field::Clock;
use ebrel_core::roles::Role;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/clocks", Least::Member(Role::Guest), show);
}

#[derive(Deserialize, Default)]
struct Asked {
    /// A time as it came.
    #[serde(default)]
    came: String,
}

/// A check, and the stretch that ended with it.
struct Row {
    at: String,
    ahead: String,
    set: bool,
    /// Whether nobody held it against another clock.
    by_grid: bool,
    /// Drift since the check before, seconds a week.
    drift: String,
    /// How well times in the middle of that stretch are known, seconds.
    known_to: String,
}

struct NodeClock {
    node: String,
    error: Option<String>,
    rows: Vec<Row>,
    /// What the time that is asked for was in truth, and how well that is known.
    truth: Option<(String, String)>,
}

#[derive(Template)]
#[template(path = "rooms/field/clocks.html")]
struct ClocksPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    nodes: Vec<NodeClock>,
    asked: Asked,
    error: Option<String>,
}

const SECONDS: &str = "%-d %b %Y %H:%M:%S";

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::outline(&state.store, *id).await?;
    let (study, station) = (&record.study, &record.station);
    let offset = study.utc_offset_minutes;
    let mut asked = asked.into_inner();
    if asked.came.trim().is_empty() {
        asked.came = field(state.now(study), offset);
    }
    let came = typed_time(&asked.came, offset);
    let mut names: Vec<&str> = record.clock_checks.iter().map(|c| c.node.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let nodes: Vec<NodeClock> = names.iter().map(|n| node(&record, n, came.as_ref().ok().copied(), offset)).collect();
    let checks = record.clock_checks.len();
    let answer = match (checks, nodes.iter().filter(|n| n.error.is_some()).count()) {
        (0, _) => "No clock was ever checked: every time stands as it came.".to_owned(),
        (n, 0) => format!("{n} checks; every view and export has the corrected times."),
        (_, wrong) => format!("{wrong} of {} clocks cannot be corrected: a check contradicts the others.", nodes.len()),
    };
    let shell = Shell::within(&state, &actor, "Clocks", Room::Record, study, Some(station)).await?;
    let (station, error) = (station.name.clone(), came.err());
    page(&ClocksPage { shell, id: *id, station, answer, nodes, asked, error })
}

fn node(record: &StationRecord, name: &str, came: Option<UnixSeconds>, offset: i64) -> NodeClock {
    let (clock, error) = match record.clock(name) {
        Some(Ok(clock)) => (Some(clock), None),
        Some(Err(error)) => (None, Some(error.to_string())),
        None => (None, None),
    };
    let mut rows = Vec::new();
    let mut before: Option<(UnixSeconds, i64)> = None;
    for NodeCheck { check, by_grid, .. } in record.clock_checks.iter().filter(|c| c.node == name) {
        let ahead = check.ahead().0;
        let drift = before.map_or_else(String::new, |(since, was)| {
            let weeks = (check.truth.0 - since.0).max(1) as f64 / (7 * SpanSeconds::DAY.0) as f64;
            signed((ahead - was) as f64 / weeks, 1)
        });
        let middle = before.map(|(since, _)| UnixSeconds(since.0.midpoint(check.shown.0)));
        rows.push(Row {
            at: when(check.truth, offset, SECONDS),
            ahead: signed(ahead as f64, 0),
            set: check.set,
            by_grid: *by_grid,
            drift,
            known_to: clock.as_ref().zip(middle).map_or_else(String::new, |(c, m)| fixed(c.known_to(m), 0)),
        });
        before = Some((check.truth, if check.set { 0 } else { ahead }));
    }
    let truth =
        |clock: Clock| came.map(|came| (when(clock.corrected(came), offset, SECONDS), fixed(clock.known_to(came), 0)));
    NodeClock { node: name.to_owned(), error, rows, truth: clock.and_then(truth) }
}
