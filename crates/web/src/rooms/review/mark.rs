//! What a person saw and no test did: a span drawn on the strips, named, graded and given a reason.

use super::evidence::{Line, trace};
use crate::components::fields::Answer;
use crate::components::trace::Trace;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, span, typed_time};
use crate::shell::forms::{Field, words};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_core::quality::Test;
use ebrel_core::roles::Role;
use ebrel_core::units::{Grade, SpanSeconds, UnixSeconds, Verdict, unit_for_people};
use ebrel_store::verdicts::{Decision, Mark};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review/mark", Least::Member(Role::Researcher), show);
    routes.post("/stations/{id}/review/mark", Least::Member(Role::Researcher), keep);
}

const LONGEST_REASON: usize = 500;
/// Times are typed to the minute: the last one is meant as a whole.
const MINUTE: i64 = 59;

/// A span as it was drawn.
#[derive(Deserialize)]
struct Drawn {
    /// Stream, if the hand was over one.
    #[serde(default)]
    channel: Option<i64>,
    /// First and last second.
    #[serde(default)]
    from: Option<i64>,
    #[serde(default)]
    to: Option<i64>,
}

/// A span as it was typed.
#[derive(Deserialize, Default)]
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
    grade: String,
    #[serde(default)]
    reason: String,
}

#[derive(Template)]
#[template(path = "rooms/review/mark.html")]
struct MarkPage {
    shell: Shell,
    id: i64,
    channels: Vec<Answer>,
    start: Field,
    end: Field,
    tests: Vec<Answer>,
    grades: Vec<Answer>,
    reason: Field,
    /// What is wrong with the whole.
    error: Option<String>,
    drawing: Option<Trace>,
}

const GRADES: [(Grade, &str); 3] = [
    (Grade::Wrong, "wrong: left out of everything"),
    (Grade::Doubtful, "doubtful: kept, and shown as such"),
    (Grade::Condition, "a condition: true, but know it"),
];

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    drawn: web::Query<Drawn>,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let offset = record.study.utc_offset_minutes;
    let time = |t: Option<i64>| t.map_or_else(String::new, |t| field(UnixSeconds(t), offset));
    let typed = Typed {
        channel: drawn.channel.map_or_else(String::new, |c| c.to_string()),
        start: time(drawn.from),
        end: time(drawn.to),
        grade: Grade::Wrong.code().to_owned(),
        ..Typed::default()
    };
    shown(&state, &actor, &record, typed, Faults::default()).await
}

/// What is wrong with a form, each at its place.
#[derive(Default)]
struct Faults {
    start: Option<String>,
    end: Option<String>,
    reason: Option<String>,
    whole: Option<String>,
}

async fn shown(
    state: &State,
    actor: &Actor,
    record: &StationRecord,
    typed: Typed,
    faults: Faults,
) -> Result<HttpResponse, Problem> {
    let (study, station) = (&record.study, &record.station);
    let offset = study.utc_offset_minutes;
    let test = |t: &Test| Answer::of(t.code(), t.definition().title, &typed.test);
    let grade = |(g, words): &(Grade, &str)| Answer::of(g.code(), *words, &typed.grade);
    let fault = |text: &str, error: Option<String>| Field { text: text.to_owned(), error };
    let drawing = span_of(&typed, offset).ok().and_then(|span| drawing(record, &typed, span));
    page(&MarkPage {
        shell: Shell::within(state, actor, "Mark a span", Room::Review, study, Some(station)).await?,
        id: station.id,
        channels: Answer::streams(record.channels.iter(), &typed.channel),
        tests: Test::ALL.iter().map(test).collect(),
        grades: GRADES.iter().map(grade).collect(),
        start: fault(&typed.start, faults.start),
        end: fault(&typed.end, faults.end),
        reason: fault(&typed.reason, faults.reason),
        error: faults.whole,
        drawing,
    })
}

/// The typed span: first and last second.
fn span_of(typed: &Typed, offset: i64) -> Result<(UnixSeconds, UnixSeconds), Faults> {
    match (typed_time(&typed.start, offset), typed_time(&typed.end, offset)) {
        (Ok(start), Ok(end)) if start <= end => Ok((start, end + SpanSeconds(MINUTE))),
        (Ok(_), Ok(_)) => {
            Err(Faults { end: Some("It ends before it begins: change one of the two.".into()), ..Faults::default() })
        }
        (start, end) => Err(Faults { start: start.err(), end: end.err(), ..Faults::default() }),
    }
}

