//! The room Review: what waits for a verdict, the most damaging first, beside the strips; and what the tests go by.

mod clouds;
mod contradictions;
mod decided;
mod evidence;
mod like;
mod mark;
mod repair;
mod said;
mod tests;

use crate::components::fields::Answer;
use crate::components::strips::{Drawing, drawing};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{moment, span};
use crate::shell::forms::at_most;
use crate::shell::guard::{CheckedForm, CheckedJson};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_app::reviewing::{self, FlagGroup, matters};
use ebrel_core::quality::Test;
use ebrel_core::roles::Role;
use ebrel_core::units::{Grade, Verdict};
use ebrel_store::flags::StoredFlag;
use ebrel_store::remarks::Remarks;
use ebrel_store::studies::Study;
use ebrel_store::verdicts::Decision;
use serde::{Deserialize, Serialize};

/// Routes of this room.
pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/review/verdict", Least::Member(Role::Researcher), decide);
    routes.post("/stations/{id}/review/undo", Least::Member(Role::Researcher), undo);
    routes.post("/stations/{id}/review/run", Least::Member(Role::Researcher), run_again);
    contradictions::routes(routes);
    decided::routes(routes);
    evidence::routes(routes);
    like::routes(routes);
    mark::routes(routes);
    said::routes(routes);
    repair::routes(routes);
    tests::routes(routes);
}

struct Item {
    flags: String,
    test: &'static str,
    mark: &'static str,
    place: String,
    when: String,
    reason: String,
    start: i64,
    end: i64,
    grade: &'static str,
    grade_words: &'static str,
    /// Which strips show it.
    show: &'static str,
    verdict: Option<String>,
    verdict_ids: String,
    /// What speaks against the cause; may be empty.
    against: String,
    /// The cause that can be mended.
    mend: Option<i64>,
    /// What the cause explains, if there are several.
    under: Vec<Under>,
    /// The flag that speaks for all, and its stream.
    lead: i64,
    stream: i64,
    /// The flag whose likes can be decided on together; `None`: it has none, or does not wait.
    like: Option<i64>,
    /// What was said of it last.
    said: Vec<evidence::Said>,
    /// How much was said before that.
    said_before: usize,
    /// A person saw it.
    own: bool,
}

/// A finding that waits under its cause.
struct Under {
    id: i64,
    mark: &'static str,
    place: String,
    when: String,
    reason: String,
}

#[derive(Template)]
#[template(path = "rooms/review/review.html")]
struct ReviewPage {
    shell: Shell,
    station: String,
    id: i64,
    answer: String,
    items: Vec<Item>,
    /// Things of this choice that stand in no list.
    more: usize,
    states: Vec<Answer>,
    tests: Vec<Answer>,
    depths: Vec<Answer>,
    drawing: Option<Drawing>,
    /// Tests that cannot judge here, and why.
    unjudged: Vec<(String, String)>,
}

#[derive(Deserialize, Default)]
struct Filter {
    #[serde(default)]
    state: String,
    #[serde(default)]
    test: String,
    #[serde(default)]
    depth: String,
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    filter: web::Query<Filter>,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let all = matters(&state.store, *id).await?;
    let remarks = state.store.remarks(*id).await?;
    let asked = |m: &FlagGroup| m.flags.iter().any(|f| remarks.of(f.stream_id, &f.flag).any(|r| r.open));
    let within = |m: &FlagGroup, state: &str| if state == "asked" { asked(m) } else { in_state(m, state) };
    let waiting = all.iter().filter(|m| m.waits()).count();
    let chosen = if filter.state.is_empty() { "waiting" } else { filter.state.as_str() };
    let label = |m: &FlagGroup| place(m, &record);
    let taken: Vec<&FlagGroup> = all
        .iter()
        .filter(|m| within(m, chosen))
        .filter(|m| filter.test.is_empty() || m.lead().flag.test.code() == filter.test)
        .filter(|m| filter.depth.is_empty() || label(m) == filter.depth)
        .collect();
    let choices = |values: Vec<(String, String)>, taken: &str| {
        values.into_iter().map(|(code, words)| Answer::of(code, words, taken)).collect::<Vec<_>>()
    };
    let count = |s: &str| all.iter().filter(|m| within(m, s)).count();
    let states = [
        ("waiting", "wait"),
        ("asked", "second opinion"),
        ("condition", "conditions"),
        ("decided", "decided"),
        ("seen", "seen by people"),
    ];
    let states = choices(states.map(|(v, w)| (v.to_owned(), format!("{w} {}", count(v)))).into(), chosen);
    let mut tests: Vec<Test> = all.iter().map(|m| m.lead().flag.test).collect();
    tests.sort_unstable();
    tests.dedup();
    let tests = tests.into_iter().map(|t| (t.code().to_owned(), t.definition().title.to_owned()));
    let mut depths: Vec<String> = Vec::new();
    all.iter().map(label).for_each(|l| {
        if !depths.contains(&l) {
            depths.push(l);
        }
    });
    let more = taken.len().saturating_sub(LISTED);
    let (study, station) = (&record.study, &record.station);
    let shell = Shell::within(&state, &actor, "Review", Room::Review, study, Some(station)).await?;
    let answer = match waiting {
        0 => "Nothing waits for a verdict.".to_owned(),
        1 => "1 thing waits for a verdict.".to_owned(),
        n => format!("{n} things wait for a verdict."),
    };
    let unjudged = record.unjudged(&state.store).await?;
    let titles = |tests: &[Test]| tests.iter().map(|t| t.definition().title).collect::<Vec<_>>().join(", ");
    page(&ReviewPage {
        shell,
        unjudged: unjudged.iter().map(|u| (titles(&u.tests), u.why.clone())).collect(),
        station: station.name.clone(),
        id: *id,
        answer,
        more,
        items: taken.into_iter().take(LISTED).map(|m| item(m, &record, &all, &remarks)).collect(),
        states,
        tests: choices(std::iter::once((String::new(), "all tests".to_owned())).chain(tests).collect(), &filter.test),
        depths: choices(
            std::iter::once((String::new(), "all places".to_owned()))
                .chain(depths.into_iter().map(|d| (d.clone(), d)))
                .collect(),
            &filter.depth,
        ),
        drawing: drawing(&record),
    })
}

