//! Long series, fast: months packed by `pco`.
//!
//! The truth is in `reading`. A block is a cache: the transaction that adds readings puts the blocks of the months that it touches
//! right or deletes them, and a read makes the missing ones again.

use crate::packing::{MONTH_S, Packed, insert_block, month_of, pack, unpack};
use crate::{Store, StoreError};
use ebrel_core::series::Series;
use std::collections::HashMap;
use std::sync::Arc;

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
        Ok(self.decode(&[stream]).await?.pop().map_or_else(Arc::default, |(_, series)| series))
    }

    /// As [`Self::series`], of each stream of a station by its number: they are read together.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn series_at(&self, station: i64) -> Result<HashMap<i64, Arc<Series>>, StoreError> {
        let streams = sqlx::query!(
            "SELECT s.id, s.changes FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?",
            station
        );
        let (mut all, mut missing) = (HashMap::new(), Vec::new());
        for stream in streams.fetch_all(&self.pool).await? {
            match self.cache.get(stream.id, stream.changes) {
                Some(series) => _ = all.insert(stream.id, series),
                None => missing.push(stream.id),
            }
        }
        for streams in missing.chunks(DECODED_AT_ONCE) {
            all.extend(self.decode(streams).await?);
        }
        Ok(all)
    }

    /// Gives up all decoded series in memory; the next read decodes them again.
    pub fn forget_all(&self) {
        self.cache.clear();
    }

    /// Reads streams from their blocks, and makes and keeps the missing ones. Each series goes to those in memory as soon as it is read:
    /// the next one shares its times.
    async fn decode(&self, streams: &[i64]) -> Result<Vec<(i64, Arc<Series>)>, StoreError> {
        let asked = serde_json::to_string(streams)?;
        let mut tx = self.pool.begin().await?;
        let changes = sqlx::query!(
            r#"SELECT id, changes, EXISTS (SELECT 1 FROM repeated_reading WHERE stream_id = s.id) AS "repeats!: bool"
               FROM stream s WHERE id IN (SELECT value FROM json_each(?))"#,
            asked
        );
        let changes = changes.fetch_all(&mut *tx).await?;
        let (mut all, mut to_keep) = (Vec::with_capacity(streams.len()), Vec::new());
        let mut months = Months::of(&mut tx, streams, None).await?;
        for stream in changes {
            let (mut series, mut made) = months.read(&mut tx, stream.id).await?;
            // Blocks hold what came; what is meant where it came twice is put in when they are read.
            if stream.repeats {
                crate::choices::apply(&mut tx, stream.id, &mut series).await?;
            }
            // The last month still grows: packing it at each read would have readers wait for whoever writes.
            let last = series.times.last().map(|t| month_of(*t));
            made.retain(|(month, _)| Some(*month) != last);
            if !made.is_empty() {
                to_keep.push((stream.id, made, stream.changes));
            }
            all.push((stream.id, self.cache.put(stream.id, series, stream.changes, !stream.repeats)));
        }
        tx.rollback().await?;
        for (stream, made, change) in to_keep {
            self.keep_blocks(stream, made, change).await;
        }
        Ok(all)
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

/// Streams that are looked up together.
const DECODED_AT_ONCE: usize = 100;

/// Readings of a stream as this connection sees them, from one month to another (inclusive).
pub(crate) async fn read_months(
    connection: &mut sqlx::SqliteConnection,
    stream: i64,
    only: (i64, i64),
) -> Result<Series, StoreError> {
    Ok(Months::of(connection, &[stream], Some(only)).await?.read(connection, stream).await?.0)
}

/// Blocks that are in memory at once, about: so many months of one stream, or one month of so many.
const BLOCKS_AT_ONCE: usize = 200;

/// Which months streams have, and the blocks of those that are read next.
struct Months {
    there: HashMap<i64, Vec<i64>>,
    /// First and last month that are asked for.
    only: (i64, i64),
    /// Streams whose blocks are not in memory yet.
    unread: Vec<i64>,
    packed: HashMap<(i64, i64), Packed>,
}

impl Months {
    /// Looks streams up, all of them or from one month to another (inclusive).
    async fn of(
        connection: &mut sqlx::SqliteConnection,
        streams: &[i64],
        only: Option<(i64, i64)>,
    ) -> Result<Self, StoreError> {
        let asked = serde_json::to_string(streams)?;
        // Two months of the calendar's far ends still make seconds.
        let (first, last) = only.unwrap_or((i64::MIN / MONTH_S + 1, i64::MAX / MONTH_S - 1));
        let (from_t, to_t) = (first * MONTH_S, (last + 1) * MONTH_S);
        let months = sqlx::query!(
            // A division of SQLite cuts towards zero; a month before 1970 begins below.
            r#"WITH RECURSIVE earliest(stream, t) AS (
                SELECT j.value, (SELECT min(t) FROM reading WHERE stream_id = j.value AND t >= ?2 AND t < ?3)
                FROM json_each(?1) j
                UNION ALL
                SELECT e.stream, (SELECT min(r.t) FROM reading r WHERE r.stream_id = e.stream AND r.t < ?3
                        AND r.t >= ((e.t - (e.t < 0) * 2629799) / 2629800 + 1) * 2629800)
                FROM earliest e WHERE e.t IS NOT NULL
            ) SELECT stream AS "stream!: i64", (t - (t < 0) * 2629799) / 2629800 AS "m!: i64"
            FROM earliest WHERE t IS NOT NULL ORDER BY 1, 2"#,
            asked,
            from_t,
            to_t
        );
        let mut there: HashMap<i64, Vec<i64>> = HashMap::new();
        for row in months.fetch_all(&mut *connection).await? {
            there.entry(row.stream).or_default().push(row.m);
        }
        Ok(Self { there, only: (first, last), unread: streams.to_vec(), packed: HashMap::new() })
    }

    /// Reads the blocks of a stream, and of others while there is room, unless they were read with those of another.
    async fn fetch(&mut self, connection: &mut sqlx::SqliteConnection, stream: i64) -> Result<(), StoreError> {
        let Some(own) = self.unread.iter().position(|s| *s == stream) else { return Ok(()) };
        let mut now = vec![self.unread.swap_remove(own)];
        let months = |stream: &i64| self.there.get(stream).map_or(0, Vec::len);
        let mut blocks = months(&stream);
        while let Some(next) = self.unread.last()
            && blocks + months(next) <= BLOCKS_AT_ONCE
        {
            blocks += months(next);
            now.extend(self.unread.pop());
        }
        let ((first, last), now) = (self.only, serde_json::to_string(&now)?);
        let blocks = sqlx::query!(
            r#"SELECT stream_id, month, times AS "times!", raws AS "raws!" FROM month_block
               WHERE stream_id IN (SELECT value FROM json_each(?)) AND month >= ? AND month <= ?"#,
            now,
            first,
            last
        );
        let blocks = blocks.fetch_all(&mut *connection).await?.into_iter();
        let packed = blocks.map(|b| ((b.stream_id, b.month), Packed { times: b.times, raws: b.raws }));
        self.packed.extend(packed);
        Ok(())
    }

    /// The readings of one of the streams, and the blocks that had to be made anew.
    async fn read(
        &mut self,
        connection: &mut sqlx::SqliteConnection,
        stream: i64,
    ) -> Result<(Series, Vec<(i64, Packed)>), StoreError> {
        self.fetch(connection, stream).await?;
        let (mut all_times, mut values) = (Vec::new(), Vec::new());
        let mut made = Vec::new();
        for month in self.there.remove(&stream).unwrap_or_default() {
            if let Some(block) = self.packed.remove(&(stream, month)) {
                if let Some((times, raws)) = unpack(&block) {
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
}

#[cfg(test)]
mod tests {
    use super::*;
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
                as_packed().await.chunk_by(|a, b| a.0 * 900 / MONTH_S == b.0 * 900 / MONTH_S).count() as i64
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
    async fn a_series_in_memory_grows_with_what_comes_as_if_it_were_read_anew() {
        let (store, dir) = store().await;
        let streams = [crate::stations::testing::stream(&store).await, second_stream(&store).await];
        let add = async |store: &Store, times: &[i64]| {
            let of = |stream| times.iter().map(move |i| Reading { stream, t: i * 900, raw: (*i as f64).sin() });
            store.add_readings(&HAND, streams.into_iter().flat_map(of).collect()).await.unwrap();
        };
        let series = async || {
            let held = [store.series(streams[0]).await.unwrap(), store.series(streams[1]).await.unwrap()];
            assert!(Arc::ptr_eq(&held[0].times, &held[1].times), "times are held once");
            held
        };
        let as_read = async |store: &Store| {
            store.forget_all();
            store.series(streams[0]).await.unwrap()
        };
        add(&store, &(0..6000).filter(|i| i % 2 == 0).collect::<Vec<_>>()).await;
        let first = series().await;
        // After the end, before the beginning, between, known already; one message after another, or several before somebody asks.
        for (asked, times) in [
            (true, &[6000][..]),
            (true, &[6001, 6005, 6003]),
            (true, &[-7, 3, 4001, 6002]),
            (true, &[6005, 3]),
            (false, &[6010, 1]),
            (false, &[6004, -9]),
            (true, &[6011]),
        ] {
            add(&store, times).await;
            if asked {
                let held = series().await;
                assert_eq!(held[0], as_read(&store).await, "{times:?}");
                series().await;
            }
        }
        assert_eq!(first[0].len(), 3000, "what somebody holds stays as it was");
        // A row that is gone behind its back shows that nothing is read: the series only grows.
        sqlx::query("DELETE FROM reading WHERE t = 6001 * 900").execute(&store.pool).await.unwrap();
        add(&store, &[6012]).await;
        let grown = series().await;
        assert_eq!(grown[0].times.iter().filter(|t| **t == 6001 * 900).count(), 1);
        // Another process writes between: what it brought is read.
        let other = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
        add(&other, &[6013]).await;
        add(&store, &[6014]).await;
        assert_eq!(series().await[0].len(), grown[0].len() + 1, "one is gone, and two came");
        // What contradicts is no growth, nor what comes after it: a choice may say what is meant.
        store.add_readings(&HAND, vec![Reading { stream: streams[0], t: 0, raw: 9.0 }]).await.unwrap();
        add(&store, &[6015]).await;
        let held = store.series(streams[0]).await.unwrap();
        assert_eq!((held.len(), held.clone()), (grown[0].len() + 2, as_read(&store).await));
        sqlx::query("DELETE FROM reading WHERE t = 6003 * 900").execute(&store.pool).await.unwrap();
        add(&store, &[6016]).await;
        assert_eq!(*store.series(streams[0]).await.unwrap().times, *as_read(&store).await.times);
    }

    async fn second_stream(store: &Store) -> i64 {
        let node = store.ensure_node(1, "n").await.unwrap();
        store.ensure_stream(node, "second", ebrel_core::units::Quantity::RawOutput, "mV", None).await.unwrap()
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
