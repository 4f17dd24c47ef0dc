//! A cause and its mend: what would change, before and after side by side; made with a reason, and taken back.

use crate::components::trace::{Frame, Source, Trace, draw};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment, span, when};
use crate::shell::forms::{Field, at_most, optional};
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::difference::{Difference, Told};
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_app::repairing::{self, Change, Proposal};
use ebrel_core::field::ClockCheck;
use ebrel_core::quality::{Mend, Reference};
use ebrel_core::roles::Role;
use ebrel_core::series::View;
use ebrel_core::units::{DepthCm, SpanSeconds, UnixSeconds, format_short, unit_for_people};
use ebrel_store::StoreError;
use ebrel_store::placements::Placement;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/review/causes/{cause}", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/review/causes/{cause}", Least::Member(Role::Researcher), mend);
    routes.post("/stations/{id}/review/repairs/{repair}/undo", Least::Member(Role::Researcher), undo);
}

/// Findings of a list that a page shows; the rest is counted.
const LISTED: usize = 12;
const LONGEST_REASON: usize = 400;

/// A finding that goes or comes.
pub struct Line {
    pub mark: &'static str,
    pub words: String,
    pub when: String,
}

/// What would change among the findings, for a page.
pub struct Changes {
    pub gone: Vec<Line>,
    pub gone_count: usize,
    pub come: Vec<Line>,
    pub come_count: usize,
    pub same: usize,
    /// Verdicts that would stand on nothing.
    pub verdicts: Vec<String>,
    /// Channel, hours out now, hours out then.
    pub hours: Vec<(String, String, String)>,
}

/// What would change, as a page shows it.
pub fn changes(difference: &Difference, offset: i64) -> Changes {
    let line = |t: &Told| {
        let test = t.flag.test.definition();
        let words = format!("{} at {}", test.title, t.place);
        Line { mark: test.mark, words, when: span(t.flag.start, t.flag.end, offset) }
    };
    let verdict = |d: &ebrel_store::verdicts::Decision| {
        format!("{} of {}, by {}", d.test.definition().title, span(d.start, d.end, offset), d.by)
    };
    let hours = |h: f64| grouped(h.round() as usize);
    Changes {
        gone: difference.gone.iter().take(LISTED).map(line).collect(),
        gone_count: difference.gone.len(),
        come: difference.come.iter().take(LISTED).map(line).collect(),
        come_count: difference.come.len(),
        same: difference.same,
        verdicts: difference.verdicts.iter().map(verdict).collect(),
        hours: difference.hours.iter().map(|h| (h.place.clone(), hours(h.before), hours(h.after))).collect(),
    }
}

/// One placement as it is and as it would be.
struct Row {
    port: String,
    was: String,
    new: String,
}

#[derive(Template)]
#[template(path = "rooms/review/repair.html")]
struct RepairPage {
    shell: Shell,
    id: i64,
    cause: i64,
    title: &'static str,
    when: String,
    reason: String,
    against: String,
    does: String,
    /// What the rows tell of.
    noted: &'static str,
    rows: Vec<Row>,
    /// What a clock would have shown, what it would have been, and by how much it was off.
    checks: Vec<(String, String, String)>,
    before: Vec<Trace>,
    after: Vec<Trace>,
    changes: Changes,
    /// The depth of a mend that notes another one.
    depth: Option<Field>,
    why: String,
    error: Option<String>,
    may: bool,
}

/// What is typed beside a mend.
#[derive(Deserialize, Default)]
struct Typed {
    #[serde(default)]
    why: String,
    /// Depth, cm, where the mend notes one.
    #[serde(default)]
    depth: String,
    /// Whether what it would change is to be seen first.
    #[serde(default)]
    look: String,
}

async fn show(state: web::Data<State>, actor: Actor, path: web::Path<(i64, i64)>) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *path, Typed::default(), None).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    (id, cause): (i64, i64),
    typed: Typed,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let known = optional(&typed.depth, DepthCm::RANGE);
    let depth = known.clone().ok().flatten().and_then(|cm| DepthCm::new(cm).ok());
    let proposal = repairing::propose(&state.store, id, cause, depth).await?;
    let field = match (&proposal.cause.mend, known) {
        (Some(Mend::Depth { .. }), Err(says)) => Some(Field::wrong(&typed.depth, says)),
        (Some(Mend::Depth { depth_cm, .. }), Ok(_)) => Some(Field::of(&format_short(*depth_cm))),
        _ => None,
    };
    let (study, station) = (proposal.before.study.clone(), proposal.before.station.clone());
    let shell = Shell::within(state, actor, "Mend", Room::Review, &study, Some(&station)).await?;
    let offset = study.utc_offset_minutes;
    let (before, after) = traces(&proposal, offset);
    let may = shell.may(Role::Researcher);
    page(&RepairPage {
        shell,
        id,
        cause,
        title: proposal.cause.kind.title(),
        when: span(proposal.cause.start, proposal.cause.end, offset),
        reason: proposal.cause.reason.clone(),
        against: proposal.cause.against.clone(),
        does: does(proposal.cause.mend.as_ref()),
        noted: if proposal.retired.is_some() { "calibration" } else { "placement" },
        rows: proposal.changes.iter().map(|c| row(c, offset)).chain(retired(&proposal, offset)).collect(),
        checks: checks(proposal.cause.mend.as_ref(), offset),
        before,
        after,
        changes: changes(&proposal.difference, offset),
        depth: field,
        why: typed.why,
        error,
        may,
    })
}

