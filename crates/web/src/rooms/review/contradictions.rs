//! Readings that came twice with different values: both with where they came from, and a choice that can be taken back.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, grouped, moment, span};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::contradictions::{Matter, matters};
use ebrel_core::roles::Role;
use ebrel_core::units::{UnixSeconds, unit_for_people};
use ebrel_store::StoreError;
use ebrel_store::choices::{Arrived, Choice, Contradiction};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/contradictions", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/contradictions", Least::Member(Role::Researcher), choose);
}

/// Values of one matter that the page lists; the rest is chosen with them.
const LISTED: usize = 12;
/// Matters of a page.
const MATTERS: usize = 40;
const LONGEST_REASON: usize = 400;

struct Pair {
    at: i64,
    when: String,
    first: String,
    later: String,
}

struct Item {
    number: usize,
    label: String,
    when: String,
    count: String,
    largest: String,
    first_from: String,
    later_from: String,
    pairs: Vec<Pair>,
    more: usize,
    stream: i64,
    batch: i64,
    from: i64,
    to: i64,
    /// What was chosen, by whom and why, and its number.
    chosen: Option<(String, i64)>,
}

#[derive(Template)]
#[template(path = "rooms/review/contradictions.html")]
struct ContradictionsPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    items: Vec<Item>,
    more: usize,
    error: Option<String>,
    reason: String,
    may: bool,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *id, None, String::new()).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    error: Option<String>,
    reason: String,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let offset = study.utc_offset_minutes;
    let all = matters(&state.store, id).await?;
    let waiting: Vec<&Matter> = all.iter().filter(|m| m.waits()).collect();
    let readings: usize = waiting.iter().map(|m| m.values.len()).sum();
    let answer = match (waiting.len(), all.len()) {
        (0, 0) => "Nothing came twice with different values.".to_owned(),
        (0, _) => "Nothing waits: it is chosen which value stands wherever one came twice.".to_owned(),
        (spans, _) => {
            let many = if spans == 1 { "in 1 span waits".to_owned() } else { format!("in {spans} spans wait") };
            let what = if readings == 1 { "1 reading".to_owned() } else { format!("{} readings", grouped(readings)) };
            format!("{what} {many}: each came twice with different values, and the first stands until you choose.")
        }
    };
    let items = all.iter().take(MATTERS).enumerate().map(|(number, matter)| item(number, matter, offset)).collect();
    let shell = Shell::within(state, actor, "Came twice", Room::Review, &study, Some(&station)).await?;
    let may = shell.may(Role::Researcher);
    let more = all.len().saturating_sub(MATTERS);
    page(&ContradictionsPage { shell, id, station: station.name, answer, items, more, error, reason, may })
}

fn item(number: usize, matter: &Matter, offset: i64) -> Item {
    let first: &Contradiction = &matter.values[0];
    let (from, to) = matter.span();
    let unit = unit_for_people(&matter.unit);
    let decimals = decimals_of(matter);
    let pair = |c: &Contradiction| Pair {
        at: c.time.0,
        when: moment(c.time, offset),
        first: format!("{}\u{a0}{unit}", fixed(c.first, decimals)),
        later: format!("{}\u{a0}{unit}", fixed(c.later, decimals)),
    };
    let chosen = first.choice.as_ref().map(|c| {
        let what = if c.later { "the later values stand" } else { "the first values stand" };
        let why = if c.reason.is_empty() { String::new() } else { format!(": {}", c.reason) };
        (format!("{what}, chosen by {} on {}{why}", c.by, moment(c.at, offset)), c.id)
    });
    let n = matter.values.len();
    Item {
        number,
        label: matter.label.clone(),
        when: span(from, to, offset),
        count: if n == 1 { "1 reading".to_owned() } else { format!("{} readings", grouped(n)) },
        largest: format!("{}\u{a0}{unit}", fixed(matter.largest(), decimals)),
        first_from: came_from(&first.first_from, offset),
        later_from: came_from(&first.later_from, offset),
        pairs: matter.values.iter().take(LISTED).map(pair).collect(),
        more: n.saturating_sub(LISTED),
        stream: first.stream,
        batch: first.batch,
        from: from.0,
        to: to.0,
        chosen,
    }
}

/// As many decimals as the values came with, and the same for all of them.
fn decimals_of(matter: &Matter) -> usize {
    let of = |v: f64| v.to_string().split_once('.').map_or(0, |(_, decimals)| decimals.len());
    matter.values.iter().map(|c| of(c.first).max(of(c.later))).max().unwrap_or(0).min(6)
}

fn came_from(how: &Arrived, offset: i64) -> String {
    match how {
        Arrived::Unknown => "before deliveries were kept".to_owned(),
        Arrived::Received(at) => format!("received {}, by no file", moment(*at, offset)),
        Arrived::File(at, name) => format!("{}, from the file {name}", moment(*at, offset)),
    }
}

#[derive(Deserialize)]
struct Decided {
    /// `first`, `later`, or `undo`.
    take: String,
    #[serde(default)]
    stream: i64,
    #[serde(default)]
    batch: i64,
    #[serde(default)]
    from: i64,
    #[serde(default)]
    to: i64,
    #[serde(default)]
    choice: i64,
    #[serde(default)]
    reason: String,
}

async fn choose(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Decided>,
) -> Result<HttpResponse, Problem> {
    let form = form.0;
    let done = decided(&state, &actor, *id, &form).await;
    match done {
        Ok(words) => {
            // What is meant changed: the tests run soon.
            state.brought.notify_one();
            say(&actor, &words)?;
            Ok(see_other(&format!("/stations/{id}/contradictions")))
        }
        Err(StoreError::Rule(says)) => shown(&state, &actor, *id, Some(says), form.reason).await,
        Err(error) => Err(error.into()),
    }
}

async fn decided(state: &State, actor: &Actor, id: i64, form: &Decided) -> Result<String, StoreError> {
    let (by, at) = (actor.name().to_owned(), wall_clock());
    if form.take == "undo" {
        state.store.undo_choice(id, form.choice, &by, at).await?;
        return Ok("Taken back: what held before holds again.".to_owned());
    }
    let later = match form.take.as_str() {
        "later" => true,
        "first" => false,
        _ => return Err(StoreError::Rule("Choose the first or the later values.".into())),
    };
    let length = form.reason.trim().chars().count();
    if length > LONGEST_REASON {
        let says = format!("Shorten the reason to {LONGEST_REASON} characters; it has {length}.");
        return Err(StoreError::Rule(says));
    }
    let reason = form.reason.trim().to_owned();
    let span = (UnixSeconds(form.from), UnixSeconds(form.to));
    let choice = Choice { stream: form.stream, batch: form.batch, span, later, reason, by, at };
    let n = state.store.choose(id, &choice).await?;
    let what = if n == 1 { "1 reading".to_owned() } else { format!("{n} readings") };
    Ok(format!(
        "Kept for {what}: the {} stand. Nothing was changed; it can be taken back.",
        if later { "later values" } else { "first values" }
    ))
}
