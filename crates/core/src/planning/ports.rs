//! Which probe at which port: a proposal, checks, addresses on a bus, and the wiring sheet.

use super::catalogue::{Function, Port, Signal};
use super::plan::Plan;
use super::planned::PlannedProbe;
use super::remark::{Remark, Severity, Step};
use crate::units::format_short;

/// A probe at its port.
#[derive(Debug, Clone, PartialEq)]
pub struct Plugged {
    /// Its place in [`Plan::probes`].
    pub probe: usize,
    /// The port; `None` if none is left.
    pub port: Option<Port>,
    /// Whether the port was proposed and not typed.
    pub proposed: bool,
    /// Address on a bus, as it will be set.
    pub address: Option<String>,
    /// The maker's address if it must be changed before the probe is plugged in.
    pub readdress_from: Option<String>,
}

impl Plugged {
    /// The name by which logs and records know where a probe is plugged in: the port; on a port that several share with the
    /// address, "B1.0", or where there is none with the label, "W1.DT-0208".
    #[must_use]
    pub fn place(&self, label: &str) -> Option<String> {
        let port = self.port.as_ref()?;
        if !port.kind.is_shared() {
            return Some(port.name.clone());
        }
        Some(format!("{}.{}", port.name, self.address.as_deref().unwrap_or(label)))
    }
}

/// One conductor of the wiring sheet.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Wire {
    /// Its place in [`Plan::probes`].
    pub probe: usize,
    /// What it is for.
    pub function: Function,
    /// Colour of the conductor as its maker gives it.
    pub colour: String,
    /// Its terminal; `None`: insulated, not connected.
    pub terminal: Option<String>,
}

/// Everything about cables at the logger.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Wiring {
    /// Each probe at its port.
    pub plugged: Vec<Plugged>,
    /// The wiring sheet.
    pub wires: Vec<Wire>,
    /// Current on the switched supply if all are powered at once, mA.
    pub together_ma: f64,
    /// Current of the hungriest probe alone, mA.
    pub alone_ma: f64,
    /// The probes can only be powered one after the other.
    pub in_turn: bool,
}

/// Addresses that a bus knows, in the order in which they are proposed.
const ADDRESSES: &str = "0123456789abcdefghijklmnopqrstuvwxyz";

/// Plugs every probe in: as typed, or into the first port that can read it.
#[must_use]
pub fn wire(plan: &Plan, remarks: &mut Vec<Remark>) -> Wiring {
    let mut wiring = Wiring::default();
    // Ports typed by hand are taken first, so that a proposal never stands in their way.
    let mut ports: Vec<Option<Port>> = vec![None; plan.probes.len()];
    for (i, probe) in plan.probes.iter().enumerate() {
        if let Some(name) = &probe.port {
            match by_hand(plan, probe, name, &ports) {
                Ok(port) => ports[i] = Some(port),
                Err(says) => remarks.push(Remark::new(Step::Wiring, Severity::Stop, probe.field("port"), says)),
            }
        }
    }
    for (i, probe) in plan.probes.iter().enumerate().filter(|(_, p)| p.port.is_none()) {
        ports[i] = propose(plan, probe, &ports);
        if ports[i].is_none() {
            remarks.push(Remark::new(Step::Wiring, Severity::Stop, probe.field("port"), exhausted(plan, probe)));
        }
    }
    for (probe, port) in ports.into_iter().enumerate() {
        let proposed = plan.probes[probe].port.is_none();
        wiring.plugged.push(Plugged { probe, port, proposed, address: None, readdress_from: None });
    }
    addresses(plan, &mut wiring.plugged, remarks);
    supply(plan, &mut wiring, remarks);
    wiring.wires = wiring.plugged.iter().flat_map(|p| wires(plan, p)).collect();
    wiring
}

fn free(port: &Port, ports: &[Option<Port>]) -> bool {
    port.kind.is_shared() || !ports.iter().flatten().any(|p| p.name == port.name)
}

