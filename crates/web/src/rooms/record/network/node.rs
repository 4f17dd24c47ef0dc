//! One node: what it sends, drawn through time, and what it carries.

use super::lanes::{Bars, Lane, Tick, ticks};
use super::overview::{Asked, SPANS};
use super::words::{Fact, facts};
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{fixed, moment};
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::network::{NodeHealth, OF_THE_NODE, network};
use ebrel_core::network::{EMPTY_V, WET_PCT, day_of};
use ebrel_core::quality::EventKind;
use ebrel_core::roles::Role;
use ebrel_core::units::{Quantity, unit_for_people};

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/nodes/{node}", Least::Member(Role::Guest), show);
}

/// A lane with its name and the ends of its axis in words.
struct Drawn {
    name: &'static str,
    lane: Lane,
    high: String,
    low: String,
    /// What the dashed line is.
    threshold: String,
}

#[derive(Template)]
#[template(path = "rooms/record/network/node.html")]
struct NodePage {
    shell: Shell,
    id: i64,
    study: i64,
    number: i64,
    name: String,
    answer: String,
    facts: Vec<Fact>,
    bars: Bars,
    drawn: Vec<Drawn>,
    ticks: Vec<Tick>,
    days: i64,
    spans: &'static [(i64, &'static str)],
    carries: String,
    program: Option<String>,
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let (id, number) = path.into_inner();
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let (now, offset, days) = (state.now(&study), study.utc_offset_minutes, asked.days());
    let all = network(&state.store, &study, Some(number), (now, days)).await?;
    let node = all.into_iter().find(|n| n.node.id == number && n.station.id == id).ok_or(Problem::NotFound("node"))?;
    let facts = facts(&node, now, offset);
    let events = state.store.events(id).await?;
    let program = events.iter().rfind(|e| e.event.kind == EventKind::ProgramChange && e.event.start <= now);
    let today = day_of(now, offset);
    let wrong: Vec<&str> = facts.iter().filter(|f| f.wrong).map(|f| f.says.as_str()).collect();
    let shell = Shell::within(&state, &actor, &node.node.name, Room::Record, &study, Some(&station)).await?;
    page(&NodePage {
        shell,
        id,
        study: study.id,
        number,
        answer: if wrong.is_empty() {
            format!("In order; {} {}.", facts[0].name, facts[0].says)
        } else {
            format!("{}.", wrong.join("; "))
        },
        bars: Bars::of(&node.received, &node.late),
        drawn: drawn(&node, &facts),
        ticks: ticks((today + 1 - days, today + 1), offset),
        days,
        spans: &SPANS,
        carries: carries(&node),
        program: program.map(|e| {
            format!("{} ({})", if e.note.is_empty() { "changed" } else { &e.note }, moment(e.event.start, offset))
        }),
        name: node.node.name,
        facts,
    })
}

fn drawn(node: &NodeHealth, facts: &[Fact]) -> Vec<Drawn> {
    let wrong = |name: &str| facts.iter().any(|f| f.name == name && f.wrong);
    let of = |(i, quantity): (usize, Quantity)| {
        let (axis, threshold, says) = match quantity {
            Quantity::BatteryVoltage => (None, Some(EMPTY_V), format!("empty below {}\u{a0}V", fixed(EMPTY_V, 1))),
            Quantity::EnclosureHumidity => {
                (Some((0.0, 100.0)), Some(WET_PCT), format!("wet above {}\u{a0}%", fixed(WET_PCT, 0)))
            }
            _ => (None, None, String::new()),
        };
        let marked = match quantity {
            Quantity::BatteryVoltage => wrong("battery"),
            Quantity::EnclosureHumidity => wrong("box"),
            _ => false,
        };
        let lane = Lane::of(&node.own[i], axis, threshold)?.marked(marked);
        let unit = unit_for_people(quantity.unit());
        let decimals = quantity.decimals();
        let end = |v: f64| format!("{}\u{a0}{unit}", fixed(v, decimals));
        let (low, high) = (end(lane.axis.0), end(lane.axis.1));
        Some(Drawn {
            name: quantity.words(),
            low,
            high,
            threshold: lane.threshold.as_ref().map(|_| says).unwrap_or_default(),
            lane,
        })
    };
    OF_THE_NODE.into_iter().enumerate().filter_map(of).collect()
}

/// What the node carries, in one line.
fn carries(node: &NodeHealth) -> String {
    let mut counts: Vec<(&str, usize)> = Vec::new();
    for stream in &node.streams {
        let words = stream.quantity.words();
        match counts.iter_mut().find(|c| c.0 == words) {
            Some(known) => known.1 += 1,
            None => counts.push((words, 1)),
        }
    }
    let all: Vec<String> =
        counts.iter().map(|(w, n)| if *n == 1 { (*w).to_owned() } else { format!("{w} ({n} ports)") }).collect();
    all.join(", ")
}
