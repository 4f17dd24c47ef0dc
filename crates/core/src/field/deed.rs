//! What a log's entry can say.

use super::clock::ClockCheck;
use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// What a log is of.
    LogKind {
        /// Probes are put in.
        Installation = "installation",
        /// Somebody looks after a station.
        Visit = "visit",
        /// Points are read one after the other, by handheld.
        Round = "round",
        /// Probes are taken out.
        Removal = "removal",
    }
);

coded!(
    /// How a step went.
    StepOutcome {
        /// It was done as it stands.
        Done = "done",
        /// Left out, for a reason.
        Skipped = "skipped",
    }
);

coded!(
    /// A change at a station that changes what its record means.
    RepairKind {
        /// Another probe at a port.
        ProbeExchanged = "probe_exchanged",
        /// A probe at another port.
        PortChanged = "port_changed",
        /// Other firmware in a node or probe.
        Firmware = "firmware",
        /// Another version of the logger's program.
        Program = "program",
        /// The radiation shield of an air thermometer stands elsewhere.
        ShieldMoved = "shield_moved",
        /// Shrubs or grass around the probes were cut.
        CoverCut = "cover_cut",
        /// Some other change, told in words.
        Other = "other",
    }
);

impl RepairKind {
    /// What it is called.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::ProbeExchanged => "probe exchanged",
            Self::PortChanged => "port changed",
            Self::Firmware => "firmware",
            Self::Program => "program version",
            Self::ShieldMoved => "shield moved",
            Self::CoverCut => "cover cut",
            Self::Other => "repair",
        }
    }
}

/// What was done or seen. Times and serials are as somebody entered them; see [`super::check_entry`].
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Deed {
    /// The log begins.
    Begun {
        /// What it is of.
        of: LogKind,
    },
    /// A step of the plan, or of a list.
    Step {
        /// Its key in the pack.
        step: String,
        /// What it asked for, as it stood there: a plan may change afterwards.
        #[serde(default)]
        does: String,
        /// How it went.
        outcome: StepOutcome,
        /// Why, where it was left out; anything else where it was done.
        #[serde(default)]
        note: String,
    },
    /// A horizon as seen.
    Horizon {
        /// What the horizon is called.
        name: String,
        /// Upper boundary, cm.
        top_cm: f64,
        /// Lower boundary, cm.
        bottom_cm: f64,
        /// Texture by hand.
        #[serde(default)]
        texture: String,
    },
    /// A hole as measured.
    Hole {
        /// Its number in the plan, from 1.
        number: u32,
        /// Depth along it, cm.
        depth_cm: f64,
    },
    /// A core for density or water content.
    Core {
        /// Number of the tin.
        tin: String,
        /// Depth of its middle, cm.
        depth_cm: f64,
        /// Volume of the corer, cm³.
        volume_cm3: f64,
    },
    /// A probe that was put in, or tried.
    Probe {
        /// Serial of the probe that was read.
        serial: String,
        /// Depth of its sensing centre, cm.
        depth_cm: f64,
        /// The port that it is to be plugged into.
        port: String,
        /// How it lies.
        #[serde(default)]
        orientation: String,
        /// Stone or root: a new hole; it does not lie here.
        #[serde(default)]
        given_up: bool,
        /// Whether its seat was filled with sieved native soil.
        #[serde(default)]
        repacked: bool,
    },
    /// A reading by handheld at a probe, with what the phone said of it.
    Reading {
        /// Serial of the probe.
        serial: String,
        /// Repeats, as the handheld showed them.
        repeats: Vec<f64>,
        /// What the phone said.
        #[serde(default)]
        said: String,
    },
    /// A layer that was filled.
    Layer {
        /// Which layer, by its name in the plan.
        name: String,
        /// Soil put back, kg.
        kg: f64,
    },
    /// A channel read through the logger itself.
    Channel {
        /// Port of the logger that was looked at.
        port: String,
        /// What the logger showed.
        value: f64,
    },
    /// A node's clock held against true time.
    Clock {
        /// The node's name.
        node: String,
        /// What the clock showed, and what it truly was.
        #[serde(flatten)]
        check: ClockCheck,
    },
    /// A point of a round.
    Spot {
        /// The point's name.
        point: String,
        /// The reading; `None` where it was not reached.
        value: Option<f64>,
        /// Why it was not reached.
        #[serde(default)]
        not_reached: String,
    },
    /// A probe that was taken out, or looked for.
    Removed {
        /// Serial of the probe that was taken out.
        serial: String,
        /// Its condition, in words.
        #[serde(default)]
        condition: String,
        /// Not found: its last place stays.
        #[serde(default)]
        lost: bool,
        /// Not fit to go out again.
        #[serde(default)]
        refused: bool,
    },
    /// Something was changed: the record means something else from this minute on.
    Repair {
        /// What kind of change.
        of: RepairKind,
        /// From what to what.
        note: String,
    },
    /// A photograph, kept by its hash.
    Photo {
        /// SHA-256 of the file, 64 hex digits.
        sha256: String,
        /// What it shows.
        #[serde(default)]
        caption: String,
        /// When it was taken, as the camera's clock had it: "2026-03-01 10:12:05".
        #[serde(default, skip_serializing_if = "String::is_empty")]
        taken: String,
        /// Where, latitude and longitude in degrees; never in what is given out.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        place: Option<[f64; 2]>,
    },
    /// Whatever else is worth keeping.
    Note {
        /// The words as they were entered.
        text: String,
    },
    /// The log is finished.
    Closed,
}

impl Deed {
    /// Whether it tells of a horizon.
    #[must_use]
    pub const fn is_horizon(&self) -> bool {
        matches!(self, Self::Horizon { .. })
    }

    /// The same without what would tell others where somebody was.
    #[must_use]
    pub fn without_place(self) -> Self {
        match self {
            Self::Photo { sha256, caption, taken, .. } => Self::Photo { sha256, caption, taken, place: None },
            other => other,
        }
    }

    /// Every text that somebody entered.
    pub(super) fn texts(&self) -> Vec<&str> {
        match self {
            Self::Begun { .. } | Self::Hole { .. } | Self::Closed => Vec::new(),
            Self::Step { step, does, note, .. } => vec![step, does, note],
            Self::Horizon { name, texture, .. } => vec![name, texture],
            Self::Core { tin, .. } => vec![tin],
            Self::Probe { serial, port, orientation, .. } => vec![serial, port, orientation],
            Self::Reading { serial, said, .. } => vec![serial, said],
            Self::Layer { name, .. } => vec![name],
            Self::Channel { port, .. } => vec![port],
            Self::Clock { node, .. } => vec![node],
            Self::Spot { point, not_reached, .. } => vec![point, not_reached],
            Self::Removed { serial, condition, .. } => vec![serial, condition],
            Self::Photo { sha256, caption, taken, .. } => vec![sha256, caption, taken],
            Self::Repair { note, .. } => vec![note],
            Self::Note { text } => vec![text],
        }
    }
}
