//! Raw readings: stored once, as they came, for ever.

use crate::batches::Origin;
use crate::blocks::{insert_block, month_of, pack, read_months};
use crate::{Store, StoreError, Unit};
use ebrel_core::quality::Repeat;
use ebrel_core::series::Series;
use ebrel_core::units::UnixSeconds;
use sqlx::SqliteConnection;
use std::collections::BTreeSet;

/// One raw reading of a stream.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// The stream that reported it.
    pub stream: i64,
    /// Whole seconds of UTC.
    pub t: i64,
    /// The value as it came.
    pub raw: f64,
}

/// What became of readings that were handed in.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Added {
    /// Readings stored now.
    pub new: usize,
    /// Readings that were known with the same value.
    pub known: usize,
    /// Readings that were known with another value; the first stands, these are kept beside it.
    pub repeated: usize,
    /// Distinct times at which something new was stored.
    pub new_records: usize,
    /// Distinct times at which nothing was new.
    pub known_records: usize,
}

/// Rows per INSERT: one SQL text serves all full ones.
const ROWS: usize = 500;

impl Store {
    /// Stores readings that are not known yet as one delivery, all or none. The first value of a stream and time stands for ever;
    /// a later other value is kept beside it.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses; nothing is stored then.
    pub async fn add_readings(&self, origin: &Origin, readings: Vec<Reading>) -> Result<Added, StoreError> {
        let mut unit = self.unit().await?;
        let added = unit.add_readings(origin, readings).await?;
        unit.commit().await?;
        Ok(added)
    }

    /// Readings of a stream that came again with another value, in order of time.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn repeats(&self, stream: i64) -> Result<Vec<Repeat>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT r.t, r.raw AS later, f.raw AS first FROM repeated_reading r
               JOIN reading f ON f.stream_id = r.stream_id AND f.t = r.t WHERE r.stream_id = ? ORDER BY r.t"#,
            stream
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|r| Repeat { time: UnixSeconds(r.t), first: r.first, later: r.later }).collect())
    }

    /// First and last time of any reading of a station.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn extent(&self, station: i64) -> Result<Option<(UnixSeconds, UnixSeconds)>, StoreError> {
        let row = sqlx::query!(
            r#"SELECT min((SELECT min(t) FROM reading WHERE stream_id = s.id)) AS "first: i64",
                      max((SELECT max(t) FROM reading WHERE stream_id = s.id)) AS "last: i64"
               FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?"#,
            station
        )
        .fetch_one(&self.pool)
        .await?;
        Ok(row.first.zip(row.last).map(|(a, b)| (UnixSeconds(a), UnixSeconds(b))))
    }
}

impl Unit {
    /// As [`Store::add_readings`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_readings(&mut self, origin: &Origin, mut readings: Vec<Reading>) -> Result<Added, StoreError> {
        readings.sort_by_key(|r| (r.stream, r.t));
        let batch = self.begin_batch(origin).await?;
        let tx = self.connection();
        let mut added = Added::default();
        let mut fresh = Vec::with_capacity(readings.len());
        for of_stream in readings.chunk_by(|a, b| a.stream == b.stream) {
            let start = fresh.len();
            let sorted = sort_out(tx, of_stream, &mut fresh, &mut added).await?;
            added.repeated += sorted.repeats.len();
            for r in sorted.repeats {
                sqlx::query!(
                    "INSERT OR IGNORE INTO repeated_reading (stream_id, t, raw, batch) VALUES (?, ?, ?, ?)",
                    r.stream,
                    r.t,
                    r.raw,
                    batch
                )
                .execute(&mut *tx)
                .await?;
            }
            insert(tx, batch, &fresh[start..]).await?;
            renew_blocks(tx, &fresh[start..], sorted.overlap).await?;
        }
        added.new = fresh.len();
        let new_times: BTreeSet<i64> = fresh.iter().map(|r| r.t).collect();
        let times: BTreeSet<i64> = readings.iter().map(|r| r.t).collect();
        added.new_records = new_times.len();
        added.known_records = times.len() - new_times.len();
        let streams: BTreeSet<i64> = fresh.iter().map(|r| r.stream).collect();
        let mut stations = BTreeSet::new();
        for stream in streams {
            let station = sqlx::query_scalar!(
                "UPDATE stream SET changes = changes + 1 WHERE id = ?
                 RETURNING (SELECT station_id FROM node WHERE node.id = node_id)",
                stream
            );
            stations.insert(station.fetch_one(&mut *tx).await?);
        }
        for station in stations.into_iter().flatten() {
            self.tests_due(station).await?;
        }
        Ok(added)
    }
}

/// What a stream held before in the range of new readings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Overlap {
    /// The stream held nothing at all.
    NewStream,
    /// Nothing between the first and the last of them.
    Untouched,
    /// Something.
    Known,
}

/// What is left to do after sorting out.
struct SortedOut {
    repeats: Vec<Reading>,
    overlap: Overlap,
}