fn in_state(matter: &FlagGroup, state: &str) -> bool {
    let decided = matter.lead().verdict.is_some();
    match state {
        "decided" => decided,
        "seen" => matter.lead().is_own(),
        "condition" => !decided && matter.lead().flag.grade == Grade::Condition,
        _ => matter.waits(),
    }
}

/// Where one finding is.
fn place_of(flag: &StoredFlag, record: &StationRecord) -> String {
    let here = record.channels.iter().find(|c| c.channel.stream.id == flag.stream_id);
    here.map_or_else(String::new, |c| match c.quantity() {
        q if q.is_in_soil() => format!("{}, {}", c.channel.label(), q.words()),
        _ => c.channel.label(),
    })
}

/// Where a matter is: a depth, a channel in the air, or the whole node.
fn place(matter: &FlagGroup, record: &StationRecord) -> String {
    let lead = matter.lead();
    let Some(channel) = record.channels.iter().find(|c| c.channel.stream.id == lead.stream_id) else {
        return String::new();
    };
    let mut streams: Vec<i64> = matter.flags.iter().map(|f| f.stream_id).collect();
    streams.sort_unstable();
    streams.dedup();
    match streams.len() {
        1 => channel.channel.label(),
        n => format!("{}, {n} channels", channel.channel.stream.node),
    }
}

/// Things of a list that a page shows; the rest is counted.
const LISTED: usize = 400;
/// What was said last of a thing that stands in a list; its own page has all.
const SAID: usize = 3;
/// Findings under a cause that a page lists; the rest is counted by the cause itself.
const UNDER: usize = 60;

