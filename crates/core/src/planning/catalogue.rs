//! The catalogue of probe and logger models: generic, shipped, and the user's to change.

use crate::acceptance::Limits;
use crate::units::{Principle, Quantity};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// How a probe's signal leaves it, and what kind of port takes it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Signal {
    /// A voltage against ground.
    SingleEnded,
    /// A voltage between two conductors.
    Differential,
    /// A digital bus on which each device has an address.
    Bus,
    /// A digital bus whose devices carry addresses that are unique from the factory.
    OneWire,
    /// Closures of a switch, to be counted.
    Pulse,
    /// A contact that is open or closed.
    Switch,
}

impl Signal {
    /// How the signal is called on a page.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::SingleEnded => "analog, single-ended",
            Self::Differential => "analog, differential",
            Self::Bus => "digital bus",
            Self::OneWire => "digital one-wire",
            Self::Pulse => "pulse",
            Self::Switch => "switch",
        }
    }

    /// Whether several devices share one port.
    #[must_use]
    pub const fn is_shared(self) -> bool {
        matches!(self, Self::Bus | Self::OneWire)
    }

    /// Whether a port of this kind can read `probe`.
    #[must_use]
    pub fn reads(self, probe: Self) -> bool {
        self == probe || matches!((self, probe), (Self::Differential, Self::SingleEnded) | (Self::Pulse, Self::Switch))
    }
}

/// What a conductor of a cable is for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Function {
    /// Supply, switched by the logger.
    Supply,
    /// Signal, or the high side of a differential one.
    Signal,
    /// Low side of a differential signal.
    Low,
    /// Data of a bus.
    Data,
    /// The conductor to ground.
    Ground,
    /// The shield of the cable.
    Shield,
    /// Of no use here.
    Spare,
}

impl Function {
    /// How the conductor is called on a wiring sheet.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Supply => "supply",
            Self::Signal => "signal",
            Self::Low => "signal, low",
            Self::Data => "data",
            Self::Ground => "ground",
            Self::Shield => "shield",
            Self::Spare => "spare",
        }
    }
}

/// One conductor of a cable.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Conductor {
    /// What it is for.
    pub function: Function,
    /// Its colour, as one sees it.
    pub colour: String,
}

/// A model of probe.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProbeModel {
    /// Short code, unique.
    pub code: String,
    /// Name in words.
    pub name: String,
    /// How it measures.
    pub principle: Principle,
    /// What it gives.
    pub quantities: Vec<Quantity>,
    /// How its signal leaves it.
    pub signal: Signal,
    /// Unit of its raw output.
    pub unit: String,
    /// Smallest and largest raw output.
    pub range: (f64, f64),
    /// Supply or excitation, V.
    pub supply_v: f64,
    /// Current while powered, mA.
    pub supply_ma: f64,
    /// Seconds from power to a good reading.
    pub warm_up_s: f64,
    /// Whether it uses the soil as a conductor, and must be isolated while another is read.
    #[serde(default)]
    pub resistive: bool,
    /// Address on a bus as it leaves the maker; empty without one.
    #[serde(default)]
    pub address: String,
    /// Body: length, width, thickness, cm.
    pub body_cm: (f64, f64, f64),
    /// Prongs or blade ahead of the body, cm; 0 if the body is the sensor.
    pub prong_cm: f64,
    /// Semi-axes of the sensing volume along, across and off the face, cm.
    pub senses_cm: (f64, f64, f64),
    /// Whether it goes into the soil.
    pub in_soil: bool,
    /// Length of its cable, m.
    pub cable_m: f64,
    /// Conductors of its cable, in the order of the sheet.
    pub conductors: Vec<Conductor>,
    /// Coefficients of the maker's curve from raw output to water content, lowest power first; empty without one.
    #[serde(default)]
    pub factory: Vec<f64>,
    /// What a sound one reads in air and in water.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub accept: Option<Limits>,
    /// Price of one.
    #[serde(default)]
    pub price: f64,
}

