//! The record beside what was measured by hand.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::{Definition, Evidence, Flag, ReferenceEvidence};
use crate::statistics::median;
use crate::units::{Grade, Quantity, UnixSeconds};

settings!(
    /// When a record contradicts a reference.
    ReferenceSettings {
        /// They are apart from so many of their joint standard uncertainties.
        sigmas: 3.0 in 1.0..=100.0 "σ",
        /// Uncertainty of a water content by hand where none is given.
        water: 0.02 in 0.001..=0.2 "m³/m³",
        /// Uncertainty of a temperature by hand where none is given.
        heat: 0.3 in 0.01..=5.0 "K",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Against the reference",
    mark: "Ra",
    grade: Grade::Doubtful,
    finds: "A thermometer, a core sample or a handheld probe beside the probe that disagrees with the record of that hour by more than both may \
            err.",
    settings: ReferenceSettings::LIST,
};

/// Something measured by hand beside a probe, in the unit of the channel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reference {
    /// When.
    pub time: UnixSeconds,
    /// What.
    pub value: f64,
    /// Its standard uncertainty, if it was told.
    pub uncertainty: Option<f64>,
}

/// Readings within this on either side are compared, s.
const NEAR: i64 = 3600;

/// References that the median of the hour on either side contradicts.
pub(super) fn contradicts(scene: &Scene<'_>, own: &ReferenceSettings) -> Vec<Flag> {
    scene.of.channel.references.iter().filter_map(|r| one(scene, own, r)).collect()
}

fn one(scene: &Scene<'_>, own: &ReferenceSettings, reference: &Reference) -> Option<Flag> {
    let of = scene.of;
    let view = of.between(reference.time.0 - NEAR.max(of.interval), reference.time.0 + NEAR.max(of.interval));
    let (start, end) = view.times.first().zip(view.times.last())?;
    let record = median(&mut view.values.to_vec())?;
    let by_hand = reference.uncertainty.filter(|u| *u > 0.0).or(match of.channel.quantity {
        Quantity::WaterContent => Some(own.water),
        q if q.is_temperature() => Some(own.heat),
        _ => None,
    })?;
    // A half width of 95 % is two standard uncertainties.
    let calibration = of.channel.uncertainty.unwrap_or(0.0) / 2.0;
    let step = of.noise.map_or(0.0, |n| n.resolution) / 12f64.sqrt();
    let within = own.sigmas * (by_hand.powi(2) + calibration.powi(2) + step.powi(2)).sqrt();
    let difference = record - reference.value;
    if difference.abs() <= within {
        return None;
    }
    let quantity = of.channel.quantity;
    let reason = format!(
        "By hand {}, the record has {}: {} apart, where {} would be within what both may err.",
        written(quantity, reference.value),
        written(quantity, record),
        written(quantity, difference.abs()),
        written(quantity, within),
    );
    let evidence = Evidence::ReferenceApart(ReferenceEvidence {
        difference: difference.into(),
        reference: reference.value.into(),
        within: within.into(),
    });
    let strength = difference.abs() / by_hand;
    Some(Flag::new(DEFINITION.grade, (*start, *end), view.times.len(), strength, evidence, reason))
}
