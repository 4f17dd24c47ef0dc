//! Calibration runs in work, and the versions that were adopted.

use crate::{Store, StoreError};
use ebrel_core::calibration::Curve;
use ebrel_core::series::{DatedCurve, Meaning};
use ebrel_core::units::UnixSeconds;

/// A moisture calibration in work; `draft` holds the form as it was typed.
#[derive(Debug, Clone, PartialEq)]
pub struct Run {
    /// Row number.
    pub id: i64,
    /// The study.
    pub study_id: i64,
    /// What it is called.
    pub title: String,
    /// The probe, if one is chosen.
    pub probe_id: Option<i64>,
    /// The form as typed, JSON.
    pub draft: String,
}

/// A calibration that was adopted for a probe.
#[derive(Debug, Clone, PartialEq)]
pub struct Adopted {
    /// Row number.
    pub id: i64,
    /// The probe.
    pub probe_id: i64,
    /// 1, 2, ... per probe.
    pub version: i64,
    /// The run it came from.
    pub run_id: Option<i64>,
    /// First moment it holds.
    pub valid_from: UnixSeconds,
    /// The curve with its covariance and range.
    pub curve: Curve,
    /// The answer in one sentence.
    pub statement: String,
    /// The samples as they were typed, JSON.
    pub samples: String,
    /// Who adopted it.
    pub adopted_by: String,
    /// When.
    pub adopted_at: UnixSeconds,
    /// When it was retired, if it was.
    pub retired_at: Option<UnixSeconds>,
}

/// A calibration that is to be adopted.
#[derive(Debug, Clone, PartialEq)]
pub struct Adoption {
    /// The probe.
    pub probe_id: i64,
    /// The run it came from.
    pub run_id: Option<i64>,
    /// First moment it holds.
    pub valid_from: UnixSeconds,
    /// The curve.
    pub curve: Curve,
    /// The answer in one sentence.
    pub statement: String,
    /// The samples as they were typed, JSON.
    pub samples: String,
    /// Who adopts it.
    pub by: String,
    /// When.
    pub at: UnixSeconds,
}

impl Store {
    /// Runs of a study, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn runs(&self, study: i64) -> Result<Vec<Run>, StoreError> {
        let rows = sqlx::query_as!(
            Run,
            "SELECT id, study_id, title, probe_id, draft FROM calibration_run WHERE study_id = ? ORDER BY id DESC",
            study
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One run.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn run(&self, id: i64) -> Result<Run, StoreError> {
        sqlx::query_as!(Run, "SELECT id, study_id, title, probe_id, draft FROM calibration_run WHERE id = ?", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("calibration run"))
    }

    /// Begins a run and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_run(&self, study: i64, title: &str, probe: Option<i64>, draft: &str) -> Result<i64, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO calibration_run (study_id, title, probe_id, draft) VALUES (?, ?, ?, ?)",
            study,
            title,
            probe,
            draft
        );
        Ok(done.execute(&self.pool).await?.last_insert_rowid())
    }

    /// Keeps a run as it is typed so far.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_run(&self, run: &Run) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE calibration_run SET title = ?, probe_id = ?, draft = ? WHERE id = ?",
            run.title,
            run.probe_id,
            run.draft,
            run.id
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Adopts a calibration as the next version of its probe and returns the version. One that began at the same
    /// moment is retired by it; none is deleted.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn adopt(&self, adoption: &Adoption) -> Result<i64, StoreError> {
        let curve = serde_json::to_string(&adoption.curve)?;
        let (from, at) = (adoption.valid_from.0, adoption.at.0);
        let mut tx = self.write().await?;
        sqlx::query!(
            "UPDATE calibration SET retired_at = ? WHERE probe_id = ? AND valid_from = ? AND retired_at IS NULL",
            at,
            adoption.probe_id,
            from
        )
        .execute(&mut *tx)
        .await?;
        let version = sqlx::query_scalar!(
            r#"SELECT coalesce(max(version), 0) + 1 AS "v!: i64" FROM calibration WHERE probe_id = ?"#,
            adoption.probe_id
        )
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query!(
            "INSERT INTO calibration
             (probe_id, version, run_id, valid_from, curve, statement, samples, adopted_by, adopted_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            adoption.probe_id,
            version,
            adoption.run_id,
            from,
            curve,
            adoption.statement,
            adoption.samples,
            adoption.by,
            at
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(version)
    }

    /// Takes a calibration out of use; it stays on record.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn retire(&self, calibration: i64, at: UnixSeconds) -> Result<(), StoreError> {
        sqlx::query!("UPDATE calibration SET retired_at = ? WHERE id = ? AND retired_at IS NULL", at.0, calibration)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// All calibrations of a probe, retired ones too, newest version first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn calibrations(&self, probe: i64) -> Result<Vec<Adopted>, StoreError> {
        let rows = sqlx::query!("SELECT * FROM calibration WHERE probe_id = ? ORDER BY version DESC", probe)
            .fetch_all(&self.pool)
            .await?;
        rows.into_iter()
            .map(|r| {
                Ok(Adopted {
                    id: r.id,
                    probe_id: r.probe_id,
                    version: r.version,
                    run_id: r.run_id,
                    valid_from: UnixSeconds(r.valid_from),
                    curve: serde_json::from_str(&r.curve)?,
                    statement: r.statement,
                    samples: r.samples,
                    adopted_by: r.adopted_by,
                    adopted_at: UnixSeconds(r.adopted_at),
                    retired_at: r.retired_at.map(UnixSeconds),
                })
            })
            .collect()
    }

    /// What the raw readings of a probe mean, by date.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn meaning(&self, probe: i64) -> Result<Meaning, StoreError> {
        let in_force = self.calibrations(probe).await?.into_iter().filter(|c| c.retired_at.is_none());
        let curves = in_force.map(|c| DatedCurve { valid_from: c.valid_from, curve: c.curve }).collect();
        Meaning::new(curves).map_err(|e| StoreError::Rule(e.to_string()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::placements::Probe;
    use ebrel_core::units::Principle;

    #[tokio::test]
    async fn versions_add_up_and_none_is_lost() {
        let (store, _dir) = store().await;
        let probe = Probe {
            id: 0,
            serial: "BD-0417".into(),
            model: String::new(),
            principle: Principle::Dielectric,
            instrument_min: None,
            instrument_max: None,
            resolution: None,
        };
        let probe_id = store.ensure_probe(&probe).await.unwrap();
        let adoption = |from, slope| Adoption {
            probe_id,
            run_id: None,
            valid_from: UnixSeconds(from),
            curve: Curve::from_coefficients(&[0.0, slope], 0.0, 1000.0, None).unwrap(),
            statement: "Straight line".into(),
            samples: "[]".into(),
            by: "N. Arvel".into(),
            at: UnixSeconds(9),
        };
        assert_eq!(store.adopt(&adoption(0, 1.0)).await.unwrap(), 1);
        assert_eq!(store.adopt(&adoption(500, 2.0)).await.unwrap(), 2);
        assert_eq!(store.adopt(&adoption(0, 3.0)).await.unwrap(), 3);
        let view = ebrel_core::series::View { times: &[100, 600], values: &[1.0, 1.0] };
        assert_eq!(store.meaning(probe_id).await.unwrap().resolve(view), [3.0, 2.0]);
        assert_eq!(store.calibrations(probe_id).await.unwrap().len(), 3);
        let second = store.calibrations(probe_id).await.unwrap()[1].id;
        store.retire(second, UnixSeconds(10)).await.unwrap();
        assert_eq!(store.meaning(probe_id).await.unwrap().resolve(view), [3.0, 3.0]);
    }
}
