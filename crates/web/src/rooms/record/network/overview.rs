//! The network in one picture: nodes by days, so that an outage, a dying battery and a wet box are seen at once.

use super::lanes::{Bars, Lane, Tick, ticks};
use super::words::facts;
use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment};
use crate::shell::lately::lately;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page};
use crate::state::State;
use crate::state::broker::{BrokerState, Link};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_app::network::{NodeHealth, network};
use ebrel_core::network::{EMPTY_V, WET_PCT, day_of};
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;
use ebrel_store::aside::AsideRow;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/studies/{id}/network", Least::Member(Role::Guest), show);
}

/// How many days can be looked at, and what that is called.
pub const SPANS: [(i64, &str); 4] = [(30, "a month"), (90, "a quarter"), (365, "a year"), (1096, "three years")];
/// Days that are shown unless somebody asks for others.
pub const USUAL_DAYS: i64 = 90;
/// Battery axis of every node, V, so that they can be compared.
const BATTERY_AXIS: (f64, f64) = (3.2, 3.9);
/// Messages set aside that the page names.
const NAMED: i64 = 12;

#[derive(Deserialize)]
pub struct Asked {
    #[serde(default)]
    pub days: Option<i64>,
}

impl Asked {
    /// One of [`SPANS`].
    pub fn days(&self) -> i64 {
        self.days.filter(|d| SPANS.iter().any(|s| s.0 == *d)).unwrap_or(USUAL_DAYS)
    }
}

struct NodeRow {
    id: i64,
    station: i64,
    name: String,
    place: String,
    bars: Bars,
    battery: Option<Lane>,
    humidity: Option<Lane>,
    facts: Vec<super::words::Fact>,
    /// Whether it never sent by itself.
    never: bool,
}

#[derive(Template)]
#[template(path = "rooms/record/network/network.html")]
struct NetworkPage {
    shell: Shell,
    id: i64,
    answer: String,
    nodes: Vec<NodeRow>,
    ticks: Vec<Tick>,
    days: i64,
    spans: &'static [(i64, &'static str)],
    broker: Vec<String>,
    broker_wrong: bool,
    asides: Vec<(AsideRow, String)>,
    more_asides: i64,
}

async fn show(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    asked: web::Query<Asked>,
) -> Result<HttpResponse, Problem> {
    let study = state.store.study(*id).await?;
    let (now, offset, days) = (state.now(&study), study.utc_offset_minutes, asked.days());
    let key = (study.id, days, day_of(now, offset));
    let of = study.clone();
    let judge = move |state: web::Data<State>| async move { Ok(network(&state.store, &of, None, (now, days)).await?) };
    let all = lately(&state, |s| &s.networks, (key, None), judge).await?;
    let nodes: Vec<NodeRow> = all.iter().map(|n| row(n, now, offset)).collect();
    let today = day_of(now, offset);
    let broker = state.broker.as_ref().map(|b| b.borrow().clone());
    let shell = Shell::within(&state, &actor, "Network", Room::Record, &study, None).await?;
    // Whose message it was nobody knows: it is told to the researchers of this server.
    let told = shell.may(Role::Researcher) && broker.is_some();
    let (asides, more) = if told { state.store.asides(NAMED).await? } else { (Vec::new(), 0) };
    page(&NetworkPage {
        shell,
        id: *id,
        answer: answer(&nodes),
        nodes,
        ticks: ticks((today + 1 - days, today + 1), offset),
        days,
        spans: &SPANS,
        broker_wrong: broker.as_ref().is_some_and(|b| b.trouble.is_some() || matches!(b.link, Link::Lost { .. })),
        broker: broker.map(|b| broker_words(&b, offset)).unwrap_or_default(),
        more_asides: more - asides.len() as i64,
        asides: asides.into_iter().map(|a| (a.clone(), moment(a.last_at, offset))).collect(),
    })
}

fn row(n: &NodeHealth, now: UnixSeconds, offset: i64) -> NodeRow {
    let facts = facts(n, now, offset);
    let wrong = |name: &str| facts.iter().any(|f| f.name == name && f.wrong);
    NodeRow {
        id: n.node.id,
        station: n.station.id,
        name: n.node.name.clone(),
        place: n.station.name.clone(),
        never: n.heard.is_none(),
        bars: Bars::of(&n.received, &n.late),
        battery: Lane::of(&n.own[0], Some(BATTERY_AXIS), Some(EMPTY_V)).map(|l| l.marked(wrong("battery"))),
        humidity: Lane::of(&n.own[1], Some((0.0, 100.0)), Some(WET_PCT)).map(|l| l.marked(wrong("box"))),
        // The rest stands on the node's own page.
        facts: facts
            .into_iter()
            .filter(|f| f.wrong || ["heard", "records", "battery", "box"].contains(&f.name))
            .collect(),
    }
}

/// What is wrong, by name; or that nothing is.
fn answer(nodes: &[NodeRow]) -> String {
    if nodes.is_empty() {
        return "No node yet: one is made by the first import, or with the first probe in Field.".to_owned();
    }
    let many = if nodes.len() == 1 { "1 node".to_owned() } else { format!("{} nodes", nodes.len()) };
    let wrong = |what: &str, words: &str| {
        let named = nodes.iter().filter(|n| n.facts.iter().any(|f| f.name == what && f.wrong));
        let named: Vec<&str> = named.map(|n| n.name.as_str()).collect();
        (!named.is_empty()).then(|| format!("{words}: {}", named.join(", ")))
    };
    let all = [("heard", "silent"), ("battery", "battery to be changed"), ("box", "wet box")];
    let never: Vec<&str> = nodes.iter().filter(|n| n.never).map(|n| n.name.as_str()).collect();
    let never = (!never.is_empty()).then(|| format!("never heard: {}", never.join(", ")));
    let all: Vec<String> = all.iter().filter_map(|(what, words)| wrong(what, words)).chain(never).collect();
    if all.is_empty() { format!("{many}, all heard and in order.") } else { format!("{many}; {}.", all.join("; ")) }
}

fn broker_words(b: &BrokerState, offset: i64) -> Vec<String> {
    let at = |t: UnixSeconds| moment(t, offset);
    let link = match &b.link {
        Link::Connecting => format!("The broker at {} was not reached yet.", b.address),
        Link::Connected { since } => format!("Messages come through the broker at {} since {}.", b.address, at(*since)),
        Link::Lost { since, why } => {
            format!("The broker at {} is lost since {} ({why}); it is tried again by itself.", b.address, at(*since))
        }
    };
    let came = |n: u64| grouped(usize::try_from(n).unwrap_or(usize::MAX));
    let last = b.last.map(|t| format!(", the last one {}", at(t))).unwrap_or_default();
    let sum = format!(
        "{} messages since Ebrel started{last}; {} readings new; topic {}.",
        came(b.messages),
        came(b.new),
        b.topic
    );
    let trouble = b.trouble.as_ref().map(|t| format!("Messages wait at the broker, and nothing is lost: {t}."));
    [Some(link), trouble, Some(sum)].into_iter().flatten().collect()
}
