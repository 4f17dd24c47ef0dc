//! Record packages that were brought in, and readings that come with the deliveries that first brought them.

use crate::adding::{Brought, DAY, ROWS, changed, is_in_time, keep_beside, note_each, rows_of, unknown};
use crate::batches::Source;
use crate::packing::write;
use crate::readings::{Added, Reading};
use crate::sorting::sort_out;
use crate::{Store, StoreError, Unit};
use ebrel_core::units::UnixSeconds;
use std::collections::{BTreeMap, HashMap};

/// A package that was brought, from the upload to its report.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BroughtPackage {
    /// Row number (not used when it is kept).
    pub id: i64,
    /// The file's name as it was uploaded.
    pub file_name: String,
    /// SHA-256 of the file; its bytes are kept under this name.
    pub sha256: String,
    /// When it was brought.
    pub received_at: UnixSeconds,
    /// Name of the account, or of the command, that did it.
    pub received_by: String,
    /// The study that it is for, or went into; `None`: one is to be begun for it.
    pub study_id: Option<i64>,
    /// What became of it, JSON; `None`: nothing was taken yet.
    pub report: Option<String>,
}

/// A delivery as it was, wherever that was.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FirstDelivery {
    /// When it was received there.
    pub received_at: UnixSeconds,
    /// What brought it.
    pub source: Source,
    /// Name of the logger file; may be empty.
    pub file_name: String,
    /// SHA-256 of that file; may be empty.
    pub sha256: String,
    /// Who brought the file; may be empty.
    pub by: String,
}

/// Consecutive readings of a stream that one delivery brought.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Run {
    /// Time of the first, as it came.
    pub first: i64,
    /// Number of the delivery; 0 for readings from before deliveries were kept.
    pub delivery: i64,
}

impl Store {
    /// Keeps that a package was brought and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn package_brought(&self, package: &BroughtPackage) -> Result<i64, StoreError> {
        let at = package.received_at.0;
        let done = sqlx::query!(
            "INSERT INTO package (file_name, sha256, received_at, received_by, study_id) VALUES (?, ?, ?, ?, ?)",
            package.file_name,
            package.sha256,
            at,
            package.received_by,
            package.study_id
        );
        Ok(done.execute(&self.pool).await?.last_insert_rowid())
    }

    /// A package that was brought.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn package(&self, id: i64) -> Result<BroughtPackage, StoreError> {
        let row = sqlx::query!("SELECT * FROM package WHERE id = ?", id).fetch_optional(&self.pool).await?;
        let r = row.ok_or(StoreError::NotFound("package"))?;
        Ok(BroughtPackage {
            id: r.id,
            file_name: r.file_name,
            sha256: r.sha256,
            received_at: UnixSeconds(r.received_at),
            received_by: r.received_by,
            study_id: r.study_id,
            report: r.report,
        })
    }

    /// Which delivery brought which readings of a stream: runs in order of time, each up to the next.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn delivery_runs(&self, stream: i64) -> Result<Vec<Run>, StoreError> {
        let rows = sqlx::query_as!(
            Run,
            r#"SELECT t AS "first!: i64", batch AS "delivery!: i64" FROM
               (SELECT t, batch, lag(batch) OVER (ORDER BY t) AS before FROM reading WHERE stream_id = ?)
               WHERE before IS NULL OR before <> batch ORDER BY t"#,
            stream
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// Deliveries of these numbers as they first were, in the order in which they were received.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn first_deliveries(&self, numbers: &[i64]) -> Result<Vec<(i64, FirstDelivery)>, StoreError> {
        let numbers = serde_json::to_string(numbers)?;
        let rows = sqlx::query!(
            r#"SELECT b.id, b.received_at, b.source, coalesce(i.file_name, b.file_name) AS "file_name!: String",
                      coalesce(i.sha256, b.sha256) AS "sha256!: String", coalesce(i.created_by, b.brought_by) AS "by!: String"
               FROM batch b LEFT JOIN import i ON i.id = b.import_id
               WHERE b.id IN (SELECT value FROM json_each(?)) ORDER BY b.received_at, b.id"#,
            numbers
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter().map(|r| {
            let source = Source::of_code(&r.source).unwrap_or(Source::Hand);
            let received_at = UnixSeconds(r.received_at);
            (r.id, FirstDelivery { received_at, source, file_name: r.file_name, sha256: r.sha256, by: r.by })
        });
        Ok(rows.collect())
    }

    /// The package by which a delivery came here, if it came by one, with what is told of its first file.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn package_of(&self, delivery: i64) -> Result<Option<(i64, FirstDelivery)>, StoreError> {
        let row = sqlx::query!(
            r#"SELECT package_id AS "package!", received_at, source, file_name, sha256, brought_by
               FROM batch WHERE id = ? AND package_id IS NOT NULL"#,
            delivery
        );
        Ok(row.fetch_optional(&self.pool).await?.map(|r| {
            let source = Source::of_code(&r.source).unwrap_or(Source::Package);
            let (received_at, by) = (UnixSeconds(r.received_at), r.brought_by);
            (r.package, FirstDelivery { received_at, source, file_name: r.file_name, sha256: r.sha256, by })
        }))
    }
}

