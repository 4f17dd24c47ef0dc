//! The design of a study: what is measured, on which treatments, how long, how often.

use super::draft::Typed;
use super::remark::{Remark, Severity, Step};
use crate::units::{Quantity, Range};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A design as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct DesignDraft {
    /// What the study shall answer.
    pub question: Typed,
    /// `yes` by the code of a quantity.
    pub quantities: BTreeMap<String, Typed>,
    /// Treatments with their replicates; none: one place alone.
    pub treatments: Vec<TreatmentDraft>,
    /// How long, months.
    pub months: Typed,
    /// How often, minutes.
    pub interval_min: Typed,
}

/// A treatment as it was typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct TreatmentDraft {
    /// What is done, or that nothing is.
    pub name: Typed,
    /// Places with it.
    pub replicates: Typed,
}

/// Quantities that a study can ask for, with what a question about them sounds like.
pub const ASKED: [(Quantity, &str); 7] = [
    (Quantity::WaterContent, "how much water is there, how much is used, does it drain"),
    (Quantity::WaterTension, "can the plant get at it, when to irrigate"),
    (Quantity::SoilTemperature, "warming, frost, how fast things grow and rot"),
    (Quantity::ElectricalConductivity, "salt, fertiliser"),
    (Quantity::AirTemperature, "what the place adds to the weather"),
    (Quantity::RelativeHumidity, "how hard the air pulls"),
    (Quantity::Rain, "what came in: without it no water balance"),
];

const MONTHS: Range = Range { name: "duration", unit: "months", min: 0.1, max: 600.0 };
const INTERVAL: Range = Range { name: "interval", unit: "min", min: 0.05, max: 10_080.0 };
const REPLICATES: Range = Range { name: "replicates", unit: "places", min: 1.0, max: 200.0 };
/// What holds where nothing is typed: two growing seasons, and the usual interval of soil records.
const USUAL_MONTHS: f64 = 24.0;
const USUAL_MINUTES: f64 = 15.0;
/// Places of one treatment below which chance alone can make the difference.
const FEW_REPLICATES: f64 = 3.0;

/// A design with its numbers.
#[derive(Debug, Clone, PartialEq)]
pub struct Design {
    /// How long the study is to last, months.
    pub months: f64,
    /// Seconds from record to record.
    pub interval_s: f64,
    /// What is to be measured, each once.
    pub quantities: Vec<Quantity>,
    /// Treatments with their number of places.
    pub treatments: Vec<(String, f64)>,
}

impl DesignDraft {
    /// Reads the design; what cannot be read becomes a remark at its field.
    #[must_use]
    pub fn resolve(&self) -> (Design, Vec<Remark>) {
        let mut remarks = Vec::new();
        let mut say = |severity, at: String, says: String| remarks.push(Remark::new(Step::Site, severity, at, says));
        let mut number = |typed: &Typed, range: Range, usual: f64, at: &str| match typed.optional_in(range) {
            Ok(value) => value.unwrap_or(usual),
            Err(says) => {
                say(Severity::Stop, at.to_owned(), format!("{says}. Reckoned with {usual} {} meanwhile.", range.unit));
                usual
            }
        };
        let months = number(&self.months, MONTHS, USUAL_MONTHS, "months");
        let interval_s = number(&self.interval_min, INTERVAL, USUAL_MINUTES, "interval_min") * 60.0;
        let mut treatments = Vec::new();
        for (i, t) in self.treatments.iter().enumerate().filter(|(_, t)| !t.name.is_blank()) {
            let replicates = number(&t.replicates, REPLICATES, 1.0, &format!("treatments.{i}.replicates"));
            treatments.push((t.name.to_string(), replicates.round()));
        }
        if treatments.len() > 1 && treatments.iter().any(|t| t.1 < FEW_REPLICATES) {
            say(
                Severity::Weak,
                String::new(),
                "With fewer than three places to a treatment a difference may be the place's and not the treatment's: compare each place with itself, before and after, or add places.".into(),
            );
        }
        let quantities: Vec<Quantity> = ASKED
            .iter()
            .map(|(q, _)| *q)
            .filter(|q| self.quantities.get(q.code()).is_some_and(Typed::is_yes))
            .collect();
        let water = quantities.iter().any(|q| q.is_moisture());
        if water && !quantities.contains(&Quantity::Rain) {
            say(Severity::Note, String::new(), "Water without rain: no front can be told from a fault. One gauge serves all stations within a few hundred metres.".into());
        }
        (Design { months, interval_s, quantities, treatments }, remarks)
    }
}

impl Design {
    /// Places that the treatments ask for.
    #[must_use]
    pub fn places(&self) -> f64 {
        self.treatments.iter().map(|t| t.1).sum()
    }

    /// Records of one channel over the whole study.
    #[must_use]
    pub fn records(&self) -> f64 {
        (self.months * 30.44 * 86_400.0 / self.interval_s).floor()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_design_is_read_with_its_usual_numbers_and_its_weak_points() {
        let draft: DesignDraft = serde_json::from_str(
            r#"{"quantities": {"water_content": "yes"}, "months": "many",
                "treatments": [{"name": "cut", "replicates": 2}, {"name": "uncut"}, {"name": ""}]}"#,
        )
        .unwrap();
        let (design, remarks) = draft.resolve();
        assert_eq!((design.months, design.interval_s, design.places()), (24.0, 900.0, 3.0));
        assert_eq!(design.records(), 70_133.0);
        let at: Vec<&str> = remarks.iter().map(|r| r.at.as_str()).collect();
        assert_eq!(at, ["months", "", ""]);
        assert!(remarks[1].says.contains("fewer than three places"));
    }
}