fn drawing(record: &StationRecord, typed: &Typed, (start, end): (UnixSeconds, UnixSeconds)) -> Option<Trace> {
    let own = record.channels.iter().find(|c| c.channel.stream.id.to_string() == typed.channel)?;
    let day = SpanSeconds::DAY.0;
    let beside = ((end.0 - start.0) / 2).clamp(day / 2, 10 * day);
    let around = (UnixSeconds(start.0 - beside), UnixSeconds(end.0 + beside));
    let kin = record.channels.iter().filter(|c| c.quantity() == own.quantity() && !std::ptr::eq(*c, own));
    let lines: Vec<Line> = std::iter::once(own).chain(kin).map(|c| Line::of(c, around)).collect();
    trace(record, &lines, around, Some((start, end)), &unit_for_people(own.unit()))
}

/// What was meant: one decision for each placement that has readings in the span, drawn in to those readings.
fn understood(typed: &Typed, record: &StationRecord, (by, at): (&str, UnixSeconds)) -> Result<Vec<Decision>, Faults> {
    let whole = |says: &str| Faults { whole: Some(says.to_owned()), ..Faults::default() };
    let (start, end) = span_of(typed, record.study.utc_offset_minutes)?;
    let reason = words(&typed.reason, "a reason", LONGEST_REASON)
        .map_err(|says| Faults { reason: Some(says), ..Faults::default() })?;
    let test = Test::from_code(&typed.test).ok_or_else(|| whole("Choose what it is."))?;
    let grade = Grade::from_code(&typed.grade).ok_or_else(|| whole("Choose how it counts."))?;
    let mut here = record.channels.iter().filter(|c| c.channel.stream.id.to_string() == typed.channel).peekable();
    if here.peek().is_none() {
        return Err(whole("Choose the channel."));
    }
    let one = |c: &ChannelRecord| {
        let times = c.view().times;
        let times = &times[times.partition_point(|t| *t < start.0)..times.partition_point(|t| *t <= end.0)];
        Some(Decision {
            id: 0,
            stream_id: c.channel.stream.id,
            test,
            start: UnixSeconds(*times.first()?),
            end: UnixSeconds(*times.last()?),
            verdict: if grade == Grade::Wrong { Verdict::LeftOut } else { Verdict::Kept },
            reason: reason.clone(),
            by: by.to_owned(),
            at,
            mark: Some(Mark { grade, readings: times.len() }),
        })
    };
    let mut meant: Vec<Decision> = here.filter_map(one).collect();
    meant.sort_by_key(|d| d.start);
    if meant.is_empty() {
        return Err(whole("This channel has no reading in that time: change the times, or choose another channel."));
    }
    Ok(meant)
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, *id).await?;
    let typed = form.0;
    let mut meant = match understood(&typed, &record, (actor.name(), state.now(&record.study))) {
        Ok(meant) => meant,
        Err(faults) => return shown(&state, &actor, &record, typed, faults).await,
    };
    // The write lock first: from two tabs it is marked once.
    let mut unit = state.store.unit().await?;
    let known = state.store.verdicts(*id).await?;
    let what = |d: &Decision| (d.stream_id, d.test, d.start, d.end, d.verdict);
    let is_known = |d: &Decision| known.iter().any(|k| k.mark.is_some() && what(k) == what(d));
    let (first, last) = (meant[0].start, meant[meant.len() - 1].end);
    meant.retain(|d| !is_known(d));
    if meant.is_empty() {
        drop(unit);
        let whole = Some("This span is marked so already: see under what was decided.".to_owned());
        return shown(&state, &actor, &record, typed, Faults { whole, ..Faults::default() }).await;
    }
    unit.decide(&meant).await?;
    unit.commit().await?;
    let n: usize = meant.iter().filter_map(|d| d.mark).map(|m| m.readings).sum();
    let readings = if n == 1 { "1 reading".to_owned() } else { format!("{n} readings") };
    let when = span(first, last, record.study.utc_offset_minutes);
    say(&actor, &format!("Marked: {} at {when}, {readings}. It can be taken back.", meant[0].test.definition().title))?;
    Ok(see_other(&format!("/stations/{}/review?state=seen&from={}&to={}", *id, first.0 - 432_000, last.0 + 432_000)))
}
