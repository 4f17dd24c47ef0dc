//! The list of studies, a new study, and a study's first page.

use crate::components::glance::{Glance, Place};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment, span, when};
use crate::shell::forms::{Field, words};
use crate::shell::guard::CheckedForm;
use crate::shell::lately::lately;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, see_other};
use crate::state::{Mode, State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::findings::{StationPicture, picture};
use ebrel_app::planning::Progress;
use ebrel_app::record::Flagged;
use ebrel_app::standing::{Standing, arrived, standing};
use ebrel_core::roles::Role;
use ebrel_core::units::{SpanSeconds, UnixSeconds, read_offset};
use ebrel_store::flags::WaitingFlag;
use ebrel_store::studies::Study;
use futures_util::future::try_join_all;
use serde::Deserialize;
use std::sync::Arc;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/", Least::SignedIn, home);
    routes.get("/studies/new", Least::Founder, new_page);
    routes.post("/studies/new", Least::Founder, new);
    routes.get("/studies/{id}", Least::Member(Role::Guest), show);
}

#[derive(Template)]
#[template(path = "rooms/plan/studies.html")]
struct StudiesPage {
    shell: Shell,
    studies: Vec<Study>,
}

async fn home(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    let mut studies = state.store.studies().await?;
    let none = studies.is_empty();
    if let Some(own) = actor.studies(&state).await? {
        studies.retain(|s| own.contains(&s.id));
    }
    match &studies[..] {
        [] if none => Ok(see_other("/studies/new")),
        [] => Err(Problem::NotAllowed(None)),
        [one] => Ok(see_other(&format!("/studies/{}", one.id))),
        _ => page(&StudiesPage { shell: Shell::bare(&state, &actor, "Studies")?, studies }),
    }
}

#[derive(Template)]
#[template(path = "rooms/plan/new_study.html")]
struct NewStudyPage {
    shell: Shell,
    first: bool,
    name: Field,
    question: Field,
    offset: Field,
}

async fn new_page(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    let shell = Shell::bare(&state, &actor, "New study")?;
    let first = state.store.studies().await?.is_empty();
    page(&NewStudyPage {
        shell,
        first,
        name: Field::default(),
        question: Field::default(),
        offset: Field::of("+00:00"),
    })
}

#[derive(Deserialize)]
struct NewStudy {
    #[serde(default)]
    name: String,
    #[serde(default)]
    question: String,
    #[serde(default)]
    offset: String,
}

async fn new(state: web::Data<State>, actor: Actor, form: CheckedForm<NewStudy>) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let name = words(&typed.name, "the study's name", 120);
    let question = if typed.question.chars().count() > 1000 {
        Err("Shorten the question to 1000 characters.".to_owned())
    } else {
        Ok(typed.question.trim().to_owned())
    };
    let offset = read_offset(&typed.offset);
    if let (Ok(name), Ok(question), Ok(offset)) = (&name, &question, &offset) {
        let (name, question, utc_offset_minutes) = (name.clone(), question.clone(), *offset);
        let study = Study { id: 0, name, question, utc_offset_minutes, fixed_now: None };
        let id = state.store.add_study(&study, actor.account()).await?;
        return Ok(see_other(&format!("/studies/{id}/design")));
    }
    let shell = Shell::bare(&state, &actor, "New study")?;
    let field = |text: &str, error: Option<String>| Field { text: text.to_owned(), error };
    page(&NewStudyPage {
        shell,
        first: state.store.studies().await?.is_empty(),
        name: field(&typed.name, name.err()),
        question: field(&typed.question, question.err()),
        offset: field(&typed.offset, offset.err()),
    })
}

struct StationRow {
    id: i64,
    name: String,
    treatment: String,
    record: String,
    waiting: usize,
    raw: usize,
    empty: bool,
    bias: String,
    plan: Progress,
}

/// How far a plan is, in words.
fn planned(plan: &Progress) -> String {
    match plan {
        Progress::NotBegun => "not begun".into(),
        Progress::Stopped(n) => format!("{n} to put right"),
        Progress::InOrder => "in order".into(),
    }
}

/// What is wrong, or waits.
struct Wrong {
    link: String,
    sentence: String,
    when: String,
}

