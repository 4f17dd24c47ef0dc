//! Calibration runs in work, kept as they are typed.

use crate::drafts::{DraftKind, advance};
use crate::{Store, StoreError};

/// A moisture calibration in work; `draft` holds the form as it was typed.
#[derive(Debug, Clone, PartialEq)]
pub struct Run {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// Number of the study that it belongs to.
    pub study_id: i64,
    /// What it is called.
    pub title: String,
    /// The probe, if one is chosen.
    pub probe_id: Option<i64>,
    /// The form as typed, JSON.
    pub draft: String,
    /// A practice run's steps at the stand-ins, JSON; `None`: a real run.
    pub practice: Option<String>,
}

impl Store {
    /// Runs of a study, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn runs(&self, study: i64) -> Result<Vec<Run>, StoreError> {
        let rows = sqlx::query_as!(
            Run,
            "SELECT id, study_id, title, probe_id, draft, practice FROM calibration_run WHERE study_id = ? ORDER BY id DESC",
            study
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One run.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn run(&self, id: i64) -> Result<Run, StoreError> {
        sqlx::query_as!(
            Run,
            "SELECT id, study_id, title, probe_id, draft, practice FROM calibration_run WHERE id = ?",
            id
        )
        .fetch_optional(&self.pool)
        .await?
        .ok_or(StoreError::NotFound("calibration run"))
    }

    /// Begins a run (its `id` is not used) and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_run(&self, run: &Run) -> Result<i64, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO calibration_run (study_id, title, probe_id, draft, practice) VALUES (?, ?, ?, ?, ?)",
            run.study_id,
            run.title,
            run.probe_id,
            run.draft,
            run.practice
        );
        Ok(done.execute(&self.pool).await?.last_insert_rowid())
    }

    /// Keeps a run as it is typed so far, and returns its revision. `expected` is the revision that was changed.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if somebody saved meanwhile; [`StoreError`] if the database refuses.
    pub async fn keep_run(&self, expected: i64, run: &Run) -> Result<i64, StoreError> {
        let before = self.run(run.id).await?.draft;
        let mut tx = self.write().await?;
        let revision = advance(&mut tx, DraftKind::Run, run.id, expected, (&before, &run.draft)).await?;
        sqlx::query!(
            "UPDATE calibration_run SET title = ?, probe_id = ?, draft = ?, practice = ? WHERE id = ?",
            run.title,
            run.probe_id,
            run.draft,
            run.practice,
            run.id
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(revision)
    }
}
