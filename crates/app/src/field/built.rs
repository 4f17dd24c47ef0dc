//! As planned, as built: what a log says of each probe beside what its plan said.

use crate::planning::StationPlan;
use ebrel_core::field::{Deed, Log};

/// One probe, planned and built.
#[derive(Debug, Clone, PartialEq)]
pub struct Built {
    /// Serial.
    pub serial: String,
    /// Depth as planned, cm; `None`: it was not in the plan.
    pub planned_cm: Option<f64>,
    /// Depth as built, cm; `None`: it was not put in.
    pub built_cm: Option<f64>,
    /// Port as planned and as built, where they differ or only one is known.
    pub ports: (String, String),
    /// Whether it was plugged in at another port of the planned logger. A port that this logger does not have is another name, by
    /// which a record knows it.
    pub at_another_port: bool,
    /// Places at which it met a stone or root, cm.
    pub given_up_cm: Vec<f64>,
    /// What the last reading of it said.
    pub said: String,
}

/// A depth that differs by more than this is told, cm: what a careful hand reaches.
const REACHED_CM: f64 = 1.0;

impl Built {
    /// Whether its depth is as it was planned, as far as a hand reaches.
    #[must_use]
    pub fn deep_as_planned(&self) -> bool {
        self.planned_cm.zip(self.built_cm).is_some_and(|(a, b)| (a - b).abs() <= REACHED_CM)
    }
}

/// Holds a log of an installation against its station's plan; the deepest first.
#[must_use]
pub fn built(plan: &StationPlan, log: &Log) -> Vec<Built> {
    let found = &plan.found;
    let mut rows: Vec<Built> = found
        .plan
        .buried()
        .map(|(place, probe)| {
            let plugged = found.wiring.plugged.iter().find(|p| p.probe == place);
            let port = plugged.and_then(|p| p.place(&probe.label)).unwrap_or_default();
            Built {
                serial: probe.label.clone(),
                planned_cm: Some(probe.depth_cm),
                built_cm: None,
                ports: (port, String::new()),
                at_another_port: false,
                given_up_cm: Vec::new(),
                said: String::new(),
            }
        })
        .collect();
    for entry in &log.stands {
        let (Deed::Probe { serial, .. } | Deed::Reading { serial, .. }) = &entry.deed else { continue };
        let at = rows.iter().position(|r| r.serial.eq_ignore_ascii_case(serial)).unwrap_or_else(|| {
            let ports = (String::new(), String::new());
            let (planned_cm, built_cm, given_up_cm) = (None, None, Vec::new());
            let (serial, said, at_another_port) = (serial.clone(), String::new(), false);
            rows.push(Built { serial, planned_cm, built_cm, ports, at_another_port, given_up_cm, said });
            rows.len() - 1
        });
        let row = &mut rows[at];
        match &entry.deed {
            Deed::Probe { depth_cm, given_up: true, .. } => row.given_up_cm.push(*depth_cm),
            Deed::Probe { depth_cm, port, .. } => (row.built_cm, row.ports.1) = (Some(*depth_cm), port.clone()),
            Deed::Reading { said, .. } => row.said.clone_from(said),
            _ => {}
        }
    }
    let logger = &found.plan.logger.ports;
    for row in &mut rows {
        let (planned, built) = &row.ports;
        let own = built.split('.').next().unwrap_or(built);
        let is_known = logger.iter().any(|p| p.name.eq_ignore_ascii_case(own));
        row.at_another_port = is_known && !planned.is_empty() && !planned.eq_ignore_ascii_case(built);
    }
    rows.sort_by(|a, b| {
        b.planned_cm.or(b.built_cm).partial_cmp(&a.planned_cm.or(a.built_cm)).unwrap_or(std::cmp::Ordering::Equal)
    });
    rows
}
