//! Opening the file, and what can go wrong.

use crate::cache::{JudgedCache, SeriesCache};
use sqlx::Connection as _;
use sqlx::migrate::Migrator;
use sqlx::sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePool, SqlitePoolOptions, SqliteSynchronous};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;

static MIGRATIONS: Migrator = sqlx::migrate!("./migrations");

/// What can go wrong between Ebrel and its file.
#[derive(Debug, Error)]
pub enum StoreError {
    /// SQLite refused.
    #[error("the database refused: {0}")]
    Sql(#[from] sqlx::Error),
    /// The file is of another version, or no Ebrel file.
    #[error("the database cannot be brought to this version: {0}")]
    Migrate(#[from] sqlx::migrate::MigrateError),
    /// A cached block cannot be packed or unpacked.
    #[error("a packed month is damaged: {0}")]
    Block(#[from] pco::errors::PcoError),
    /// Stored JSON is not what was written.
    #[error("a stored document is damaged: {0}")]
    Json(#[from] serde_json::Error),
    /// No such row.
    #[error("there is no {0} with this number")]
    NotFound(&'static str),
    /// Somebody else saved meanwhile.
    #[error("this was changed by somebody else meanwhile: load it again")]
    Stale,
    /// A rule of the data would be broken; the sentence says what to do.
    #[error("{0}")]
    Rule(String),
}

impl StoreError {
    /// Whether the disk is full, or refuses to be written.
    #[must_use]
    pub fn is_no_room(&self) -> bool {
        // SQLite's codes: 13 is a full disk, 10 with its extensions an error of the disk (the low byte tells).
        let code = |e: &sqlx::Error| e.as_database_error()?.code()?.parse::<i64>().ok();
        matches!(self, Self::Sql(e) if code(e).is_some_and(|c| matches!(c & 0xff, 10 | 13)))
    }
}

/// The open database with its cache of decoded series. Cheap to clone.
#[derive(Clone)]
pub struct Store {
    pub(crate) pool: SqlitePool,
    pub(crate) cache: Arc<SeriesCache>,
    pub(crate) judged: Arc<JudgedCache>,
}

impl Store {
    /// Opens the file, creates it if needed, and brings it to this version.
    ///
    /// # Errors
    /// [`StoreError`] if the file cannot be opened or is not an Ebrel database of this or an earlier version.
    pub async fn open(path: &Path) -> Result<Self, StoreError> {
        let options = SqliteConnectOptions::new()
            .filename(path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .foreign_keys(true)
            .busy_timeout(Duration::from_secs(10));
        // Where the disk is full SQLite ends the transaction itself, and SQLx believes it open for ever: such a connection is closed.
        let pool = SqlitePoolOptions::new().max_connections(6).after_release(|connection, _| {
            Box::pin(async move {
                // A transaction that was dropped is ended by now, or when the connection has come to it.
                if connection.is_in_transaction() {
                    connection.ping().await?;
                }
                Ok(!connection.is_in_transaction())
            })
        });
        let pool = pool.connect_with(options).await?;
        copy_before_migrating(&pool, path).await?;
        MIGRATIONS.run(&pool).await?;
        let store = Self { pool, cache: Arc::default(), judged: Arc::default() };
        // A server that was killed leaves messages there. They wait on if the disk is full now.
        match store.empty_inbox().await {
            Ok(0) => {}
            Ok(messages) => tracing::info!(messages, "messages that an earlier start had taken were sorted in"),
            Err(error) => tracing::warn!(%error, "messages that an earlier start had taken wait on in the inbox"),
        }
        Ok(store)
    }

    /// Closes all connections and folds the journal into the file.
    pub async fn close(&self) {
        self.pool.close().await;
    }

    /// A transaction that may write: it takes the write lock at once, so that it never fails half way.
    pub(crate) async fn write(&self) -> Result<sqlx::Transaction<'static, sqlx::Sqlite>, StoreError> {
        Ok(self.pool.begin_with("BEGIN IMMEDIATE").await?)
    }
}

/// Copies a database of an earlier version before it is brought to this one: `ebrel.before-14.db` lies beside it then.
async fn copy_before_migrating(pool: &SqlitePool, path: &Path) -> Result<(), StoreError> {
    let known = "SELECT count(*) FROM sqlite_master WHERE name = '_sqlx_migrations'";
    if sqlx::query_scalar::<_, i64>(known).fetch_one(pool).await? == 0 {
        return Ok(());
    }
    let applied: Option<i64> = sqlx::query_scalar("SELECT max(version) FROM _sqlx_migrations").fetch_one(pool).await?;
    let next = MIGRATIONS.iter().map(|m| m.version).filter(|v| applied.is_some_and(|a| *v > a)).min();
    if let Some(next) = next {
        let copy = path.with_extension(format!("before-{next}.db"));
        // One that is there was made by a start that was cut off: what it holds is older, and as good.
        if !copy.exists() {
            crate::safety::copy(pool, &copy).await?;
        }
    }
    Ok(())
}

/// Turns a broken UNIQUE rule into a sentence.
pub(crate) fn taken(error: sqlx::Error, sentence: impl FnOnce() -> String) -> StoreError {
    match &error {
        sqlx::Error::Database(e) if e.is_unique_violation() => StoreError::Rule(sentence()),
        _ => error.into(),
    }
}

#[cfg(test)]
pub(crate) mod testing {
    use super::Store;

    /// A fresh store in a directory that goes away with the guard.
    pub async fn store() -> (Store, tempfile::TempDir) {
        let dir = tempfile::tempdir().unwrap();
        let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
        (store, dir)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_second_opening_finds_the_file_as_it_was() {
        let (store, dir) = testing::store().await;
        store.close().await;
        Store::open(&dir.path().join("ebrel.db")).await.unwrap();
    }

    #[test]
    fn every_migration_file_is_known_and_opens_with_its_reason() {
        let files: Vec<_> = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations"))
            .unwrap()
            .map(|f| std::fs::read_to_string(f.unwrap().path()).unwrap())
            .collect();
        assert_eq!(files.len(), MIGRATIONS.iter().count());
        assert!(files.iter().all(|f| f.starts_with("-- ")));
    }

    #[tokio::test]
    async fn a_file_of_an_earlier_version_keeps_its_calibrations() {
        let dir = tempfile::tempdir().unwrap();
        let (old, path) = (dir.path().join("migrations"), dir.path().join("ebrel.db"));
        std::fs::create_dir(&old).unwrap();
        for file in std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/migrations")).unwrap().map(Result::unwrap) {
            if file.file_name().to_str().unwrap() < "0004" {
                std::fs::copy(file.path(), old.join(file.file_name())).unwrap();
            }
        }
        let options = SqliteConnectOptions::new().filename(&path).create_if_missing(true);
        let pool = SqlitePool::connect_with(options).await.unwrap();
        Migrator::new(old.as_path()).await.unwrap().run(&pool).await.unwrap();
        let curve = ebrel_core::calibration::Curve::from_coefficients(&[0.0, 0.001], 0.0, 900.0, None).unwrap();
        let text = serde_json::to_string(&curve).unwrap();
        sqlx::query("INSERT INTO probe (id, serial, principle) VALUES (7, 'BD-0417', 'dielectric')")
            .execute(&pool)
            .await
            .unwrap();
        sqlx::query(
            "INSERT INTO calibration (probe_id, version, valid_from, curve, statement, samples, adopted_by, adopted_at)
             VALUES (7, 2, 5, ?, 'Straight line.', '[]', 'N. Arvel', 6)",
        )
        .bind(text)
        .execute(&pool)
        .await
        .unwrap();
        pool.close().await;
        let store = Store::open(&path).await.unwrap();
        let kept = store.calibrations(&crate::calibrations::Subject::Probe(7)).await.unwrap();
        assert_eq!((kept.len(), kept[0].version, &kept[0].curve, &kept[0].retired), (1, 2, &curve, &None));
        // It lies beside as it was before.
        let (found, readings) = crate::safety::examine_file(&dir.path().join("ebrel.before-4.db")).await.unwrap();
        assert_eq!((found, readings), Default::default());
    }

    #[tokio::test]
    async fn a_full_disk_takes_nothing_half_and_once_there_is_room_it_goes_on() {
        let (store, _dir) = testing::store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let many = || (0..50_000).map(|t| crate::readings::Reading { stream, t, raw: t as f64 }).collect::<Vec<_>>();
        let hand = crate::batches::testing::HAND;
        // Every connection of the pool finds no more room, and then some.
        let limit = async |more: i64| {
            let mut all = Vec::new();
            for _ in 0..6 {
                let mut one = store.pool.acquire().await.unwrap();
                let pages: i64 = sqlx::query_scalar("PRAGMA page_count").fetch_one(&mut *one).await.unwrap();
                let most = format!("PRAGMA max_page_count = {}", pages + more);
                sqlx::query(sqlx::AssertSqlSafe(most)).execute(&mut *one).await.unwrap();
                all.push(one);
            }
        };
        limit(20).await;
        let full = store.add_readings(&hand, many()).await.unwrap_err();
        assert!(full.is_no_room(), "{full}");
        assert_eq!(store.count_readings().await.unwrap(), 0, "nothing half");
        limit(100_000).await;
        assert_eq!(store.add_readings(&hand, many()).await.unwrap().new, 50_000);
        assert_eq!(store.series(stream).await.unwrap().len(), 50_000);
    }

    #[tokio::test]
    async fn a_transaction_that_sqlite_ended_itself_hinders_no_later_one() {
        let (store, _dir) = testing::store().await;
        for _ in 0..10 {
            // As it does where the disk is full in the middle of one.
            let mut tx = store.write().await.unwrap();
            sqlx::query("ROLLBACK").execute(&mut *tx).await.unwrap();
            drop(tx);
        }
        let unit = store.unit().await.unwrap();
        unit.commit().await.unwrap();
    }

    #[tokio::test]
    async fn a_file_that_is_no_database_is_refused() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("ebrel.db");
        std::fs::write(&path, "this is a shopping list, and long enough not to be taken for an empty file").unwrap();
        assert!(Store::open(&path).await.is_err());
    }
}
