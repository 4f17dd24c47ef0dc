//! Long series, fast: months packed by `pco`.
//!
//! The truth is in `reading`. A block is a cache: the transaction that adds readings puts the blocks of the months that it touches
//! right or deletes them, and a read makes the missing ones again.

use crate::adding::rows_of;
use crate::readings::Reading;
use crate::{Store, StoreError};
use ebrel_core::series::Series;
use ebrel_core::units::UnixSeconds;
use pco::standalone::simple_compress;
use std::collections::HashMap;
use std::sync::Arc;

/// Months are 30.4375 days here: what matters is that every second belongs to exactly one.
const MONTH_S: i64 = 2_629_800;

/// The month a second belongs to.
#[must_use]
pub(crate) fn month_of(t: i64) -> i64 {
    t.div_euclid(MONTH_S)
}

impl Store {
    /// All readings of a stream in order of time. The first call decodes them, later ones share the result as long as the
    /// database's own count of the stream's changes stands: another process may have stored readings.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn series(&self, stream: i64) -> Result<Arc<Series>, StoreError> {
        let change = sqlx::query_scalar!("SELECT changes FROM stream WHERE id = ?", stream)
            .fetch_optional(&self.pool)
            .await?
            .unwrap_or(0);
        self.decoded(stream, change).await
    }

    /// As [`Self::series`], of each stream of a station by its number: what changed is asked for at once.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn series_at(&self, station: i64) -> Result<HashMap<i64, Arc<Series>>, StoreError> {
        let streams = sqlx::query!(
            "SELECT s.id, s.changes FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?",
            station
        );
        let mut all = HashMap::new();
        for stream in streams.fetch_all(&self.pool).await? {
            all.insert(stream.id, self.decoded(stream.id, stream.changes).await?);
        }
        Ok(all)
    }

    async fn decoded(&self, stream: i64, change: i64) -> Result<Arc<Series>, StoreError> {
        if let Some(series) = self.cache.get(stream, change) {
            return Ok(series);
        }
        let (series, change) = self.decode(stream).await?;
        Ok(self.cache.put(stream, series, change))
    }

    /// Gives up all decoded series in memory; the next read decodes them again.
    pub fn forget_all(&self) {
        self.cache.clear();
    }

    /// Reads a stream from its blocks, and makes and keeps the missing ones; with the change that it was read at.
    async fn decode(&self, stream: i64) -> Result<(Series, i64), StoreError> {
        let mut tx = self.pool.begin().await?;
        let change = sqlx::query_scalar!("SELECT changes FROM stream WHERE id = ?", stream)
            .fetch_optional(&mut *tx)
            .await?
            .unwrap_or(0);
        let (mut series, mut made) = read_months(&mut tx, stream, None).await?;
        // Blocks hold what came; what is meant where it came twice is put in when they are read.
        crate::choices::apply(&mut tx, stream, &mut series).await?;
        tx.rollback().await?;
        // The last month still grows: packing it at each read would have readers wait for whoever writes.
        let last = series.times.last().map(|t| month_of(*t));
        made.retain(|(month, _)| Some(*month) != last);
        if !made.is_empty() {
            self.keep_blocks(stream, made, change).await;
        }
        Ok((series, change))
    }

    /// Writes blocks that a read has made, unless readings came meanwhile. A failure costs only time.
    async fn keep_blocks(&self, stream: i64, made: Vec<(i64, Packed)>, change: i64) {
        let kept: Result<(), StoreError> = async {
            let mut tx = self.write().await?;
            let now =
                sqlx::query_scalar!("SELECT changes FROM stream WHERE id = ?", stream).fetch_optional(&mut *tx).await?;
            if now == Some(change) {
                for (month, block) in made {
                    insert_block(&mut tx, stream, month, &block).await?;
                }
            }
            tx.commit().await?;
            Ok(())
        }
        .await;
        if let Err(error) = kept {
            tracing::warn!(stream, %error, "packed months could not be kept; the next read makes them again");
        }
    }
}

