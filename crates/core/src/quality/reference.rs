//! The record beside what was measured by hand.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::{Definition, Evidence, Flag, ReferenceEvidence};
use crate::series::View;
use crate::statistics::median;
use crate::units::{Grade, Quantity, UnixSeconds, coded};
use serde::{Deserialize, Serialize};

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

coded!(
    /// How something was measured by hand beside a probe.
    ReferenceKind {
        /// A thermometer that was left long enough.
        Thermometer = "thermometer",
        /// A core that was weighed and dried.
        Core = "core",
        /// Another probe, read by handheld.
        Handheld = "handheld",
    }
);

impl ReferenceKind {
    /// Its name in a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        self.code()
    }
}

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

/// What a record has beside something that was measured by hand.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beside {
    /// The median of the hour on either side, in the unit of the record.
    pub value: f64,
    /// First and last reading of it.
    pub span: (UnixSeconds, UnixSeconds),
    /// How many they are.
    pub readings: usize,
}

impl Beside {
    /// The readings of a record within an hour of a time on either side, or within its interval where that is longer (s).
    #[must_use]
    pub fn part(record: View<'_>, time: UnixSeconds, interval: i64) -> View<'_> {
        let near = NEAR.max(interval);
        let from = record.times.partition_point(|t| *t < time.0.saturating_sub(near));
        let to = record.times.partition_point(|t| *t <= time.0.saturating_add(near));
        View { times: &record.times[from..to], values: &record.values[from..to] }
    }

    /// What [`Self::part`] of a record has; `None`: nothing.
    #[must_use]
    pub fn of(part: View<'_>) -> Option<Self> {
        let mut values: Vec<f64> = part.values.iter().copied().filter(|v| v.is_finite()).collect();
        let value = median(&mut values)?;
        let (first, last) = part.times.first().zip(part.times.last())?;
        Some(Self { value, span: (UnixSeconds(*first), UnixSeconds(*last)), readings: part.times.len() })
    }
}

fn one(scene: &Scene<'_>, own: &ReferenceSettings, reference: &Reference) -> Option<Flag> {
    let of = scene.of;
    let Beside { value: record, span: (start, end), readings } =
        Beside::of(Beside::part(of.view(), reference.time, of.interval))?;
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
    Some(Flag::new(DEFINITION.grade, (start.0, end.0), readings, strength, evidence, reason))
}
