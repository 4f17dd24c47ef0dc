//! One round of practice: the strips of a made-up record, marks, hints, and at the end the truth.

use super::score_of;
use crate::components::fields::Answer;
use crate::components::strips::{Asked, Drawing, drawing};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, span, typed_time};
use crate::shell::guard::{CheckedForm, NoFields};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, say, see_other};
use crate::state::{State, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::training::{Made, Outcome, Score, drawn, drawn_truth, hint, next_hint, score, stream_of};
use ebrel_app::window::{Show, window};
use ebrel_core::quality::Test;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_simulator::years::{Exercise, Kind, Level};
use ebrel_store::StoreError;
use ebrel_store::training::{Round, RoundMark};
use serde::Deserialize;
use std::sync::Arc;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/training/{round}", Least::SignedIn, show);
    routes.get("/training/{round}/window.json", Least::SignedIn, window_json);
    routes.post("/training/{round}/marks", Least::SignedIn, mark);
    routes.post("/training/{round}/marks/{mark}/remove", Least::SignedIn, unmark);
    routes.post("/training/{round}/hint", Least::SignedIn, take_hint);
    routes.post("/training/{round}/end", Least::SignedIn, end);
}

/// A span on the strips, in a list.
struct Item {
    id: i64,
    mark: &'static str,
    title: String,
    place: String,
    when: String,
    words: String,
    start: i64,
    end: i64,
    /// By which it is found on the strips.
    strip_title: &'static str,
    show: &'static str,
    /// How it went, of a fault.
    went: &'static str,
    tests: &'static str,
    found: bool,
}

#[derive(Template)]
#[template(path = "rooms/training/round.html")]
struct RoundPage {
    shell: Shell,
    round: i64,
    what: String,
    /// By which others take the same exercise.
    level: String,
    kind: String,
    seed: u32,
    answer: String,
    /// How the points came about, once it has ended.
    account: String,
    drawing: Option<Drawing>,
    hints: Vec<String>,
    marks: Vec<Item>,
    truth: Vec<Item>,
    ended: bool,
    channels: Vec<Answer>,
    tests: Vec<Answer>,
    typed: Typed,
    error: Option<String>,
}

/// A mark as it was typed, and the window that it was drawn in.
#[derive(Deserialize, Default, Clone)]
struct Typed {
    #[serde(default)]
    channel: String,
    #[serde(default)]
    start: String,
    #[serde(default)]
    end: String,
    #[serde(default)]
    test: String,
    #[serde(default)]
    from: String,
    #[serde(default)]
    to: String,
    #[serde(default)]
    show: String,
}

/// The exercise of a round.
fn exercise(round: &Round) -> Result<Exercise, Problem> {
    let level = Level::from_code(&round.level);
    let kind = if round.kind.is_empty() { Some(None) } else { Kind::from_words(&round.kind).map(Some) };
    let (level, kind) =
        level.zip(kind).ok_or_else(|| Problem::Refused("This Ebrel does not know that exercise.".into()))?;
    Ok(Exercise { seed: round.seed, level, kind })
}

