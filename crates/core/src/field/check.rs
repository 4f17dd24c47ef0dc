//! Whether an entry is kept, before it is: slips are refused with what to do.

use super::clock::Clock;
use super::deed::{Deed, StepOutcome};
use super::log::{Entry, Log};
use super::site::check_place;
use crate::register::check_serial;
use crate::units::{Range, UnixSeconds, ranges};
use thiserror::Error;

/// What must be known to check an entry.
#[derive(Debug, Clone)]
pub struct Around {
    /// Serials of the study's register.
    pub serials: Vec<String>,
    /// Deepest bottom of the holes as planned or measured, cm.
    pub deepest_cm: Option<f64>,
    /// Ports that other probes have at that time, with their serials.
    pub ports: Vec<(String, String)>,
    /// The present by the office's clock.
    pub now: UnixSeconds,
}

/// Why an entry is not taken; it stays on the device with this sentence.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{0}")]
pub struct Refusal(pub String);

/// A device's clock may be ahead of the office's by this, seconds.
const AHEAD_S: i64 = 600;
/// Longest text of an entry, characters.
const LONGEST: usize = 2000;
/// Probes lie at most so much below the bottom of their hole, cm: a prong's length.
const BELOW_HOLE_CM: f64 = 25.0;

/// Checks an entry against what is known, before it is kept.
///
/// # Errors
/// [`Refusal`] with what to do.
pub fn check_entry(entry: &Entry, before: &Log, around: &Around) -> Result<(), Refusal> {
    let refuse = |sentence: String| Err(Refusal(sentence));
    let id =
        |text: &str| (8..=64).contains(&text.len()) && text.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-');
    if !id(&entry.id) || !id(&entry.log) {
        return refuse("This entry has no number of its own: the file it came from is damaged.".into());
    }
    if entry.corrects.as_deref() == Some(entry.id.as_str()) {
        return refuse("This entry corrects itself: the file it came from is damaged.".into());
    }
    if entry.by.trim().is_empty() || entry.by.chars().count() > 40 {
        return refuse("Give your initials first: every entry says who made it.".into());
    }
    if entry.at.0 > around.now.0 + AHEAD_S {
        return refuse(
            "This entry is from the future: the phone's clock is ahead. Set it right; the entry can be sent again."
                .into(),
        );
    }
    if entry.deed.texts().iter().any(|t| t.chars().count() > LONGEST) {
        return refuse(format!("A text of an entry has at most {LONGEST} characters: shorten it."));
    }
    let range = |value: f64, range: Range| range.check(value).map(|_| ()).map_err(|e| Refusal(e.to_string()));
    match &entry.deed {
        Deed::Begun { .. } | Deed::Note { .. } | Deed::Closed => Ok(()),
        Deed::Step { outcome, note, .. } => {
            if *outcome == StepOutcome::Skipped && note.trim().is_empty() {
                return refuse("Say why the step is left out: it shows in the room until it is done.".into());
            }
            Ok(())
        }
        Deed::Horizon { name, top_cm, bottom_cm, .. } => {
            range(*top_cm, ranges::DEPTH_CM)?;
            range(*bottom_cm, ranges::DEPTH_CM)?;
            if bottom_cm <= top_cm {
                return refuse(format!("Horizon {name} must end below where it begins."));
            }
            Ok(())
        }
        Deed::Hole { depth_cm, .. } => range(*depth_cm, ranges::DEPTH_CM),
        Deed::Core { tin, volume_cm3, depth_cm } => {
            if tin.trim().is_empty() {
                return refuse("Give the tin's number: it is weighed by it.".into());
            }
            range(*depth_cm, ranges::DEPTH_CM)?;
            range(*volume_cm3, ranges::CORE_VOLUME_CM3)
        }
        Deed::Probe { serial, depth_cm, port, given_up, .. } => {
            known(serial, around)?;
            range(*depth_cm, ranges::DEPTH_CM)?;
            if *given_up {
                return Ok(());
            }
            if let Some(bottom) = around.deepest_cm.filter(|b| *depth_cm > b + BELOW_HOLE_CM) {
                return refuse(format!("{depth_cm} cm is below the bottom of the hole ({bottom} cm): measure again."));
            }
            let own = before.first_of(entry.corrects.as_ref().unwrap_or(&entry.id));
            let twice = before.placed().into_iter().find(|e| {
                before.first_of(&e.id) != own
                    && matches!(&e.deed, Deed::Probe { serial: s, port: p, .. }
                        if p.eq_ignore_ascii_case(port) && !s.eq_ignore_ascii_case(serial))
            });
            if let Some(Deed::Probe { serial: other, .. }) = twice.map(|e| &e.deed) {
                return refuse(format!("Port {port} is {other}'s in this log: which of the two is it?"));
            }
            let taken =
                around.ports.iter().find(|(p, s)| p.eq_ignore_ascii_case(port) && !s.eq_ignore_ascii_case(serial));
            if let Some((_, other)) = taken {
                return refuse(format!("Port {port} is taken by {other}: end its placement, or take another port."));
            }
            Ok(())
        }
        Deed::Reading { serial, repeats, .. } => {
            known(serial, around)?;
            if repeats.is_empty() || !repeats.iter().all(|r| r.is_finite()) {
                return refuse("A reading needs a number.".into());
            }
            Ok(())
        }
        Deed::Layer { kg, .. } => range(*kg, KILOGRAMS),
        Deed::Channel { value, .. } => {
            if value.is_finite() {
                Ok(())
            } else {
                refuse("A channel needs a number.".into())
            }
        }
        Deed::Clock { check, .. } => {
            Clock::new(UnixSeconds(i64::MIN / 4), &[*check]).map(|_| ()).map_err(|e| Refusal(e.to_string()))
        }
        Deed::Spot { value, not_reached, point } => match value {
            Some(v) if v.is_finite() => Ok(()),
            Some(_) => refuse(format!("{point} needs a number.")),
            None if not_reached.trim().is_empty() => refuse(format!("Say why {point} was not reached.")),
            None => Ok(()),
        },
        Deed::Removed { serial, .. } => known(serial, around),
        Deed::Repair { note, .. } => {
            if note.trim().is_empty() {
                return refuse("Say what was changed: the record means something else from then on.".into());
            }
            Ok(())
        }
        Deed::Photo { sha256, place, .. } => {
            let hash = sha256.len() == 64 && sha256.bytes().all(|b| b.is_ascii_hexdigit());
            if !hash {
                return refuse("The photograph's number is damaged: take it again.".into());
            }
            let known = place.map_or(Ok(()), |[latitude, longitude]| check_place(latitude, longitude).map(|_| ()));
            known.map_err(|e| Refusal(format!("The photograph's place: {e}.")))
        }
    }
}