/// Appends to `fresh` what is not known of one stream, counts what is, and returns what differs from the known.
async fn sort_out(
    connection: &mut SqliteConnection,
    readings: &[Reading],
    fresh: &mut Vec<Reading>,
    added: &mut Added,
) -> Result<SortedOut, StoreError> {
    let nothing = SortedOut { repeats: Vec::new(), overlap: Overlap::Known };
    let Some((first, last)) = readings.first().zip(readings.last()) else { return Ok(nothing) };
    let row = sqlx::query!(
        r#"SELECT EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1) AS "any!: bool",
                  EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1 AND t >= ?2 AND t <= ?3) AS "here!: bool""#,
        first.stream,
        first.t,
        last.t
    )
    .fetch_one(&mut *connection)
    .await?;
    let overlap = match (row.any, row.here) {
        (false, _) => Overlap::NewStream,
        (true, false) => Overlap::Untouched,
        (true, true) => Overlap::Known,
    };
    let months = (month_of(first.t), month_of(last.t));
    let known = match overlap {
        Overlap::Known => read_months(connection, first.stream, Some(months)).await?.0,
        Overlap::NewStream | Overlap::Untouched => Series::default(),
    };
    let mut at = 0;
    let mut repeats = Vec::new();
    let start = fresh.len();
    for reading in readings {
        while at < known.len() && known.times[at] < reading.t {
            at += 1;
        }
        let stands = match fresh[start..].last() {
            Some(before) if before.t == reading.t => Some(before.raw),
            _ => (at < known.len() && known.times[at] == reading.t).then(|| known.values[at]),
        };
        match stands {
            None => fresh.push(*reading),
            Some(raw) if raw == reading.raw => added.known += 1,
            Some(_) => repeats.push(*reading),
        }
    }
    Ok(SortedOut { repeats, overlap })
}

/// Writes readings of one stream that are not known, and what the delivery brought of it.
async fn insert(connection: &mut SqliteConnection, batch: i64, readings: &[Reading]) -> Result<(), StoreError> {
    let Some((first, last)) = readings.first().zip(readings.last()) else { return Ok(()) };
    let n = readings.len() as i64;
    sqlx::query!("INSERT INTO batch_stream VALUES (?, ?, ?, ?, ?)", first.stream, batch, first.t, last.t, n)
        .execute(&mut *connection)
        .await?;
    let statement = |rows: usize| {
        let mut sql = String::from("INSERT INTO reading (stream_id, t, raw, batch) VALUES (?,?,?,?)");
        sql.push_str(&",(?,?,?,?)".repeat(rows - 1));
        sql
    };
    let full = statement(ROWS);
    for rows in readings.chunks(ROWS) {
        let short;
        let sql = if rows.len() == ROWS {
            &full
        } else {
            short = statement(rows.len());
            &short
        };
        // The text is made of placeholders alone; every value is bound.
        let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
        for r in rows {
            query = query.bind(r.stream).bind(r.t).bind(r.raw).bind(batch);
        }
        query.execute(&mut *connection).await?;
    }
    Ok(())
}

/// Deletes the blocks of the months that new readings of one stream touch, and packs at once the months that hold
/// nothing but them: a first import then reads back fast without going through its rows.
async fn renew_blocks(
    connection: &mut SqliteConnection,
    readings: &[Reading],
    overlap: Overlap,
) -> Result<(), StoreError> {
    let Some((first, last)) = readings.first().zip(readings.last()) else { return Ok(()) };
    let (first_month, last_month) = (month_of(first.t), month_of(last.t));
    for of_month in readings.chunk_by(|a, b| month_of(a.t) == month_of(b.t)) {
        let month = month_of(of_month[0].t);
        let whole = match overlap {
            Overlap::NewStream => true,
            Overlap::Untouched => first_month < month && month < last_month,
            Overlap::Known => false,
        };
        if whole {
            let (times, raws): (Vec<i64>, Vec<f64>) = of_month.iter().map(|r| (r.t, r.raw)).unzip();
            insert_block(connection, first.stream, month, &pack(&times, &raws)?).await?;
        } else {
            sqlx::query!("DELETE FROM month_block WHERE stream_id = ? AND month = ?", first.stream, month)
                .execute(&mut *connection)
                .await?;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batches::testing::HAND;
    use crate::database::testing::store;

    #[tokio::test]
    async fn the_first_value_stands_and_nothing_is_lost() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let file: Vec<Reading> = (0..1200).map(|i| Reading { stream, t: i * 900, raw: i as f64 }).collect();
        let first = store.add_readings(&HAND, file.clone()).await.unwrap();
        assert_eq!((first.new, first.known, first.new_records), (1200, 0, 1200));
        let again = store.add_readings(&HAND, file.clone()).await.unwrap();
        assert_eq!((again.new, again.known, again.repeated, again.known_records), (0, 1200, 0, 1200));

        let mut other = file[100];
        other.raw = -5.0;
        for _ in 0..2 {
            let report = store.add_readings(&HAND, vec![other]).await.unwrap();
            assert_eq!((report.new, report.repeated), (0, 1));
        }
        let repeats = store.repeats(stream).await.unwrap();
        assert_eq!(repeats, [Repeat { time: UnixSeconds(90_000), first: 100.0, later: -5.0 }]);
        assert_eq!(store.series(stream).await.unwrap().values[100], 100.0);
    }

    #[tokio::test]
    async fn a_value_that_is_no_number_stores_nothing_at_all() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let readings = vec![Reading { stream, t: 0, raw: 1.0 }, Reading { stream, t: 900, raw: f64::NAN }];
        assert!(store.add_readings(&HAND, readings).await.is_err());
        assert!(store.series(stream).await.unwrap().is_empty());
    }

    #[tokio::test]
    async fn a_block_sent_twice_within_one_file_counts_once() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let reading = |t, raw| Reading { stream, t, raw };
        let report = store
            .add_readings(&HAND, vec![reading(0, 1.0), reading(900, 2.0), reading(0, 1.0), reading(900, 9.0)])
            .await;
        let report = report.unwrap();
        assert_eq!((report.new, report.known, report.repeated), (2, 1, 1));
    }
}