async fn made(state: &State, round: &Round) -> Result<Arc<Made>, Problem> {
    let exercise = exercise(round)?;
    if let Some(known) = state.exercises.known(&exercise) {
        return Ok(known);
    }
    let place = state.thinning.take().await?;
    // A class begins at once.
    if let Some(known) = state.exercises.known(&exercise) {
        return Ok(known);
    }
    let made = Arc::new(place.run(move || Made::of(&exercise)).await?);
    state.exercises.keep(exercise, Arc::clone(&made));
    Ok(made)
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let round = state.store.round(actor.account(), *id).await?;
    shown(&state, &actor, &round, Typed::default(), None).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    round: &Round,
    typed: Typed,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let made = made(state, round).await?;
    let marks = state.store.round_marks(round.id).await?;
    let told = state.store.round_hints(round.id).await?;
    let score = score_of(round);
    let drawing = drawing(&made.record).map(|d| Drawing { window: format!("/training/{}/window.json", round.id), ..d });
    let channel = |(i, c): (usize, &ebrel_app::record::ChannelRecord)| {
        let words = format!("{}, {}, port {}", c.channel.label(), c.quantity().words(), c.channel.stream.port);
        Answer::of(stream_of(i).to_string(), words, &typed.channel)
    };
    let shows = |c: &ebrel_app::record::ChannelRecord| c.quantity().is_moisture() || c.quantity().is_temperature();
    let channels = made.record.channels.iter().enumerate().filter(|(_, c)| shows(c)).map(channel).collect();
    let test = |t: &Test| Answer::of(t.code(), t.definition().title, &typed.test);
    let kinds = Exercise::kinds();
    let named = |t: &&Test| kinds.iter().any(|k| k.tests()[0] == **t);
    let kind = if round.kind.is_empty() { "any kind" } else { &round.kind };
    page(&RoundPage {
        shell: Shell::bare(state, actor, "Practice")?,
        round: round.id,
        what: format!("Practice: {}, {kind}, number {}", round.level, round.seed),
        level: round.level.clone(),
        kind: round.kind.clone(),
        seed: round.seed,
        answer: answer(&made, &marks, &told, score.as_ref()),
        account: score.as_ref().map_or_else(String::new, account),
        drawing,
        hints: told.iter().filter_map(|i| hint(&made, *i)).collect(),
        marks: marks.iter().map(|m| marked(&made, m)).collect(),
        truth: score.iter().flat_map(|s| (1..).zip(&s.outcomes)).map(|(i, o)| outcome(&made, i, o)).collect(),
        ended: round.ended_at.is_some(),
        channels,
        tests: Test::ALL.iter().filter(named).map(test).collect(),
        typed,
        error,
    })
}

fn some(n: usize, one: &str, many: &str) -> String {
    if n == 1 { format!("1 {one}") } else { format!("{n} {many}") }
}

fn answer(made: &Made, marks: &[RoundMark], told: &[usize], score: Option<&Score>) -> String {
    match score {
        Some(s) => {
            let (own, tests) = (fixed(s.points() as f64, 0), fixed(s.points_of_tests() as f64, 0));
            format!("{own} of {} points; Ebrel\u{2019}s tests have {tests}.", s.most())
        }
        None => {
            let hidden = some(made.truth.len(), "fault is hidden here", "faults are hidden here");
            format!("{hidden}; {}, {}.", some(marks.len(), "mark", "marks"), some(told.len(), "hint", "hints"))
        }
    }
}

/// How the points of a round came about.
fn account(s: &Score) -> String {
    let named = s.outcomes.iter().filter(|o| o.named).count();
    let otherwise = s.outcomes.iter().filter(|o| o.found && !o.named).count();
    let missed = s.outcomes.iter().filter(|o| !o.found).count();
    format!(
        "{named} found and named, {otherwise} named otherwise, {missed} missed, {}, {}; the tests missed {} and told {}.",
        some(s.false_marks, "mark on nothing", "marks on nothing"),
        some(s.hints, "hint", "hints"),
        s.outcomes.iter().filter(|o| !o.by_tests).count(),
        some(s.false_flags, "that is nothing", "that are nothing"),
    )
}

/// Label of a channel and which strips show it.
fn place(made: &Made, channel: usize) -> (String, &'static str) {
    made.record.channels.get(channel).map_or_else(
        || (String::new(), "both"),
        |c| {
            let show = if c.quantity().is_moisture() { "moisture" } else { "temperature" };
            (format!("{}, {}", c.channel.label(), c.quantity().words()), show)
        },
    )
}

fn marked(made: &Made, mark: &RoundMark) -> Item {
    let (place, show) = place(made, mark.channel);
    let test = mark.test.definition();
    Item {
        id: mark.id,
        mark: test.mark,
        title: test.title.to_owned(),
        place,
        when: span(mark.start, mark.end, 0),
        words: String::new(),
        start: mark.start.0,
        end: mark.end.0,
        strip_title: test.title,
        show,
        went: "",
        tests: "",
        found: false,
    }
}

fn outcome(made: &Made, id: i64, o: &Outcome) -> Item {
    let (channel, start, end) = o.windows.first().copied().unwrap_or_default();
    let (place, show) = place(made, channel);
    let more = o.windows.iter().filter(|w| w.0 != channel).count();
    let test = Kind::from_words(&o.kind).map_or(Test::Gap, |k| k.tests()[0]).definition();
    Item {
        id,
        mark: test.mark,
        title: format!("{}, {}", o.kind, o.severity),
        place: if more > 0 { format!("{place}, and elsewhere") } else { place },
        when: span(UnixSeconds(start), UnixSeconds(end), 0),
        words: o.words.clone(),
        start,
        end,
        strip_title: test.title,
        show,
        went: match (o.found, o.named) {
            (_, true) => "found and named",
            (true, false) => "found, named otherwise",
            (false, false) => "missed",
        },
        tests: if o.by_tests { "Ebrel\u{2019}s tests found it, too" } else { "Ebrel\u{2019}s tests missed it" },
        found: o.found,
    }
}