/// Readings of a stream as this connection sees them, all or those from one month to another (inclusive), and the blocks that
/// had to be made anew.
pub(crate) async fn read_months(
    connection: &mut sqlx::SqliteConnection,
    stream: i64,
    only: Option<(i64, i64)>,
) -> Result<(Series, Vec<(i64, Packed)>), StoreError> {
    // Two months of the calendar's far ends still make seconds.
    let (first, last) = only.unwrap_or((i64::MIN / MONTH_S + 1, i64::MAX / MONTH_S - 1));
    let (from_t, to_t) = (first * MONTH_S, (last + 1) * MONTH_S);
    let months = sqlx::query_scalar!(
        // A division of SQLite cuts towards zero; a month before 1970 begins below.
        r#"WITH RECURSIVE earliest(t) AS (
            SELECT (SELECT min(t) FROM reading WHERE stream_id = ?1 AND t >= ?2 AND t < ?3)
            UNION ALL
            SELECT (SELECT min(r.t) FROM reading r WHERE r.stream_id = ?1 AND r.t < ?3
                    AND r.t >= ((e.t - (e.t < 0) * 2629799) / 2629800 + 1) * 2629800)
            FROM earliest e WHERE e.t IS NOT NULL
        ) SELECT (t - (t < 0) * 2629799) / 2629800 AS "m!: i64" FROM earliest WHERE t IS NOT NULL"#,
        stream,
        from_t,
        to_t
    )
    .fetch_all(&mut *connection)
    .await?;
    let blocks = sqlx::query!(
        r#"SELECT month, times AS "times!", raws AS "raws!" FROM month_block
           WHERE stream_id = ? AND month >= ? AND month <= ? ORDER BY month"#,
        stream,
        first,
        last
    )
    .fetch_all(&mut *connection)
    .await?;
    let mut packed: HashMap<i64, _> = blocks.into_iter().map(|b| (b.month, (b.times, b.raws))).collect();
    let (mut all_times, mut values) = (Vec::new(), Vec::new());
    let mut made = Vec::new();
    for month in months {
        if let Some((times, raws)) = packed.remove(&month) {
            if let Some((times, raws)) = unpack(&times, &raws) {
                all_times.extend(times);
                values.extend(raws);
                continue;
            }
            tracing::warn!(stream, month, "a packed month is damaged; it is made again from its readings");
        }
        let (from, to) = (month * MONTH_S, (month + 1) * MONTH_S);
        let rows = sqlx::query!(
            "SELECT t, raw FROM reading WHERE stream_id = ? AND t >= ? AND t < ? ORDER BY t",
            stream,
            from,
            to
        )
        .fetch_all(&mut *connection)
        .await?;
        let start = values.len();
        all_times.extend(rows.iter().map(|r| r.t));
        values.extend(rows.iter().map(|r| r.raw));
        made.push((month, pack(&all_times[start..], &values[start..])?));
    }
    // It may stay in memory for long.
    values.shrink_to_fit();
    Ok((Series { times: all_times.into(), values }, made))
}

/// What a stream held before, as far as new readings meet it.
pub(crate) enum Before {
    /// The stream held nothing at all.
    Nothing,
    /// Nothing between the first and the last of them.
    Apart,
    /// All of the months that they touch.
    Months(Series),
}

/// New readings of a stream for which its months are packed at once; fewer, as a message brings them, leave that to the next read.
const WORTH_PACKING: usize = 500;

/// Puts the blocks of the months right that new readings of one stream touch, which are written already: packed with them where that
/// is known or quickly learnt, else dropped. A file that came in pieces then reads back fast without going through its rows.
pub(crate) async fn renew_blocks(
    connection: &mut sqlx::SqliteConnection,
    readings: &[Reading],
    before: &Before,
    renewal: &mut Renewal,
) -> Result<(), StoreError> {
    let Some((first, last)) = readings.first().zip(readings.last()) else { return Ok(()) };
    let (first_month, last_month) = (month_of(first.t), month_of(last.t));
    for new in readings.chunk_by(|a, b| month_of(a.t) == month_of(b.t)) {
        let month = month_of(new[0].t);
        let within = first_month < month && month < last_month;
        let there = match before {
            Before::Nothing => Some(Series::default()),
            Before::Apart if within => Some(Series::default()),
            _ if readings.len() < WORTH_PACKING => None,
            Before::Apart => at_the_edge(connection, first.stream, month, (first.t, last.t)).await?,
            Before::Months(known) => {
                let view = known.between(UnixSeconds(month * MONTH_S), UnixSeconds((month + 1) * MONTH_S));
                Some(Series { times: view.times.into(), values: view.values.to_vec() })
            }
        };
        match there {
            Some(there) => {
                let (times, raws) = with_new(&there, new);
                let block = renewal.pack(times, &raws)?;
                renewal.packed.push((first.stream, month, block));
            }
            None => renewal.stale.push((first.stream, month)),
        }
    }
    Ok(())
}

