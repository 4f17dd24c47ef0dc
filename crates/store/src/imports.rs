//! Imports: begun, stored in pieces, set aside and read anew.

use crate::batches::{Delivery, Source};
use crate::packing::month_of;
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
    /// SHA-256 of the archive or workbook that it came in; empty where it came alone.
    pub archive: String,
    /// The recipe, JSON.
    pub recipe: String,
    /// Which column goes to which channel, JSON.
    pub mapping: String,
    /// What the guess said of itself, JSON; empty once a person changed the recipe.
    pub remarks: String,
    /// When it was begun.
    pub created_at: UnixSeconds,
    /// Name of the account, or of the command, that did it.
    pub created_by: String,
    /// How far storing has come, JSON; `None`: not begun, or done.
    pub progress: Option<String>,
    /// What became of it, JSON; `None`: not stored yet.
    pub report: Option<String>,
    /// That it was set aside.
    pub withdrawn: Option<Withdrawn>,
    /// The import that this one reads anew.
    pub instead_of: Option<i64>,
    /// Another import that brought some of its readings was set aside, and its file was not read again yet.
    pub due_again: bool,
}

impl Import {
    /// An import of which nothing is known but where it goes, and who begins it when.
    #[must_use]
    pub fn begun(station_id: i64, file_name: &str, created_at: UnixSeconds, created_by: &str) -> Self {
        Self {
            id: 0,
            station_id,
            file_name: file_name.to_owned(),
            sha256: String::new(),
            archive: String::new(),
            recipe: String::new(),
            mapping: String::new(),
            remarks: String::new(),
            due_again: false,
            created_at,
            created_by: created_by.to_owned(),
            progress: None,
            report: None,
            withdrawn: None,
            instead_of: None,
        }
    }
}

/// That an import was set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Withdrawn {
    /// When it was set aside.
    pub at: UnixSeconds,
    /// Name of the account that did it.
    pub by: String,
    /// The reason, as it was typed.
    pub why: String,
}

struct Row {
    id: i64,
    station_id: i64,
    file_name: String,
    sha256: String,
    archive: String,
    recipe: String,
    mapping: String,
    remarks: String,
    due_again: i64,
    created_at: i64,
    created_by: String,
    progress: Option<String>,
    report: Option<String>,
    withdrawn_at: Option<i64>,
    withdrawn_by: String,
    withdrawn_why: String,
    instead_of: Option<i64>,
}

impl From<Row> for Import {
    fn from(r: Row) -> Self {
        let (by, why) = (r.withdrawn_by, r.withdrawn_why);
        Self {
            id: r.id,
            station_id: r.station_id,
            file_name: r.file_name,
            sha256: r.sha256,
            archive: r.archive,
            recipe: r.recipe,
            mapping: r.mapping,
            remarks: r.remarks,
            due_again: r.due_again != 0,
            created_at: UnixSeconds(r.created_at),
            created_by: r.created_by,
            progress: r.progress,
            report: r.report,
            withdrawn: r.withdrawn_at.map(|at| Withdrawn { at: UnixSeconds(at), by, why }),
            instead_of: r.instead_of,
        }
    }
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

