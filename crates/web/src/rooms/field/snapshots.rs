//! Snapshots: what every channel said at a named moment, two of them side by side on the section.

use crate::components::section::{Placed, Section};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{field, moment, signed, typed_time};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::field::moments::{Moment, Said, at_moment};
use ebrel_app::record::StationRecord;
use ebrel_core::roles::Role;
use ebrel_core::soil::Profile;
use ebrel_core::units::UnixSeconds;
use ebrel_store::snapshots::Snapshot;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/snapshots", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/snapshots", Least::Member(Role::Field), keep);
    routes.post("/stations/{id}/snapshots/{snapshot}/remove", Least::Member(Role::Field), remove);
}

/// The longest name, characters.
const LONGEST_NAME: usize = 80;

#[derive(Deserialize, Default)]
struct Chosen {
    left: Option<i64>,
    right: Option<i64>,
    #[serde(default)]
    name: String,
    #[serde(default)]
    at: String,
}

/// A snapshot on its section.
struct Side {
    name: String,
    at: String,
    section: Section,
    /// Of each probe drawn how far water fills it, px.
    fills: Vec<f64>,
    silent: Vec<String>,
}

struct Row {
    label: String,
    left: String,
    right: String,
    change: String,
}

#[derive(Template)]
#[template(path = "rooms/field/snapshots.html")]
struct SnapshotsPage {
    shell: Shell,
    id: i64,
    station: String,
    answer: String,
    snapshots: Vec<(Snapshot, String)>,
    chosen: Chosen,
    error: Option<String>,
    sides: Vec<Side>,
    rows: Vec<Row>,
}

impl SnapshotsPage {
    fn is_left(&self, id: &i64) -> bool {
        self.chosen.left == Some(*id)
    }

    fn is_right(&self, id: &i64) -> bool {
        self.chosen.right == Some(*id)
    }
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    chosen: web::Query<Chosen>,
) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *id, chosen.into_inner(), None).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    mut chosen: Chosen,
    error: Option<String>,
) -> Result<HttpResponse, Problem> {
    let record = StationRecord::load(&state.store, id).await?;
    let (study, station) = (&record.study, &record.station);
    let offset = study.utc_offset_minutes;
    let snapshots = state.store.snapshots(id).await?;
    let known = |wanted: Option<i64>| snapshots.iter().find(|s| Some(s.id) == wanted);
    // The latest beside the one before it, unless others are chosen.
    chosen.left = known(chosen.left).or_else(|| snapshots.get(1)).or_else(|| snapshots.first()).map(|s| s.id);
    chosen.right = known(chosen.right).or_else(|| snapshots.first()).map(|s| s.id);
    if chosen.at.is_empty() {
        let last = record.extent().map_or_else(|| state.now(study), |e| e.1);
        chosen.at = field(last, offset);
    }
    let pair = known(chosen.left).zip(known(chosen.right)).filter(|(a, b)| a.id != b.id);
    let wanted: Vec<&Snapshot> = pair.map_or_else(|| snapshots.first().into_iter().collect(), |(a, b)| vec![a, b]);
    let (mut sides, mut moments) = (Vec::new(), Vec::new());
    for snapshot in wanted {
        let said = at_moment(&state.store, id, snapshot.at).await?;
        sides.push(side(snapshot, &said, &record.soil, offset));
        moments.push(said);
    }
    let rows = match moments.as_slice() {
        [one] => one.said.iter().map(|s| row(s, None)).collect(),
        [left, right] => rows(left, right),
        _ => Vec::new(),
    };
    let answer = match snapshots.len() {
        0 => "No snapshot is kept yet.".to_owned(),
        1 => "One snapshot is kept.".to_owned(),
        n => format!("{n} snapshots are kept."),
    };
    let shell = Shell::within(state, actor, "Snapshots", Room::Field, study, Some(station)).await?;
    let station = station.name.clone();
    let snapshots = snapshots.into_iter().map(|s| (s.clone(), moment(s.at, offset))).collect();
    page(&SnapshotsPage { shell, id, station, answer, snapshots, chosen, error, sides, rows })
}

