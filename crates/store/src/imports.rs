//! Saved recipes, and the imports that were begun and done.

use crate::{Store, StoreError, Unit};
use ebrel_core::units::UnixSeconds;

/// One import, from the upload to its report.
#[derive(Debug, Clone, PartialEq)]
pub struct Import {
    /// Row number (not used when it is begun).
    pub id: i64,
    /// The station it goes to.
    pub station_id: i64,
    /// The file's name as it was uploaded.
    pub file_name: String,
    /// SHA-256 of the file; its bytes are kept under this name.
    pub sha256: String,
    /// The recipe, JSON.
    pub recipe: String,
    /// Which column goes to which channel, JSON.
    pub mapping: String,
    /// When it was begun.
    pub created_at: UnixSeconds,
    /// Name of the account, or of the command, that did it.
    pub created_by: String,
    /// What became of it, JSON; `None`: not stored yet.
    pub report: Option<String>,
}

impl Store {
    /// Begins an import and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_import(&self, import: &Import) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let id = unit.begin_import(import).await?;
        unit.commit().await?;
        Ok(id)
    }

    /// One import.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn import(&self, id: i64) -> Result<Import, StoreError> {
        let row = sqlx::query!("SELECT * FROM import WHERE id = ?", id).fetch_optional(&self.pool).await?;
        let r = row.ok_or(StoreError::NotFound("import"))?;
        Ok(Import {
            id: r.id,
            station_id: r.station_id,
            file_name: r.file_name,
            sha256: r.sha256,
            recipe: r.recipe,
            mapping: r.mapping,
            created_at: UnixSeconds(r.created_at),
            created_by: r.created_by,
            report: r.report,
        })
    }

    /// Keeps recipe, mapping and report of an import as they are now; a report once given stands.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_import(&self, import: &Import) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.keep_import(import).await?;
        unit.commit().await
    }

    /// Numbers of the imports of a station, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn imports(&self, station: i64) -> Result<Vec<Import>, StoreError> {
        let ids = sqlx::query_scalar!("SELECT id FROM import WHERE station_id = ? ORDER BY id DESC LIMIT 20", station)
            .fetch_all(&self.pool)
            .await?;
        let mut imports = Vec::with_capacity(ids.len());
        for id in ids {
            imports.push(self.import(id).await?);
        }
        Ok(imports)
    }

    /// Saves a recipe with its mapping under a name; one of that name is replaced.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn save_recipe(&self, name: &str, body: &str) -> Result<(), StoreError> {
        sqlx::query!(
            "INSERT INTO recipe (name, body) VALUES (?1, ?2) ON CONFLICT (name) DO UPDATE SET body = ?2",
            name,
            body
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Saved recipes: name and body, by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn recipes(&self) -> Result<Vec<(String, String)>, StoreError> {
        let rows = sqlx::query!("SELECT name, body FROM recipe ORDER BY name").fetch_all(&self.pool).await?;
        Ok(rows.into_iter().map(|r| (r.name, r.body)).collect())
    }
}

impl Unit {
    /// As [`Store::begin_import`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_import(&mut self, import: &Import) -> Result<i64, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO import (station_id, file_name, sha256, recipe, mapping, created_at, created_by)
             VALUES (?, ?, ?, ?, ?, ?, ?)",
            import.station_id,
            import.file_name,
            import.sha256,
            import.recipe,
            import.mapping,
            import.created_at.0,
            import.created_by
        );
        Ok(done.execute(self.connection()).await?.last_insert_rowid())
    }

    /// As [`Store::keep_import`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_import(&mut self, import: &Import) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE import SET recipe = ?, mapping = ?, report = coalesce(report, ?) WHERE id = ?",
            import.recipe,
            import.mapping,
            import.report,
            import.id
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }
}
