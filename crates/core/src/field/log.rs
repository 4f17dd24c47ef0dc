//! The log that is written while the hole is open: entries made anywhere, merged in any order, never lost.

use super::deed::{Deed, LogKind, StepOutcome};
use crate::units::UnixSeconds;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// One entry of a log.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// Number that the device gave it (UUIDv7), the same wherever it is sent.
    pub id: String,
    /// The log that it belongs to, a number made the same way.
    pub log: String,
    /// Code of the station.
    pub station: String,
    /// When, by the device's clock.
    pub at: UnixSeconds,
    /// Initials of whoever did it.
    pub by: String,
    /// The entry that it corrects, if it does.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub corrects: Option<String>,
    /// What was done or seen.
    pub deed: Deed,
}

/// A log: its entries in order of time, corrections applied.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Log {
    /// What stands: each entry with its last correction's deed, in order of time and number.
    pub stands: Vec<Entry>,
    /// What was corrected: it stays readable.
    pub corrected: Vec<Entry>,
    /// Of each entry the one that it corrects in the end; itself, where it corrects none.
    first: BTreeMap<String, String>,
}

impl Log {
    /// Merges entries that came from anywhere, in any order, any number of times.
    ///
    /// A correction stands before what it corrects, whatever the device's clock said. Of two corrections of one entry the
    /// later one stands; one of an entry that is not there (yet) stands in its place.
    #[must_use]
    pub fn of(entries: &[Entry]) -> Self {
        let by_id: BTreeMap<&str, &Entry> = entries.iter().map(|e| (e.id.as_str(), e)).collect();
        // The first entry of a chain is known by its number even before it arrives.
        let root = |entry: &Entry| {
            let mut at = entry.id.as_str();
            for _ in 0..by_id.len() {
                match by_id.get(at).and_then(|e| e.corrects.as_deref()) {
                    Some(next) => at = next,
                    None => break,
                }
            }
            at.to_owned()
        };
        let replaced: BTreeSet<&str> = by_id.values().filter_map(|e| e.corrects.as_deref()).collect();
        let rank = |e: &Entry| (!replaced.contains(e.id.as_str()), e.at, e.id.clone());
        let mut newest: BTreeMap<String, &Entry> = BTreeMap::new();
        for entry in by_id.values() {
            let slot = newest.entry(root(entry)).or_insert(entry);
            if rank(entry) > rank(slot) {
                *slot = entry;
            }
        }
        let mut stands: Vec<Entry> = newest
            .iter()
            .map(|(root, last)| Entry { at: by_id.get(root.as_str()).map_or(last.at, |e| e.at), ..(*last).clone() })
            .collect();
        let order = |a: &Entry, b: &Entry| (a.at, &a.id).cmp(&(b.at, &b.id));
        stands.sort_by(order);
        let mut corrected: Vec<Entry> =
            by_id.values().filter(|e| !stands.iter().any(|s| s.id == e.id)).map(|e| (*e).clone()).collect();
        corrected.sort_by(order);
        let first = by_id.values().map(|e| (e.id.clone(), root(e))).collect();
        Self { stands, corrected, first }
    }

    /// The entry that this one corrects in the end: what comes of it keeps that number through all corrections.
    #[must_use]
    pub fn first_of<'a>(&'a self, id: &'a str) -> &'a str {
        self.first.get(id).map_or(id, String::as_str)
    }

    /// What it is of, if its beginning is there.
    #[must_use]
    pub fn kind(&self) -> Option<LogKind> {
        self.stands.iter().find_map(|e| if let Deed::Begun { of } = e.deed { Some(of) } else { None })
    }

    /// First and last moment of it.
    #[must_use]
    pub fn span(&self) -> Option<(UnixSeconds, UnixSeconds)> {
        Some((self.stands.first()?.at, self.stands.last()?.at))
    }

    /// Whether it is finished.
    #[must_use]
    pub fn is_closed(&self) -> bool {
        self.stands.iter().any(|e| e.deed == Deed::Closed)
    }

    /// Steps that were left out, in their words, with the reasons.
    pub fn skipped(&self) -> impl Iterator<Item = (&str, &str)> {
        self.stands.iter().filter_map(|e| match &e.deed {
            Deed::Step { step, does, outcome: StepOutcome::Skipped, note } => {
                Some((if does.is_empty() { step.as_str() } else { does.as_str() }, note.as_str()))
            }
            _ => None,
        })
    }