    /// The import with this number.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn import(&self, id: i64) -> Result<Import, StoreError> {
        let row = sqlx::query_as!(Row, "SELECT * FROM import WHERE id = ?", id).fetch_optional(&self.pool).await?;
        row.map(Import::from).ok_or(StoreError::NotFound("import"))
    }

    /// Keeps recipe, mapping, progress and report of an import as they are now; a report once given stands.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_import(&self, import: &Import) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.keep_import(import).await?;
        unit.commit().await
    }

    /// The imports of a station, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn imports(&self, station: i64) -> Result<Vec<Import>, StoreError> {
        let rows =
            sqlx::query_as!(Row, "SELECT * FROM import WHERE station_id = ? ORDER BY id DESC LIMIT 200", station);
        Ok(rows.fetch_all(&self.pool).await?.into_iter().map(Import::from).collect())
    }

    /// Imports that a kill cut off: storing was begun and has not ended, or the file is due to be read again.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn imports_cut_off(&self) -> Result<Vec<Import>, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            "SELECT * FROM import WHERE (progress IS NOT NULL AND report IS NULL) OR due_again = 1 ORDER BY id"
        );
        Ok(rows.fetch_all(&self.pool).await?.into_iter().map(Import::from).collect())
    }

    /// What an import brought of each stream.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn brought(&self, import: i64) -> Result<Vec<(i64, Delivery)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT s.stream_id, b.id, b.received_at, s.first, s.last, s.readings
             FROM batch b JOIN batch_stream s ON s.batch_id = b.id WHERE b.import_id = ? ORDER BY b.id, s.stream_id",
            import
        );
        let delivery = |number, at: i64, first: i64, last: i64, readings: i64| Delivery {
            number,
            received_at: UnixSeconds(at),
            source: Source::File,
            import: Some(import),
            first: UnixSeconds(first),
            last: UnixSeconds(last),
            readings: readings as usize,
        };
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|r| (r.stream_id, delivery(r.id, r.received_at, r.first, r.last, r.readings))).collect())
    }
}