#[derive(Template)]
#[template(path = "rooms/plan/study.html")]
struct StudyPage {
    shell: Shell,
    study: Study,
    next: Vec<Next>,
    /// What is wrong now: in the last days of a record, or silent.
    wrong: Vec<Wrong>,
    /// The worst of what waits from before.
    earlier: Vec<Wrong>,
    /// Stations side by side.
    glances: Vec<Glance>,
    stations: Vec<StationRow>,
    /// How old the last backup is; of the made-up demo nobody needs one.
    backup: Option<String>,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let (now, offset) = (state.now(&study), study.utc_offset_minutes);
    let of = study.clone();
    let came = move |state: web::Data<State>| async move { Ok(arrived(&state.store, &of, now).await?) };
    let arrived = lately(&state, |s| &s.arrived, (study.id, None), came).await?;
    let standing = standing(&state.store, &study, &arrived).await?;
    let pictures = glanced(&state, standing.iter().map(|s| s.station.id), now).await?;
    let (mut rows, mut glances, mut earlier) = (Vec::new(), Vec::new(), Vec::new());
    // What is silent and what somebody asks comes before what the tests found anywhere.
    let (mut wrong, mut late) = (Vec::new(), Vec::new());
    for (of, picture) in standing.into_iter().zip(pictures) {
        wrong.extend(waits(&of, now, offset));
        let since = of.extent.map_or(now, |e| e.1) - NOW;
        let (now_wrong, before): (Vec<_>, Vec<_>) = of.worst.iter().partition(|(flag, _)| flag.end >= since);
        late.extend(now_wrong.into_iter().take(3).map(|worst| worst_of(worst, of.station.id, offset)));
        earlier.extend(before.into_iter().take(2).map(|worst| worst_of(worst, of.station.id, offset)));
        let place = Place {
            station: of.station.id,
            name: &of.station.name,
            horizons: of.soil.horizons(),
            when: &|t, form| when(t, offset, form),
        };
        glances.push(Glance::draw(&picture, &place));
        rows.push(row(of, offset));
    }
    wrong.append(&mut late);
    let shell = Shell::within(&state, &actor, &study.name, Room::Plan, &study, None).await?;
    let backup = if state.mode == Mode::Demo { None } else { Some(backup_words(&state, &study).await?) };
    page(&StudyPage { shell, next: next(&study, &rows), study, wrong, earlier, glances, stations: rows, backup })
}

/// Nodes of a station that are silent, and wishes for a second opinion.
fn waits(of: &Standing, now: UnixSeconds, offset: i64) -> Vec<Wrong> {
    let Standing { station, .. } = of;
    let silent = of.silent.iter().map(|(node, name, heard)| {
        let (ago, missed) = ((now - heard.last).in_words(), heard.missed);
        let sentence = format!("{name} of {} has been silent for {ago}: {missed} sendings missed.", station.name);
        let link = format!("/stations/{}/nodes/{node}", station.id);
        Wrong { link, sentence, when: moment(heard.last, offset) }
    });
    let asked = of.asked.iter().take(ASKED).rev().map(|r| {
        let sentence = format!("{} wants a second opinion at {}: “{}”", r.by, station.name, shortened(&r.words));
        let link = format!("/stations/{}/review?state=asked", station.id);
        Wrong { link, sentence, when: span(r.start, r.end, offset) }
    });
    silent.chain(asked).collect()
}

fn row(of: Standing, offset: i64) -> StationRow {
    StationRow {
        plan: of.plan,
        id: of.station.id,
        record: of.extent.map_or_else(|| "no readings yet".to_owned(), |(a, b)| span(a, b, offset)),
        waiting: of.waiting,
        raw: of.raw,
        empty: of.extent.is_none(),
        name: of.station.name,
        treatment: of.station.treatment,
        bias: of.station.known_bias,
    }
}

/// Stations at a glance, each made anew when its record, its flags or the day have changed.
async fn glanced(
    state: &web::Data<State>,
    stations: impl Iterator<Item = i64>,
    now: UnixSeconds,
) -> Result<Vec<Arc<StationPicture>>, Problem> {
    let stations: Vec<i64> = stations.collect();
    // The stamps first: what changes while a picture is made makes it another one.
    let mut stamps = state.store.stamps(&stations).await?;
    try_join_all(stations.into_iter().map(|station| {
        let asked = (station, now.0.div_euclid(86_400));
        lately(state, |s| &s.glances, (asked, stamps.remove(&station)), move |state| drawn(state, station, now))
    }))
    .await
}

