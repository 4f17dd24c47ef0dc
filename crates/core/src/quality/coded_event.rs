//! Kinds of events, as in the record package.

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// What happened at a station.
    EventKind {
        /// A probe was put in.
        Installation = "installation",
        /// Somebody was there.
        Visit = "visit",
        /// Something was mended or replaced.
        Maintenance = "maintenance",
        /// The logger took a new program.
        ProgramChange = "program_change",
        /// Water was given.
        Irrigation = "irrigation",
        /// A treatment began or ended.
        Treatment = "treatment",
        /// The record counts from here.
        OfficialStart = "official_start",
    }
);

impl EventKind {
    /// The kind in words, with its article.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Installation => "an installation",
            Self::Visit => "a visit",
            Self::Maintenance => "maintenance",
            Self::ProgramChange => "a program change",
            Self::Irrigation => "an irrigation",
            Self::Treatment => "a treatment",
            Self::OfficialStart => "the official start",
        }
    }
}
