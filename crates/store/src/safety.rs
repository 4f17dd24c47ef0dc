//! The whole database: a copy while it is in use, what is wrong with it, and what can be made again.

use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;
use sqlx::sqlite::{SqliteConnectOptions, SqlitePool, SqlitePoolOptions};
use std::path::Path;

/// A backup that was made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Backup {
    /// Moment at which it was read back and held.
    pub at: UnixSeconds,
    /// Where it lies.
    pub place: String,
    /// Size of database and files, bytes.
    pub bytes: i64,
    /// How many uploaded files it holds.
    pub files: i64,
}

/// What was found wrong with a database; nothing, if both are empty.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Examined {
    /// What SQLite's own check of pages and indexes says.
    pub pages: Vec<String>,
    /// Rows that refer to what is not there: table and how many.
    pub lost_references: Vec<(String, i64)>,
}

/// Copies a database into a new file as it is at one moment, while others read and write it.
pub(crate) async fn copy(pool: &SqlitePool, to: &Path) -> Result<(), StoreError> {
    let to = to.to_string_lossy().into_owned();
    sqlx::query("VACUUM INTO ?").bind(to).execute(pool).await?;
    Ok(())
}

/// Reads a database through.
async fn examined(pool: &SqlitePool) -> Result<Examined, StoreError> {
    let pages: Vec<String> = sqlx::query_scalar("PRAGMA integrity_check(20)").fetch_all(pool).await?;
    let broken = "SELECT \"table\", count(*) FROM pragma_foreign_key_check GROUP BY 1 ORDER BY 1";
    let lost_references = sqlx::query_as(broken).fetch_all(pool).await?;
    Ok(Examined { pages: pages.into_iter().filter(|p| p != "ok").collect(), lost_references })
}

/// A database file that nobody uses, to be read and not changed.
async fn still(path: &Path) -> Result<SqlitePool, StoreError> {
    let options = SqliteConnectOptions::new().filename(path).read_only(true).immutable(true);
    Ok(SqlitePoolOptions::new().max_connections(1).connect_with(options).await?)
}

/// Reads a database file through that nobody uses, without changing it, and counts its readings.
///
/// # Errors
/// [`StoreError`] if it is no database.
pub async fn examine_file(path: &Path) -> Result<(Examined, i64), StoreError> {
    let pool = still(path).await?;
    let found = async { Ok((examined(&pool).await?, readings(&pool).await?)) }.await;
    pool.close().await;
    found
}

/// Where hashes of kept files stand: tables and columns, some of which earlier versions lack. [`Store::kept_files`] names them too.
const KEPT: [(&str, &str); 4] =
    [("import", "sha256"), ("import", "archive"), ("photo", "sha256"), ("package", "sha256")];

/// As [`Store::kept_files`], of a database file that nobody uses, of this or an earlier version.
///
/// # Errors
/// [`StoreError`] if it is no database of Ebrel.
pub async fn kept_files_of(path: &Path) -> Result<Vec<String>, StoreError> {
    let pool = still(path).await?;
    let found = async {
        let mut all: Vec<String> = Vec::new();
        for (table, column) in KEPT {
            let known = sqlx::query_scalar::<_, i64>("SELECT count(*) FROM pragma_table_info(?) WHERE name = ?");
            if known.bind(table).bind(column).fetch_one(&pool).await? > 0 {
                let sql = format!("SELECT {column} FROM {table} WHERE {column} <> ''");
                all.extend(sqlx::query_scalar::<_, String>(sqlx::AssertSqlSafe(sql)).fetch_all(&pool).await?);
            }
        }
        all.sort_unstable();
        all.dedup();
        Ok(all)
    }
    .await;
    pool.close().await;
    found
}

async fn readings(pool: &SqlitePool) -> Result<i64, StoreError> {
    Ok(sqlx::query_scalar("SELECT count(*) FROM reading").fetch_one(pool).await?)
}

impl Store {
    /// Copies the database into a new file as it is at one moment, while others read and write it.
    ///
    /// # Errors
    /// [`StoreError`] if the file is there already, or cannot be written.
    pub async fn copy_to(&self, to: &Path) -> Result<(), StoreError> {
        copy(&self.pool, to).await
    }

    /// Reads the database through.
    ///
    /// # Errors
    /// [`StoreError`] if it cannot be read at all.
    pub async fn examine(&self) -> Result<Examined, StoreError> {
        examined(&self.pool).await
    }

