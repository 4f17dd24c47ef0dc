//! Readings into their tables: what is known is told from what is new, and what is new is written in as few statements as it takes.

use crate::batches::{Origin, Source};
use crate::cache::GROWS_BY;
use crate::packing::write;
use crate::readings::{Added, Reading};
use crate::sorting::{Sorted, sort_out_all};
use crate::{StoreError, Unit};
use ebrel_core::units::UnixSeconds;
use futures_util::future::join;
use sqlx::SqliteConnection;
use std::collections::{BTreeSet, HashSet};

/// Rows per INSERT: one SQL text serves all full ones.
pub(crate) const ROWS: usize = 500;
pub(crate) const DAY: i64 = 86_400;

impl Unit {
    /// As [`Store::add_readings`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_readings(&mut self, origin: &Origin, mut readings: Vec<Reading>) -> Result<Added, StoreError> {
        readings.sort_by_key(|r| (r.stream, r.t));
        readings.iter_mut().for_each(Reading::as_kept);
        let sorted = sort_out_all(self.connection(), &readings).await?;
        // What brings nothing is no delivery: a message that is sent for ever leaves no trace.
        if !sorted.is_empty() {
            let batch = self.begin_batch(origin).await?;
            let brought = self.write_sorted(&sorted, |_| batch).await?;
            let brought =
                brought.into_iter().map(|brought| FromOne { batch, received_at: origin.received_at, brought });
            note_brought(self.connection(), origin.source, &brought.collect::<Vec<_>>()).await?;
        }
        Ok(sorted.added(&readings))
    }

    /// Writes what was sorted out, each reading as brought by its delivery. Returns what was brought of each stream.
    pub(crate) async fn write_sorted(
        &mut self,
        sorted: &Sorted,
        batch_of: impl Fn(&Reading) -> i64,
    ) -> Result<Vec<Brought>, StoreError> {
        for (start, end, _) in &sorted.streams {
            self.touch(&sorted.fresh[*start..*end]);
        }
        for repeat in &sorted.repeats {
            self.touched.insert(repeat.stream, None);
        }
        keep_beside(self.connection(), &batch_of, &sorted.repeats).await?;
        let mut rest = &sorted.streams[..];
        while let Some(first) = rest.first() {
            let (now, later) = rest.split_at(rest.partition_point(|s| s.0 - first.0 < AT_ONCE));
            write(self.connection(), &batch_of, &sorted.fresh, now).await?;
            rest = later;
        }
        let brought = sorted.streams.iter().map(|(start, end, _)| {
            let of_stream = &sorted.fresh[*start..*end];
            (of_stream[0].stream, of_stream[0].t, of_stream[of_stream.len() - 1].t, of_stream.len() as i64)
        });
        Ok(brought.collect())
    }
}

impl Unit {
    /// Notes readings that are added to one stream.
    fn touch(&mut self, readings: &[Reading]) {
        let stream = readings[0].stream;
        let grows = readings.len() <= GROWS_BY && self.cache.grows(stream);
        let came = self.touched.entry(stream).or_insert_with(|| grows.then(Vec::new));
        match came {
            Some(came) if grows => came.extend(readings.iter().map(|r| (r.t, r.raw))),
            other => *other = None,
        }
    }
}

/// Readings of streams that begin within so many are written together: the streams of a message are one statement.
const AT_ONCE: usize = 4096;

/// `head` and then `group` once for each of so many rows.
pub(crate) fn rows_of(head: &str, group: &str, rows: usize) -> String {
    format!("{head} {}", vec![group; rows].join(","))
}

/// Writes readings that are not known, each as brought by its delivery. While one statement runs, the next one is bound.
pub(crate) async fn insert(
    connection: &mut SqliteConnection,
    batch_of: impl Fn(&Reading) -> i64,
    readings: &[Reading],
) -> Result<(), StoreError> {
    const HEAD: &str = "INSERT INTO reading (stream_id, t, raw, batch) VALUES";
    let text = |rows: usize| rows_of(HEAD, "(?,?,?,?)", rows);
    let (full, rest) = (text(ROWS.min(readings.len())), text(readings.len() % ROWS));
    let mut statements = readings.chunks(ROWS).map(|rows| {
        // The text is made of placeholders alone; every value is bound.
        let sql = if rows.len() == ROWS || readings.len() < ROWS { &full } else { &rest };
        rows.iter().fold(sqlx::query(sqlx::AssertSqlSafe(sql.as_str())), |query, r| {
            query.bind(r.stream).bind(r.t).bind(r.raw).bind(batch_of(r))
        })
    });
    let mut at_hand = statements.next();
    while let Some(statement) = at_hand {
        let (done, next) = join(statement.execute(&mut *connection), async { statements.next() }).await;
        done?;
        at_hand = next;
    }
    Ok(())
}

/// What a delivery brought of a stream: its number, first and last time, how many readings.
pub(crate) type Brought = (i64, i64, i64, i64);

/// What a delivery brought of a stream, with the delivery's number and when it was received.
pub(crate) struct FromOne {
    pub(crate) batch: i64,
    pub(crate) received_at: UnixSeconds,
    pub(crate) brought: Brought,
}

