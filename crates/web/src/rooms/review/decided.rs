//! Every verdict, own mark, remark and mend at a station: who, when, why, and what it overruled; as a page and as a file.

use super::repair::does;
use crate::shell::actor::Actor;
use crate::shell::download::attachment;
use crate::shell::errors::Problem;
use crate::shell::figures::{moment, span};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::record::StationRecord;
use ebrel_core::quality::Mend;
use ebrel_core::roles::Role;
use ebrel_core::units::{Grade, UnixSeconds, Verdict};
use ebrel_formats::{harmless, rfc3339};
use ebrel_store::remarks::KeptRemark;
use ebrel_store::repairs::StoredRepair;
use ebrel_store::verdicts::KeptDecision;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review/decided", Least::Member(Role::Guest), show);
    routes.get("/stations/{id}/review/decided.csv", Least::Member(Role::Guest), export);
}

/// One decision.
struct Row {
    at: UnixSeconds,
    when: String,
    by: String,
    what: String,
    place: String,
    of: String,
    why: String,
    /// What it overruled: the grade that the test gives, or the placements before.
    overruled: String,
    undone: Option<String>,
    /// The mend that can be taken back here.
    repair: Option<i64>,
}

#[derive(Template)]
#[template(path = "rooms/review/decided.html")]
struct DecidedPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    rows: Vec<Row>,
    more: usize,
    may: bool,
}

/// Rows of a page; the file has all.
const LISTED: usize = 300;

fn of_verdict(v: &KeptDecision, record: &StationRecord) -> Row {
    let offset = record.study.utc_offset_minutes;
    let d = &v.decision;
    let channel = record.channels.iter().find(|c| c.channel.stream.id == d.stream_id);
    let test = d.test.definition();
    let standard = match d.mark {
        Some(_) => "no test saw it",
        None => by_its_test(test.grade),
    };
    let done = if d.verdict == Verdict::LeftOut { "left out" } else { "kept" };
    Row {
        at: d.at,
        when: moment(d.at, offset),
        by: d.by.clone(),
        what: d.mark.map_or_else(|| done.to_owned(), |m| format!("seen by hand, {}: {done}", m.grade.code())),
        place: channel.map_or_else(String::new, |c| format!("{}, {}", c.channel.label(), c.channel.stream.port)),
        of: format!("{}, {}", test.title, span(d.start, d.end, offset)),
        why: d.reason.clone(),
        overruled: standard.to_owned(),
        undone: v.undone.as_ref().map(|(by, at)| undone_words(by, *at, offset)),
        repair: None,
    }
}

/// Something said: it overrules nothing.
fn of_remark(r: &KeptRemark, record: &StationRecord) -> Row {
    let offset = record.study.utc_offset_minutes;
    let said = &r.remark;
    let channel = record.channels.iter().find(|c| c.channel.stream.id == said.stream_id);
    Row {
        at: said.at,
        when: moment(said.at, offset),
        by: said.by.clone(),
        what: if said.asks { "second opinion wanted" } else { "comment" }.to_owned(),
        place: channel.map_or_else(String::new, |c| format!("{}, {}", c.channel.label(), c.channel.stream.port)),
        of: format!("{}, {}", said.test.definition().title, span(said.start, said.end, offset)),
        why: said.words.clone(),
        overruled: String::new(),
        undone: (said.asks && !r.open).then(|| "somebody decided since".to_owned()),
        repair: None,
    }
}

/// What a finding counts without anybody's verdict.
const fn by_its_test(grade: Grade) -> &'static str {
    match grade {
        Grade::Wrong => "left out by its test",
        Grade::Doubtful => "doubtful by its test",
        Grade::Condition => "a condition by its test",
    }
}

fn undone_words(by: &str, at: UnixSeconds, offset: i64) -> String {
    if by.is_empty() {
        format!("taken back {}", moment(at, offset))
    } else {
        format!("taken back by {by}, {}", moment(at, offset))
    }
}