/// What a mend does, in a sentence.
pub fn does(mend: Option<&Mend>) -> String {
    match mend {
        None => String::new(),
        Some(Mend::Exchange { ports: [a, b], .. }) => {
            format!("Note that ports {a} and {b} carried each other's probe in that time.")
        }
        Some(Mend::Anew { port, .. }) => {
            format!("Let the record of the probe at port {port} begin anew there, and settle as after an installation.")
        }
        Some(Mend::Clock { node, .. }) => {
            format!("Take the grid of its program for the truth, and move the times of {node} back onto it.")
        }
        Some(Mend::Retire { port, .. }) => {
            format!("Use the calibration of the probe at port {port} no more.")
        }
        Some(Mend::Depth { port, depth_cm, .. }) => {
            format!("Note {}\u{a0}cm as the depth of the probe at port {port}.", format_short(*depth_cm))
        }
    }
}

fn checks(mend: Option<&Mend>, offset: i64) -> Vec<(String, String, String)> {
    let Some(Mend::Clock { checks, .. }) = mend else { return Vec::new() };
    let off = |check: &ClockCheck| match check.ahead().0 {
        0 => "right".to_owned(),
        s if s > 0 => format!("{} ahead", SpanSeconds(s).in_words()),
        s => format!("{} behind", SpanSeconds(-s).in_words()),
    };
    checks.iter().map(|c| (moment(c.shown, offset), moment(c.truth, offset), off(c))).collect()
}

fn said(p: &Placement, offset: i64) -> String {
    let depth = p.depth_cm.map_or_else(String::new, |d| format!(" at {}\u{a0}cm", format_short(d)));
    let until = p.ends.map_or_else(|| "still there".to_owned(), |t| format!("until {}", moment(t, offset)));
    format!("{}{depth}, from {}, {until}", p.probe.serial, moment(p.starts, offset))
}

fn row(change: &Change, offset: i64) -> Row {
    let was = change.was.as_ref().map_or_else(|| "–".to_owned(), |p| said(p, offset));
    Row { port: change.new.port.clone(), was, new: said(&change.new, offset) }
}

/// The calibration that would be used no more, and what would hold instead.
fn retired(proposal: &Proposal, offset: i64) -> Option<Row> {
    let (Some(adopted), Some(Mend::Retire { node, port, at })) = (&proposal.retired, &proposal.cause.mend) else {
        return None;
    };
    let then = proposal.after.at_port(node, port, *at).find(|c| c.is_calibrated());
    let curves = then.map(|c| c.history.curves()).unwrap_or_default();
    let new = match curves.iter().rev().find(|c| c.valid_from <= *at) {
        Some(curve) => format!("the one from {} on", moment(curve.valid_from, offset)),
        None => "none: raw output, until another is adopted".to_owned(),
    };
    let was = format!("version {}, from {} on", adopted.version, moment(adopted.valid_from, offset));
    Some(Row { port: port.clone(), was, new })
}

/// The channels of the ports concerned, before and after, moisture and temperature each in a drawing of its own.
fn traces(proposal: &Proposal, offset: i64) -> (Vec<Trace>, Vec<Trace>) {
    let ports: Vec<&str> = match &proposal.cause.mend {
        Some(Mend::Exchange { ports, .. }) => ports.iter().map(String::as_str).collect(),
        Some(Mend::Depth { port, .. } | Mend::Anew { port, .. } | Mend::Retire { port, .. }) => vec![port],
        Some(Mend::Clock { .. }) | None => Vec::new(),
    };
    let (start, end) = (proposal.cause.start, proposal.cause.end);
    // A wrong depth is seen in some days; a clock at the end of its drift, an exchange with what was before and after it.
    let clock = matches!(proposal.cause.mend, Some(Mend::Clock { .. }));
    let whole = clock || matches!(proposal.cause.mend, Some(Mend::Depth { .. }));
    let (from, to) = if clock {
        (end + SpanSeconds(-SpanSeconds::DAY.0), end + SpanSeconds(SpanSeconds::DAY.0 / 4))
    } else if whole {
        let middle = UnixSeconds(start.0.midpoint(end.0));
        (middle + SpanSeconds(-4 * SpanSeconds::DAY.0), middle + SpanSeconds(4 * SpanSeconds::DAY.0))
    } else {
        // A jump is seen among the days around it.
        let least = if matches!(proposal.cause.mend, Some(Mend::Anew { .. })) { 10 } else { 1 };
        let beside = SpanSeconds(((end.0 - start.0) / 3).max(least * SpanSeconds::DAY.0));
        (start + SpanSeconds(-beside.0), end + beside)
    };
    let shade = (!whole).then_some((start, end));
    let of = |record: &StationRecord| {
        let mut traces = Vec::new();
        for moist in [false, true] {
            let shown = |c: &&ChannelRecord| {
                let q = c.quantity();
                q.is_in_soil() && q.is_moisture() == moist && (whole || ports.contains(&c.channel.stream.port.as_str()))
            };
            let channels: Vec<&ChannelRecord> = record.channels.iter().filter(shown).collect();
            traces.extend(trace(&channels, (from, to), shade, offset));
        }
        traces
    };
    (of(&proposal.before), of(&proposal.after))
}