/// Whether a reading of this time is one of those that messages bring in time, a day late at most.
pub(crate) fn is_in_time(source: Source, received_at: UnixSeconds, t: i64) -> bool {
    source == Source::Message && (0..DAY).contains(&(received_at.0 - t))
}

/// Keeps what deliveries brought of each stream. What messages bring in time is kept by the day: a year of quarters of an hour is 365
/// rows a stream, not 35,000. Each reading still knows its own delivery.
pub(crate) async fn note_brought(
    connection: &mut SqliteConnection,
    source: Source,
    all: &[FromOne],
) -> Result<(), StoreError> {
    let (joining, own): (Vec<&FromOne>, Vec<&FromOne>) =
        all.iter().partition(|b| is_in_time(source, b.received_at, b.brought.1));
    if !joining.is_empty() {
        let rows: Vec<_> = joining.iter().map(|b| (b.brought, b.batch, b.received_at.0)).collect();
        let rows = serde_json::to_string(&rows)?;
        // Each row goes to the delivery of its day, if its stream has one, else it begins one.
        sqlx::query!(
            "INSERT INTO batch_stream (stream_id, batch_id, first, last, readings)
             SELECT j.value ->> '$[0][0]', coalesce((SELECT b.id FROM batch_stream o JOIN batch b ON b.id = o.batch_id
                     WHERE o.stream_id = j.value ->> '$[0][0]' AND b.source = 'message'
                     AND b.received_at BETWEEN (j.value ->> '$[2]') / 86400 * 86400 AND j.value ->> '$[2]'
                     AND b.received_at - o.first < 86400 ORDER BY o.batch_id DESC LIMIT 1), j.value ->> '$[1]'),
                 j.value ->> '$[0][1]', j.value ->> '$[0][2]', j.value ->> '$[0][3]'
             FROM json_each(?1) j WHERE true
             ON CONFLICT DO UPDATE SET first = min(first, excluded.first), last = max(last, excluded.last),
                 readings = readings + excluded.readings",
            rows
        )
        .execute(&mut *connection)
        .await?;
    }
    let own: Vec<(i64, Brought)> = own.into_iter().map(|b| (b.batch, b.brought)).collect();
    note_each(connection, &own).await
}

/// Keeps rows of what deliveries brought, each with the number of its delivery.
pub(crate) async fn note_each(connection: &mut SqliteConnection, all: &[(i64, Brought)]) -> Result<(), StoreError> {
    for rows in all.chunks(ROWS) {
        // A stream of two placements comes in two parts.
        let sql = rows_of("INSERT INTO batch_stream VALUES", "(?,?,?,?,?)", rows.len())
            + " ON CONFLICT DO UPDATE SET first = min(first, excluded.first), last = max(last, excluded.last),
                readings = readings + excluded.readings";
        let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
        for (batch, (stream, first, last, n)) in rows {
            query = query.bind(stream).bind(batch).bind(first).bind(last).bind(n);
        }
        query.execute(&mut *connection).await?;
    }
    Ok(())
}

/// Keeps readings beside the ones that they contradict, each as brought by its delivery.
pub(crate) async fn keep_beside(
    connection: &mut SqliteConnection,
    batch_of: impl Fn(&Reading) -> i64,
    repeats: &[Reading],
) -> Result<(), StoreError> {
    for r in repeats {
        let batch = batch_of(r);
        sqlx::query!(
            "INSERT OR IGNORE INTO repeated_reading (stream_id, t, raw, batch) VALUES (?, ?, ?, ?)",
            r.stream,
            r.t,
            r.raw,
            batch
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Of readings of one stream that contradict others, in order of time, those that are not kept beside them yet.
pub(crate) async fn unknown(
    connection: &mut SqliteConnection,
    repeats: Vec<Reading>,
) -> Result<Vec<Reading>, StoreError> {
    let Some((first, last)) = repeats.first().zip(repeats.last()) else { return Ok(repeats) };
    let kept = sqlx::query!(
        "SELECT t, raw FROM repeated_reading WHERE stream_id = ? AND t >= ? AND t <= ?",
        first.stream,
        first.t,
        last.t
    );
    let kept = kept.fetch_all(connection).await?;
    // Bits tell equal values from others; −0 is stored as 0.
    let key = |t: i64, raw: f64| (t, (raw + 0.0).to_bits());
    let mut known: HashSet<(i64, u64)> = kept.into_iter().map(|r| key(r.t, r.raw)).collect();
    Ok(repeats.into_iter().filter(|r| known.insert(key(r.t, r.raw))).collect())
}

/// Counts a change of streams: the stations that they belong to, and each stream with the number of its change.
pub(crate) async fn changed(
    connection: &mut SqliteConnection,
    streams: &[i64],
) -> Result<(BTreeSet<i64>, Vec<(i64, i64)>), StoreError> {
    let streams = serde_json::to_string(streams)?;
    let rows = sqlx::query!(
        r#"UPDATE stream SET changes = changes + 1 WHERE id IN (SELECT value FROM json_each(?))
           RETURNING id, changes, (SELECT station_id FROM node WHERE node.id = node_id) AS "station!: i64""#,
        streams
    );
    let rows = rows.fetch_all(connection).await?;
    Ok((rows.iter().map(|r| r.station).collect(), rows.iter().map(|r| (r.id, r.changes)).collect()))
}