impl ProbeModel {
    /// From the front of the body to the sensing centre, cm: half the prongs, or back into a body that senses itself.
    #[must_use]
    pub fn ahead_cm(&self) -> f64 {
        if self.prong_cm > 0.0 { self.prong_cm / 2.0 } else { -self.body_cm.0 / 2.0 }
    }

    /// Whether it is a block that is seated in slurry.
    #[must_use]
    pub fn is_block(&self) -> bool {
        matches!(self.principle, Principle::GranularMatrix | Principle::Gypsum)
    }
}

/// A port of a logger.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Port {
    /// Its name, as printed on the board.
    pub name: String,
    /// What it reads.
    pub kind: Signal,
}

/// A model of logger or node.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LoggerModel {
    /// Short code, unique.
    pub code: String,
    /// Name in words.
    pub name: String,
    /// Ports, in the order in which they are filled.
    pub ports: Vec<Port>,
    /// Supplies that it can switch for probes, V.
    pub supplies_v: Vec<f64>,
    /// What the switched supply can give at once, mA.
    pub switched_ma: f64,
    /// Whether it cuts each probe off, supply and ground, while another is read.
    pub isolates: bool,
    /// Memory for records, bytes.
    pub memory_bytes: u64,
    /// Page of the memory, bytes.
    pub page_bytes: u64,
    /// Pages kept back.
    pub reserved_pages: u64,
    /// Current asleep, mA.
    pub sleep_ma: f64,
    /// Current awake, mA.
    pub awake_ma: f64,
    /// Seconds awake for one record.
    pub record_s: f64,
    /// Seconds awake for one scan, on top of the probes' warm-up.
    pub scan_s: f64,
    /// Whether it has a radio.
    pub radio: bool,
    /// Price of one.
    #[serde(default)]
    pub price: f64,
}

/// All models that a plan can name.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    /// Models of probes, by code.
    pub probes: Vec<ProbeModel>,
    /// Models of loggers, by code.
    pub loggers: Vec<LoggerModel>,
}

/// A catalogue that cannot be taken.
#[derive(Debug, Error)]
pub enum CatalogueError {
    /// It is not this kind of JSON.
    #[error("Line {line}, column {column}: {what}. Nothing was taken; correct the file and send it again.")]
    Unreadable {
        /// Line, from 1.
        line: usize,
        /// Column, from 1.
        column: usize,
        /// What is wrong there.
        what: String,
    },
    /// A model contradicts itself.
    #[error("{model}: {what}")]
    Model {
        /// The model's code.
        model: String,
        /// What is wrong with it.
        what: String,
    },
}

impl Catalogue {
    /// The catalogue that ships with Ebrel.
    #[must_use]
    pub fn shipped() -> Self {
        #[expect(clippy::expect_used, reason = "a constant; a test reads it")]
        Self::read(include_str!("catalogue.json")).expect("the shipped catalogue is legal")
    }

    /// Reads a catalogue from JSON; unknown fields are refused, so that a misspelt one is not lost in silence.
    ///
    /// # Errors
    /// [`CatalogueError`] with line and column, or the model that contradicts itself.
    pub fn read(json: &str) -> Result<Self, CatalogueError> {
        let catalogue: Self = serde_json::from_str(json).map_err(|e| {
            let (line, column, text) = (e.line(), e.column(), e.to_string());
            let what = text.rsplit_once(" at line").map_or(text.as_str(), |(what, _)| what).to_owned();
            CatalogueError::Unreadable { line, column, what }
        })?;
        catalogue.check()?;
        Ok(catalogue)
    }