    /// How many readings there are.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn count_readings(&self) -> Result<i64, StoreError> {
        readings(&self.pool).await
    }

    /// SHA-256 of every uploaded file and photo that rows refer to, each once and in order.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn kept_files(&self) -> Result<Vec<String>, StoreError> {
        let all = sqlx::query_scalar!(
            "SELECT sha256 FROM import UNION SELECT sha256 FROM photo UNION SELECT sha256 FROM package
             UNION SELECT archive FROM import WHERE archive <> '' ORDER BY 1"
        );
        Ok(all.fetch_all(&self.pool).await?)
    }

    /// Throws away what is packed for fast reading, and packs it anew from the readings; how many streams there are.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn rebuild_packed(&self) -> Result<usize, StoreError> {
        sqlx::query!("DELETE FROM month_block").execute(&self.pool).await?;
        self.forget_all();
        let streams = sqlx::query_scalar!("SELECT id FROM stream ORDER BY id").fetch_all(&self.pool).await?;
        for stream in &streams {
            self.series(*stream).await?;
            self.forget_all();
        }
        Ok(streams.len())
    }

    /// Notes that a backup was made.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn note_backup(&self, made: &Backup) -> Result<(), StoreError> {
        let Backup { at, place, bytes, files } = made;
        sqlx::query!(
            "INSERT INTO backup (made_at, place, bytes, files) VALUES (?, ?, ?, ?)",
            at.0,
            place,
            bytes,
            files
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The last backup that was made.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn last_backup(&self) -> Result<Option<Backup>, StoreError> {
        let row = sqlx::query!("SELECT made_at, place, bytes, files FROM backup ORDER BY id DESC LIMIT 1");
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.map(|r| Backup { at: UnixSeconds(r.made_at), place: r.place, bytes: r.bytes, files: r.files }))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batches::testing::HAND;
    use crate::database::testing::store;
    use crate::readings::Reading;

    #[tokio::test]
    async fn a_copy_holds_what_stood_and_is_read_through() {
        let (store, dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let reading = |t| Reading { stream, t, raw: 1.0 };
        store.add_readings(&HAND, (0..2000).map(reading).collect()).await.unwrap();
        let copy = dir.path().join("θ 'copy'.db");
        store.copy_to(&copy).await.unwrap();
        store.add_readings(&HAND, vec![reading(5000)]).await.unwrap();
        assert_eq!(examine_file(&copy).await.unwrap(), (Examined::default(), 2000));
        assert!(store.copy_to(&copy).await.is_err(), "what is there is not written over");
        assert_eq!(
            (store.examine().await.unwrap(), store.count_readings().await.unwrap()),
            (Examined::default(), 2001)
        );
    }

    #[tokio::test]
    async fn packed_months_are_made_again_as_they_were() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        // A thermometer at the freezing point says −0 as well.
        let raw = |i: i64| if i % 11 == 0 { -0.0 } else { (i % 37) as f64 };
        let readings = (0..4000).map(|i| Reading { stream, t: i * 3600, raw: raw(i) }).collect();
        store.add_readings(&HAND, readings).await.unwrap();
        let before = store.series(stream).await.unwrap();
        sqlx::query("UPDATE month_block SET month = month + 400").execute(&store.pool).await.unwrap();
        assert_eq!(store.rebuild_packed().await.unwrap(), 1);
        let after = store.series(stream).await.unwrap();
        assert_eq!(after, before);
        let bits = |s: &ebrel_core::series::Series| s.values.iter().map(|v| v.to_bits()).collect::<Vec<_>>();
        assert!(bits(&after) == bits(&before), "to the bit: what is given out is the same before and after");
    }

    #[tokio::test]
    async fn a_reference_that_leads_nowhere_is_found_by_its_table() {
        let (store, _dir) = store().await;
        crate::stations::testing::stream(&store).await;
        let mut one = store.pool.acquire().await.unwrap();
        sqlx::query("PRAGMA foreign_keys = OFF").execute(&mut *one).await.unwrap();
        sqlx::query("DELETE FROM node").execute(&mut *one).await.unwrap();
        sqlx::query("PRAGMA foreign_keys = ON").execute(&mut *one).await.unwrap();
        assert_eq!(store.examine().await.unwrap().lost_references, [("stream".to_owned(), 1)]);
    }
}