impl Unit {
    /// As [`Store::begin_import`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_import(&mut self, import: &Import) -> Result<i64, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO import (station_id, file_name, sha256, archive, recipe, mapping, remarks, created_at, created_by, progress, instead_of)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            import.station_id,
            import.file_name,
            import.sha256,
            import.archive,
            import.recipe,
            import.mapping,
            import.remarks,
            import.created_at.0,
            import.created_by,
            import.progress,
            import.instead_of
        );
        Ok(done.execute(self.connection()).await?.last_insert_rowid())
    }

    /// As [`Store::keep_import`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_import(&mut self, import: &Import) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE import SET recipe = ?, mapping = ?, remarks = ?, progress = ?, report = ? WHERE id = ? AND report IS NULL",
            import.recipe,
            import.mapping,
            import.remarks,
            import.progress,
            import.report,
            import.id
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }

    /// Sets an import aside: its readings, and the other values that it brought of known ones, are no longer meant. They stay as
    /// they came. Files of `others` brought some of the same: they are due to be read again. Returns how many readings went.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it is set aside already, or not stored.
    pub async fn withdraw_import(&mut self, id: i64, w: &Withdrawn, others: &[i64]) -> Result<usize, StoreError> {
        let done = sqlx::query!(
            "UPDATE import SET withdrawn_at = ?, withdrawn_by = ?, withdrawn_why = ?
             WHERE id = ? AND withdrawn_at IS NULL AND report IS NOT NULL",
            w.at.0,
            w.by,
            w.why,
            id
        );
        if done.execute(self.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Rule("This import is set aside already, or was never stored.".into()));
        }
        let mut moved = 0;
        for (batch, stream, first, last) in self.stretches(id).await? {
            sqlx::query!(
                "INSERT INTO withdrawn_reading (stream_id, t, raw, batch)
                 SELECT stream_id, t, raw, batch FROM reading WHERE stream_id = ? AND t BETWEEN ? AND ? AND batch = ?",
                stream,
                first,
                last,
                batch
            )
            .execute(self.connection())
            .await?;
            let gone = sqlx::query!(
                "DELETE FROM reading WHERE stream_id = ? AND t BETWEEN ? AND ? AND batch = ?",
                stream,
                first,
                last,
                batch
            );
            moved += gone.execute(self.connection()).await?.rows_affected() as usize;
            self.readings_moved(stream, first, last).await?;
        }
        self.forget_repeats(id, true).await?;
        for other in others {
            sqlx::query!("UPDATE import SET due_again = 1 WHERE id = ?", other).execute(self.connection()).await?;
        }
        Ok(moved)
    }

    /// Notes that the file of an import was read again.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn read_again(&mut self, id: i64) -> Result<(), StoreError> {
        sqlx::query!("UPDATE import SET due_again = 0 WHERE id = ?", id).execute(self.connection()).await?;
        Ok(())
    }

    /// Takes back that an import was set aside. Its readings are meant again where no other stands in their place by now; what
    /// stands there stays, and theirs is kept beside it. Returns how many readings are meant again.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it is not set aside.
    pub async fn restore_import(&mut self, id: i64) -> Result<usize, StoreError> {
        let done = sqlx::query!(
            "UPDATE import SET withdrawn_at = NULL, withdrawn_by = '', withdrawn_why = '' WHERE id = ? AND withdrawn_at IS NOT NULL",
            id
        );
        if done.execute(self.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Rule("This import is not set aside.".into()));
        }
        let stretches = self.stretches(id).await?;
        let mut back = 0;
        for (batch, stream, first, last) in stretches {
            let done = sqlx::query!(
                "INSERT OR IGNORE INTO reading (stream_id, t, raw, batch)
                 SELECT stream_id, t, raw, batch FROM withdrawn_reading WHERE batch = ? AND stream_id = ?",
                batch,
                stream
            );
            back += done.execute(self.connection()).await?.rows_affected() as usize;
            sqlx::query!(
                "INSERT OR IGNORE INTO repeated_reading (stream_id, t, raw, batch)
                 SELECT w.stream_id, w.t, w.raw, w.batch FROM withdrawn_reading w
                 JOIN reading r ON r.stream_id = w.stream_id AND r.t = w.t AND r.raw <> w.raw WHERE w.batch = ? AND w.stream_id = ?",
                batch,
                stream
            )
            .execute(self.connection())
            .await?;
            sqlx::query!("DELETE FROM withdrawn_reading WHERE batch = ? AND stream_id = ?", batch, stream)
                .execute(self.connection())
                .await?;
            self.readings_moved(stream, first, last).await?;
        }
        Ok(back)
    }

    /// Forgets the other values of known readings that an import brought, before its file is read again or with it.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn forget_repeats(&mut self, import: i64, keep: bool) -> Result<(), StoreError> {
        if keep {
            sqlx::query!(
                "INSERT OR IGNORE INTO withdrawn_reading (stream_id, t, raw, batch)
                 SELECT stream_id, t, raw, batch FROM repeated_reading WHERE batch IN (SELECT id FROM batch WHERE import_id = ?)",
                import
            )
            .execute(self.connection())
            .await?;
        }
        sqlx::query!("DELETE FROM repeated_reading WHERE batch IN (SELECT id FROM batch WHERE import_id = ?)", import)
            .execute(self.connection())
            .await?;
        Ok(())
    }

    /// Delivery, stream, first and last time of what an import brought.
    async fn stretches(&mut self, import: i64) -> Result<Vec<(i64, i64, i64, i64)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT b.id, s.stream_id, s.first, s.last FROM batch b JOIN batch_stream s ON s.batch_id = b.id WHERE b.import_id = ?",
            import
        );
        let rows = rows.fetch_all(self.connection()).await?;
        Ok(rows.into_iter().map(|r| (r.id, r.stream_id, r.first, r.last)).collect())
    }

    /// Notes that readings of a stream came or went between two times.
    async fn readings_moved(&mut self, stream: i64, first: i64, last: i64) -> Result<(), StoreError> {
        let (from, to) = (month_of(first), month_of(last));
        sqlx::query!("DELETE FROM month_block WHERE stream_id = ? AND month BETWEEN ? AND ?", stream, from, to)
            .execute(self.connection())
            .await?;
        let station = sqlx::query_scalar!(
            "UPDATE stream SET changes = changes + 1 WHERE id = ? RETURNING (SELECT station_id FROM node WHERE node.id = node_id)",
            stream
        );
        if let Some(station) = station.fetch_one(self.connection()).await? {
            self.tests_due(station).await?;
        }
        Ok(())
    }
}