    fn check(&self) -> Result<(), CatalogueError> {
        let wrong = |model: &str, what: &str| CatalogueError::Model { model: model.to_owned(), what: what.to_owned() };
        for (i, p) in self.probes.iter().enumerate() {
            let lengths = [p.body_cm.0, p.body_cm.1, p.body_cm.2, p.senses_cm.0, p.senses_cm.1, p.senses_cm.2];
            if p.code.trim().is_empty() || p.name.trim().is_empty() {
                return Err(wrong(&p.code, "a model needs a code and a name"));
            }
            if self.probes[..i].iter().any(|q| q.code == p.code) {
                return Err(wrong(&p.code, "two probe models have this code: give each its own"));
            }
            if p.in_soil && !lengths.iter().all(|l| (0.05..=200.0).contains(l)) {
                return Err(wrong(&p.code, "lengths of body and sensing volume must lie between 0.05 and 200 cm"));
            }
            if !(0.0..=200.0).contains(&p.prong_cm) || !(0.0..=1000.0).contains(&p.cable_m) {
                return Err(wrong(&p.code, "prongs lie between 0 and 200 cm, the cable between 0 and 1000 m"));
            }
            if p.range.0 >= p.range.1 {
                return Err(wrong(&p.code, "the range must go from the smaller to the larger raw output"));
            }
            if [p.supply_v, p.supply_ma, p.warm_up_s, p.price].iter().any(|v| *v < 0.0) {
                return Err(wrong(&p.code, "supply, current, warm-up and price cannot be below 0"));
            }
            if p.quantities.is_empty() {
                return Err(wrong(&p.code, "name at least one quantity that it gives"));
            }
        }
        for (i, l) in self.loggers.iter().enumerate() {
            if l.code.trim().is_empty() || self.loggers[..i].iter().any(|m| m.code == l.code) {
                return Err(wrong(&l.code, "each logger needs a code of its own"));
            }
            if l.ports.iter().enumerate().any(|(k, p)| l.ports[..k].iter().any(|q| q.name == p.name)) {
                return Err(wrong(&l.code, "two ports have one name"));
            }
            if [l.sleep_ma, l.awake_ma, l.record_s, l.scan_s, l.switched_ma, l.price].iter().any(|v| *v < 0.0) {
                return Err(wrong(&l.code, "currents, times and price cannot be below 0"));
            }
        }
        if self.probes.is_empty() || self.loggers.is_empty() {
            return Err(wrong("catalogue", "it needs at least one probe and one logger"));
        }
        Ok(())
    }

    /// The probe model of this code.
    #[must_use]
    pub fn probe(&self, code: &str) -> Option<&ProbeModel> {
        self.probes.iter().find(|p| p.code == code)
    }

    /// The logger model of this code.
    #[must_use]
    pub fn logger(&self, code: &str) -> Option<&LoggerModel> {
        self.loggers.iter().find(|l| l.code == code)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_shipped_catalogue_is_legal_and_comes_back_from_its_json() {
        let shipped = Catalogue::shipped();
        assert!(shipped.probes.len() >= 8 && shipped.loggers.len() >= 3);
        let json = serde_json::to_string(&shipped).unwrap();
        assert_eq!(Catalogue::read(&json).unwrap(), shipped);
    }

    #[test]
    fn what_is_wrong_with_a_catalogue_is_said_with_its_place() {
        let mut json: serde_json::Value = serde_json::to_value(Catalogue::shipped()).unwrap();
        json["probes"][0]["colour"] = "blue".into();
        let error = Catalogue::read(&serde_json::to_string_pretty(&json).unwrap()).unwrap_err().to_string();
        assert!(error.starts_with("Line ") && error.contains("unknown field `colour`"), "{error}");
        let mut twice = Catalogue::shipped();
        twice.probes[1].code = twice.probes[0].code.clone();
        let error = Catalogue::read(&serde_json::to_string(&twice).unwrap()).unwrap_err();
        assert!(error.to_string().contains("two probe models have this code"), "{error}");
        let mut flat = Catalogue::shipped();
        flat.probes[0].senses_cm.2 = 0.0;
        assert!(Catalogue::read(&serde_json::to_string(&flat).unwrap()).is_err());
    }

    #[test]
    fn ports_read_what_they_can() {
        assert!(Signal::Differential.reads(Signal::SingleEnded) && !Signal::SingleEnded.reads(Signal::Differential));
        assert!(Signal::Pulse.reads(Signal::Switch) && !Signal::Bus.reads(Signal::OneWire));
    }
}
