//! What a plan is made for, and a probe as it will be placed.

use super::catalogue::ProbeModel;
use crate::geometry::{Attitude, SensingVolume};
use crate::units::{Quantity, format_short};

/// What a plan is made for: known of the study and the station, not typed here.
#[derive(Debug, Clone, PartialEq)]
pub struct Setting {
    /// Name of the station.
    pub station: String,
    /// Seconds from record to record that the study asks for.
    pub interval_s: f64,
    /// How long the study lasts, months.
    pub months: f64,
}

/// A probe as it will be placed.
#[derive(Debug, Clone, PartialEq)]
pub struct PlannedProbe {
    /// Its row in the draft.
    pub row: usize,
    /// Serial, or "probe 2".
    pub label: String,
    /// Its entry in the catalogue.
    pub model: ProbeModel,
    /// Depth of the sensing centre, cm; negative above ground.
    pub depth_cm: f64,
    /// What this depth answers.
    pub purpose: String,
    /// Whether it is the sentinel below the roots.
    pub sentinel: bool,
    /// How it lies.
    pub attitude: Attitude,
    /// Port typed by hand, if any.
    pub port: Option<String>,
    /// Address typed by hand, if any.
    pub address: Option<String>,
    /// Length of its cable, m.
    pub cable_m: f64,
}

impl PlannedProbe {
    /// Where a field of this probe stands in the draft.
    #[must_use]
    pub fn field(&self, name: &str) -> String {
        format!("probes.{}.{name}", self.row)
    }

    /// "15 cm", "1.5 m above ground".
    #[must_use]
    pub fn place(&self) -> String {
        if self.model.in_soil {
            format!("{}\u{a0}cm", format_short(self.depth_cm))
        } else {
            format!("{}\u{a0}m above ground", format_short(-self.depth_cm / 100.0))
        }
    }

    /// The soil it senses if its centre lies at (`x`, `y`) and its depth.
    #[must_use]
    pub fn volume(&self, x: f64, y: f64) -> SensingVolume {
        let (a, b, c) = self.model.senses_cm;
        SensingVolume { centre: [x, y, self.depth_cm], semi: [a, b, c], attitude: self.attitude }
    }

    /// Top and bottom of the soil it senses, cm.
    #[must_use]
    pub fn span(&self) -> (f64, f64) {
        self.volume(0.0, 0.0).depth_span()
    }
}

/// Quantities with their number of channels.
pub(super) fn channels(probes: &[PlannedProbe]) -> Vec<(Quantity, usize)> {
    let count = |q: Quantity| probes.iter().flat_map(|p| &p.model.quantities).filter(|g| **g == q).count();
    Quantity::ALL.iter().map(|q| (*q, count(*q))).filter(|(_, n)| *n > 0).collect()
}
