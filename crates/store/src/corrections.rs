//! Corrections of thermometers: kept beside the readings, never in them, and taken back rather than deleted.

use crate::unit::meaning_changed;
use crate::{Store, StoreError, Unit};
use ebrel_core::temperature::{Correction, DatedCorrection};
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;

/// A correction as it was made.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredCorrection {
    /// Row number; not used when it is made.
    pub id: i64,
    /// Number of the probe concerned.
    pub probe_id: i64,
    /// The correction with its dates.
    pub dated: DatedCorrection,
    /// What the pairs say.
    pub evidence: String,
    /// Why it was made.
    pub reason: String,
    /// The sheet with the pairs.
    pub sheet_id: Option<i64>,
    /// Who made it.
    pub made_by: String,
    /// Moment of it, seconds of UTC.
    pub made_at: UnixSeconds,
    /// Who took it back, and when, if somebody did.
    pub withdrawn: Option<(String, UnixSeconds)>,
}

impl Store {
    /// Makes a correction.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if another one holds for some of the same time; [`StoreError`] if the database refuses.
    pub async fn correct(&self, correction: &StoredCorrection) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.correct(correction).await?;
        unit.commit().await
    }

    /// Takes a correction back and returns its probe; it stays on record.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number; [`StoreError`] if the database refuses.
    pub async fn withdraw_correction(&self, id: i64, by: &str, at: UnixSeconds) -> Result<i64, StoreError> {
        let probe = sqlx::query_scalar!("SELECT probe_id FROM correction WHERE id = ?", id);
        let probe = probe.fetch_optional(&self.pool).await?.ok_or(StoreError::NotFound("correction"))?;
        let mut tx = self.write().await?;
        sqlx::query!(
            "UPDATE correction SET withdrawn_by = ?, withdrawn_at = ? WHERE id = ? AND withdrawn_at IS NULL",
            by,
            at.0,
            id
        )
        .execute(&mut *tx)
        .await?;
        meaning_changed(&mut tx, Some(probe), "").await?;
        tx.commit().await?;
        Ok(probe)
    }

    /// All corrections of a probe, those taken back too, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn corrections(&self, probe: i64) -> Result<Vec<StoredCorrection>, StoreError> {
        let rows = sqlx::query!("SELECT * FROM correction WHERE probe_id = ? ORDER BY id DESC", probe);
        let rows = rows.fetch_all(&self.pool).await?.into_iter().map(|r| StoredCorrection {
            id: r.id,
            probe_id: r.probe_id,
            dated: DatedCorrection {
                from: UnixSeconds(r.valid_from),
                until: r.valid_until.map(UnixSeconds),
                correction: Correction { offset: r.offset_k, slope: r.slope },
            },
            evidence: r.evidence,
            reason: r.reason,
            sheet_id: r.sheet_id,
            made_by: r.made_by,
            made_at: UnixSeconds(r.made_at),
            withdrawn: r.withdrawn_by.zip(r.withdrawn_at.map(UnixSeconds)),
        });
        Ok(rows.collect())
    }

    /// The corrections that stand for the probes that lie or lay at a station, newest first, by probe.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn corrections_of(&self, stations: &[i64]) -> Result<HashMap<i64, Vec<DatedCorrection>>, StoreError> {
        let stations = serde_json::to_string(stations)?;
        let rows = sqlx::query!(
            "SELECT probe_id, valid_from, valid_until, offset_k, slope FROM correction
             WHERE withdrawn_at IS NULL AND probe_id IN
               (SELECT p.probe_id FROM placement p JOIN node n ON n.id = p.node_id
                WHERE n.station_id IN (SELECT value FROM json_each(?)))
             ORDER BY id DESC",
            stations
        );
        let mut standing: HashMap<i64, Vec<DatedCorrection>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            standing.entry(r.probe_id).or_default().push(DatedCorrection {
                from: UnixSeconds(r.valid_from),
                until: r.valid_until.map(UnixSeconds),
                correction: Correction { offset: r.offset_k, slope: r.slope },
            });
        }
        Ok(standing)
    }
}

impl Unit {
    /// As [`Store::correct`].
    ///
    /// # Errors
    /// [`StoreError::Rule`] if another one holds for some of the same time; [`StoreError`] if the database refuses.
    pub async fn correct(&mut self, correction: &StoredCorrection) -> Result<(), StoreError> {
        let DatedCorrection { from, until, correction: Correction { offset, slope } } = correction.dated;
        let until = until.map(|t| t.0);
        let tx = self.connection();
        let standing = sqlx::query_scalar!(
            r#"SELECT count(*) AS "n!: i64" FROM correction WHERE probe_id = ?1 AND withdrawn_at IS NULL
               AND (valid_until IS NULL OR valid_until > ?2) AND (?3 IS NULL OR valid_from < ?3)"#,
            correction.probe_id,
            from.0,
            until
        )
        .fetch_one(&mut *tx)
        .await?;
        if standing > 0 {
            return Err(StoreError::Rule(
                "another correction of this thermometer holds in that time: take it back first, or give other dates"
                    .into(),
            ));
        }
        sqlx::query!(
            "INSERT INTO correction
             (probe_id, offset_k, slope, evidence, reason, sheet_id, valid_from, valid_until, made_by, made_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            correction.probe_id,
            offset,
            slope,
            correction.evidence,
            correction.reason,
            correction.sheet_id,
            from.0,
            until,
            correction.made_by,
            correction.made_at.0
        )
        .execute(&mut *tx)
        .await?;
        meaning_changed(tx, Some(correction.probe_id), "").await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::probes::testing::probe;

    #[tokio::test]
    async fn a_correction_stands_alone_in_its_time_and_can_be_taken_back() {
        let (store, _dir) = store().await;
        let probe_id = store.ensure_probe(&probe("DT-0212")).await.unwrap();
        let made = |from: i64, until: Option<i64>| StoredCorrection {
            id: 0,
            probe_id,
            dated: DatedCorrection {
                from: UnixSeconds(from),
                until: until.map(UnixSeconds),
                correction: Correction { offset: -0.6, slope: 0.0 },
            },
            evidence: "constant bias of +0.60 K".into(),
            reason: "five pairs from ice to 35 °C".into(),
            sheet_id: None,
            made_by: "N. Arvel".into(),
            made_at: UnixSeconds(5),
            withdrawn: None,
        };
        store.correct(&made(100, Some(200))).await.unwrap();
        store.correct(&made(200, None)).await.unwrap();
        let clash = store.correct(&made(150, Some(160))).await.unwrap_err();
        assert!(clash.to_string().contains("take it back first"));
        let all = store.corrections(probe_id).await.unwrap();
        assert_eq!(
            (all.len(), all[0].dated, all[1].evidence.as_str()),
            (2, made(200, None).dated, "constant bias of +0.60 K")
        );
        assert_eq!(store.withdraw_correction(all[1].id, "T. Quill", UnixSeconds(7)).await.unwrap(), probe_id);
        store.correct(&made(150, Some(160))).await.unwrap();
        let all = store.corrections(probe_id).await.unwrap();
        assert_eq!(all[2].withdrawn, Some(("T. Quill".to_owned(), UnixSeconds(7))), "it stays on record");
    }
}
