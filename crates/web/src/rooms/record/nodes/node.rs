//! The nodes of a station: what each carries, when it was heard last, and its keys.

use crate::shell::actor::Actor;
use crate::shell::errors::Problem;
use crate::shell::figures::{grouped, moment};
use crate::shell::forms::words;
use crate::shell::guard::CheckedForm;
use crate::shell::routes::{Least, Routes};
use crate::shell::{Room, Shell, page, say, see_other};
use crate::state::{State, secrets, wall_clock};
use actix_web::{HttpResponse, web};
use askama::Template;
use ebrel_core::roles::Role;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_store::keys::{NewKey, NodeKey};
use ebrel_store::streams::{Node, Stream};
use serde::Deserialize;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/stations/{id}/nodes", Least::Member(Role::Guest), show);
    routes.post("/stations/{id}/nodes/keys", Least::Member(Role::Researcher), make);
    routes.post("/stations/{id}/nodes/keys/{key}", Least::Member(Role::Researcher), change);
}

/// A key that is renewed serves on for so long: time to bring the new one to the node.
const GRACE: SpanSeconds = SpanSeconds(14 * SpanSeconds::DAY.0);
/// The longest name of a key's owner, characters.
const LONGEST_NAME: usize = 60;

struct KeyRow {
    id: i64,
    name: String,
    made: String,
    used: String,
    state: String,
    /// Whether it can still be renewed or ended.
    serves: bool,
}

struct PortRow {
    port: String,
    what: String,
    readings: String,
    last: String,
    placed: bool,
}

struct NodeRow {
    id: i64,
    name: String,
    heard: String,
    ports: Vec<PortRow>,
    keys: Vec<KeyRow>,
}

#[derive(Template)]
#[template(path = "rooms/record/nodes/nodes.html")]
struct NodesPage {
    shell: Shell,
    id: i64,
    study: i64,
    station: String,
    answer: String,
    nodes: Vec<NodeRow>,
    error: Option<String>,
    /// A key that was just made: whose it is, and its secret.
    made: Option<(String, String)>,
    typed: Typed,
}

impl NodesPage {
    fn is_at(&self, node: &i64) -> bool {
        self.typed.node == node.to_string()
    }
}

#[derive(Deserialize, Default)]
struct Typed {
    /// Number of a node of the station, or empty for a new one.
    #[serde(default)]
    node: String,
    /// Name of the new node.
    #[serde(default)]
    new_node: String,
    #[serde(default)]
    name: String,
    /// "node", or "study" for a gateway that sends for all.
    #[serde(default)]
    serves: String,
}

async fn show(state: web::Data<State>, actor: Actor, id: web::Path<i64>) -> Result<HttpResponse, Problem> {
    shown(&state, &actor, *id, Typed::default(), None, None).await
}

async fn shown(
    state: &State,
    actor: &Actor,
    id: i64,
    typed: Typed,
    error: Option<String>,
    made: Option<(String, String)>,
) -> Result<HttpResponse, Problem> {
    let station = state.store.station(id).await?;
    let study = state.store.study(station.study_id).await?;
    let offset = study.utc_offset_minutes;
    let streams = state.store.streams(id).await?;
    let delivered = state.store.deliveries_at(id).await?;
    let unplaced = state.store.unplaced_ports(id).await?;
    let here: Vec<Node> = state.store.nodes(study.id).await?.into_iter().filter(|n| n.station == id).collect();
    let numbers: Vec<i64> = here.iter().map(|n| n.id).collect();
    let mut keys = state.store.keys_of(&numbers).await?;
    let mut nodes = Vec::new();
    for node in here {
        let own = |s: &&Stream| s.node_id == node.id;
        let heard =
            streams.iter().filter(own).filter_map(|s| delivered.get(&s.id)?.last()).map(|d| d.received_at).max();
        let port = |s: &Stream| {
            let all = delivered.get(&s.id).map(Vec::as_slice).unwrap_or_default();
            PortRow {
                port: s.port.clone(),
                what: s.quantity.words().to_owned(),
                readings: grouped(all.iter().map(|d| d.readings).sum()),
                last: all.iter().map(|d| d.last).max().map_or_else(String::new, |t| moment(t, offset)),
                placed: !unplaced.iter().any(|p| p.node_id == node.id && p.port == s.port),
            }
        };
        let ports: Vec<PortRow> = streams.iter().filter(own).map(port).collect();
        let keys = keys.remove(&node.id).unwrap_or_default().into_iter();
        nodes.push(NodeRow {
            id: node.id,
            name: node.name,
            heard: heard.map_or_else(|| "nothing yet".to_owned(), |t| moment(t, offset)),
            ports,
            keys: keys.map(|k| key_row(k, wall_clock(), offset)).collect(),
        });
    }
    let answer = match (nodes.len(), unplaced.len()) {
        (0, _) => "No node yet: name one below that sends, or begin with an import, or with the first probe in Field."
            .to_owned(),
        (n, 0) => format!("{n} {}; every port is placed.", if n == 1 { "node" } else { "nodes" }),
        (n, w) => format!(
            "{n} {}; {w} {} no probe placed at it.",
            if n == 1 { "node" } else { "nodes" },
            if w == 1 { "port has" } else { "ports have" }
        ),
    };
    let shell = Shell::within(state, actor, "Nodes", Room::Record, &study, Some(&station)).await?;
    page(&NodesPage { shell, id, study: study.id, station: station.name, answer, nodes, error, made, typed })
}