async fn drawn(state: web::Data<State>, station: i64, now: UnixSeconds) -> Result<StationPicture, Problem> {
    let place = state.thinning.take().await?;
    let of = Flagged::load(&state.store, station).await?;
    Ok(place.run(move || picture(&of, now)).await?)
}

/// What ends within so long before a station's last reading is wrong now.
const NOW: SpanSeconds = SpanSeconds(7 * 86_400);
/// Wishes for a second opinion that a station's place in the list has room for; Review has all.
const ASKED: usize = 5;

/// The beginning of words that may be long.
fn shortened(words: &str) -> String {
    const MOST: usize = 120;
    if words.chars().count() <= MOST {
        return words.to_owned();
    }
    format!("{}…", words.chars().take(MOST).collect::<String>().trim_end())
}

/// How old the last backup is, and how one is made.
async fn backup_words(state: &State, study: &Study) -> Result<String, Problem> {
    let made = state.store.last_backup().await?;
    Ok(made.map_or_else(
        || "There is no backup yet: `ebrel backup --data … --to FILE` makes one while Ebrel runs.".to_owned(),
        |b| {
            let ago = SpanSeconds((wall_clock() - b.at).0.max(0)).in_words();
            let mega = fixed(b.bytes as f64 / 1e6, 1);
            format!(
                "The last backup is {ago} old: {} in {} ({mega}\u{a0}MB).",
                moment(b.at, study.utc_offset_minutes),
                b.place
            )
        },
    ))
}

fn worst_of((flag, at): &(WaitingFlag, String), station: i64, offset: i64) -> Wrong {
    Wrong {
        link: format!("/stations/{station}/review"),
        sentence: match flag.cause {
            Some(cause) => format!("{}: {}", cause.title(), flag.reason),
            None => format!("{} at {at}: {}", flag.test.definition().title, flag.reason),
        },
        when: span(flag.start, flag.end, offset),
    }
}

/// One thing to do, with where it is done.
struct Next {
    what: String,
    links: Vec<(String, &'static str)>,
}

/// What to do next: first what spoils a record that runs, then the order of the work.
fn next(study: &Study, rows: &[StationRow]) -> Vec<Next> {
    let at = |what: String, link: String, words| Next { what, links: vec![(link, words)] };
    if rows.is_empty() {
        let link = format!("/studies/{}/stations/new", study.id);
        return vec![at("Add the first station: a place with one soil profile.".into(), link, "Add a station")];
    }
    let mut all = Vec::new();
    for row in rows.iter().filter(|r| r.waiting > 0) {
        let spans =
            if row.waiting == 1 { "1 thing to decide".to_owned() } else { format!("{} things to decide", row.waiting) };
        let what = format!("Give {} a verdict on {spans}.", row.name);
        all.push(at(what, format!("/stations/{}/review", row.id), "Review"));
    }
    for row in rows {
        let plan = format!("/stations/{}/plan", row.id);
        match row.plan {
            Progress::Stopped(n) => {
                let things = if n == 1 { "thing" } else { "things" };
                all.push(at(format!("Put {n} {things} right in the plan of {}.", row.name), plan, "To the plan"));
            }
            Progress::NotBegun if row.empty => all.push(Next {
                what: format!(
                    "Plan {}: depths, method, ports, dates. If it stands already, import its first logger file.",
                    row.name
                ),
                links: vec![(plan, "Plan it"), (format!("/stations/{}/import", row.id), "Import a logger file")],
            }),
            Progress::InOrder if row.empty => all.push(Next {
                what: format!(
                    "Print the field sheet of {} and install it; then import its first logger file.",
                    row.name
                ),
                links: vec![
                    (format!("{plan}/sheet"), "Field sheet"),
                    (format!("/stations/{}/import", row.id), "Import a logger file"),
                ],
            }),
            Progress::InOrder | Progress::NotBegun => {}
        }
    }
    for row in rows.iter().filter(|r| r.raw > 0) {
        let what = format!("Calibrate {} of the probes at {}: they still show raw output.", row.raw, row.name);
        all.push(at(what, format!("/studies/{}/bench", study.id), "To the Bench"));
    }
    if all.is_empty() {
        let link = format!("/stations/{}", rows[0].id);
        all.push(at("Nothing waits. Look at the record, or take it out.".into(), link, "The record"));
    }
    all
}
