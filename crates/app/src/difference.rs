//! What would change at a station if its tests ran another way: before settings hold, and before a mend is made.

use super::record::{ChannelRecord, StationRecord, left_out};
use ebrel_core::quality::{Findings, Flag, Settings};
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, UnixSeconds};
use ebrel_store::flags::StoredFlag;
use ebrel_store::verdicts::{Decision, standing};
use ebrel_store::{Store, StoreError};
use std::collections::BTreeSet;

/// A flag in a list of what goes or comes.
#[derive(Debug, Clone, PartialEq)]
pub struct Told {
    /// The stream concerned.
    pub stream: i64,
    /// What the channel is called.
    pub place: String,
    /// The flag.
    pub flag: Flag,
}

/// How much of a channel stays out, before and after.
#[derive(Debug, Clone, PartialEq)]
pub struct LeftOutHours {
    /// What the channel is called.
    pub place: String,
    /// Hours that stay out now.
    pub before: f64,
    /// Hours that would.
    pub after: f64,
}

/// What would change.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Difference {
    /// Flags that would be gone.
    pub gone: Vec<Told>,
    /// Flags that would come.
    pub come: Vec<Told>,
    /// Verdicts that would stand on no flag any more.
    pub verdicts: Vec<Decision>,
    /// Channels of which another part would stay out.
    pub hours: Vec<LeftOutHours>,
    /// How many flags stay as they are.
    pub same: usize,
}

impl Difference {
    /// Whether nothing would change.
    #[must_use]
    pub fn is_none(&self) -> bool {
        self.gone.is_empty() && self.come.is_empty() && self.hours.is_empty()
    }
}

/// What other settings would change at a station; nothing is kept.
///
/// # Errors
/// [`StoreError`] if the database cannot be read.
pub async fn of_settings(store: &Store, station: i64, settings: Settings) -> Result<Difference, StoreError> {
    let record = StationRecord::load(store, station).await?;
    let neighbours = record.neighbours(store).await?;
    let (flags, decisions) = (store.flags(station).await?, store.verdicts(station).await?);
    let tried = move || {
        let findings = record.check(&neighbours, &settings);
        difference(&record, &flags, &record, &findings, &decisions)
    };
    tokio::task::spawn_blocking(tried).await.map_err(|e| StoreError::Rule(format!("The trial broke off: {e}")))
}

/// What makes a flag the same in two runs: its channel, test, grade and span.
type Key = (i64, ebrel_core::quality::Test, Grade, UnixSeconds, UnixSeconds);

fn key(stream: i64, flag: &Flag) -> Key {
    (stream, flag.test, flag.grade, flag.start, flag.end)
}

/// Compares the flags that stand at a station with those of a run over `record`; `record` may mean its readings another way.
/// What persons saw stays as it is.
#[must_use]
pub fn difference(
    now: &StationRecord,
    all_flags: &[StoredFlag],
    record: &StationRecord,
    findings: &Findings,
    decisions: &[Decision],
) -> Difference {
    let (own, standing_flags): (Vec<&StoredFlag>, Vec<&StoredFlag>) = all_flags.iter().partition(|f| f.is_own());
    let place = |of: &StationRecord, stream: i64, at: UnixSeconds| {
        let here =
            |c: &&ChannelRecord| c.channel.stream.id == stream && c.channel.placement.ends.is_none_or(|e| e > at);
        of.channels.iter().find(here).map_or_else(String::new, |c| c.channel.label())
    };
    let new: Vec<(i64, &Flag)> = (record.channels.iter().zip(&findings.flags))
        .flat_map(|(c, flags)| flags.iter().map(|f| (c.channel.stream.id, f)))
        .collect();
    let old_keys: BTreeSet<Key> = standing_flags.iter().map(|f| key(f.stream_id, &f.flag)).collect();
    let new_keys: BTreeSet<Key> = new.iter().map(|(s, f)| key(*s, f)).collect();
    let gone = standing_flags.iter().filter(|f| !new_keys.contains(&key(f.stream_id, &f.flag)));
    let come = new.iter().filter(|(s, f)| !old_keys.contains(&key(*s, f)));
    let told = |of: &StationRecord, stream: i64, flag: &Flag| Told {
        stream,
        place: place(of, stream, flag.start),
        flag: flag.clone(),
    };
    let stands = |d: &&Decision| {
        d.mark.is_some() || new.iter().any(|(s, f)| standing(decisions, *s, f).is_some_and(|v| v.id == d.id))
    };
    let stood = |d: &&Decision| standing_flags.iter().any(|f| f.verdict.as_ref().is_some_and(|v| v.id == d.id));
    let belief = Belief::default();
    let as_stored: Vec<StoredFlag> = new
        .iter()
        .map(|(stream_id, flag)| StoredFlag {
            id: 0,
            stream_id: *stream_id,
            placement_id: 0,
            flag: (*flag).clone(),
            damage: 0.0,
            verdict: standing(decisions, *stream_id, flag),
            cause: None,
        })
        .chain(own.into_iter().cloned())
        .collect();
    Difference {
        gone: gone.map(|f| told(now, f.stream_id, &f.flag)).collect(),
        come: come.map(|(s, f)| told(record, *s, f)).collect(),
        verdicts: decisions.iter().filter(|d| stood(d) && !stands(d)).cloned().collect(),
        hours: hours(now, all_flags, &as_stored, &belief),
        same: old_keys.intersection(&new_keys).count(),
    }
}

fn hours(record: &StationRecord, old: &[StoredFlag], new: &[StoredFlag], belief: &Belief) -> Vec<LeftOutHours> {
    let of = |c: &ChannelRecord| {
        let view = c.view();
        let each = view.usual_interval().unwrap_or(0) as f64 / 3600.0;
        let out = |flags: &[StoredFlag]| left_out(c.channel.stream.id, flags, belief).count(view.times) as f64 * each;
        LeftOutHours { place: c.channel.label(), before: out(old), after: out(new) }
    };
    record.channels.iter().map(of).filter(|h| (h.before - h.after).abs() > 1e-6).collect()
}
