//! What persons decided of flags. A verdict beats the test, survives a new run, and can be undone; who, when and
//! why are kept, also of undone ones.

use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{Evidence, Flag, SeenEvidence, Test};
use ebrel_core::units::{Grade, UnixSeconds, Verdict};

/// A decision that was taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Decision {
    /// Row number (not used when it is to be kept).
    pub id: i64,
    /// The stream concerned.
    pub stream_id: i64,
    /// The test whose flag it answers.
    pub test: Test,
    /// Time of the first reading concerned.
    pub start: UnixSeconds,
    /// Last reading, inclusive.
    pub end: UnixSeconds,
    /// Leave out or keep.
    pub verdict: Verdict,
    /// Why, if a reason was given.
    pub reason: String,
    /// Name of the account that did it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
    /// What makes it a finding of its own, where no test had one.
    pub mark: Option<Mark>,
}

/// What a person saw and no test did.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Mark {
    /// How much it counts.
    pub grade: Grade,
    /// Readings that the span held when it was drawn.
    pub readings: usize,
}

impl Decision {
    /// The finding that a mark makes.
    #[must_use]
    pub fn own_flag(&self) -> Option<Flag> {
        let Mark { grade, readings } = self.mark?;
        let evidence = Evidence::Seen(SeenEvidence { readings: readings.into(), seen: self.test });
        let reason = format!("Seen by {}: {}", self.by, self.reason);
        let (start, end, test) = (self.start, self.end, self.test);
        Some(Flag { start, end, test, grade, readings, strength: 0.0, evidence, reason })
    }
}

/// A decision with what became of it.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptDecision {
    /// The decision.
    pub decision: Decision,
    /// Who took it back, as far as that was kept, and when.
    pub undone: Option<(String, UnixSeconds)>,
}

/// The verdict that stands on a flag.
#[derive(Debug, Clone, PartialEq)]
pub struct EffectiveVerdict {
    /// Number of the decision.
    pub id: i64,
    /// Leave out or keep.
    pub verdict: Verdict,
    /// The reason that was given; may be empty.
    pub reason: String,
    /// Name of the account that did it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

/// The newest decision on this stream and test that covers most of the flag.
#[must_use]
pub fn standing(decisions: &[Decision], stream: i64, flag: &Flag) -> Option<EffectiveVerdict> {
    decisions
        .iter()
        .filter(|d| d.stream_id == stream && d.test == flag.test)
        .filter(|d| same_thing((d.start, d.end), (flag.start, flag.end)))
        .max_by_key(|d| d.id)
        .map(|d| EffectiveVerdict {
            id: d.id,
            verdict: d.verdict,
            reason: d.reason.clone(),
            by: d.by.clone(),
            at: d.at,
        })
}

/// Whether two spans speak of the same thing: half of either lies in the other. A new run with other
/// thresholds may draw the borders a little differently.
pub(crate) fn same_thing(a: (UnixSeconds, UnixSeconds), b: (UnixSeconds, UnixSeconds)) -> bool {
    let shared = a.1.0.min(b.1.0) - a.0.0.max(b.0.0) + 1;
    let longer = (a.1.0 - a.0.0).max(b.1.0 - b.0.0) + 1;
    shared * 2 >= longer
}

impl Store {
    /// Keeps decisions, all or none, and returns their numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn decide(&self, decisions: &[Decision]) -> Result<Vec<i64>, StoreError> {
        let mut unit = self.unit().await?;
        let ids = unit.decide(decisions).await?;
        unit.commit().await?;
        Ok(ids)
    }

    /// Takes decisions back; they stay on record as undone.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn undo_decisions(&self, ids: &[i64], by: &str, at: UnixSeconds) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        for id in ids {
            sqlx::query!(
                "UPDATE verdict SET undone_at = ?, undone_by = ? WHERE id = ? AND undone_at IS NULL",
                at.0,
                by,
                id
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(())
    }