async fn window_json(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let round = state.store.round(actor.account(), *id).await?;
    let span = asked.window()?;
    let made = made(&state, &round).await?;
    // Only what was marked is on the strips, until the round has ended.
    let flags = match score_of(&round) {
        Some(score) => drawn_truth(&score),
        None => drawn(&made, &state.store.round_marks(*id).await?),
    };
    let show = Show::from_word(&asked.show);
    let place = state.thinning.take().await?;
    let data = place.run(move || serde_json::to_string(&window(&made.record, &flags, &span, show))).await?;
    let data = data.map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(HttpResponse::Ok().content_type("application/json").body(data))
}

/// A mark that was typed, on a channel that the strips show.
fn understood(typed: &Typed, made: &Made) -> Result<RoundMark, String> {
    let (start, end) = (typed_time(&typed.start, 0)?, typed_time(&typed.end, 0)? + SpanSeconds(59));
    if start > end {
        return Err("It ends before it begins: change one of the two.".into());
    }
    let (first, last) = made.record.extent().unwrap_or((start, end));
    if end < first || start > last {
        return Err("The record has nothing at that time: change the times.".into());
    }
    let channel = (0..made.record.channels.len()).find(|i| stream_of(*i).to_string() == typed.channel);
    let channel = channel.ok_or("Choose the channel.")?;
    let test = Test::from_code(&typed.test).ok_or("Choose what it is.")?;
    Ok(RoundMark { id: 0, channel, test, start, end })
}

/// Back to the window that was looked at.
fn back(round: i64, typed: &Typed) -> String {
    let show = ["moisture", "temperature", "both"].into_iter().find(|s| *s == typed.show).unwrap_or("moisture");
    match typed.from.parse::<i64>().ok().zip(typed.to.parse::<i64>().ok()) {
        Some((from, to)) => format!("/training/{round}?from={from}&to={to}&show={show}"),
        None => format!("/training/{round}"),
    }
}

async fn mark(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let round = state.store.round(actor.account(), *id).await?;
    let made = made(&state, &round).await?;
    let mark = match understood(&form.0, &made) {
        Ok(mark) => mark,
        Err(says) => return shown(&state, &actor, &round, form.0, Some(says)).await,
    };
    match state.store.mark_in_round(*id, &mark).await {
        Ok(()) => Ok(see_other(&back(*id, &form.0))),
        Err(StoreError::Rule(says)) => shown(&state, &actor, &round, form.0, Some(says)).await,
        Err(e) => Err(e.into()),
    }
}

async fn unmark(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let round = state.store.round(actor.account(), path.0).await?;
    state.store.unmark_in_round(round.id, path.1).await?;
    Ok(see_other(&back(round.id, &form.0)))
}

async fn take_hint(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let round = state.store.round(actor.account(), *id).await?;
    let made = made(&state, &round).await?;
    let (marks, told) = (state.store.round_marks(*id).await?, state.store.round_hints(*id).await?);
    match next_hint(&made, &marks, &told) {
        Some(fault) => state.store.hint_in_round(*id, fault).await?,
        None => say(&actor, "Everything that is hidden was marked, or told already: no hint was taken.")?,
    }
    Ok(see_other(&back(*id, &form.0)))
}

async fn end(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    _: CheckedForm<NoFields>,
) -> Result<HttpResponse, Problem> {
    let round = state.store.round(actor.account(), *id).await?;
    let made = made(&state, &round).await?;
    let (marks, hints) = (state.store.round_marks(*id).await?, state.store.round_hints(*id).await?.len());
    let (place, scored) = (state.thinning.take().await?, marks.clone());
    let score = place.run(move || score(&made, &scored, hints)).await?;
    let json = serde_json::to_string(&score).map_err(|e| Problem::Internal(e.to_string()))?;
    state.store.end_round(*id, &json, (&marks, hints), wall_clock()).await?;
    Ok(see_other(&format!("/training/{}", *id)))
}
