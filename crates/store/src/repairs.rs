//! Mends of causes: what was put right, by whom, why, and how it is taken back.

use crate::placements::NewPlacement;
use crate::unit::meaning_changed;
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
        Ok(done.execute(self.connection()).await?.last_insert_rowid())
    }

    /// Marks a mend as taken back.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if it was taken back already.
    pub async fn note_repair_undone(&mut self, id: i64, by: &str, at: UnixSeconds) -> Result<(), StoreError> {
        let done = sqlx::query!(
            "UPDATE repair SET undone_by = ?, undone_at = ? WHERE id = ? AND undone_at IS NULL",
            by,
            at.0,
            id
        );
        if done.execute(self.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        Ok(())
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