    /// Every decision at a station, also those that were taken back, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn all_decisions(&self, station: i64) -> Result<Vec<KeptDecision>, StoreError> {
        let rows = sqlx::query!(
            "SELECT v.id, v.stream_id, v.test, v.starts, v.ends, v.decision, v.reason, v.decided_by, v.decided_at,
                    v.undone_by, v.undone_at, v.mark, v.mark_readings
             FROM verdict v JOIN stream s ON s.id = v.stream_id JOIN node n ON n.id = s.node_id
             WHERE n.station_id = ? ORDER BY v.id DESC",
            station
        );
        let kept = rows.fetch_all(&self.pool).await?.into_iter().filter_map(|r| {
            let (test, verdict) = Test::from_code(&r.test).zip(Verdict::from_code(&r.decision))?;
            let readings = usize::try_from(r.mark_readings).unwrap_or(0);
            let decision = Decision {
                id: r.id,
                stream_id: r.stream_id,
                test,
                start: UnixSeconds(r.starts),
                end: UnixSeconds(r.ends),
                verdict,
                reason: r.reason,
                by: r.decided_by,
                at: UnixSeconds(r.decided_at),
                mark: r.mark.and_then(|g| Grade::from_code(&g)).map(|grade| Mark { grade, readings }),
            };
            Some(KeptDecision { decision, undone: r.undone_at.map(|at| (r.undone_by, UnixSeconds(at))) })
        });
        Ok(kept.collect())
    }

    /// Decisions in force at a station.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn verdicts(&self, station: i64) -> Result<Vec<Decision>, StoreError> {
        let kept = self.all_decisions(station).await?.into_iter().rev();
        Ok(kept.filter(|k| k.undone.is_none()).map(|k| k.decision).collect())
    }
}

impl Unit {
    /// As [`Store::decide`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn decide(&mut self, decisions: &[Decision]) -> Result<Vec<i64>, StoreError> {
        let tx = self.connection();
        let mut ids = Vec::with_capacity(decisions.len());
        for d in decisions {
            let (test, verdict, starts, ends, at) = (d.test.code(), d.verdict.code(), d.start.0, d.end.0, d.at.0);
            let mark = d.mark.map(|m| m.grade.code());
            let readings = d.mark.map_or(0, |m| m.readings as i64);
            let done = sqlx::query!(
                "INSERT INTO verdict (stream_id, test, starts, ends, decision, reason, decided_by, decided_at, mark, mark_readings)
                 VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
                d.stream_id,
                test,
                starts,
                ends,
                verdict,
                d.reason,
                d.by,
                at,
                mark,
                readings
            )
            .execute(&mut *tx)
            .await?;
            ids.push(done.last_insert_rowid());
        }
        Ok(ids)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::flags::Found;
    use crate::placements::NewPlacement;
    use ebrel_core::quality::{Evidence, Findings, SpikeEvidence};
    use ebrel_core::units::Grade;

    fn spike(start: i64, end: i64) -> Flag {
        Flag {
            start: UnixSeconds(start),
            end: UnixSeconds(end),
            test: Test::Spike,
            grade: Grade::Wrong,
            readings: 2,
            strength: 50.0,
            evidence: Evidence::Spike(SpikeEvidence {
                departures: 1.0.into(),
                height: 0.16.into(),
                noise: 0.001.into(),
                readings: 2.0.into(),
            }),
            reason: "+0.16 in 15 min".into(),
        }
    }

    async fn rig(store: &Store) -> (i64, i64) {
        let stream_id = crate::stations::testing::stream(store).await;
        let node_id = store.streams(1).await.unwrap()[0].node_id;
        let probe_id = store.ensure_probe(&crate::probes::testing::probe("BD-0417")).await.unwrap();
        let text = String::new;
        let new = NewPlacement {
            node_id,
            port: "m05".into(),
            probe_id,
            depth_cm: None,
            orientation: text(),
            starts: UnixSeconds(0),
            ends: None,
            note: text(),
        };
        (stream_id, store.place(&new).await.unwrap())
    }

