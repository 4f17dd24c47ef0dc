//! The tests run over a station, and what waits for a verdict.

use super::record::StationRecord;
use ebrel_core::quality::{Settings, Test};
use ebrel_store::flags::{ChannelFlags, StoredFlag};
use ebrel_store::{Store, StoreError};
use std::collections::BTreeMap;

/// Runs all tests over a station and puts their flags in the place of the old ones. Verdicts stay.
///
/// # Errors
/// [`StoreError`] if the database refuses.
pub async fn run(store: &Store, station: i64) -> Result<usize, StoreError> {
    let seen = store.changes_to_test(station).await?;
    let record = StationRecord::load(store, station).await?;
    // A second of arithmetic: not on the threads that answer requests.
    let found = tokio::task::spawn_blocking(move || {
        let flags = record.check(&Settings::default());
        let of = |(c, flags): (&super::record::ChannelRecord, Vec<_>)| ChannelFlags {
            stream_id: c.channel.stream.id,
            placement_id: c.channel.placement.id,
            flags,
        };
        record.channels.iter().zip(flags).map(of).collect::<Vec<_>>()
    })
    .await
    .map_err(|e| StoreError::Rule(format!("The tests broke off: {e}")))?;
    store.replace_flags(station, seen, &found).await?;
    Ok(found.iter().map(|c| c.flags.len()).sum())
}

/// Flags that say the same of several channels at once (a silence of the whole node), as one thing to decide on.
pub struct FlagGroup {
    /// Its flags, at least one; the first speaks for all.
    pub flags: Vec<StoredFlag>,
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

/// From this many channels on, the same silence is one matter.
const SHARED: usize = 3;

/// Gathers flags into matters, the most damaging first.
#[must_use]
pub fn matters(flags: Vec<StoredFlag>) -> Vec<FlagGroup> {
    let mut same: BTreeMap<(Test, i64, i64), usize> = BTreeMap::new();
    let key = |f: &StoredFlag| (f.flag.test, f.flag.start.0, f.flag.end.0);
    for flag in &flags {
        *same.entry(key(flag)).or_default() += 1;
    }
    let mut at: BTreeMap<(Test, i64, i64), usize> = BTreeMap::new();
    let mut matters: Vec<FlagGroup> = Vec::new();
    for flag in flags {
        let key = key(&flag);
        let shared = flag.flag.test == Test::Gap && same[&key] >= SHARED;
        match at.get(&key).filter(|_| shared) {
            Some(i) => matters[*i].flags.push(flag),
            None => {
                if shared {
                    at.insert(key, matters.len());
                }
                matters.push(FlagGroup { flags: vec![flag] });
            }
        }
    }
    matters
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::quality::{Evidence, Flag};
    use ebrel_core::units::{Grade, UnixSeconds, Verdict};
    use ebrel_store::verdicts::EffectiveVerdict;

    fn stored(stream_id: i64, test: Test, start: i64, grade: Grade) -> StoredFlag {
        let flag = Flag {
            start: UnixSeconds(start),
            end: UnixSeconds(start + 900),
            test,
            grade,
            readings: 2,
            strength: 1.0,
            evidence: Evidence::default(),
            reason: String::new(),
        };
        StoredFlag { id: stream_id * 100 + start, stream_id, placement_id: 1, flag, damage: 1.0, verdict: None }
    }

    #[test]
    fn one_silence_of_a_node_is_one_matter_and_two_spikes_are_two() {
        let mut flags: Vec<StoredFlag> = (1..=12).map(|s| stored(s, Test::Gap, 0, Grade::Condition)).collect();
        flags.extend((1..=4).map(|s| stored(s, Test::Spike, 0, Grade::Wrong)));
        flags.extend((1..=2).map(|s| stored(s, Test::Gap, 5000, Grade::Condition)));
        let sizes: Vec<usize> = matters(flags).iter().map(|m| m.flags.len()).collect();
        assert_eq!(sizes, [12, 1, 1, 1, 1, 1, 1], "two channels alone are no silence of the node");
    }

    #[test]
    fn conditions_and_decided_matters_do_not_wait() {
        let mut decided = stored(1, Test::Spike, 0, Grade::Wrong);
        let (reason, by) = (String::new(), "T. Quill".to_owned());
        decided.verdict = Some(EffectiveVerdict { id: 1, verdict: Verdict::Kept, reason, by, at: UnixSeconds(0) });
        let flags =
            vec![decided, stored(2, Test::Ponded, 0, Grade::Condition), stored(3, Test::Step, 0, Grade::Doubtful)];
        assert_eq!(matters(flags).iter().map(FlagGroup::waits).collect::<Vec<_>>(), [false, false, true]);
    }
}
