//! Saved recipes, each with what it was before.

use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;

/// A saved recipe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SavedBody {
    /// The name, which is its own among all recipes.
    pub name: String,
    /// The recipe with its mapping, JSON.
    pub body: String,
    /// What its files look like at their head; empty: not known.
    pub head: String,
    /// When it was kept.
    pub kept_at: UnixSeconds,
    /// Name of the account that kept it.
    pub kept_by: String,
}

/// Earlier bodies that are kept of a recipe.
const KEPT: i64 = 50;

impl Store {
    /// Saves a recipe; one of that name goes to its history.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn save_recipe(&self, new: &SavedBody) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        sqlx::query!(
            "INSERT INTO recipe_before (name, body, kept_at, kept_by)
             SELECT name, body, kept_at, kept_by FROM recipe WHERE name = ? AND body <> ?",
            new.name,
            new.body
        )
        .execute(unit.connection())
        .await?;
        sqlx::query!(
            "DELETE FROM recipe_before WHERE name = ?1 AND id NOT IN (SELECT id FROM recipe_before WHERE name = ?1 ORDER BY id DESC LIMIT ?2)",
            new.name,
            KEPT
        )
        .execute(unit.connection())
        .await?;
        sqlx::query!(
            "INSERT INTO recipe (name, body, head, kept_at, kept_by) VALUES (?1, ?2, ?3, ?4, ?5)
             ON CONFLICT (name) DO UPDATE SET body = ?2, head = CASE WHEN ?3 = '' THEN head ELSE ?3 END, kept_at = ?4, kept_by = ?5",
            new.name,
            new.body,
            new.head,
            new.kept_at.0,
            new.kept_by
        )
        .execute(unit.connection())
        .await?;
        unit.commit().await
    }

    /// Saved recipes, by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn recipes(&self) -> Result<Vec<SavedBody>, StoreError> {
        let rows = sqlx::query!("SELECT name, body, head, kept_at, kept_by FROM recipe ORDER BY name")
            .fetch_all(&self.pool)
            .await?;
        let body = |name, body, head, at, kept_by| SavedBody { name, body, head, kept_at: UnixSeconds(at), kept_by };
        Ok(rows.into_iter().map(|r| body(r.name, r.body, r.head, r.kept_at, r.kept_by)).collect())
    }

    /// The recipe of a name, if there is one.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn recipe(&self, name: &str) -> Result<Option<SavedBody>, StoreError> {
        Ok(self.recipes().await?.into_iter().find(|r| r.name == name))
    }

    /// What a recipe was before, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn recipe_history(&self, name: &str) -> Result<Vec<SavedBody>, StoreError> {
        let rows = sqlx::query!(
            "SELECT name, body, kept_at, kept_by FROM recipe_before WHERE name = ? ORDER BY id DESC",
            name
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows
            .map(|r| SavedBody {
                name: r.name,
                body: r.body,
                head: String::new(),
                kept_at: UnixSeconds(r.kept_at),
                kept_by: r.kept_by,
            })
            .collect())
    }

    /// Takes a recipe off the list; its history stays, and one of its name saved later goes on with it.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn drop_recipe(&self, name: &str) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        sqlx::query!(
            "INSERT INTO recipe_before (name, body, kept_at, kept_by) SELECT name, body, kept_at, kept_by FROM recipe WHERE name = ?",
            name
        )
        .execute(unit.connection())
        .await?;
        sqlx::query!("DELETE FROM recipe WHERE name = ?", name).execute(unit.connection()).await?;
        unit.commit().await
    }
}