fn key_row(key: NodeKey, now: UnixSeconds, offset: i64) -> KeyRow {
    let at = |t: UnixSeconds| moment(t, offset);
    let serves = !key.revoked && key.ends_at.is_none_or(|end| end > now);
    let many = if key.nodes > 1 { format!(" (serves for {} nodes)", key.nodes) } else { String::new() };
    KeyRow {
        id: key.id,
        name: format!("{}{many}", key.name),
        made: format!("{} by {}", at(key.made_at), key.made_by),
        used: key.used_at.map_or_else(|| "never".to_owned(), at),
        state: match key.ends_at {
            None => "serves".to_owned(),
            Some(end) if serves => format!("serves until {}", at(end)),
            Some(end) => format!("ended {} by {}", at(end), key.ended_by),
        },
        serves,
    }
}

async fn make(
    state: web::Data<State>,
    actor: Actor,
    id: web::Path<i64>,
    form: CheckedForm<Typed>,
) -> Result<HttpResponse, Problem> {
    let typed = form.0;
    let study = state.store.station(*id).await?.study_id;
    let all = state.store.nodes(study).await?;
    let here = |n: &&Node| n.station == *id && n.id.to_string() == typed.node;
    let chosen = match (all.iter().find(here), typed.node.is_empty()) {
        (Some(node), _) => Ok(Ok(node.id)),
        (None, true) => words(&typed.new_node, "the new node a name", LONGEST_NAME).map(Err),
        (None, false) => Err("Choose a node of this station.".to_owned()),
    };
    let read = chosen.and_then(|node| Ok((node, words(&typed.name, "the key a name", LONGEST_NAME)?)));
    let (node, name) = match read {
        Ok((Ok(known), name)) => (known, name),
        Ok((Err(new), name)) => (state.store.ensure_node(*id, &new).await?, name),
        Err(says) => return shown(&state, &actor, *id, typed, Some(says), None).await,
    };
    let mut nodes = vec![node];
    if typed.serves == "study" {
        nodes.extend(all.iter().map(|n| n.id).filter(|n| *n != node));
    }
    let (secret, by) = (secrets::secret(), actor.name().to_owned());
    let new = NewKey { name, hash: secrets::hash_of(&secret), nodes, at: wall_clock(), by };
    state.store.add_key(study, &new).await?;
    // In this answer and nowhere after it: what is said on the next page might be said in another tab.
    shown(&state, &actor, *id, Typed::default(), None, Some((new.name, secret))).await
}

#[derive(Deserialize)]
struct Change {
    /// "renew" or "end".
    #[serde(rename = "do", default)]
    what: String,
    /// The node from whose list it was chosen.
    #[serde(default)]
    node: i64,
}

async fn change(
    state: web::Data<State>,
    actor: Actor,
    path: web::Path<(i64, i64)>,
    form: CheckedForm<Change>,
) -> Result<HttpResponse, Problem> {
    let (id, key) = path.into_inner();
    let Change { what, node } = form.0;
    if state.store.station_of_node(node).await? != id {
        return Err(Problem::NotFound("node"));
    }
    let now = wall_clock();
    if what == "renew" {
        let secret = secrets::secret();
        let hash = secrets::hash_of(&secret);
        let name = state.store.renew_key((node, key), &hash, (now, now + GRACE), actor.name()).await?;
        return shown(&state, &actor, id, Typed::default(), None, Some((name, secret))).await;
    }
    if state.store.end_key(node, key, now, actor.name()).await? {
        say(&actor, "The key serves no more.")?;
    } else {
        say(&actor, "There was no key of this number to end.")?;
    }
    Ok(see_other(&format!("/stations/{id}/nodes")))
}