fn by_hand(plan: &Plan, probe: &PlannedProbe, name: &str, ports: &[Option<Port>]) -> Result<Port, String> {
    let port = plan.logger.ports.iter().find(|p| p.name.eq_ignore_ascii_case(name));
    let port = port.ok_or_else(|| {
        let names: Vec<&str> = plan.logger.ports.iter().map(|p| p.name.as_str()).collect();
        format!("{} has no port {name}: it has {}.", plan.logger.name, names.join(", "))
    })?;
    if !port.kind.reads(probe.model.signal) {
        return Err(format!(
            "Port {} reads {}; {} is {}. Choose {}.",
            port.name,
            port.kind.words(),
            probe.label,
            probe.model.signal.words(),
            propose(plan, probe, ports).map_or_else(|| "another logger".to_owned(), |p| p.name)
        ));
    }
    if let Some(other) = (0..ports.len()).find(|i| !free(port, &ports[*i..=*i])) {
        return Err(format!(
            "{} is at port {} already: one probe to an analog or pulse port.",
            plan.probes[other].label, port.name
        ));
    }
    Ok(port.clone())
}

/// The first port made for this signal, or one that can also read it.
fn propose(plan: &Plan, probe: &PlannedProbe, ports: &[Option<Port>]) -> Option<Port> {
    let open = || plan.logger.ports.iter().filter(|p| free(p, ports));
    let signal = probe.model.signal;
    open().find(|p| p.kind == signal).or_else(|| open().find(|p| p.kind.reads(signal))).cloned()
}

fn exhausted(plan: &Plan, probe: &PlannedProbe) -> String {
    let signal = probe.model.signal;
    let ports = plan.logger.ports.iter().filter(|p| p.kind.reads(signal)).count();
    let wanted = plan.probes.iter().filter(|p| p.model.signal == signal).count();
    if ports == 0 {
        format!("{} has no port for {}: choose another logger or another probe.", plan.logger.name, signal.words())
    } else {
        format!(
            "No port is left: {wanted} probes are {}, and {} has {ports} that read them. Take a second node or bus probes.",
            signal.words(),
            plan.logger.name
        )
    }
}

/// Addresses on every bus: clashes are found, and the next free one is proposed to whoever came later.
fn addresses(plan: &Plan, plugged: &mut [Plugged], remarks: &mut Vec<Remark>) {
    let bus: Vec<usize> = (0..plugged.len()).filter(|i| plan.probes[*i].model.signal == Signal::Bus).collect();
    for &i in &bus {
        let probe = &plan.probes[i];
        let port = plugged[i].port.as_ref().map(|p| p.name.clone());
        let taken = |address: &str, plugged: &[Plugged]| {
            bus.iter().copied().find(|j| {
                *j != i
                    && plugged[*j].port.as_ref().map(|p| &p.name) == port.as_ref()
                    && plugged[*j].address.as_deref() == Some(address)
            })
        };
        let factory = probe.model.address.clone();
        let wanted = probe.address.clone().unwrap_or_else(|| factory.clone());
        if wanted.len() != 1 || !ADDRESSES.contains(wanted.to_lowercase().as_str()) {
            let says = format!("“{wanted}” is no address: one digit or letter.");
            remarks.push(Remark::new(Step::Wiring, Severity::Stop, probe.field("address"), says));
            continue;
        }
        match taken(&wanted, plugged) {
            None => plugged[i].address = Some(wanted),
            Some(other) => {
                let next =
                    ADDRESSES.chars().map(String::from).find(|a| taken(a, plugged).is_none()).unwrap_or_default();
                let by_hand = probe.address.is_some();
                let says = format!(
                    "{} and {} both answer to address {wanted} on port {}: neither would be read. {} {next}, and set it on the bench, alone on the bus.",
                    plan.probes[other].label,
                    probe.label,
                    port.clone().unwrap_or_default(),
                    if by_hand { "Type" } else { "Proposed for the second:" }
                );
                let severity = if by_hand { Severity::Stop } else { Severity::Note };
                remarks.push(Remark::new(Step::Wiring, severity, probe.field("address"), says));
                if !by_hand {
                    plugged[i].address = Some(next);
                }
            }
        }
        if plugged[i].address.as_ref().is_some_and(|a| *a != factory) {
            plugged[i].readdress_from = Some(factory);
        }
    }
}