const KILOGRAMS: Range = Range { name: "soil put back", unit: "kg", min: 0.0, max: 5000.0 };

fn known(serial: &str, around: &Around) -> Result<(), Refusal> {
    check_serial(serial).map_err(|e| Refusal(format!("The label: {e}.")))?;
    if around.serials.iter().any(|s| s.eq_ignore_ascii_case(serial.trim())) {
        return Ok(());
    }
    Err(Refusal(format!("No probe of the register has the serial {serial}: a label of another study, or a slip?")))
}

#[cfg(test)]
mod tests {
    use super::super::clock::ClockCheck;
    use super::super::log::tests::{entry, note, probe};
    use super::*;

    fn around() -> Around {
        Around {
            serials: vec!["BD-1".into(), "BD-2".into()],
            deepest_cm: Some(60.0),
            ports: vec![("m60".into(), "BD-9".into())],
            now: UnixSeconds(1_000_000),
        }
    }

    #[test]
    fn slips_are_refused_at_their_place_with_what_to_do() {
        let before = Log::of(&[probe(1, "BD-1", 15.0, "m15")]);
        let refused = |e: Entry| check_entry(&e, &before, &around()).unwrap_err().0;
        assert!(refused(probe(2, "XX-7", 15.0, "m5")).contains("another study"));
        assert!(refused(probe(2, "BD-2", 15.0, "M15")).contains("BD-1's in this log"));
        assert!(refused(probe(2, "BD-2", 15.0, "m60")).contains("taken by BD-9"));
        assert!(refused(probe(2, "BD-2", 90.0, "m5")).contains("below the bottom of the hole"));
        assert!(refused(Entry { by: " ".into(), ..note(2) }).contains("initials"));
        assert!(refused(Entry { at: UnixSeconds(2_000_000), ..note(2) }).contains("future"));
        assert!(refused(Entry { id: "x y".into(), ..note(2) }).contains("damaged"));
        assert!(refused(entry(2, Deed::Note { text: "x".repeat(5000) })).contains("2000 characters"));
        let skipped =
            Deed::Step { step: "lid".into(), does: String::new(), outcome: StepOutcome::Skipped, note: String::new() };
        assert!(refused(entry(2, skipped)).contains("why the step is left out"));
        let year = ClockCheck { shown: UnixSeconds(31_536_000), truth: UnixSeconds(600), set: false };
        assert!(refused(entry(2, Deed::Clock { node: "node 01".into(), check: year })).contains("date and hour"));
        let negative = Deed::Reading { serial: "BD-1".into(), repeats: vec![-3.0], said: String::new() };
        assert_eq!(check_entry(&entry(2, negative), &before, &around()), Ok(()), "a negative reading is a finding");
        assert_eq!(check_entry(&probe(3, "BD-1", 16.0, "m15"), &before, &around()), Ok(()), "the same probe again");
    }
}
