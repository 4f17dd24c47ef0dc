//! Nodes and their gateway together: one step of the world, and what they make of it.

use super::{EMPTY_V, Gateway, Kept, NodeBox, Parcel, PortTold, Weakness};
use ebrel_core::units::Quantity;
use std::collections::BTreeSet;
use std::io::Result;
use std::path::Path;

/// Records of one message at most: a node that was not heard for long sends in parts.
const RECORDS_A_MESSAGE: usize = 96;

/// A node and what is at its ports.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rig {
    /// Its number in Ebrel.
    pub number: i64,
    /// Its ports, in the order of the values that it is given.
    pub ports: Vec<PortTold>,
}

impl Rig {
    fn port_of(&self, quantity: Quantity) -> Option<usize> {
        self.ports.iter().position(|p| p.quantity == quantity)
    }
}

/// What somebody does to the network by hand.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Hand {
    /// The gateway's line is cut: it keeps what nodes hand on.
    pub cut: bool,
    /// Plugs that are out, by node and port: the node reads zero there.
    pub out: BTreeSet<(i64, String)>,
    /// Plugs that changed places, by node and two ports.
    pub swapped: BTreeSet<(i64, String, String)>,
}

/// Nodes and their gateway, with what each keeps on the disk.
pub struct Network {
    rigs: Vec<Rig>,
    nodes: Vec<NodeBox>,
    gateway: Gateway,
    weakness: Weakness,
    /// When clocks were set.
    start: i64,
    /// A node hands on at each so many records.
    every: usize,
    /// Parcels that were picked so far: chance goes by it.
    picked: i64,
    /// What somebody does by hand.
    pub hand: Hand,
}

impl Network {
    /// Opens what lies in a directory, or begins there.
    ///
    /// # Errors
    /// If the disk refuses, or holds other nodes' memories.
    pub fn open(dir: &Path, rigs: Vec<Rig>, weakness: Weakness, start: i64, every: usize) -> Result<Self> {
        let nodes: Result<Vec<_>> =
            rigs.iter().map(|r| NodeBox::open(&dir.join("nodes"), r.number, r.ports.clone())).collect();
        let gateway = Gateway::open(&dir.join("gateway"))?;
        Ok(Self { nodes: nodes?, gateway, rigs, weakness, start, every, picked: 0, hand: Hand::default() })
    }

    /// The nodes and their ports.
    #[must_use]
    pub fn rigs(&self) -> &[Rig] {
        &self.rigs
    }

    /// The gateway, for confirming and refusing.
    pub const fn gateway(&mut self) -> &mut Gateway {
        &mut self.gateway
    }

    /// Records that nodes did not hand on, and parcels that wait at the gateway.
    #[must_use]
    pub fn backlog(&self) -> (usize, usize) {
        (self.nodes.iter().map(NodeBox::backlog).sum(), self.gateway.waiting())
    }

    /// One moment of the world: each node that was not awake at it yet wakes, measures, keeps, and hands on when it is time.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn step(&mut self, t: i64, values: &[Vec<f64>]) -> Result<()> {
        for (i, values) in values.iter().enumerate().take(self.nodes.len()) {
            let rig = &self.rigs[i];
            let of = |quantity| rig.port_of(quantity).and_then(|port| values.get(port).copied());
            let asleep = of(Quantity::BatteryVoltage).is_some_and(|v| v < EMPTY_V);
            if asleep || self.nodes[i].last().is_some_and(|last| last >= t) {
                continue;
            }
            let heard = self.weakness.heard(of(Quantity::SignalStrength));
            let shown = self.weakness.shown(t, self.start);
            let values = touched(rig, values, &self.hand);
            self.nodes[i].wake(Kept { t, shown, values })?;
            if heard && self.nodes[i].backlog() >= self.every {
                self.hand_on(i, t)?;
            }
        }
        Ok(())
    }

    /// Nodes hand on whatever they hold, as at the end of a season.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn hand_all_on(&mut self) -> Result<()> {
        (0..self.nodes.len()).try_for_each(|i| self.hand_on(i, self.nodes[i].last().unwrap_or_default()))
    }

    fn hand_on(&mut self, i: usize, t: i64) -> Result<()> {
        let number = self.nodes[i].number();
        while let Some((message, records)) = self.nodes[i].message(RECORDS_A_MESSAGE) {
            // A kill between these two makes the same records come twice, and loses none.
            self.gateway.take(number, &message)?;
            if self.weakness.sends_twice(number, t) {
                self.gateway.take(number, &message)?;
            }
            self.nodes[i].handed(records)?;
        }
        Ok(())
    }

    /// The parcel that goes up next; none while the gateway reaches nobody at `t`.
    ///
    /// # Errors
    /// If the disk refuses.
    pub fn next_parcel(&mut self, t: Option<i64>) -> Result<Option<Parcel>> {
        if self.hand.cut || t.is_some_and(|t| self.weakness.away(t)) {
            return Ok(None);
        }
        self.picked += 1;
        let nth = self.weakness.next_of(self.gateway.waiting(), self.picked);
        self.gateway.parcel(nth)
    }
}

