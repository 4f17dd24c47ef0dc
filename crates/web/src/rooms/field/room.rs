//! How the stations of a study stand in the field, and what is open.

use super::site_plan::{SitePlan, site_plan};
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::{moment, when};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::{LogRow, StationStanding, standing, walks};
use ebrel_app::planning::StationPlan;
use ebrel_core::field::LogKind;
use ebrel_core::planning::Entry;
use ebrel_core::roles::Role;
use ebrel_core::units::{SpanSeconds, UnixSeconds};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/field", Least::Member(Role::Guest), show);
    routes.get("/studies/{id}/field/due.ics", Least::Member(Role::Guest), due);
}

struct Log {
    number: String,
    what: &'static str,
    when: String,
    by: String,
    entries: usize,
    state: String,
    open: Vec<(String, String)>,
}

struct Row {
    id: i64,
    name: String,
    /// What comes next there.
    next: String,
    warn: bool,
    /// Whether that is a visit.
    visit_due: bool,
    probes: String,
    settles: String,
    official: String,
    visited: String,
    /// What the plan's calendar has next.
    calendar: Vec<String>,
    logs: Vec<Log>,
}

#[derive(Template)]
#[template(path = "rooms/field/room.html")]
struct RoomPage {
    shell: Shell,
    answer: String,
    rows: Vec<Row>,
    study: i64,
    /// Whether anything can be due: probes are in the ground.
    due: bool,
    site: Option<SitePlan>,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let now = state.now(&study);
    let offset = study.utc_offset_minutes;
    let mut rows = Vec::new();
    for station in standing(&state.store, *id, now).await? {
        let plan = StationPlan::load(&state.store, station.station.id).await?;
        let planned = (station.lying == 0).then(|| (plan.version, plan.found.stops(None).count()));
        let calendar = coming(&plan.found.calendar, now, offset);
        rows.push(Row { calendar, ..row(station, planned, now, offset) });
    }
    let open: usize = rows.iter().flat_map(|r| &r.logs).map(|l| l.open.len()).sum();
    let unfinished = rows.iter().flat_map(|r| &r.logs).filter(|l| l.state == "unfinished").count();
    let visits = rows.iter().filter(|r| r.visit_due).count();
    let told = |n: usize, word: &str, how: &str| (n > 0).then(|| format!("{n} {} {how}", many(n, word)));
    let parts = [told(visits, "visit", "due"), told(unfinished, "log", "unfinished"), told(open, "step", "left out")];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    let answer = match (rows.is_empty(), parts.is_empty()) {
        (true, _) => "No station yet.".to_owned(),
        (_, true) => "Nothing is open in the field.".to_owned(),
        (_, false) => format!("{}.", parts.join(", ")),
    };
    let shell = Shell::within(&state, &actor, "Field", Room::Field, &study, None).await?;
    let (stations, landmarks) = (state.store.stations(*id).await?, state.store.landmarks(*id).await?);
    let site = site_plan(&stations, &landmarks, &walks(&state.store, &stations, &landmarks).await?);
    let due = rows.iter().any(|r| r.probes != NONE_YET);
    page(&RoomPage { shell, answer, rows, study: *id, due, site })
}

/// Days ahead that the room looks in the plans' calendars, and how many of their entries it shows.
const AHEAD_DAYS: i64 = 120;
const SHOWN: usize = 3;

/// What a plan's calendar has next: a visit, or getting everything out before machines come.
fn coming(calendar: &[Entry], now: UnixSeconds, offset: i64) -> Vec<String> {
    let end = now + SpanSeconds(AHEAD_DAYS * SpanSeconds::DAY.0);
    let mut next: Vec<(UnixSeconds, &str)> = calendar
        .iter()
        .filter_map(|e| {
            let (every, times) = e.repeats.unwrap_or((1, 1));
            let at = (0..i64::from(times)).map(|i| UnixSeconds(e.from.0 + i * every * SpanSeconds::DAY.0));
            at.into_iter().find(|t| *t >= now && *t < end).map(|t| (t, e.what.as_str()))
        })
        .collect();
    next.sort_unstable();
    next.truncate(SHOWN);
    next.into_iter().map(|(t, what)| format!("{}: {what}", when(t, offset, "%-d %b %Y"))).collect()
}