fn of_repair(r: &StoredRepair, offset: i64) -> Row {
    let ports: Vec<&str> = r.repair.changed.iter().filter(|c| c.was.is_some()).map(|c| c.new.port.as_str()).collect();
    let was = r.repair.changed.iter().filter_map(|c| c.was.as_ref());
    let depth = |d: Option<ebrel_core::units::DepthCm>| {
        d.map_or_else(String::new, |d| format!(" at {}\u{a0}cm", ebrel_core::units::format_short(d.get())))
    };
    let overruled = was.map(|p| format!("port {}{} from {}", p.port, depth(p.depth_cm), moment(p.starts, offset)));
    Row {
        at: r.repair.at,
        when: moment(r.repair.at, offset),
        by: r.repair.by.clone(),
        what: "mended".to_owned(),
        place: match &r.repair.mend {
            Mend::Clock { node, .. } => node.clone(),
            Mend::Retire { port, .. } => format!("port {port}"),
            Mend::Exchange { .. } | Mend::Depth { .. } | Mend::Anew { .. } => format!("port {}", ports.join(", ")),
        },
        of: format!("{}. {} {}", r.repair.kind.title(), r.repair.cause, does(Some(&r.repair.mend))),
        why: r.repair.why.clone(),
        overruled: overruled.collect::<Vec<_>>().join("; "),
        undone: r.undone.as_ref().map(|(by, at)| undone_words(by, *at, offset)),
        repair: r.undone.is_none().then_some(r.id),
    }
}

/// All decisions, the newest first.
async fn rows(state: &State, record: &StationRecord) -> Result<Vec<Row>, Problem> {
    let id = record.station.id;
    let mut rows: Vec<Row> = state.store.all_decisions(id).await?.iter().map(|v| of_verdict(v, record)).collect();
    rows.extend(state.store.remarks(id).await?.all().iter().map(|r| of_remark(r, record)));
    let offset = record.study.utc_offset_minutes;
    rows.extend(state.store.repairs(id).await?.iter().map(|r| of_repair(r, offset)));
    rows.sort_by_key(|r| std::cmp::Reverse(r.at));
    Ok(rows)
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::outline(&state.store, *id).await?;
    let mut rows = rows(&state, &record).await?;
    let (all, stands) = (rows.len(), rows.iter().filter(|r| r.undone.is_none()).count());
    rows.truncate(LISTED);
    let shell =
        Shell::within(&state, &actor, "What was decided", Room::Review, &record.study, Some(&record.station)).await?;
    let may = shell.may(Role::Researcher);
    page(&DecidedPage {
        shell,
        id: *id,
        station: record.station.name.clone(),
        answer: match all {
            0 => "Nothing was decided here yet.".to_owned(),
            n => format!("{n} thing{} decided or said, of which {stands} stand.", if n == 1 { "" } else { "s" }),
        },
        more: all - rows.len(),
        rows,
        may,
    })
}

async fn export(state: web::Data<State>, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    let record = StationRecord::outline(&state.store, *id).await?;
    let mut table = csv::Writer::from_writer(Vec::new());
    let failed = |e: csv::Error| Problem::Internal(e.to_string());
    table
        .write_record(["time", "by", "decision", "place", "finding", "why", "overruled", "taken_back"])
        .map_err(failed)?;
    for r in rows(&state, &record).await? {
        let time = rfc3339(r.at);
        let undone = r.undone.unwrap_or_default();
        let row = [&time, &r.by, &r.what, &r.place, &r.of, &r.why, &r.overruled, &undone];
        table.write_record(row.map(|field| harmless(field))).map_err(failed)?;
    }
    let bytes = table.into_inner().map_err(|e| Problem::Internal(e.to_string()))?;
    let text = String::from_utf8(bytes).map_err(|e| Problem::Internal(e.to_string()))?;
    Ok(attachment("text/csv; charset=utf-8", &format!("decided-{}.csv", record.station.code), text))
}
