//! Studies: the whole, with its question.

use crate::{Store, StoreError, Unit};
use ebrel_core::roles::Role;

/// A study: the whole, with its question.
#[derive(Debug, Clone, PartialEq)]
pub struct Study {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// The name that people use; several may share it.
    pub name: String,
    /// The question it answers.
    pub question: String,
    /// Fixed offset of the times shown, minutes east of UTC.
    pub utc_offset_minutes: i64,
    /// The moment that counts as now, if it is fixed (the demo).
    pub fixed_now: Option<i64>,
}

impl Store {
    /// All studies, oldest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn studies(&self) -> Result<Vec<Study>, StoreError> {
        let rows =
            sqlx::query_as!(Study, "SELECT id, name, question, utc_offset_minutes, fixed_now FROM study ORDER BY id");
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Fixes the moment that counts as now in a study, or lets the machine's clock count.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn fix_now(&self, study: i64, now: Option<i64>) -> Result<(), StoreError> {
        sqlx::query!("UPDATE study SET fixed_now = ?2 WHERE id = ?1", study, now).execute(&self.pool).await?;
        Ok(())
    }

    /// One study.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn study(&self, id: i64) -> Result<Study, StoreError> {
        sqlx::query_as!(Study, "SELECT id, name, question, utc_offset_minutes, fixed_now FROM study WHERE id = ?", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("study"))
    }

    /// Begins a study (the `id` given is not used) and returns its number. `owner` is the account that owns it; without one
    /// (the demo, and a study begun before anybody signs in) the first account will.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_study(&self, study: &Study, owner: Option<i64>) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let id = unit.add_study(study, owner).await?;
        unit.commit().await?;
        Ok(id)
    }
}

impl Unit {
    /// As [`Store::add_study`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_study(&mut self, study: &Study, owner: Option<i64>) -> Result<i64, StoreError> {
        let tx = self.connection();
        let done = sqlx::query!(
            "INSERT INTO study (name, question, utc_offset_minutes, fixed_now) VALUES (?, ?, ?, ?)",
            study.name,
            study.question,
            study.utc_offset_minutes,
            study.fixed_now
        );
        let id = done.execute(&mut *tx).await?.last_insert_rowid();
        if let Some(owner) = owner {
            let role = Role::Owner.code();
            sqlx::query!("INSERT INTO member (study_id, account_id, role) VALUES (?, ?, ?)", id, owner, role)
                .execute(&mut *tx)
                .await?;
        }
        Ok(id)
    }
}

impl Store {
    /// Parts of the demo that are made.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn demo_parts(&self) -> Result<Vec<String>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT part FROM demo_part ORDER BY part").fetch_all(&self.pool).await?)
    }

    /// Notes that a part of the demo is made.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn demo_part_made(&self, part: &str) -> Result<(), StoreError> {
        sqlx::query!("INSERT INTO demo_part VALUES (?) ON CONFLICT DO NOTHING", part).execute(&self.pool).await?;
        Ok(())
    }
}