fn trace(
    channels: &[&ChannelRecord],
    span: (UnixSeconds, UnixSeconds),
    shade: Option<(UnixSeconds, UnixSeconds)>,
    offset: i64,
) -> Option<Trace> {
    let inside = |c: &&&ChannelRecord| {
        let times = c.view().times;
        times.partition_point(|t| *t < span.0.0) < times.partition_point(|t| *t <= span.1.0)
    };
    let channels: Vec<&ChannelRecord> = channels.iter().filter(inside).copied().collect();
    let values: Vec<_> = channels.iter().map(|c| c.values()).collect();
    let mut depths: Vec<f64> = channels.iter().filter_map(|c| c.channel.placement.depth_cm).collect();
    depths.sort_by(f64::total_cmp);
    depths.dedup();
    let dash = |c: &ChannelRecord| depths.iter().position(|d| Some(*d) == c.channel.placement.depth_cm).unwrap_or(0);
    let mut named: Vec<String> = Vec::new();
    let sources: Vec<Source<'_>> = channels
        .iter()
        .zip(&values)
        .map(|(c, values)| {
            let label = c.channel.label();
            // One depth through several placements is one line to the eye: it is named once.
            let name = if named.contains(&label) { String::new() } else { label.clone() };
            named.push(label);
            Source { name, view: View { times: c.view().times, values }, dash: dash(c) }
        })
        .collect();
    let first = channels.first()?;
    let unit = unit_for_people(first.unit()).to_owned();
    let words = format!("{} of {}", first.quantity().words(), named.join(", "));
    let by_hand: Vec<Reference> = channels.iter().flat_map(|c| c.references.iter().copied()).collect();
    let when = |t, form: &str| when(t, offset, form);
    draw(&sources, Frame { span, shade, when: &when, unit, words, band: None, by_hand: &by_hand })
}

async fn mend(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let ((id, cause), typed) = (*path, form.0);
    let depth = match optional(&typed.depth, DepthCm::RANGE) {
        Ok(cm) => cm.and_then(|cm| DepthCm::new(cm).ok()),
        Err(_) => return shown(&state, &actor, (id, cause), typed, None).await,
    };
    if !typed.look.is_empty() {
        return shown(&state, &actor, (id, cause), typed, None).await;
    }
    let why = typed.why.trim();
    if why.is_empty() {
        let says = "Say why: what you saw, or who told you. Whoever reads the record later must be able to follow.";
        return shown(&state, &actor, (id, cause), typed, Some(says.to_owned())).await;
    }
    let kept = at_most(why, "the reason", LONGEST_REASON)?;
    let station = state.store.station(id).await?;
    let at = state.now(&state.store.study(station.study_id).await?);
    match repairing::mend(&state.store, id, cause, (depth, &kept), (actor.name(), at)).await {
        Err(StoreError::Rule(says)) => shown(&state, &actor, (id, cause), typed, Some(says)).await,
        done => {
            done?;
            say(
                &actor,
                "Mended. No reading was changed; all tests have run anew. It can be taken back under What was decided.",
            )?;
            Ok(see_other(&format!("/stations/{id}/review/decided")))
        }
    }
}

#[derive(Deserialize)]
struct Nothing {}

async fn undo(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    _: CheckedForm<Nothing>,
) -> Result<HttpResponse, Problem> {
    let (id, repair) = path.into_inner();
    let station = state.store.station(id).await?;
    let at = state.now(&state.store.study(station.study_id).await?);
    let told = match repairing::undo(&state.store, id, repair, actor.name(), at).await {
        Err(StoreError::Stale) => {
            "It was not taken back: it has been already, or a placement of it was corrected since; that is done under Placements."
        }
        Err(StoreError::Rule(says)) => return Err(Problem::Refused(says)),
        done => {
            done?;
            "Taken back. All tests have run anew."
        }
    };
    say(&actor, told)?;
    Ok(see_other(&format!("/stations/{id}/review/decided")))
}
