//! Kinds of events.

use crate::field::RepairKind;
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
        /// The radiation shield of an air thermometer stands elsewhere from now on.
        ShieldMoved = "shield_moved",
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
            Self::ShieldMoved => "a moved shield",
            Self::OfficialStart => "the official start",
        }
    }

    /// The code under which a record package has it: its list knows no moved shield, which is maintenance there and told by its note.
    #[must_use]
    pub const fn package_code(self) -> &'static str {
        match self {
            Self::ShieldMoved => Self::Maintenance.code(),
            other => other.code(),
        }
    }

    /// The kind that a row of a record package tells; `None` for a code that is not in its list.
    ///
    /// ```
    /// use ebrel_core::quality::EventKind;
    /// let of = EventKind::of_package;
    /// assert_eq!(of("maintenance", "shield moved: out of the bramble"), Some(EventKind::ShieldMoved));
    /// assert_eq!(of("maintenance", "gel changed"), Some(EventKind::Maintenance));
    /// assert_eq!(of("shield_moved", ""), None);
    /// ```
    #[must_use]
    pub fn of_package(code: &str, note: &str) -> Option<Self> {
        match Self::from_code(code)? {
            Self::Maintenance if note.starts_with(RepairKind::ShieldMoved.words()) => Some(Self::ShieldMoved),
            Self::ShieldMoved => None,
            kind => Some(kind),
        }
    }

    /// Its letter on the strips.
    #[must_use]
    pub const fn mark(self) -> &'static str {
        match self {
            Self::Installation => "I",
            Self::Visit => "V",
            Self::Maintenance => "M",
            Self::ProgramChange => "P",
            Self::Irrigation => "W",
            Self::Treatment => "T",
            Self::ShieldMoved => "H",
            Self::OfficialStart => "S",
        }
    }

    /// What somebody tells by hand. The rest comes of logs and of pages of its own.
    pub const BY_HAND: [Self; 5] =
        [Self::Irrigation, Self::Treatment, Self::Visit, Self::Maintenance, Self::ProgramChange];

    /// Whether readings settle anew after it.
    #[must_use]
    pub const fn is_change(self) -> bool {
        matches!(self, Self::ProgramChange | Self::Treatment | Self::ShieldMoved)
    }

    /// Whether somebody was at the station.
    #[must_use]
    pub const fn is_at_work(self) -> bool {
        matches!(self, Self::Visit | Self::Maintenance | Self::Installation | Self::ShieldMoved)
    }
}
