//! What goes on when the demo's record does: its nodes, their ports, and what they see.

use super::beside::{STORIES, channels};
use crate::field::pack;
use crate::planning::PlanError;
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_simulator::network::{PortTold, Rig};
use ebrel_simulator::{Beside, Cover, PortBeside, Scenario, Sees, World, ostrelle_cut_coupe};
use ebrel_store::Store;

/// The demo's world, ready to go on: its nodes, and where each finds its values in a step of the world.
pub struct LiveDemo {
    /// Number of the study that goes on.
    pub study: i64,
    /// The moment that counts as now in it.
    pub now: UnixSeconds,
    /// The last moment of its record: what comes then is still to be measured.
    pub last: UnixSeconds,
    /// Its nodes and their ports.
    pub rigs: Vec<Rig>,
    scenario: Scenario,
    beside: Vec<Beside>,
}

impl LiveDemo {
    /// Reads the demo's study, as far as it is made; `None` if there is none.
    ///
    /// # Errors
    /// [`PlanError`] if the database cannot be read.
    pub async fn of(store: &Store) -> Result<Option<Self>, PlanError> {
        let Some(study) = store.studies().await?.into_iter().find(|s| s.name == "Ostrelle Wood") else {
            return Ok(None);
        };
        let missing = super::missing(store).await?;
        let scenario = ostrelle_cut_coupe();
        let nodes = store.nodes(study.id).await?;
        let stations = store.stations(study.id).await?;
        let own = [Sees::DryBox, Sees::Signal].map(|sees| PortBeside { depth_cm: 5.0, sees }).to_vec();
        let mut beside = vec![Beside { cover: Cover::Half, ports: own }];
        let mut rigs = Vec::new();
        let first = World::ports_of(&scenario);
        let told = |port: &str, (quantity, unit): (Quantity, &str)| PortTold {
            port: port.to_owned(),
            quantity,
            unit: unit.to_owned(),
        };
        let mut ports: Vec<PortTold> = first.iter().map(|p| told(p, super::meaning_of(p))).collect();
        ports.push(told("box", (Quantity::EnclosureHumidity, "%")));
        ports.push(told("radio", (Quantity::SignalStrength, "dBm")));
        let at = |code: &str| stations.iter().find(|s| s.code == code);
        let node = |station: i64, name: &str| nodes.iter().find(|n| n.station == station && n.name == name);
        if let Some(node) = at("cut").and_then(|s| node(s.id, "node 01")) {
            rigs.push(Rig { number: node.id, ports });
        }
        for story in STORIES.iter().filter(|s| !missing.contains(&s.part)) {
            let Some(station) = at(story.code) else { continue };
            let Some(node) = node(station.id, story.node) else { continue };
            let pack = pack(store, station.id, UnixSeconds(scenario.start)).await?;
            let channels = channels(story, &pack, scenario.start);
            let last = |c: &super::beside::Channel| c.from.last().map(|f| f.1);
            let ports = channels.iter().filter_map(last).collect();
            beside.push(Beside { cover: story.cover, ports });
            let told = channels.iter().map(|c| told(&c.port, (c.quantity, c.unit))).collect();
            rigs.push(Rig { number: node.id, ports: told });
        }
        let now = UnixSeconds(study.fixed_now.unwrap_or(scenario.end));
        let record = match at("cut") {
            Some(station) => store.extent(station.id).await?,
            None => None,
        };
        let last = record.map_or(UnixSeconds(scenario.end), |e| e.1);
        Ok(Some(Self { study: study.id, now, last, rigs, scenario, beside }))
    }

    /// The world after [`Self::last`]. It takes seconds: it is lived through from the record's first day.
    #[must_use]
    pub fn world(&self) -> World {
        let mut world = World::new(&self.scenario, super::SEED, &self.beside);
        while world.until(self.last.0).is_some() {}
        world
    }

    /// Values of each node in a step of the world, in the order of its ports.
    #[must_use]
    pub fn values(step: &ebrel_simulator::Step) -> Vec<Vec<f64>> {
        let mut first = step.values[0].clone();
        first.extend(&step.values[1]);
        std::iter::once(first).chain(step.values[2..].iter().cloned()).collect()
    }
}