/// What a node reads with plugs out or in each other's place.
fn touched(rig: &Rig, values: &[f64], hand: &Hand) -> Vec<f64> {
    let mut values = values.to_vec();
    let at = |name: &str| rig.ports.iter().position(|p| p.port == name);
    for (_, a, b) in hand.swapped.iter().filter(|s| s.0 == rig.number) {
        if let (Some(a), Some(b)) = (at(a), at(b)) {
            values.swap(a, b);
        }
    }
    for (_, port) in hand.out.iter().filter(|o| o.0 == rig.number) {
        if let Some(port) = at(port) {
            values[port] = 0.0;
        }
    }
    values
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rig(number: i64) -> Rig {
        let port = |name: &str, quantity, unit: &str| PortTold { port: name.into(), quantity, unit: unit.into() };
        let ports = vec![
            port("m05", Quantity::RawOutput, "mV"),
            port("m15", Quantity::RawOutput, "mV"),
            port("radio", Quantity::SignalStrength, "dBm"),
            port("batt", Quantity::BatteryVoltage, "V"),
        ];
        Rig { number, ports }
    }

    fn sent(network: &mut Network) -> Vec<String> {
        let mut all = Vec::new();
        while let Some(parcel) = network.next_parcel(None).unwrap() {
            all.extend(parcel.message.lines().skip(1).map(|l| format!("{} {l}", parcel.node)));
            network.gateway().confirmed(&parcel).unwrap();
        }
        all
    }

    #[test]
    fn a_cut_gateway_keeps_a_deaf_node_keeps_and_an_empty_battery_sleeps() {
        let dir = tempfile::tempdir().unwrap();
        let deaf = Weakness { deaf_below_dbm: Some(-100.0), twice: 1.0, ..Weakness::default() };
        let mut network = Network::open(dir.path(), vec![rig(1), rig(2)], deaf, 0, 1).unwrap();
        let step = |network: &mut Network, t, signal: f64, volt: f64| {
            network.step(t, &[vec![800.0, 900.0, signal, 3.6], vec![700.0, 600.0, -80.0, volt]]).unwrap();
        };
        network.hand.cut = true;
        step(&mut network, 900, -110.0, 3.6);
        assert_eq!((sent(&mut network).len(), network.backlog()), (0, (1, 2)), "kept where it is");
        network.hand.cut = false;
        network.hand.swapped.insert((1, "m05".into(), "m15".into()));
        network.hand.out.insert((2, "m05".into()));
        step(&mut network, 1800, -90.0, 3.6);
        step(&mut network, 1800, -90.0, 3.6);
        step(&mut network, 2700, -90.0, 3.2);
        let all = sent(&mut network);
        let count = |part: &str| all.iter().filter(|l| l.contains(part)).count();
        assert_eq!((count("1 900,m05,raw_output,800,"), count("1 1800,m05,raw_output,900,")), (2, 2), "{all:?}");
        assert_eq!((count("2 1800,m05,raw_output,0,"), count("2 1800,m15,raw_output,600,")), (2, 2), "{all:?}");
        assert_eq!((count("1 2700,"), count("2 2700,")), (8, 0), "an empty battery lets its node sleep");
    }
}