/// Blocks that several streams get or lose together: streams of one file share their times, which are packed once.
#[derive(Default)]
pub(crate) struct Renewal {
    stale: Vec<(i64, i64)>,
    packed: Vec<(i64, i64, Packed)>,
    times: Option<(Vec<i64>, Vec<u8>)>,
}

impl Renewal {
    fn pack(&mut self, times: Vec<i64>, raws: &[f64]) -> Result<Packed, StoreError> {
        let packed = match &self.times {
            Some((same, packed)) if *same == times => packed.clone(),
            _ => {
                let packed = simple_compress(&times, &config())?;
                self.times = Some((times, packed.clone()));
                packed
            }
        };
        Ok(Packed { times: packed, raws: simple_compress(raws, &config())? })
    }

    /// Writes what is packed, and throws away what does not tell all any more.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub(crate) async fn finish(self, connection: &mut sqlx::SqliteConnection) -> Result<(), StoreError> {
        for blocks in self.packed.chunks(BLOCKS_AT_ONCE) {
            let sql = rows_of(
                "INSERT OR REPLACE INTO month_block (stream_id, month, times, raws) VALUES",
                "(?,?,?,?)",
                blocks.len(),
            );
            let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
            for (stream, month, block) in blocks {
                query = query.bind(stream).bind(month).bind(&block.times).bind(&block.raws);
            }
            query.execute(&mut *connection).await?;
        }
        if self.stale.is_empty() {
            return Ok(());
        }
        let stale = serde_json::to_string(&self.stale)?;
        sqlx::query!(
            "DELETE FROM month_block WHERE (stream_id, month) IN (SELECT value ->> 0, value ->> 1 FROM json_each(?))",
            stale
        )
        .execute(connection)
        .await?;
        Ok(())
    }
}

/// Blocks that are written with one statement.
const BLOCKS_AT_ONCE: usize = 100;

/// What a month held beside readings from `from` to `to`, by its block; `None` if that has to be read from its rows.
async fn at_the_edge(
    connection: &mut sqlx::SqliteConnection,
    stream: i64,
    month: i64,
    (from, to): (i64, i64),
) -> Result<Option<Series>, StoreError> {
    let block = sqlx::query!(
        r#"SELECT times AS "times!", raws AS "raws!" FROM month_block WHERE stream_id = ? AND month = ?"#,
        stream,
        month
    )
    .fetch_optional(&mut *connection)
    .await?;
    if let Some((times, values)) = block.and_then(|b| unpack(&b.times, &b.raws)) {
        return Ok(Some(Series { times: times.into(), values }));
    }
    let (begins, ends) = (month * MONTH_S, (month + 1) * MONTH_S);
    let others = sqlx::query_scalar!(
        r#"SELECT EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1 AND t >= ?2 AND t < ?3)
               OR EXISTS (SELECT 1 FROM reading WHERE stream_id = ?1 AND t > ?4 AND t < ?5) AS "any!: bool""#,
        stream,
        begins,
        from,
        to,
        ends
    )
    .fetch_one(&mut *connection)
    .await?;
    Ok((!others).then(Series::default))
}

/// Times and values of a month in order of time: what was there, and new readings at other times.
fn with_new(there: &Series, new: &[Reading]) -> (Vec<i64>, Vec<f64>) {
    let old = there.times.iter().copied().zip(there.values.iter().copied());
    let mut all: Vec<(i64, f64)> = old.chain(new.iter().map(|r| (r.t, r.raw))).collect();
    // Two sorted runs: merged, not sorted anew.
    all.sort_by_key(|r| r.0);
    all.into_iter().unzip()
}

/// Times and values of one month, packed.
pub(crate) struct Packed {
    times: Vec<u8>,
    raws: Vec<u8>,
}

/// Unpacks one month; `None` if the block is damaged: it is a cache, and the readings stand.
fn unpack(times: &[u8], raws: &[u8]) -> Option<(Vec<i64>, Vec<f64>)> {
    let times = pco::standalone::simple_decompress::<i64>(times).ok()?;
    let raws = pco::standalone::simple_decompress::<f64>(raws).ok()?;
    (times.len() == raws.len()).then_some((times, raws))
}

/// Packs one month.
fn pack(times: &[i64], raws: &[f64]) -> Result<Packed, StoreError> {
    Ok(Packed { times: simple_compress(times, &config())?, raws: simple_compress(raws, &config())? })
}

fn config() -> pco::ChunkConfig {
    pco::ChunkConfig::default().with_compression_level(4)
}

