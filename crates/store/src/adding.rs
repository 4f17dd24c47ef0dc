//! Readings into their tables: what is known is told from what is new, and what is new is written in as few statements as it takes.

use crate::batches::{Origin, Source};
use crate::blocks::{Before, Renewal, month_of, read_months, renew_blocks};
use crate::readings::{Added, Reading};
use crate::{StoreError, Unit};
use ebrel_core::series::Series;
use sqlx::SqliteConnection;
use std::collections::{BTreeSet, HashMap, HashSet};

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
        let streams: Vec<i64> = readings.chunk_by(|a, b| a.stream == b.stream).map(|s| s[0].stream).collect();
        let ends = last_times(self.connection(), &streams).await?;
        let mut begun = None;
        let mut added = Added::default();
        let mut fresh = Vec::with_capacity(readings.len());
        let (mut brought, mut written, mut unwritten) = (Vec::new(), 0, Vec::new());
        for of_stream in readings.chunk_by(|a, b| a.stream == b.stream) {
            let (start, stream) = (fresh.len(), of_stream[0].stream);
            let end = ends.get(&stream).copied();
            let sorted = if end.is_none_or(|end| of_stream[0].t > end) && of_stream.windows(2).all(|w| w[0].t < w[1].t)
            {
                fresh.extend_from_slice(of_stream);
                SortedOut { repeats: Vec::new(), before: if end.is_some() { Before::Apart } else { Before::Nothing } }
            } else {
                sort_out(self.connection(), of_stream, &mut fresh, &mut added).await?
            };
            added.repeated += sorted.repeats.len();
            let repeats = unknown(self.connection(), sorted.repeats).await?;
            if repeats.is_empty() && fresh.len() == start {
                continue;
            }
            // What brings nothing is no delivery: a message that is sent for ever leaves no trace.
            self.touched.insert(stream);
            let batch = match begun {
                Some(batch) => batch,
                None => *begun.insert(self.begin_batch(origin).await?),
            };
            let tx = self.connection();
            keep_beside(tx, |_| batch, &repeats).await?;
            if let [first, .., last] | [first @ last] = &fresh[start..] {
                brought.push((first.stream, first.t, last.t, (fresh.len() - start) as i64));
            }
            unwritten.push((start, fresh.len(), sorted.before));
            if fresh.len() - written >= AT_ONCE {
                write(tx, batch, &fresh, std::mem::take(&mut unwritten)).await?;
                written = fresh.len();
            }
        }
        added.new = fresh.len();
        added.new_records = distinct_times(&fresh);
        added.known_records = distinct_times(&readings) - added.new_records;
        if let Some(batch) = begun {
            write(self.connection(), batch, &fresh, unwritten).await?;
            note_brought(self.connection(), batch, origin, &brought).await?;
        }
        Ok(added)
    }
}

/// Readings that wait to be written together: the streams of a message are one statement.
const AT_ONCE: usize = 4096;

/// Writes the readings of streams, which lie one after another, and puts their blocks right.
async fn write(
    connection: &mut SqliteConnection,
    batch: i64,
    fresh: &[Reading],
    streams: Vec<(usize, usize, Before)>,
) -> Result<(), StoreError> {
    let Some((from, to)) = streams.first().zip(streams.last()).map(|(a, b)| (a.0, b.1)) else { return Ok(()) };
    insert(connection, |_| batch, &fresh[from..to]).await?;
    let mut renewal = Renewal::default();
    for (start, end, before) in streams {
        renew_blocks(connection, &fresh[start..end], &before, &mut renewal).await?;
    }
    renewal.finish(connection).await
}

/// The last time of each stream that has readings.
async fn last_times(connection: &mut SqliteConnection, streams: &[i64]) -> Result<HashMap<i64, i64>, StoreError> {
    let streams = serde_json::to_string(streams)?;
    let rows = sqlx::query!(
        r#"SELECT value + 0 AS "stream!: i64", (SELECT t FROM reading WHERE stream_id = value ORDER BY t DESC LIMIT 1) AS "last: i64" FROM json_each(?)"#,
        streams
    );
    Ok(rows.fetch_all(connection).await?.into_iter().filter_map(|r| Some((r.stream, r.last?))).collect())
}

/// How many times readings have that lie in order of stream and time. Streams of one file mostly share all of theirs.
fn distinct_times(readings: &[Reading]) -> usize {
    let mut streams = readings.chunk_by(|a, b| a.stream == b.stream);
    let first = streams.next().unwrap_or_default();
    let mut times: Vec<i64> = first.iter().map(|r| r.t).collect();
    for stream in streams.filter(|s| !s.iter().map(|r| r.t).eq(first.iter().map(|r| r.t))) {
        times.extend(stream.iter().map(|r| r.t));
    }
    times.sort_unstable();
    times.dedup();
    times.len()
}

/// What is left to do after sorting out.
pub(crate) struct SortedOut {
    pub(crate) repeats: Vec<Reading>,
    pub(crate) before: Before,
}