fn supply(plan: &Plan, wiring: &mut Wiring, remarks: &mut Vec<Remark>) {
    let currents = plan.probes.iter().map(|p| p.model.supply_ma);
    wiring.together_ma = currents.clone().sum();
    wiring.alone_ma = currents.fold(0.0, f64::max);
    let limit = plan.logger.switched_ma;
    let mut say = |severity, at: String, says: String| remarks.push(Remark::new(Step::Wiring, severity, at, says));
    if wiring.alone_ma > limit {
        say(
            Severity::Stop,
            String::new(),
            format!(
                "One probe alone draws {} mA; the switched supply gives {} mA. Power it from the battery through a relay, or take another logger.",
                format_short(wiring.alone_ma),
                format_short(limit)
            ),
        );
    } else if wiring.together_ma > limit {
        wiring.in_turn = true;
        say(
            Severity::Weak,
            String::new(),
            format!(
                "Together the probes draw {} mA, more than the {} mA of the switched supply: power them one after the other.",
                format_short(wiring.together_ma),
                format_short(limit)
            ),
        );
    }
    let with_port = wiring.plugged.iter().filter(|p| p.port.is_some()).map(|p| &plan.probes[p.probe]);
    for p in with_port {
        let volts = p.model.supply_v;
        if volts > 0.0 && !plan.logger.supplies_v.iter().any(|v| (v - volts).abs() < 0.05) {
            let has: Vec<String> = plan.logger.supplies_v.iter().map(|v| format_short(*v)).collect();
            say(
                Severity::Stop,
                p.field("port"),
                format!(
                    "{} wants {} V; {} gives {} V. Choose another logger or model.",
                    p.label,
                    format_short(volts),
                    plan.logger.name,
                    has.join(", ")
                ),
            );
        }
    }
    let resistive = plan.probes.iter().filter(|p| p.model.resistive).count();
    if resistive >= 2 && !plan.logger.isolates {
        say(
            Severity::Weak,
            "choices.logger".into(),
            format!(
                "{resistive} resistive probes share the soil as a conductor, and {} does not cut the others off while one is read: all would drift together. Add a switch per probe, or take a logger that isolates.",
                plan.logger.name
            ),
        );
    }
    if let Some(p) = plan.probes.iter().find(|p| {
        matches!(p.model.principle, crate::units::Principle::Dielectric)
            && p.model.signal == Signal::SingleEnded
            && plan.logger.supplies_v.len() > 1
    }) {
        say(
            Severity::Note,
            p.field("port"),
            format!(
                "Analog dielectric probes read by their supply: keep it at {} V, on the bench as in the field.",
                format_short(p.model.supply_v)
            ),
        );
    }
}

/// Conductors of a plugged probe; what the port has no use for is insulated. None without a port.
fn wires(plan: &Plan, plugged: &Plugged) -> Vec<Wire> {
    let model = &plan.probes[plugged.probe].model;
    let Some(port) = &plugged.port else { return Vec::new() };
    let terminal = |function: Function| {
        let name = &port.name;
        match function {
            Function::Supply => Some(format!("{name} supply")),
            Function::Signal if port.kind == Signal::Differential => Some(format!("{name} high")),
            Function::Signal | Function::Data => Some(name.clone()),
            Function::Low => (port.kind == Signal::Differential).then(|| format!("{name} low")),
            Function::Ground | Function::Shield => Some(format!("{name} ground")),
            Function::Spare => None,
        }
    };
    (model.conductors.iter())
        .map(|c| Wire {
            probe: plugged.probe,
            function: c.function,
            colour: c.colour.clone(),
            terminal: terminal(c.function),
        })
        .collect()
}

/// The order in which a node comes to life.
pub const POWER_ORDER: [&str; 5] = [
    "Battery and panel unplugged, card out.",
    "Ground and shield of every probe first, then signal or data, then supply; pull gently at each.",
    "Unused conductors insulated one by one, not connected.",
    "Card in, then the battery, then the panel.",
    "Read every channel once through the logger itself.",
];