/// What is due in the field, for a calendar: the next visit of each station, and when one has settled.
async fn due(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let now = state.now(&study);
    let day = |t: UnixSeconds| UnixSeconds(t.0 - t.0.rem_euclid(SpanSeconds::DAY.0));
    let mut entries = Vec::new();
    for s in standing(&state.store, *id, now).await?.into_iter().filter(|s| s.lying > 0) {
        let mut add = |code: &str, at: UnixSeconds, what: String, why: String| {
            let (from, until) = (day(at), day(at) + SpanSeconds::DAY);
            entries.push(Entry { code: format!("{code}-{}", s.station.code), from, until, what, why, repeats: None });
        };
        let next = s.visited.map_or(now, |v| v + SpanSeconds(VISIT_DAYS * SpanSeconds::DAY.0)).max(now);
        add("visit", next, format!("Visit {}", s.station.name), "Half a year after the last visit.".to_owned());
        if let Some(settles) = s.settles {
            let what = format!("{} has settled: declare its official start", s.station.name);
            add("settled", settles.until, what, settles.because.to_owned());
        }
    }
    if entries.is_empty() {
        return Err(Problem::Refused("Nothing is due: no probe is in the ground yet.".into()));
    }
    let text = ebrel_formats::dates::write(&format!("{}: field", study.name), &format!("study-{}", *id), &entries, now);
    Ok(attachment("text/calendar; charset=utf-8", "field-due.ics", text))
}

fn many(n: usize, word: &str) -> String {
    if n == 1 { word.to_owned() } else { format!("{word}s") }
}

/// What is said where no probe lies.
const NONE_YET: &str = "none yet";
/// Days without a visit after which one is due.
const VISIT_DAYS: i64 = 180;

fn row(s: StationStanding, planned: Option<(i64, usize)>, now: UnixSeconds, offset: i64) -> Row {
    let at = |t: Option<UnixSeconds>| t.map_or_else(|| "–".to_owned(), |t| moment(t, offset));
    let goes_on = |l: &LogRow| format!("{} goes on since {}.", words(l.kind), moment(l.span.0, offset));
    let unfinished: Vec<String> = s.logs.iter().filter(|l| !l.closed).map(goes_on).collect();
    let ago = s.visited.map(|v| now.0 - v.0);
    let visit_due = planned.is_none() && ago.is_none_or(|ago| ago > VISIT_DAYS * SpanSeconds::DAY.0);
    let (next, warn) = match (unfinished.is_empty(), planned, ago) {
        (false, ..) => (unfinished.join(" "), true),
        (_, Some((0, _)), _) => ("Plan it first.".to_owned(), false),
        (_, Some((_, 0)), _) => ("Ready: take it along and put it in.".to_owned(), false),
        (_, Some((_, stops)), _) => (format!("The plan has {stops} {} to put right.", many(stops, "thing")), true),
        (_, None, Some(ago)) if visit_due => {
            (format!("A visit is due: the last was {} ago.", SpanSeconds(ago).in_words()), true)
        }
        (_, None, None) => ("A visit is due: none is on record.".to_owned(), true),
        _ => ("In the ground.".to_owned(), false),
    };
    Row {
        id: s.station.id,
        name: s.station.name,
        next,
        warn,
        visit_due,
        probes: match (s.lying, s.since) {
            (0, _) | (_, None) => NONE_YET.to_owned(),
            (n, Some(since)) => format!("{n} since {}", moment(since, offset)),
        },
        settles: s.settles.map_or_else(
            || if s.lying > 0 { "settled".to_owned() } else { "–".to_owned() },
            |settles| format!("until {}: {}", moment(settles.until, offset), settles.because),
        ),
        official: at(s.official),
        visited: at(s.visited),
        calendar: Vec::new(),
        logs: s.logs.into_iter().map(|l| log(l, offset)).collect(),
    }
}

pub fn words(kind: Option<LogKind>) -> &'static str {
    match kind {
        Some(LogKind::Installation) => "Installation",
        Some(LogKind::Visit) => "Visit",
        Some(LogKind::Round) => "Round",
        Some(LogKind::Removal) => "Removal",
        None => "Log without its beginning",
    }
}

fn log(l: LogRow, offset: i64) -> Log {
    Log {
        what: words(l.kind),
        when: moment(l.span.0, offset),
        by: l.by.join(", "),
        entries: l.entries,
        state: if l.closed { "finished" } else { "unfinished" }.to_owned(),
        open: l.open,
        number: l.log,
    }
}