    #[tokio::test]
    async fn a_verdict_survives_a_new_run_and_can_be_undone() {
        let (store, _dir) = store().await;
        let (stream_id, placement_id) = rig(&store).await;
        let run = |flags| Found {
            channels: vec![(stream_id, placement_id)],
            findings: Findings { flags: vec![flags], causes: Vec::new() },
        };
        store.replace_flags(1, 0, &run(vec![spike(1800, 2700), spike(90_000, 90_900)])).await.unwrap();
        let decision = Decision {
            id: 0,
            stream_id,
            test: Test::Spike,
            start: UnixSeconds(1800),
            end: UnixSeconds(2700),
            verdict: Verdict::LeftOut,
            reason: "mouse".into(),
            by: "T. Quill".into(),
            at: UnixSeconds(5),
            mark: None,
        };
        let ids = store.decide(&[decision]).await.unwrap();

        store.replace_flags(1, 0, &run(vec![spike(1800, 3600), spike(90_000, 90_900)])).await.unwrap();
        let flags = store.flags(1).await.unwrap();
        assert_eq!(flags.iter().filter(|f| f.waits()).count(), 1, "a border that moved a little keeps its verdict");
        assert_eq!(store.waiting(1).await.unwrap()[&1], 1, "the badge counts as the page does");
        let worst = store.worst_waiting(1, 3).await.unwrap().remove(&1).unwrap();
        assert_eq!(worst.iter().map(|w| w.start.0).collect::<Vec<_>>(), [90_000]);
        let standing = flags.iter().find_map(|f| f.verdict.clone()).unwrap();
        assert_eq!((standing.verdict, standing.reason.as_str()), (Verdict::LeftOut, "mouse"));

        store.undo_decisions(&ids, "T. Quill", UnixSeconds(6)).await.unwrap();
        assert!(store.flags(1).await.unwrap().iter().all(|f| f.waits()));
        assert_eq!(store.waiting(1).await.unwrap()[&1], 2);
    }

    #[tokio::test]
    async fn what_a_person_saw_is_a_finding_until_a_test_finds_it_too() {
        let (store, _dir) = store().await;
        let (stream_id, placement_id) = rig(&store).await;
        let run = |flags| Found {
            channels: vec![(stream_id, placement_id)],
            findings: Findings { flags: vec![flags], causes: Vec::new() },
        };
        let decision = Decision {
            id: 0,
            stream_id,
            test: Test::Spike,
            start: UnixSeconds(9000),
            end: UnixSeconds(10_800),
            verdict: Verdict::LeftOut,
            reason: "roots, “θ”".into(),
            by: "T. Quill".into(),
            at: UnixSeconds(5),
            mark: Some(Mark { grade: Grade::Wrong, readings: 3 }),
        };
        let ids = store.decide(std::slice::from_ref(&decision)).await.unwrap();
        let seen = store.flags(1).await.unwrap();
        assert_eq!(seen.len(), 1);
        let own = &seen[0];
        assert!(own.is_own() && !own.waits() && own.leaves_out(&ebrel_core::series::Belief { leave_out: Vec::new() }));
        assert_eq!((own.id, own.placement_id, own.flag.readings), (-ids[0], placement_id, 3));
        assert_eq!(own.flag.reason, "Seen by T. Quill: roots, “θ”");
        assert!(store.waiting(1).await.unwrap().is_empty(), "it is decided by nature");
        assert_eq!(store.verdicts(1).await.unwrap()[0].mark, decision.mark);

        store.replace_flags(1, 0, &run(vec![spike(9000, 10_800), spike(90_000, 90_900)])).await.unwrap();
        let both = store.flags(1).await.unwrap();
        assert_eq!(both.iter().filter(|f| f.is_own()).count(), 0, "the test's own finding is answered by it");
        assert_eq!((both.len(), both.iter().filter(|f| f.waits()).count()), (2, 1));

        store.undo_decisions(&ids, "T. Quill", UnixSeconds(6)).await.unwrap();
        store.replace_flags(1, 0, &run(Vec::new())).await.unwrap();
        assert!(store.flags(1).await.unwrap().is_empty());
    }
}
