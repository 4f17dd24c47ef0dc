//! Which probe at which port, and every conductor at its terminal.

use super::super::context::{Head, OnPage};
use crate::components::fields::{Answer, Choice, TextField};
use crate::shell::Shell;
use crate::shell::figures::fixed;
use askama::Template;
use ebrel_app::planning::StationPlan;
use ebrel_core::planning::{POWER_ORDER, Signal, Step};

struct PlugRow {
    label: String,
    place: String,
    signal: &'static str,
    port: Choice,
    address: Option<TextField>,
    effective: String,
    readdress: String,
}

/// The conductors of one probe.
pub struct WireGroup {
    pub label: String,
    /// Where it lies.
    pub place: String,
    /// Its port, with its address.
    pub port: String,
    /// Function, colour, terminal, and the y of its line in the drawing.
    pub wires: Vec<(String, String, String, usize)>,
    /// Height of the drawing, px.
    pub height: usize,
}

#[derive(Template)]
#[template(path = "rooms/plan/station/steps/wiring.html")]
pub struct WiringPage {
    shell: Shell,
    head: Head,
    answer: String,
    logger: Choice,
    plugs: Vec<PlugRow>,
    groups: Vec<WireGroup>,
    current: String,
    order: [&'static str; 5],
}

pub fn page(shell: Shell, head: Head, context: &StationPlan) -> WiringPage {
    let found = &context.found;
    let plan = &found.plan;
    let loggers: Vec<(&str, &str)> =
        context.catalogue.loggers.iter().map(|l| (l.code.as_str(), l.name.as_str())).collect();
    let plugs: Vec<PlugRow> = found
        .wiring
        .plugged
        .iter()
        .map(|plugged| {
            let p = &plan.probes[plugged.probe];
            let path = p.field("port");
            let typed = &context.draft.probes[p.row].port;
            let proposed = plugged
                .port
                .as_ref()
                .filter(|_| plugged.proposed)
                .map_or_else(|| "none left".to_owned(), |q| q.name.clone());
            let mut answers = vec![Answer {
                code: String::new(),
                words: format!("as proposed: {proposed}"),
                taken: typed.is_blank(),
            }];
            answers.extend(plan.logger.ports.iter().map(|q| Answer {
                code: q.name.clone(),
                words: format!("{}, {}", q.name, q.kind.words()),
                taken: q.name.eq_ignore_ascii_case(typed),
            }));
            if !typed.is_blank() && !answers.iter().any(|a| a.taken) {
                answers.push(Answer {
                    code: typed.to_string(),
                    words: format!("{} (not there)", &**typed),
                    taken: true,
                });
            }
            let on_bus = p.model.signal == Signal::Bus;
            PlugRow {
                label: p.label.clone(),
                place: p.place(),
                signal: p.model.signal.words(),
                port: Choice { name: "Port", says: context.says(&path), path, answers },
                address: on_bus.then(|| context.text(p.field("address"), &context.draft.probes[p.row].address)),
                effective: plugged.address.clone().unwrap_or_default(),
                readdress: plugged
                    .readdress_from
                    .as_ref()
                    .map(|from| format!("set it from {from} first, alone on the bus"))
                    .unwrap_or_default(),
            }
        })
        .collect();
    let stops = found.stops(Some(Step::Wiring)).count();
    let open = found.wiring.wires.iter().filter(|w| w.terminal.is_none()).count();
    let answer = match stops {
        _ if plugs.is_empty() => "No probe to plug in yet.".to_owned(),
        0 => format!(
            "Every probe has its port; {} conductors, {}.",
            found.wiring.wires.len(),
            match open {
                0 => "none left over".to_owned(),
                1 => "1 insulated and not connected".to_owned(),
                n => format!("{n} insulated and not connected"),
            }
        ),
        n => format!("{n} thing{} to put right at the ports.", if n == 1 { "" } else { "s" }),
    };
    let turn = if found.wiring.in_turn { "one after the other" } else { "together" };
    WiringPage {
        answer,
        logger: context.choice("logger", "Logger or node", &loggers),
        current: format!(
            "Powered {turn}; all at once {} mA, the hungriest alone {} mA, and the switched supply gives {} mA.",
            fixed(found.wiring.together_ma, 1),
            fixed(found.wiring.alone_ma, 1),
            fixed(plan.logger.switched_ma, 0)
        ),
        groups: wire_groups(context),
        order: POWER_ORDER,
        plugs,
        shell,
        head,
    }
}

/// The wiring sheet, probe by probe.
pub fn wire_groups(context: &StationPlan) -> Vec<WireGroup> {
    let found = &context.found;
    (found.wiring.plugged.iter())
        .map(|plugged| {
            let p = &found.plan.probes[plugged.probe];
            let mine = found.wiring.wires.iter().filter(|w| w.probe == plugged.probe);
            let wires: Vec<_> = mine
                .enumerate()
                .map(|(i, w)| {
                    let terminal = w.terminal.clone().unwrap_or_else(|| "insulated, not connected".to_owned());
                    (w.function.words().to_owned(), w.colour.clone(), terminal, 14 + i * 22)
                })
                .collect();
            let port = plugged.port.as_ref().map_or_else(|| "no port".to_owned(), |q| q.name.clone());
            WireGroup {
                label: p.label.clone(),
                place: p.place(),
                port: plugged.address.as_ref().map_or_else(|| port.clone(), |a| format!("{port}, address {a}")),
                height: wires.len() * 22 + 6,
                wires,
            }
        })
        .collect()
}