/// Width of a probe's body on the section that water may fill, px.
const BODY: f64 = 89.0;

fn side(snapshot: &Snapshot, said: &Moment, soil: &Profile, offset: i64) -> Side {
    let moist = || said.said.iter().filter(|s| s.quantity.is_moisture() && s.depth_cm.is_some());
    let pores = |depth| soil.at(depth).and_then(ebrel_core::soil::Horizon::pore_space);
    let placed: Vec<Placed> = moist()
        .filter_map(|s| {
            let depth_cm = s.depth_cm?;
            Some(Placed { depth_cm, strip: String::new(), pores: pores(depth_cm) })
        })
        .collect();
    // Only water contents fill their pores; tension and raw output do not tell how full they are.
    let fills = moist().map(|s| {
        let full = s.depth_cm.and_then(pores).filter(|_| s.unit.starts_with('m') && s.unit != "mV");
        full.map_or(0.0, |pores| (BODY * (s.value / pores).clamp(0.0, 1.0) * 10.0).round() / 10.0)
    });
    Side {
        name: snapshot.name.clone(),
        at: moment(snapshot.at, offset),
        fills: fills.collect(),
        section: Section::draw(soil.horizons(), &placed),
        silent: said.silent.clone(),
    }
}

fn row(s: &Said, other: Option<&Said>) -> Row {
    let change = other.filter(|o| o.unit == s.unit);
    Row {
        label: s.title(),
        left: s.words(),
        right: other.map_or_else(|| "–".to_owned(), Said::words),
        change: change.map_or_else(String::new, |o| signed(o.value - s.value, s.quantity.decimals())),
    }
}

/// Channels of both moments, each once, in the order of the station.
fn rows(left: &Moment, right: &Moment) -> Vec<Row> {
    let same = |a: &Said, b: &Said| a.label == b.label && a.quantity == b.quantity;
    let mut rows: Vec<Row> = left.said.iter().map(|l| row(l, right.said.iter().find(|r| same(l, r)))).collect();
    let only = right.said.iter().filter(|r| !left.said.iter().any(|l| same(l, r)));
    rows.extend(only.map(|r| Row { label: r.title(), left: "–".into(), right: r.words(), change: String::new() }));
    rows
}

async fn keep(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Chosen>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let station = state.store.station(*id).await?;
    let study = state.store.study(station.study_id).await?;
    let read = moment_of(&typed.at, state.now(&study), study.utc_offset_minutes);
    let ready = words(&typed.name, "the snapshot a name", LONGEST_NAME).and_then(|name| Ok((name, read?)));
    let (name, at) = match ready {
        Ok(ready) => ready,
        Err(says) => return shown(&state, &actor, *id, typed, Some(says)).await,
    };
    match state.store.add_snapshot(*id, &name, at, actor.name()).await {
        Ok(_) => {}
        Err(ebrel_store::StoreError::Rule(says)) => return shown(&state, &actor, *id, typed, Some(says)).await,
        Err(other) => return Err(other.into()),
    }
    say(&actor, &format!("“{name}” is kept."))?;
    Ok(see_other(&format!("/stations/{}/snapshots", *id)))
}

fn moment_of(text: &str, now: UnixSeconds, offset: i64) -> Result<UnixSeconds, String> {
    match typed_time(text, offset)? {
        at if at > now => Err("This moment is still to come.".to_owned()),
        at => Ok(at),
    }
}

async fn remove(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    _form: CheckedForm<Chosen>,
) -> Result<HttpResponse, Problem> {
    let (id, snapshot) = path.into_inner();
    if !state.store.remove_snapshot(id, snapshot).await? {
        return Err(Problem::NotFound("snapshot"));
    }
    say(&actor, "The name is taken from that moment; its readings stay in the record.")?;
    Ok(see_other(&format!("/stations/{id}/snapshots")))
}
