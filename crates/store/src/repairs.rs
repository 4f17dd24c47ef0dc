//! Mends of causes: what was put right, by whom, why, and how it is taken back.

use crate::placements::NewPlacement;
use crate::unit::{meaning_changed, station_changed};
use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{CauseKind, Mend};
use ebrel_core::units::{DepthCm, UnixSeconds};
use serde::{Deserialize, Serialize};

/// One placement that a mend concerns.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Changed {
    /// Number of the placement.
    pub id: i64,
    /// What it said before; `None`: it was made by the mend.
    pub was: Option<NewPlacement>,
    /// What it says since.
    pub new: NewPlacement,
}

/// A mend that is to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct NewRepair {
    /// The station.
    pub station: i64,
    /// What the cause was.
    pub kind: CauseKind,
    /// What was mended.
    pub mend: Mend,
    /// What the cause had said.
    pub cause: String,
    /// Why it was believed.
    pub why: String,
    /// Every placement that it changed.
    pub changed: Vec<Changed>,
    /// Name of the account that did it.
    pub by: String,
    /// Moment of it.
    pub at: UnixSeconds,
}

/// A mend as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredRepair {
    /// Row number.
    pub id: i64,
    /// What was kept of it.
    pub repair: NewRepair,
    /// Who took it back, and when.
    pub undone: Option<(String, UnixSeconds)>,
}

impl Store {
    /// Mends of a station, the newest first, also those that were taken back.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn repairs(&self, station: i64) -> Result<Vec<StoredRepair>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, kind, mend, cause, why, changed, made_by, made_at, undone_by, undone_at FROM repair
             WHERE station_id = ? ORDER BY id DESC",
            station
        );
        let mut repairs = Vec::new();
        for r in rows.fetch_all(&self.pool).await? {
            let Some(kind) = CauseKind::from_code(&r.kind) else { continue };
            let repair = NewRepair {
                station,
                kind,
                mend: serde_json::from_str(&r.mend)?,
                cause: r.cause,
                why: r.why,
                changed: serde_json::from_str(&r.changed)?,
                by: r.made_by,
                at: UnixSeconds(r.made_at),
            };
            repairs.push(StoredRepair {
                id: r.id,
                repair,
                undone: r.undone_at.map(|at| (r.undone_by, UnixSeconds(at))),
            });
        }
        Ok(repairs)
    }
}

impl Store {
    /// What was mended at a station and not taken back, the oldest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn standing_mends(&self, station: i64) -> Result<Vec<Mend>, StoreError> {
        let rows = sqlx::query_scalar!(
            "SELECT mend FROM repair WHERE station_id = ? AND undone_at IS NULL ORDER BY id",
            station
        );
        rows.fetch_all(&self.pool).await?.iter().map(|mend| Ok(serde_json::from_str(mend)?)).collect()
    }
}

