//! The panel of a live demo's stand-ins: cut the gateway, pull a plug, swap two, let it rain, and see what Ebrel says.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::moment;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Shell, page, say, see_other};
use crate::state::State;
use crate::state::live::{Inner, Live};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::units::Quantity;
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stand-ins", Least::SignedIn, show);
    routes.post("/stand-ins", Least::SignedIn, touch);
}

/// Rain of one press, mm.
const RAIN_MM: f64 = 18.0;

struct Port {
    name: String,
    what: &'static str,
    out: bool,
}

struct NodeOf {
    number: i64,
    name: String,
    station: i64,
    place: String,
    ports: Vec<Port>,
    swapped: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "rooms/record/standins.html")]
struct StandInsPage {
    shell: Shell,
    study: i64,
    answer: String,
    cut: bool,
    nodes: Vec<NodeOf>,
}

fn live(state: &State) -> Result<&Live, Problem> {
    state.live.as_deref().ok_or(Problem::Nowhere)
}

async fn show(state: web::Data<State>, actor: Actor) -> Result<HttpResponse, Problem> {
    let seen = live(&state)?.seen();
    let mut nodes = Vec::new();
    let (mut study, mut offset) = (1, 0);
    for rig in &seen.rigs {
        let id = state.store.station_of_node(rig.number).await?;
        let station = state.store.station(id).await?;
        let of = state.store.study(station.study_id).await?;
        (study, offset) = (of.id, of.utc_offset_minutes);
        let own = state.store.nodes(of.id).await?.into_iter().find(|n| n.id == rig.number);
        let port = |p: &ebrel_simulator::network::PortTold| Port {
            out: seen.hand.out.contains(&(rig.number, p.port.clone())),
            name: p.port.clone(),
            what: p.quantity.words(),
        };
        let pluggable = |q: Quantity| !q.is_of_the_node();
        // A probe on a bus tells several things through one plug.
        let mut ports: Vec<Port> = rig.ports.iter().filter(|p| pluggable(p.quantity)).map(port).collect();
        ports.dedup_by(|a, b| a.name == b.name);
        let swapped = seen.hand.swapped.iter().filter(|s| s.0 == rig.number);
        nodes.push(NodeOf {
            number: rig.number,
            name: own.map(|n| n.name).unwrap_or_default(),
            station: id,
            place: station.name,
            ports,
            swapped: swapped.map(|s| (s.1.clone(), s.2.clone())).collect(),
        });
    }
    let shell = Shell::bare(&state, &actor, "Stand-ins")?;
    page(&StandInsPage { shell, study, answer: answer(&seen, offset), cut: seen.hand.cut, nodes })
}

fn answer(seen: &Inner, offset: i64) -> String {
    let Some(now) = seen.now else { return "The made-up world is being made ready; load the page again.".to_owned() };
    let (held, waiting) = seen.backlog;
    let line = if seen.hand.cut { "the gateway's line is cut" } else { "the gateway sends" };
    let wait = match waiting {
        0 => "no message waits".to_owned(),
        1 => "1 message waits at it".to_owned(),
        n => format!("{n} messages wait at it"),
    };
    let trouble = if seen.trouble.is_empty() { String::new() } else { format!(" It was told: {}", seen.trouble) };
    format!("It is {}; {line}, {wait}, nodes hold {held} records.{trouble}", moment(now, offset))
}

#[derive(Deserialize)]
struct Touched {
    #[serde(rename = "do")]
    does: String,
    #[serde(default)]
    node: i64,
    #[serde(default)]
    port: String,
    #[serde(default)]
    other: String,
}

async fn touch(state: web::Data<State>, actor: Actor, form: CheckedForm<Touched>) -> Result<HttpResponse, Problem> {
    let Touched { does, node, port, other } = form.0;
    let said = live(&state)?.change(|l| {
        let plugs = |name: &str| l.rigs.iter().any(|r| r.number == node && r.ports.iter().any(|p| p.port == name));
        let known = plugs(&port) && (does != "swap" || (plugs(&other) && port != other));
        match does.as_str() {
            "cut" => l.hand.cut = true,
            "mend" => l.hand.cut = false,
            "rain" => l.rain_mm += RAIN_MM,
            "pull" if known => drop(l.hand.out.insert((node, port.clone()))),
            "plug" => drop(l.hand.out.remove(&(node, port.clone()))),
            "swap" if known => drop(l.hand.swapped.insert((node, port.clone(), other.clone()))),
            "unswap" => drop(l.hand.swapped.remove(&(node, port.clone(), other.clone()))),
            _ => return "There are no such plugs: choose two different ones of one node.".to_owned(),
        }
        match does.as_str() {
            "cut" => "The gateway's line is cut: nodes go on, and what they measure waits.".to_owned(),
            "mend" => "The line is mended: what waited comes now.".to_owned(),
            "rain" => format!("{RAIN_MM} mm of rain fall within the next hour of the made-up world."),
            "pull" => format!("The plug of {port} is out."),
            "plug" => format!("The plug of {port} is in again."),
            "swap" => format!("The plugs of {port} and {other} have changed places."),
            _ => format!("The plugs of {port} and {other} are back in their places."),
        }
    });
    say(&actor, &said)?;
    Ok(see_other("/stand-ins"))
}