/// Appends to `fresh` what is not known of one stream, counts what is, and returns what differs from the known.
pub(crate) async fn sort_out(
    connection: &mut SqliteConnection,
    readings: &[Reading],
    fresh: &mut Vec<Reading>,
    added: &mut Added,
) -> Result<SortedOut, StoreError> {
    let nothing = SortedOut { repeats: Vec::new(), before: Before::Nothing };
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
    let months = (month_of(first.t), month_of(last.t));
    let before = match (row.any, row.here) {
        (false, _) => Before::Nothing,
        (true, false) => Before::Apart,
        (true, true) => Before::Months(read_months(connection, first.stream, Some(months)).await?.0),
    };
    let none = Series::default();
    let known = if let Before::Months(known) = &before { known } else { &none };
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
    Ok(SortedOut { repeats, before })
}

/// `head` and then `group` once for each of so many rows.
pub(crate) fn rows_of(head: &str, group: &str, rows: usize) -> String {
    format!("{head} {}", vec![group; rows].join(","))
}

/// Writes readings that are not known, each as brought by its delivery.
pub(crate) async fn insert(
    connection: &mut SqliteConnection,
    batch_of: impl Fn(&Reading) -> i64,
    readings: &[Reading],
) -> Result<(), StoreError> {
    const HEAD: &str = "INSERT INTO reading (stream_id, t, raw, batch) VALUES";
    let full = rows_of(HEAD, "(?,?,?,?)", ROWS);
    for rows in readings.chunks(ROWS) {
        let short;
        let sql = if rows.len() == ROWS {
            &full
        } else {
            short = rows_of(HEAD, "(?,?,?,?)", rows.len());
            &short
        };
        // The text is made of placeholders alone; every value is bound.
        let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
        for r in rows {
            query = query.bind(r.stream).bind(r.t).bind(r.raw).bind(batch_of(r));
        }
        query.execute(&mut *connection).await?;
    }
    Ok(())
}

/// What a delivery brought of a stream: its number, first and last time, how many readings.
pub(crate) type Brought = (i64, i64, i64, i64);

/// Keeps what a delivery brought of each stream. What messages bring in time is kept by the day: a year of quarters of an hour is 365
/// rows a stream, not 35,000. Each reading still knows its own delivery.
async fn note_brought(
    connection: &mut SqliteConnection,
    batch: i64,
    origin: &Origin,
    all: &[Brought],
) -> Result<(), StoreError> {
    let in_time = |first: i64| origin.source == Source::Message && (0..DAY).contains(&(origin.received_at.0 - first));
    let today = origin.received_at.0.div_euclid(DAY) * DAY;
    let (joining, own): (Vec<Brought>, Vec<Brought>) = all.iter().partition(|b| in_time(b.1));
    if !joining.is_empty() {
        let rows = serde_json::to_string(&joining)?;
        // Each row goes to the delivery of its day, if its stream has one, else it begins one.
        sqlx::query!(
            "INSERT INTO batch_stream (stream_id, batch_id, first, last, readings)
             SELECT j.value ->> 0, coalesce((SELECT b.id FROM batch_stream o JOIN batch b ON b.id = o.batch_id
                     WHERE o.stream_id = j.value ->> 0 AND b.source = 'message' AND b.received_at BETWEEN ?2 AND ?3
                     AND b.received_at - o.first < 86400 ORDER BY o.batch_id DESC LIMIT 1), ?4),
                 j.value ->> 1, j.value ->> 2, j.value ->> 3
             FROM json_each(?1) j WHERE true
             ON CONFLICT DO UPDATE SET first = min(first, excluded.first), last = max(last, excluded.last),
                 readings = readings + excluded.readings",
            rows,
            today,
            origin.received_at.0,
            batch
        )
        .execute(&mut *connection)
        .await?;
    }
    let own: Vec<(i64, Brought)> = own.into_iter().map(|brought| (batch, brought)).collect();
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

/// Counts a change of streams; the stations that they belong to.
pub(crate) async fn changed(connection: &mut SqliteConnection, streams: &[i64]) -> Result<BTreeSet<i64>, StoreError> {
    let mut stations = BTreeSet::new();
    for rows in streams.chunks(ROWS) {
        let among = format!("({})", vec!["?"; rows.len()].join(","));
        let update = format!("UPDATE stream SET changes = changes + 1 WHERE id IN {among}");
        let belong =
            format!("SELECT DISTINCT n.station_id FROM stream s JOIN node n ON n.id = s.node_id WHERE s.id IN {among}");
        let mut query = sqlx::query(sqlx::AssertSqlSafe(update.as_str()));
        let mut of = sqlx::query_scalar::<_, i64>(sqlx::AssertSqlSafe(belong.as_str()));
        for stream in rows {
            (query, of) = (query.bind(stream), of.bind(stream));
        }
        query.execute(&mut *connection).await?;
        stations.extend(of.fetch_all(&mut *connection).await?);
    }
    Ok(stations)
}