impl Unit {
    /// Keeps a mend whose placements were changed in this unit.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_repair(&mut self, new: &NewRepair) -> Result<i64, StoreError> {
        let (kind, at) = (new.kind.code(), new.at.0);
        let (mend, changed) = (serde_json::to_string(&new.mend)?, serde_json::to_string(&new.changed)?);
        let done = sqlx::query!(
            "INSERT INTO repair (station_id, kind, mend, cause, why, changed, made_by, made_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            new.station,
            kind,
            mend,
            new.cause,
            new.why,
            changed,
            new.by,
            at
        );
        let id = done.execute(self.connection()).await?.last_insert_rowid();
        station_changed(self.connection(), new.station).await?;
        Ok(id)
    }

    /// Marks a mend as taken back.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if it was taken back already.
    pub async fn note_repair_undone(&mut self, id: i64, by: &str, at: UnixSeconds) -> Result<(), StoreError> {
        let done = sqlx::query!(
            "UPDATE repair SET undone_by = ?, undone_at = ? WHERE id = ? AND undone_at IS NULL RETURNING station_id",
            by,
            at.0,
            id
        );
        let row = done.fetch_optional(self.connection()).await?.ok_or(StoreError::Stale)?;
        station_changed(self.connection(), row.station_id).await
    }

    /// Takes away a placement that a mend made and that still says the same.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if it says something else by now.
    pub async fn withdraw_placement(&mut self, id: i64, says: &NewPlacement) -> Result<(), StoreError> {
        let (depth, ends) = (says.depth_cm.map(DepthCm::get), says.ends.map(|t| t.0));
        let tx = self.connection();
        sqlx::query!("DELETE FROM flag WHERE placement_id = ?", id).execute(&mut *tx).await?;
        sqlx::query!("DELETE FROM placement_hand WHERE placement_id = ?", id).execute(&mut *tx).await?;
        let done = sqlx::query!(
            "DELETE FROM placement WHERE id = ? AND port = ? AND probe_id = ? AND depth_cm IS ? AND starts = ? AND ends IS ?",
            id,
            says.port,
            says.probe_id,
            depth,
            says.starts.0,
            ends
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        meaning_changed(tx, Some(says.probe_id), "").await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::probes::Probe;
    use crate::stations::testing::stream;
    use ebrel_core::units::Principle;

    const AT: UnixSeconds = UnixSeconds(5000);

    /// A station with one placement, which it returns.
    async fn placed(store: &Store) -> (i64, NewPlacement) {
        stream(store).await;
        let node_id = store.streams(1).await.unwrap()[0].node_id;
        let probe = Probe {
            id: 0,
            serial: "BD-0417".into(),
            model: "blade dielectric".into(),
            principle: Principle::Dielectric,
            instrument_min: None,
            instrument_max: None,
            resolution: None,
        };
        let placement = NewPlacement {
            node_id,
            port: "m05".into(),
            probe_id: store.ensure_probe(&probe).await.unwrap(),
            depth_cm: DepthCm::new(5.0).ok(),
            orientation: "“flat”".into(),
            starts: UnixSeconds(0),
            ends: None,
            note: "θ".into(),
        };
        (store.place(&placement).await.unwrap(), placement)
    }

    fn repair(id: i64, was: &NewPlacement) -> NewRepair {
        let new = NewPlacement { depth_cm: DepthCm::new(15.0).ok(), ..was.clone() };
        NewRepair {
            station: 1,
            kind: CauseKind::WrongDepth,
            mend: Mend::Depth { node: "node 01".into(), port: "m05".into(), at: AT, depth_cm: 15.0 },
            cause: "its wave is that of 15 cm".into(),
            why: "“labels”, θ".into(),
            changed: vec![Changed { id, was: Some(was.clone()), new }],
            by: "N. Arvel".into(),
            at: AT,
        }
    }

    #[tokio::test]
    async fn a_mend_comes_back_as_it_was_kept_and_is_taken_back_once() {
        let (store, _dir) = store().await;
        let (id, placement) = placed(&store).await;
        let new = repair(id, &placement);
        let mut unit = store.unit().await.unwrap();
        let number = unit.keep_repair(&new).await.unwrap();
        unit.commit().await.unwrap();
        let kept = store.repairs(1).await.unwrap();
        assert_eq!(kept, [StoredRepair { id: number, repair: new, undone: None }]);
        assert!(store.repairs(99).await.unwrap().is_empty());

        let mut unit = store.unit().await.unwrap();
        unit.note_repair_undone(number, "T. Quill", UnixSeconds(6000)).await.unwrap();
        let again = unit.note_repair_undone(number, "T. Quill", UnixSeconds(7000)).await;
        assert!(matches!(again, Err(StoreError::Stale)), "{again:?}");
        unit.commit().await.unwrap();
        let undone = store.repairs(1).await.unwrap().remove(0).undone;
        assert_eq!(undone, Some(("T. Quill".into(), UnixSeconds(6000))));
    }

    #[tokio::test]
    async fn a_placement_is_withdrawn_only_while_it_says_what_was_made() {
        let (store, _dir) = store().await;
        let (id, placement) = placed(&store).await;
        let other = NewPlacement { depth_cm: DepthCm::new(7.0).ok(), ..placement.clone() };
        let mut unit = store.unit().await.unwrap();
        let refused = unit.withdraw_placement(id, &other).await;
        assert!(matches!(refused, Err(StoreError::Stale)), "{refused:?}");
        drop(unit);
        assert_eq!(store.placements(1).await.unwrap().len(), 1, "nothing of it stands");
        let mut unit = store.unit().await.unwrap();
        unit.withdraw_placement(id, &placement).await.unwrap();
        unit.commit().await.unwrap();
        assert!(store.placements(1).await.unwrap().is_empty());
        assert_eq!(store.stations_to_test().await.unwrap(), [1], "its record means something else now");
    }

    #[tokio::test]
    async fn a_mend_and_its_end_are_changes_that_the_tests_have_not_seen() {
        let (store, _dir) = store().await;
        let (_, was) = placed(&store).await;
        let due = async || store.changes_to_test(1).await.unwrap();
        let check =
            |s: i64| ebrel_core::field::ClockCheck { shown: UnixSeconds(s + 40), truth: UnixSeconds(s), set: false };
        let mend = Mend::Clock { node: "node θ".into(), checks: vec![check(100), check(900)] };
        let new = NewRepair { mend: mend.clone(), kind: CauseKind::ClockWrong, changed: Vec::new(), ..repair(1, &was) };
        let before = due().await;
        let mut unit = store.unit().await.unwrap();
        let id = unit.keep_repair(&new).await.unwrap();
        unit.commit().await.unwrap();
        let kept = due().await;
        assert!(kept > before, "a clock that is mended moves every time of its node");
        assert_eq!(store.repairs(1).await.unwrap()[0].repair.mend, mend, "its checks come back as they were");
        let mut unit = store.unit().await.unwrap();
        unit.note_repair_undone(id, "NA", AT).await.unwrap();
        unit.commit().await.unwrap();
        let undone = due().await;
        assert!(undone > kept);
        let mut unit = store.unit().await.unwrap();
        assert!(matches!(unit.note_repair_undone(id, "NA", AT).await, Err(StoreError::Stale)));
        drop(unit);
        assert_eq!(due().await, undone, "a second time changes nothing");
    }
}