fn item(matter: &FlagGroup, record: &StationRecord, all: &[FlagGroup], remarks: &Remarks) -> Item {
    let lead = matter.lead();
    let test = lead.flag.test.definition();
    let title = matter.cause.as_ref().map_or(test.title, |c| c.kind.title());
    let offset = record.study.utc_offset_minutes;
    let channel = record.channels.iter().find(|c| c.channel.stream.id == lead.stream_id);
    let quantity = channel.map(ebrel_app::record::ChannelRecord::quantity);
    let moist = quantity.is_some_and(|q| q.is_moisture());
    let what = match quantity {
        Some(q) if q.is_in_soil() && matter.flags.len() == 1 => format!(", {}", q.words()),
        _ => String::new(),
    };
    let ids = |each: Vec<i64>| each.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    let verdict = lead.verdict.as_ref().map(|v| {
        let done = if v.verdict == Verdict::LeftOut { "Left out" } else { "Kept" };
        let why = if v.reason.is_empty() { String::new() } else { format!(": {}", v.reason) };
        format!("{done} by {}, {}{why}", v.by, moment(v.at, offset))
    });
    let alike = |g: &&FlagGroup| g.waits() && g.flags.len() == 1 && g.lead().flag.test == lead.flag.test;
    let like = (matter.flags.len() == 1 && matter.waits() && all.iter().filter(alike).count() > 1).then_some(lead.id);
    let under = |f: &StoredFlag| Under {
        id: f.id,
        mark: f.flag.test.definition().mark,
        place: place_of(f, record),
        when: span(f.flag.start, f.flag.end, offset),
        reason: f.flag.reason.clone(),
    };
    let several = matter.flags.len() > 1;
    let mut said: Vec<_> = matter.flags.iter().flat_map(|f| evidence::said(remarks, f, offset)).collect();
    let (start, end) = matter.cause.as_ref().map_or((lead.flag.start, lead.flag.end), |c| (c.start, c.end));
    Item {
        against: matter.cause.as_ref().map_or_else(String::new, |c| c.against.clone()),
        mend: matter.cause.as_ref().filter(|c| c.mend.is_some()).map(|c| c.id),
        under: matter.flags.iter().filter(|_| several).take(UNDER).map(under).collect(),
        like,
        said_before: said.len().saturating_sub(SAID),
        said: said.split_off(said.len().saturating_sub(SAID)),
        own: lead.is_own(),
        lead: lead.id,
        stream: lead.stream_id,
        flags: ids(matter.flags.iter().map(|f| f.id).collect()),
        test: title,
        mark: test.mark,
        place: format!("{}{what}", place(matter, record)),
        when: span(start, end, offset),
        reason: matter.cause.as_ref().map_or(&lead.flag.reason, |c| &c.reason).clone(),
        start: start.0,
        end: end.0,
        grade: lead.flag.grade.code(),
        grade_words: match lead.flag.grade {
            Grade::Wrong => "wrong: left out unless you keep it",
            Grade::Doubtful => "doubtful",
            Grade::Condition => "condition: true, but know it",
        },
        show: if moist || matter.flags.len() > 1 { "moisture" } else { "temperature" },
        verdict,
        verdict_ids: ids(matter.flags.iter().filter_map(|f| f.verdict.as_ref()).map(|v| v.id).collect()),
    }
}

#[derive(Deserialize)]
struct VerdictForm {
    flags: Vec<i64>,
    verdict: Verdict,
    #[serde(default)]
    reason: String,
}

/// What a script is told after a verdict or its undoing.
#[derive(Serialize)]
struct Outcome {
    verdicts: Vec<i64>,
    waiting: usize,
}

async fn decide(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedJson<VerdictForm>,
) -> Result<web::Json<Outcome>, Problem> {
    let by = actor.name().to_owned();
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let at = state.now(&study);
    let VerdictForm { flags: wanted, verdict, reason } = form.0;
    let reason = at_most(&reason, "the reason", 500)?;
    let flags = state.store.flags(*id).await?;
    let decisions: Vec<Decision> = flags
        .iter()
        .filter(|f| wanted.contains(&f.id))
        .map(|f| Decision {
            mark: None,
            id: 0,
            stream_id: f.stream_id,
            test: f.flag.test,
            start: f.flag.start,
            end: f.flag.end,
            verdict,
            reason: reason.clone(),
            by: by.clone(),
            at,
        })
        .collect();
    if decisions.is_empty() {
        return Err(Problem::Refused("The tests have run anew since this page was opened: reload it.".into()));
    }
    let verdicts = state.store.decide(&decisions).await?;
    Ok(web::Json(Outcome { verdicts, waiting: waiting_at(&state, &study, *id).await? }))
}

/// How many things of a station wait.
async fn waiting_at(state: &State, study: &Study, station: i64) -> Result<usize, Problem> {
    Ok(state.store.waiting(study.id).await?.get(&station).copied().unwrap_or(0))
}

#[derive(Deserialize)]
struct UndoForm {
    verdicts: Vec<i64>,
}

async fn undo(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedJson<UndoForm>,
) -> Result<web::Json<Outcome>, Problem> {
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let here: Vec<i64> = state.store.verdicts(*id).await?.iter().map(|v| v.id).collect();
    let wanted: Vec<i64> = form.0.verdicts.into_iter().filter(|v| here.contains(v)).collect();
    state.store.undo_decisions(&wanted, actor.name(), state.now(&study)).await?;
    Ok(web::Json(Outcome { verdicts: wanted, waiting: waiting_at(&state, &study, *id).await? }))
}

#[derive(Deserialize)]
struct Nothing {}

async fn run_again(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    _: CheckedForm<Nothing>,
) -> Result<HttpResponse, Problem> {
    let found = reviewing::run(&state.store, *id).await?;
    say(&actor, &format!("All tests have run anew: {found} flags. Your verdicts stand."))?;
    Ok(see_other(&format!("/stations/{}/review", *id)))
}
