//! The tests run over a station, and what waits for a verdict.

use super::record::StationRecord;
use ebrel_store::flags::{Found, StoredCause, StoredFlag};
use ebrel_store::{Store, StoreError};
use std::collections::HashMap;

/// Runs all tests over a station and puts their flags in the place of the old ones. Verdicts stay.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn run(store: &Store, station: i64) -> Result<usize, StoreError> {
    let seen = store.changes_to_test(station).await?;
    let record = StationRecord::load(store, station).await?;
    let neighbours = record.neighbours(store).await?;
    let settings = store.settings(record.study.id, station).await?;
    let mut judged = store.take_judged(station);
    // A second of arithmetic: not on the threads that answer requests.
    let (found, judged) = tokio::task::spawn_blocking(move || {
        let channels = record.channels.iter().map(|c| (c.channel.stream.id, c.channel.placement.id)).collect();
        let findings = record.check_again(&neighbours, &settings, &mut judged);
        (Found { channels, findings }, judged)
    })
    .await
    .map_err(|e| StoreError::Rule(format!("The tests broke off: {e}")))?;
    store.keep_judged(station, judged);
    store.replace_flags(station, seen, &found).await?;
    Ok(found.findings.flags.iter().map(Vec::len).sum())
}

/// Runs the tests of every station whose record changed since they ran: also of one that borrows another's gauge.
///
/// # Errors
/// [`StoreError`] if the database refuses; the stations that are left stay due.
pub async fn run_due(store: &Store) -> Result<(), StoreError> {
    for station in store.stations_to_test().await? {
        run(store, station).await?;
    }
    Ok(())
}

/// Flags that are one thing to decide on: those that one cause explains, or one that stands alone.
pub struct FlagGroup {
    /// Its flags, at least one; the first speaks for all.
    pub flags: Vec<StoredFlag>,
    /// What explains them, if there are several.
    pub cause: Option<StoredCause>,
}

impl FlagGroup {
    /// The flag that speaks for all.
    #[must_use]
    pub fn lead(&self) -> &StoredFlag {
        &self.flags[0]
    }

    /// Whether it waits for a verdict.
    #[must_use]
    pub fn waits(&self) -> bool {
        self.flags.iter().any(StoredFlag::waits)
    }
}

/// What there is to decide on at a station, the most damaging first.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn matters(store: &Store, station: i64) -> Result<Vec<FlagGroup>, StoreError> {
    Ok(grouped(store.flags(station).await?, store.causes(station).await?))
}

fn grouped(flags: Vec<StoredFlag>, causes: Vec<StoredCause>) -> Vec<FlagGroup> {
    let mut causes: HashMap<i64, StoredCause> = causes.into_iter().map(|c| (c.id, c)).collect();
    let mut at: HashMap<i64, usize> = HashMap::new();
    let mut groups: Vec<FlagGroup> = Vec::new();
    for flag in flags {
        let known = flag.cause.and_then(|id| at.get(&id).copied());
        if let Some(i) = known {
            groups[i].flags.push(flag);
            continue;
        }
        let cause = flag.cause.and_then(|id| causes.remove(&id));
        if let Some(cause) = &cause {
            at.insert(cause.id, groups.len());
        }
        groups.push(FlagGroup { flags: vec![flag], cause });
    }
    groups
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::quality::{CauseKind, Evidence, Flag, GapEvidence, Test};
    use ebrel_core::units::{Grade, UnixSeconds, Verdict};
    use ebrel_store::verdicts::EffectiveVerdict;

    fn stored(stream_id: i64, test: Test, start: i64, grade: Grade) -> StoredFlag {
        let evidence = GapEvidence { interval_s: 900.0.into(), missing: 2.0.into() };
        let flag = Flag {
            start: UnixSeconds(start),
            end: UnixSeconds(start + 900),
            test,
            grade,
            readings: 2,
            strength: 1.0,
            evidence: Evidence::Gap(evidence),
            reason: String::new(),
        };
        let id = stream_id * 100 + start;
        StoredFlag { id, stream_id, placement_id: 1, flag, damage: 1.0, verdict: None, cause: None }
    }

    #[test]
    fn what_one_cause_explains_is_one_thing_to_decide_and_two_spikes_are_two() {
        let (start, end) = (UnixSeconds(0), UnixSeconds(900));
        let silent = |id| StoredCause {
            id,
            kind: CauseKind::SilentNode,
            node: "node 01".into(),
            start,
            end,
            reason: String::new(),
            against: String::new(),
            mend: None,
        };
        let gap = |stream, cause| StoredFlag { cause, ..stored(stream, Test::Gap, 0, Grade::Condition) };
        let mut flags: Vec<StoredFlag> = (1..=12).map(|s| gap(s, Some(7))).collect();
        flags.extend((1..=4).map(|s| stored(s, Test::Spike, 0, Grade::Wrong)));
        flags.extend((1..=2).map(|s| gap(s, None)));
        let groups = grouped(flags, vec![silent(7), silent(8)]);
        let sizes: Vec<usize> = groups.iter().map(|m| m.flags.len()).collect();
        assert_eq!(sizes, [12, 1, 1, 1, 1, 1, 1]);
        assert_eq!(groups.iter().filter_map(|m| m.cause.as_ref()).map(|c| c.id).collect::<Vec<_>>(), [7]);
    }

    #[test]
    fn conditions_and_decided_matters_do_not_wait() {
        let mut decided = stored(1, Test::Spike, 0, Grade::Wrong);
        let (reason, by) = (String::new(), "T. Quill".to_owned());
        decided.verdict = Some(EffectiveVerdict { id: 1, verdict: Verdict::Kept, reason, by, at: UnixSeconds(0) });
        let flags =
            vec![decided, stored(2, Test::Ponded, 0, Grade::Condition), stored(3, Test::Step, 0, Grade::Doubtful)];
        assert_eq!(grouped(flags, Vec::new()).iter().map(FlagGroup::waits).collect::<Vec<_>>(), [false, false, true]);
    }
}
