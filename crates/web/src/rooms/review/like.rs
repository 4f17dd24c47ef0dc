//! Verdicts on many at once: all findings like one, the list first.

use super::place_of;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::span;
use crate::shell::forms::at_most;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_core::roles::Role;
use ebrel_core::units::Verdict;
use ebrel_store::flags::StoredFlag;
use ebrel_store::verdicts::Decision;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review/like/{flag}", Least::Member(Role::Researcher), show);
    routes.post("/stations/{id}/review/like/{flag}", Least::Member(Role::Researcher), decide);
}

struct Row {
    id: i64,
    place: String,
    when: String,
    reason: String,
    chosen: bool,
}

#[derive(Template)]
#[template(path = "rooms/review/like.html")]
struct LikePage {
    shell: Shell,
    id: i64,
    flag: i64,
    title: &'static str,
    rows: Vec<Row>,
    everywhere: bool,
    place: String,
    reason: String,
    error: Option<String>,
}

/// How far "like this" goes: the same channel, or everywhere at the station.
#[derive(Deserialize, Default)]
struct Reach {
    #[serde(default)]
    everywhere: bool,
}

/// Findings of the same test that wait, as one of them: at its channel, or everywhere at the station.
fn alike<'f>(flags: &'f [StoredFlag], of: &StoredFlag, everywhere: bool) -> Vec<&'f StoredFlag> {
    let like =
        |f: &&StoredFlag| f.flag.test == of.flag.test && f.waits() && (everywhere || f.stream_id == of.stream_id);
    let mut found: Vec<&StoredFlag> = flags.iter().filter(like).collect();
    found.sort_by_key(|f| (f.flag.start, f.stream_id));
    found
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    reach: web::Query<Reach>,
) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *path, reach.everywhere, None, String::new(), None).await
}

const MOVED: &str = "The tests have run anew since that page was opened: go back to what waits, and choose again.";

async fn shown(
    state: &State,
    actor: &Actor,
    (id, flag): (i64, i64),
    everywhere: bool,
    chosen: Option<&[i64]>,
    reason: String,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::outline(&state.store, id).await?;
    let flags = state.store.flags(id).await?;
    let of = flags.iter().find(|f| f.id == flag).ok_or_else(|| Problem::Refused(MOVED.into()))?;
    let offset = record.study.utc_offset_minutes;
    let row = |f: &&StoredFlag| Row {
        id: f.id,
        place: place_of(f, &record),
        when: span(f.flag.start, f.flag.end, offset),
        reason: f.flag.reason.clone(),
        chosen: chosen.is_none_or(|c| c.contains(&f.id)),
    };
    page(&LikePage {
        shell: Shell::within(state, actor, "All like this", Room::Review, &record.study, Some(&record.station)).await?,
        id,
        flag,
        title: of.flag.test.definition().title,
        rows: alike(&flags, of, everywhere).iter().map(row).collect(),
        everywhere,
        place: place_of(of, &record),
        reason,
        error,
    })
}

/// A form with many boxes of one name, which an ordinary one does not read.
#[derive(Deserialize)]
struct Boxes {
    /// Numbers of the findings that are ticked, each with a blank between.
    #[serde(default)]
    flags: String,
    #[serde(default)]
    reason: String,
    #[serde(default)]
    everywhere: bool,
    verdict: Verdict,
}

async fn decide(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    form: CheckedForm<Boxes>,
) -> Result<HttpResponse, Problem> {
    let (id, flag) = *path;
    let Boxes { flags: text, reason, everywhere, verdict } = form.0;
    let chosen: Vec<i64> = text.split_whitespace().filter_map(|n| n.parse().ok()).collect();
    if chosen.is_empty() {
        let says = "Nothing was ticked: tick what the verdict is for.".to_owned();
        return shown(&state, &actor, (id, flag), everywhere, Some(&chosen), reason, Some(says)).await;
    }
    let kept = at_most(&reason, "the reason", 500)?;
    let station = state.store.station(id).await?;
    let at = state.now(&state.store.study(station.study_id).await?);
    let flags = state.store.flags(id).await?;
    let decision = |f: &StoredFlag| Decision {
        mark: None,
        id: 0,
        stream_id: f.stream_id,
        test: f.flag.test,
        start: f.flag.start,
        end: f.flag.end,
        verdict,
        reason: kept.clone(),
        by: actor.name().to_owned(),
        at,
    };
    let decisions: Vec<Decision> = flags.iter().filter(|f| chosen.contains(&f.id)).map(decision).collect();
    if decisions.len() < chosen.len() {
        return Err(Problem::Refused(MOVED.into()));
    }
    state.store.decide(&decisions).await?;
    let done = if verdict == Verdict::LeftOut { "left out" } else { "kept" };
    let n = decisions.len();
    say(&actor, &format!("{n} finding{} {done}. Each can be taken back.", if n == 1 { "" } else { "s" }))?;
    Ok(see_other(&format!("/stations/{id}/review")))
}