    /// Probes that lie where they were put: of each serial the last deed that was not given up.
    #[must_use]
    pub fn placed(&self) -> Vec<&Entry> {
        let mut last: BTreeMap<String, &Entry> = BTreeMap::new();
        for entry in &self.stands {
            if let Deed::Probe { serial, given_up, .. } = &entry.deed {
                let serial = serial.trim().to_ascii_uppercase();
                if *given_up {
                    last.remove(&serial);
                } else {
                    last.insert(serial, entry);
                }
            }
        }
        let mut placed: Vec<&Entry> = last.into_values().collect();
        placed.sort_by(|a, b| (a.at, &a.id).cmp(&(b.at, &b.id)));
        placed
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use proptest::prelude::*;

    pub fn entry(n: i64, deed: Deed) -> Entry {
        Entry {
            id: format!("0197-entry-{n:04}"),
            log: "0197-log-0001".into(),
            station: "cut".into(),
            at: UnixSeconds(n * 60),
            by: "TQ".into(),
            corrects: None,
            deed,
        }
    }

    pub fn probe(n: i64, serial: &str, depth_cm: f64, port: &str) -> Entry {
        let (orientation, given_up, repacked) = (String::new(), false, false);
        entry(n, Deed::Probe { serial: serial.into(), depth_cm, port: port.into(), orientation, given_up, repacked })
    }

    pub fn note(n: i64) -> Entry {
        entry(n, Deed::Note { text: format!("note {n}") })
    }

    #[test]
    fn a_later_entry_corrects_and_the_first_stays_readable() {
        let wrong = probe(5, "BD-1", 15.0, "m15");
        let right = Entry { corrects: Some(wrong.id.clone()), ..probe(9, "BD-1", 16.5, "m15") };
        let log = Log::of(&[note(7), right.clone(), wrong.clone()]);
        assert_eq!(
            log.stands.iter().map(|e| e.id.as_str()).collect::<Vec<_>>(),
            [right.id.as_str(), "0197-entry-0007"]
        );
        assert_eq!((log.stands[0].at, &log.corrected), (wrong.at, &vec![wrong]), "it keeps its place in time");
        assert!(matches!(log.placed()[0].deed, Deed::Probe { depth_cm: 16.5, .. }));
    }

    #[test]
    fn a_correction_stands_though_the_clock_was_set_back_in_between() {
        let wrong = probe(9, "BD-1", 15.0, "m15");
        let right = Entry { corrects: Some(wrong.id.clone()), ..probe(5, "BD-1", 16.5, "m15") };
        let last = Entry { corrects: Some(right.id.clone()), ..probe(2, "BD-1", 17.0, "m15") };
        let log = Log::of(&[last, wrong.clone(), right]);
        assert!(matches!(log.placed()[0].deed, Deed::Probe { depth_cm: 17.0, .. }), "{:?}", log.stands);
        assert_eq!((log.stands[0].at, log.corrected.len()), (wrong.at, 2));
    }

    #[test]
    fn a_correction_keeps_its_place_before_and_after_what_it_corrects_arrives() {
        let first = probe(3, "BD-1", 15.0, "m15");
        let second = Entry { corrects: Some(first.id.clone()), ..probe(6, "BD-1", 16.0, "m15") };
        let third = Entry { corrects: Some(first.id.clone()), ..probe(7, "BD-1", 16.5, "m15") };
        let early = Log::of(&[second.clone(), third.clone()]);
        assert_eq!((early.stands.len(), early.first_of(&third.id)), (1, first.id.as_str()), "two of one, not two");
        let whole = Log::of(&[second, third.clone(), first.clone()]);
        assert_eq!((whole.stands.len(), whole.first_of(&third.id)), (1, first.id.as_str()));
        assert_eq!((&whole.stands[0].id, whole.stands[0].at), (&third.id, first.at));
    }

    #[test]
    fn entries_that_correct_each_other_in_a_ring_lose_none_and_end() {
        let ring = |n: i64, of: i64| Entry { corrects: Some(format!("0197-entry-{of:04}")), ..note(n) };
        let entries = [ring(1, 2), ring(2, 3), ring(3, 1), ring(4, 4)];
        let log = Log::of(&entries);
        assert_eq!(log.stands.len() + log.corrected.len(), entries.len(), "count in, count out");
    }

    #[test]
    fn one_probe_is_one_however_its_label_was_typed() {
        let (upper, lower) = (probe(1, "BD-1", 15.0, "m15"), probe(2, "bd-1 ", 30.0, "m30"));
        let log = Log::of(&[upper, lower.clone()]);
        assert_eq!(log.placed(), [&lower]);
    }

    #[test]
    fn a_stone_gives_a_place_up() {
        let mut stone = probe(1, "BD-1", 30.0, "m30");
        if let Deed::Probe { given_up, .. } = &mut stone.deed {
            *given_up = true;
        }
        assert!(Log::of(std::slice::from_ref(&stone)).placed().is_empty());
        assert_eq!(Log::of(&[probe(2, "BD-1", 30.0, "m30"), stone]).placed().len(), 1, "the new hole holds it");
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// Any order and any repetition of entries gives the same log.
        #[test]
        fn order_and_repetition_do_not_matter(seed in prop::collection::vec((0usize..12, 0usize..12), 1..40)) {
            let base: Vec<Entry> = (0..12)
                .map(|i| Entry { corrects: (i % 3 == 2).then(|| format!("0197-entry-{:04}", i - 1)), ..note(i) })
                .collect();
            let whole = Log::of(&base);
            let mut mixed = base.clone();
            for (a, b) in seed {
                mixed.swap(a, b);
                let again = mixed[a].clone();
                mixed.push(again);
            }
            prop_assert_eq!(Log::of(&mixed), whole.clone());
            let json = serde_json::to_string(&base).unwrap();
            prop_assert_eq!(Log::of(&serde_json::from_str::<Vec<Entry>>(&json).unwrap()), whole);
        }
    }
}
