//! A calibration run as it is typed, and what the rules make of it.
//!
//! [`RunDraft`] holds the form of all three schools: a packed container in steps, cores beside the installed probe, one
//! container that is weighed as it dries. [`resolve`] reads every row into raw reading and water content, and hands them to
//! the same fit; what cannot be read is said at its field, and the rest goes on.
//! [`conditions`] tells what the next step takes, and which slips of oven, logger and packing show.

mod conditions;
mod figures;
mod notices;
mod read;
mod resolve;

pub use conditions::{Conditions, RunContext, conditions};
pub use figures::RowFigures;
pub use read::{FieldDensity, field_density, repeats};
pub use resolve::{Resolved, density_target, is_permittivity, resolve, solids};

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// Where the reference samples come from.
    School {
        /// A container packed to field density, wetted step by step, a core at each step.
        Packed = "packed",
        /// Cores taken beside the installed probe over a season.
        Cores = "cores",
        /// One container that is weighed as it dries.
        Drying = "drying",
    }
);

impl School {
    /// What the form calls it.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Packed => "packed container, wetted in steps",
            Self::Cores => "field cores beside the installed probe",
            Self::Drying => "one container, weighed as it dries",
        }
    }
}

/// The form of a run, as typed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct RunDraft {
    /// Where the samples come from.
    pub school: School,
    /// Unit of the raw reading.
    pub unit: String,
    /// Texture or horizon of the soil.
    pub soil: String,
    /// Density cores from the field, one a line: tare; dry mass; volume.
    pub cores: String,
    /// Mass of the container that dries, empty with probe and cable, g.
    pub pot_tare: String,
    /// Mass of that container with the soil oven-dry, g.
    pub pot_dry: String,
    /// Volume of its soil, cm³.
    pub pot_volume: String,
    /// Field bulk density that was packed to, g/cm³.
    pub density: String,
    /// Display step of the balance, g.
    pub step: String,
    /// How well the corer's volume is known, %.
    pub volume_pct: String,
    /// Temperature of drying, °C.
    pub dry_temperature: String,
    /// Hours of drying.
    pub dry_hours: String,
    /// Organic matter, %.
    pub organic: String,
    /// Density of the solids, g/cm³; blank: it follows organic matter.
    pub particles: String,
    /// Logger that read the probe.
    pub logger: String,
    /// Excitation, V.
    pub excitation: String,
    /// Volume of the container, L.
    pub container: String,
    /// Layers in which it is packed.
    pub layers: String,
    /// Present water content, g/g.
    pub w_now: String,
    /// Water added at each step, mL.
    pub water: String,
    /// The samples, in the order of the table.
    pub rows: Vec<SampleRow>,
}

impl Default for RunDraft {
    fn default() -> Self {
        let text = str::to_owned;
        Self {
            school: School::Packed,
            unit: text("mV"),
            soil: String::new(),
            cores: String::new(),
            pot_tare: String::new(),
            pot_dry: String::new(),
            pot_volume: text("4000"),
            density: String::new(),
            step: text("0.01"),
            volume_pct: text("1"),
            dry_temperature: text("105"),
            dry_hours: text("24"),
            organic: String::new(),
            particles: String::new(),
            logger: String::new(),
            excitation: String::new(),
            container: text("4"),
            layers: text("4"),
            w_now: String::new(),
            water: text("250"),
            rows: Vec::new(),
        }
    }
}

/// What the record says of a moment.
#[derive(Debug, Clone, PartialEq)]
pub enum Recorded {
    /// The believed readings within half an hour.
    Found {
        /// Their mean.
        mean: f64,
        /// Its standard uncertainty.
        u: f64,
        /// Further readings of that time, which flags or verdicts leave out.
        left_out: usize,
    },
    /// Why there is none.
    Missing(&'static str),
}

/// One sample, as typed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct SampleRow {
    /// Number of the tin.
    pub tin: String,
    /// When the core was taken, for cores beside an installed probe.
    pub at: String,
    /// Raw reading, or several of one state parted by blanks.
    pub raw: String,
    /// What the record has at `at`: mean and standard uncertainty; it stands in where `raw` is blank.
    #[serde(skip)]
    pub recorded: Option<Recorded>,
    /// Tare, g.
    pub tare: String,
    /// Wet mass with tin, g.
    pub wet: String,
    /// Dry mass with tin, g.
    pub dry: String,
    /// Core volume, cm³.
    pub volume: String,
    /// Left out of the fit by a person.
    #[serde(deserialize_with = "ticked")]
    pub out: bool,
    /// Why it was left out.
    pub why: String,
}

/// A tick as a form sends it ("yes", or nothing), or as it is kept.
fn ticked<'de, D: serde::Deserializer<'de>>(from: D) -> Result<bool, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Tick {
        Kept(bool),
        Sent(String),
    }
    Ok(match Tick::deserialize(from)? {
        Tick::Kept(ticked) => ticked,
        Tick::Sent(text) => !text.is_empty(),
    })
}

impl SampleRow {
    /// Whether nothing was typed yet.
    pub fn is_empty(&self) -> bool {
        [&self.at, &self.raw, &self.tare, &self.wet, &self.dry].iter().all(|t| t.trim().is_empty())
    }
}
