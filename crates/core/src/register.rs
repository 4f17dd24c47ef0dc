//! What stands between a probe and its use: tests passed, calibrations, repairs.

use crate::units::{Principle, coded};
use serde::{Deserialize, Serialize};

/// Characters of the longest serial.
const LONGEST_SERIAL: usize = 60;

/// Whether a text can be a probe's serial: 1 to 60 characters, none of them a control character, so that it stands on one
/// line of a label.
///
/// # Errors
/// A sentence that says what to do.
pub fn check_serial(text: &str) -> Result<&str, String> {
    let text = text.trim();
    match text.chars().count() {
        0 => Err("give the serial".into()),
        n if n > LONGEST_SERIAL => Err(format!("a serial has at most {LONGEST_SERIAL} characters; this has {n}")),
        _ if text.chars().any(char::is_control) => {
            Err("a serial stands on one line: take out line breaks and tabs".into())
        }
        _ => Ok(text),
    }
}

coded!(
    /// Something that happens to a probe.
    EventKind {
        /// It passed its acceptance.
        Accepted = "accepted",
        /// It passed, but is to be watched.
        Watched = "watched",
        /// It failed.
        Rejected = "rejected",
        /// It was checked against a thermometer.
        Checked = "checked",
        /// It was repaired: its tests count no more.
        Repaired = "repaired",
        /// It is out of use.
        Retired = "retired",
        /// It came back from the field: it wants a look before it goes out again.
        Returned = "returned",
        /// It was not found where it lay.
        Lost = "lost",
        /// Something to know.
        Note = "note",
    }
);

impl EventKind {
    /// In words.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Accepted => "accepted",
            Self::Watched => "accepted, to be watched",
            Self::Rejected => "rejected",
            Self::Checked => "checked against a thermometer",
            Self::Repaired => "repaired",
            Self::Retired => "out of use",
            Self::Returned => "back from the field",
            Self::Lost => "lost",
            Self::Note => "note",
        }
    }
}

/// What is wanted of a probe after its season in the ground.
pub const BACK: &str = "back from the field: compare it with before its season";

/// What is said of a probe that was not found.
pub const LOST: &str = "lost: its last place stands in its life";

/// How far a probe can be trusted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fitness {
    /// Whether it may be used as it is.
    pub usable: bool,
    /// What is missing, or why not; the first says what to do next.
    pub blockers: Vec<&'static str>,
}

/// Judges a probe by its events (oldest first) and whether a calibration holds for it.
///
/// A repair or a rejection wipes out what was passed before it; a season in the ground asks for a look before the next.
#[must_use]
pub fn fitness(principle: Principle, events: &[EventKind], calibrated: bool) -> Fitness {
    let (mut accepted, mut checked, mut out, mut rejected) = (false, false, false, false);
    let (mut back, mut lost) = (false, false);
    for event in events {
        match event {
            EventKind::Accepted | EventKind::Watched => {
                (accepted, rejected) = (true, false);
                (back, lost) = (false, false);
            }
            EventKind::Rejected => (accepted, rejected) = (false, true),
            EventKind::Checked => (checked, back, lost) = (true, back && principle != Principle::Thermometer, false),
            EventKind::Repaired => (accepted, checked, rejected) = (false, false, false),
            EventKind::Retired => out = true,
            EventKind::Returned => (back, lost) = (true, false),
            EventKind::Lost => lost = true,
            EventKind::Note => {}
        }
    }
    let mut blockers = Vec::new();
    if out {
        return Fitness { usable: false, blockers: vec!["out of use"] };
    }
    if lost {
        return Fitness { usable: false, blockers: vec![LOST] };
    }
    if rejected {
        blockers.push("rejected: repair it, or take it out of use");
    } else if back {
        blockers.push(BACK);
    } else if !accepted && principle != Principle::Node {
        blockers.push("not accepted yet: read it in air and in water");
    }
    match principle {
        Principle::Dielectric if !calibrated => {
            blockers.push("no calibration: its output is a relative index, never water content")
        }
        Principle::Thermometer if !checked => blockers.push("not checked against a reference thermometer"),
        Principle::Dielectric
        | Principle::Thermometer
        | Principle::GranularMatrix
        | Principle::Gypsum
        | Principle::RainGauge
        | Principle::Node => {}
    }
    Fitness { usable: blockers.is_empty(), blockers }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn serials_are_one_line() {
        for good in ["BD-0417", " BD/04#17 ", "θ 5 (station 1)", "100%"] {
            assert_eq!(check_serial(good), Ok(good.trim()));
        }
        for bad in ["", " ", "a\nb", "a\tb", &"x".repeat(61)] {
            assert!(check_serial(bad).is_err(), "{bad:?}");
        }
    }

    #[test]
    fn what_is_missing_is_said_in_the_order_of_the_work() {
        let none = fitness(Principle::Dielectric, &[], false);
        assert!(
            !none.usable
                && none.blockers[0].starts_with("not accepted")
                && none.blockers[1].starts_with("no calibration")
        );
        assert!(fitness(Principle::Dielectric, &[EventKind::Watched], true).usable);
        assert!(fitness(Principle::Thermometer, &[EventKind::Accepted, EventKind::Checked], false).usable);
    }

    #[test]
    fn a_repair_begins_anew_and_a_rejection_stands_until_then() {
        use EventKind::{Accepted, Rejected, Repaired, Retired};
        assert!(!fitness(Principle::RainGauge, &[Accepted, Rejected], true).usable);
        assert_eq!(fitness(Principle::RainGauge, &[Accepted, Rejected, Repaired], true).blockers.len(), 1);
        assert!(fitness(Principle::RainGauge, &[Rejected, Repaired, Accepted], true).usable);
        assert_eq!(fitness(Principle::RainGauge, &[Accepted, Retired], true).blockers, ["out of use"]);
    }

    #[test]
    fn what_came_back_wants_a_look_and_what_was_lost_is_not_for_use_until_found() {
        use EventKind::{Accepted, Checked, Lost, Rejected, Returned};
        let of = |principle, events: &[EventKind]| fitness(principle, events, true).blockers;
        assert_eq!(of(Principle::Dielectric, &[Accepted, Returned]), [BACK]);
        assert!(of(Principle::Dielectric, &[Accepted, Returned, Accepted]).is_empty());
        assert_eq!(
            of(Principle::Dielectric, &[Accepted, Returned, Checked]),
            [BACK],
            "a thermometer check says little of its water"
        );
        assert!(of(Principle::Thermometer, &[Accepted, Checked, Returned, Checked]).is_empty());
        assert_eq!(of(Principle::Gypsum, &[Accepted, Lost]).len(), 1);
        assert_eq!(of(Principle::Gypsum, &[Accepted, Lost, Returned]), [BACK], "found again");
        assert!(of(Principle::Gypsum, &[Accepted, Returned, Rejected])[0].starts_with("rejected"));
    }
}