impl Unit {
    /// Keeps what became of a package.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if it was taken already.
    pub async fn package_taken(&mut self, id: i64, study: i64, report: &str) -> Result<(), StoreError> {
        let done = sqlx::query!(
            "UPDATE package SET study_id = ?, report = ? WHERE id = ? AND report IS NULL",
            study,
            report,
            id
        );
        let done = done.execute(self.connection()).await?;
        if done.rows_affected() == 1 { Ok(()) } else { Err(StoreError::Stale) }
    }

    /// Begins the deliveries of a package and returns their numbers, in the same order.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_deliveries(&mut self, package: i64, all: &[FirstDelivery]) -> Result<Vec<i64>, StoreError> {
        let mut numbers = Vec::with_capacity(all.len());
        for rows in all.chunks(ROWS) {
            const HEAD: &str =
                "INSERT INTO batch (received_at, source, package_id, file_name, sha256, brought_by) VALUES";
            let sql = rows_of(HEAD, "(?,?,?,?,?,?)", rows.len());
            let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
            for d in rows {
                query = query.bind(d.received_at.0).bind(d.source.code()).bind(package);
                query = query.bind(&d.file_name).bind(&d.sha256).bind(&d.by);
            }
            // Nobody else writes meanwhile: rows of one statement are numbered one after another.
            let last = query.execute(self.connection()).await?.last_insert_rowid();
            numbers.extend(last + 1 - rows.len() as i64..=last);
        }
        Ok(numbers)
    }

    /// Stores readings of one stream, in order of time, each with the delivery that brought it: an index into `deliveries`, which
    /// has the number and the delivery. What is known stays as it is; another value is kept beside the first.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_delivered(
        &mut self,
        deliveries: &[(i64, &FirstDelivery)],
        mut readings: Vec<Reading>,
        brought: &[usize],
    ) -> Result<Added, StoreError> {
        readings.iter_mut().for_each(Reading::as_kept);
        let readings = &readings[..];
        let mut fresh = Vec::with_capacity(readings.len());
        let sorted = sort_out(self.connection(), readings, &mut fresh).await?;
        let (new, known, repeated) = (fresh.len(), sorted.known, sorted.repeats.len());
        let added = Added { new, known, repeated, ..Added::default() };
        let by = |r: &Reading| brought[readings.partition_point(|known| known.t < r.t)];
        let repeats = unknown(self.connection(), sorted.repeats).await?;
        keep_beside(self.connection(), |r| deliveries[by(r)].0, &repeats).await?;
        let of_stream = [(0, fresh.len(), sorted.before)];
        write(self.connection(), |r| deliveries[by(r)].0, &fresh, &of_stream).await?;
        // As in `note_brought`: what messages brought in time is listed by the day, under the first of them.
        let mut rows: HashMap<(usize, i64), usize> = HashMap::new();
        let mut of: BTreeMap<usize, Brought> = BTreeMap::new();
        for r in &fresh {
            let i = by(r);
            let delivery = deliveries[i].1;
            let key = if is_in_time(delivery.source, delivery.received_at, r.t) {
                (usize::MAX, delivery.received_at.0.div_euclid(DAY))
            } else {
                (i, 0)
            };
            let row = of.entry(*rows.entry(key).or_insert(i)).or_insert((r.stream, r.t, r.t, 0));
            *row = (r.stream, row.1.min(r.t), row.2.max(r.t), row.3 + 1);
        }
        let of: Vec<(i64, Brought)> = of.into_iter().map(|(i, row)| (deliveries[i].0, row)).collect();
        note_each(self.connection(), &of).await?;
        if added.new + added.repeated > 0 {
            for station in changed(self.connection(), &[readings[0].stream]).await?.0 {
                self.tests_due(station).await?;
            }
        }
        Ok(added)
    }

    /// Forgets those deliveries of a package that brought nothing new to any of these streams.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn end_deliveries(&mut self, package: i64, streams: &[i64]) -> Result<(), StoreError> {
        let mut used: Vec<i64> = Vec::new();
        for rows in streams.chunks(ROWS) {
            for table in ["reading", "repeated_reading"] {
                let among = rows_of("", "?", rows.len());
                let sql = format!("SELECT DISTINCT batch FROM {table} WHERE stream_id IN ({among})");
                let mut query = sqlx::query_scalar::<_, i64>(sqlx::AssertSqlSafe(sql.as_str()));
                for stream in rows {
                    query = query.bind(stream);
                }
                used.extend(query.fetch_all(self.connection()).await?);
            }
        }
        let used = serde_json::to_string(&used)?;
        sqlx::query!(
            "DELETE FROM batch WHERE package_id = ? AND id NOT IN (SELECT value FROM json_each(?))",
            package,
            used
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::stream;

    fn delivery(hours: i64, source: Source) -> FirstDelivery {
        let file_name = if source == Source::File { "autumn.csv".into() } else { String::new() };
        let by = String::new();
        FirstDelivery { received_at: UnixSeconds(hours * 3600), source, file_name, sha256: String::new(), by }
    }

    #[tokio::test]
    async fn readings_keep_the_deliveries_that_first_brought_them() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        let package = BroughtPackage {
            id: 0,
            file_name: "cut.zip".into(),
            sha256: String::new(),
            received_at: UnixSeconds(900_000),
            received_by: "R. Teal".into(),
            study_id: None,
            report: None,
        };
        let id = store.package_brought(&package).await.unwrap();
        let all = [delivery(1, Source::File), delivery(100, Source::Message), delivery(9, Source::Hand)];
        let readings: Vec<Reading> = (0..40).map(|i| Reading { stream, t: i * 900, raw: i as f64 }).collect();
        let brought: Vec<usize> = (0..40).map(|i| usize::from(i >= 25)).collect();
        let take = async || {
            let mut unit = store.unit().await.unwrap();
            let numbers = unit.begin_deliveries(id, &all).await.unwrap();
            let deliveries: Vec<_> = numbers.into_iter().zip(&all).collect();
            let added = unit.add_delivered(&deliveries, readings.clone(), &brought).await.unwrap();
            unit.end_deliveries(id, &[stream]).await.unwrap();
            unit.commit().await.unwrap();
            added
        };
        assert_eq!(take().await.new, 40);
        let runs = store.delivery_runs(stream).await.unwrap();
        assert_eq!(runs.iter().map(|r| r.first).collect::<Vec<_>>(), [0, 25 * 900]);
        let told = store.first_deliveries(&runs.iter().map(|r| r.delivery).collect::<Vec<_>>()).await.unwrap();
        assert_eq!(told.iter().map(|d| &d.1).collect::<Vec<_>>(), [&all[0], &all[1]]);
        let next = store.first_deliveries(&[runs[0].delivery + 2]).await.unwrap();
        assert!(next.is_empty(), "the third brought nothing");
        assert_eq!(store.package_of(runs[0].delivery).await.unwrap(), Some((id, all[0].clone())));
        let again = take().await;
        assert_eq!((again.new, again.known), (0, 40));
        assert_eq!(store.delivery_runs(stream).await.unwrap(), runs);
        let mut unit = store.unit().await.unwrap();
        unit.package_taken(id, 1, "{}").await.unwrap();
        assert!(matches!(unit.package_taken(id, 1, "{}").await, Err(StoreError::Stale)), "once only");
    }
}