/// Keeps a packed month in the place of an older one.
async fn insert_block(
    tx: &mut sqlx::SqliteConnection,
    stream: i64,
    month: i64,
    block: &Packed,
) -> Result<(), StoreError> {
    sqlx::query!(
        "INSERT OR REPLACE INTO month_block (stream_id, month, times, raws) VALUES (?, ?, ?, ?)",
        stream,
        month,
        block.times,
        block.raws
    )
    .execute(tx)
    .await?;
    Ok(())
}

#[cfg(test)]
mod tests {
    use crate::batches::testing::HAND;
    use crate::database::testing::store;
    use crate::readings::Reading;

    #[tokio::test]
    async fn packed_months_give_back_every_bit_and_see_late_readings() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let readings: Vec<Reading> =
            (0..6000).map(|i| Reading { stream, t: i * 900, raw: (i as f64 * 0.1).sin() * 900.1 }).collect();
        store.add_readings(&HAND, readings.clone()).await.unwrap();
        let cold = store.series(stream).await.unwrap();
        store.forget_all();
        let from_blocks = store.series(stream).await.unwrap();
        assert_eq!(cold, from_blocks);
        assert_eq!(from_blocks.values, readings.iter().map(|r| r.raw).collect::<Vec<_>>());

        store.add_readings(&HAND, vec![Reading { stream, t: 450, raw: 1.5 }]).await.unwrap();
        assert_eq!(store.series(stream).await.unwrap().times[..3], [0, 450, 900]);
        let later: Vec<Reading> =
            (6000..15_000).map(|i| Reading { stream, t: i * 900, raw: f64::from(i as i32) }).collect();
        store.add_readings(&HAND, later).await.unwrap();
        let all = store.series(stream).await.unwrap();
        assert_eq!((all.len(), all.values[15_000]), (15_001, 14_999.0), "months on either side of a border");
        assert!(all.times.windows(2).all(|w| w[0] < w[1]));
    }

    #[tokio::test]
    async fn pieces_of_a_file_leave_every_month_packed_in_any_order_and_a_message_leaves_it_to_the_next_read() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let reading = |i: i64| Reading { stream, t: i * 900, raw: (i as f64 * 0.37).sin() };
        let packed =
            async || sqlx::query_scalar!("SELECT count(*) FROM month_block").fetch_one(&store.pool).await.unwrap();
        let as_packed = async || {
            store.forget_all();
            let series = store.series(stream).await.unwrap();
            series.times.iter().map(|t| t / 900).zip(series.values.iter().copied()).collect::<Vec<_>>()
        };
        let as_stored = |kept: &dyn Fn(i64) -> bool| -> Vec<(i64, f64)> {
            (0..9000).filter(|i| kept(*i)).map(|i| (i, reading(i).raw)).collect()
        };
        // The middle, the end, the beginning, each cut within a month; then what was left out of the middle.
        for piece in [3000..5000, 5000..9000, 0..3000] {
            store.add_readings(&HAND, piece.filter(|i| i % 3 > 0).map(reading).collect()).await.unwrap();
            assert_eq!(
                packed().await,
                as_packed().await.chunk_by(|a, b| a.0 * 900 / super::MONTH_S == b.0 * 900 / super::MONTH_S).count()
                    as i64
            );
        }
        assert_eq!(as_packed().await, as_stored(&|i| i % 3 > 0));
        let months = packed().await;
        store.add_readings(&HAND, (2000..6000).filter(|i| i % 3 == 0).map(reading).collect()).await.unwrap();
        assert_eq!(packed().await, months);
        let filled = |i: i64| i % 3 > 0 || (2000..6000).contains(&i);
        assert_eq!(as_packed().await, as_stored(&filled));
        store.add_readings(&HAND, vec![reading(0), reading(6000)]).await.unwrap();
        assert_eq!(packed().await, months - 2, "two months wait");
        assert_eq!(as_packed().await, as_stored(&|i| filled(i) || i == 0 || i == 6000));
    }

    #[tokio::test]
    async fn a_record_from_before_1970_is_read_whole() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let readings: Vec<Reading> =
            (-9000..200).map(|i| Reading { stream, t: i * 900 + 7, raw: f64::from(i as i32) }).collect();
        store.add_readings(&HAND, readings).await.unwrap();
        for _ in 0..2 {
            assert_eq!(store.series(stream).await.unwrap().len(), 9200);
            store.forget_all();
            sqlx::query!("DELETE FROM month_block").execute(&store.pool).await.unwrap();
        }
    }
}
