//! Long series, fast: months packed by `pco`, and a bounded cache of decoded series.
//!
//! The truth is in `reading`. A block is a cache: the transaction that adds readings deletes the blocks of the
//! months it touches, and a read makes the missing ones again.

use crate::{Store, StoreError};
use ebrel_core::series::Series;
use lru::LruCache;
use std::collections::HashMap;
use std::num::NonZeroUsize;
use std::sync::{Arc, Mutex, PoisonError};

/// Months are 30.4375 days here: what matters is that every second belongs to exactly one.
const MONTH_S: i64 = 2_629_800;
/// Readings held decoded in memory, all streams together (16 bytes each).
const CACHE_READINGS: usize = 40_000_000;

/// The month a second belongs to.
#[must_use]
pub(crate) fn month_of(t: i64) -> i64 {
    t.div_euclid(MONTH_S)
}

/// Decoded series by stream, the ones used longest ago given up first.
pub(crate) struct SeriesCache {
    state: Mutex<CacheState>,
}

struct CacheState {
    /// Each series with the change of its stream that it was decoded at.
    series: LruCache<i64, (i64, Arc<Series>)>,
    readings: usize,
}

impl Default for SeriesCache {
    fn default() -> Self {
        let series = LruCache::new(NonZeroUsize::MAX.min(NonZeroUsize::new(1 << 16).unwrap_or(NonZeroUsize::MIN)));
        Self { state: Mutex::new(CacheState { series, readings: 0 }) }
    }
}

impl SeriesCache {
    fn lock(&self) -> std::sync::MutexGuard<'_, CacheState> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The series of a stream, if it was decoded at this change of it.
    fn get(&self, stream: i64, change: i64) -> Option<Arc<Series>> {
        let mut state = self.lock();
        let (at, series) = state.series.get(&stream)?;
        (*at == change).then(|| Arc::clone(series))
    }

    fn put(&self, stream: i64, series: &Arc<Series>, change: i64) {
        let mut state = self.lock();
        state.readings += series.len();
        if let Some((_, (_, old))) = state.series.push(stream, (change, Arc::clone(series))) {
            state.readings -= old.len();
        }
        while state.readings > CACHE_READINGS && state.series.len() > 1 {
            if let Some((_, (_, old))) = state.series.pop_lru() {
                state.readings -= old.len();
            }
        }
    }
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
        if let Some(series) = self.cache.get(stream, change) {
            return Ok(series);
        }
        let (series, change) = self.decode(stream).await?;
        let series = Arc::new(series);
        self.cache.put(stream, &series, change);
        Ok(series)
    }

    /// Gives up all decoded series in memory; the next read decodes them again.
    pub fn forget_all(&self) {
        let mut state = self.cache.lock();
        state.series.clear();
        state.readings = 0;
    }

    /// Reads a stream from its blocks, and makes and keeps the missing ones; with the change that it was read at.
    async fn decode(&self, stream: i64) -> Result<(Series, i64), StoreError> {
        let mut tx = self.pool.begin().await?;
        let change = sqlx::query_scalar!("SELECT changes FROM stream WHERE id = ?", stream)
            .fetch_optional(&mut *tx)
            .await?
            .unwrap_or(0);
        let (series, made) = read_months(&mut tx, stream, None).await?;
        tx.rollback().await?;
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
    let mut series = Series::default();
    let mut made = Vec::new();
    for month in months {
        if let Some((times, raws)) = packed.remove(&month) {
            if let Some((times, raws)) = unpack(&times, &raws) {
                series.times.extend(times);
                series.values.extend(raws);
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
        let start = series.len();
        series.times.extend(rows.iter().map(|r| r.t));
        series.values.extend(rows.iter().map(|r| r.raw));
        made.push((month, pack(&series.times[start..], &series.values[start..])?));
    }
    Ok((series, made))
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
pub(crate) fn pack(times: &[i64], raws: &[f64]) -> Result<Packed, StoreError> {
    let config = pco::ChunkConfig::default().with_compression_level(4);
    Ok(Packed {
        times: pco::standalone::simple_compress(times, &config)?,
        raws: pco::standalone::simple_compress(raws, &config)?,
    })
}

/// Keeps a packed month in the place of an older one.
pub(crate) async fn insert_block(
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
