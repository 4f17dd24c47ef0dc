//! Messages that were taken and are not sorted in yet. While many come at once, each is one row at the end of one table, and its
//! sender is answered; a moment later all are sorted into `reading` together, by range.

use crate::adding::{Brought, DAY, FromOne, ROWS, is_in_time, note_brought, rows_of};
use crate::batches::Source;
use crate::readings::Reading;
use crate::sorting::{sort_out_all, standing};
use crate::{Store, StoreError, Unit};
use ebrel_core::units::UnixSeconds;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Messages that are sorted in by one action: others wait for the write lock meanwhile.
const AT_ONCE: i64 = 20_000;

impl Store {
    /// Sorts in what waits in the inbox: the server that took it may have been killed. Returns how many messages it was.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses; what was not sorted in waits on.
    pub async fn empty_inbox(&self) -> Result<usize, StoreError> {
        let mut messages = 0;
        while sqlx::query_scalar!(r#"SELECT EXISTS (SELECT 1 FROM inbox) AS "any!: bool""#)
            .fetch_one(&self.pool)
            .await?
        {
            let mut unit = self.unit().await?;
            messages += unit.sort_in().await?;
            unit.commit().await?;
        }
        Ok(messages)
    }
}

impl Unit {
    /// Keeps messages in the inbox, each with when it was received.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_in_inbox(&mut self, messages: &[(UnixSeconds, Vec<Reading>)]) -> Result<(), StoreError> {
        for rows in messages.chunks(ROWS) {
            let sql = rows_of("INSERT INTO inbox (received_at, readings) VALUES", "(?,?)", rows.len());
            let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
            for (received_at, readings) in rows {
                query = query.bind(received_at.0).bind(packed(readings));
            }
            query.execute(self.connection()).await?;
        }
        Ok(())
    }

    /// The value that stands at each of these streams and times where one is stored; the inbox is not asked.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn standing(&mut self, asked: &[(i64, i64)]) -> Result<HashMap<(i64, i64), f64>, StoreError> {
        standing(self.connection(), asked).await
    }

    /// Sorts the first messages of the inbox in, each as a delivery of its own. Returns how many.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn sort_in(&mut self) -> Result<usize, StoreError> {
        let messages = sqlx::query!("SELECT id, received_at, readings FROM inbox ORDER BY id LIMIT ?", AT_ONCE);
        let messages = messages.fetch_all(self.connection()).await?;
        let Some(last) = messages.last().map(|m| m.id) else { return Ok(0) };
        let each = messages.iter().enumerate();
        let mut all: Vec<(Reading, usize)> =
            each.flat_map(|(i, m)| unpacked(&m.readings).map(move |reading| (reading, i))).collect();
        // Of readings of one stream and time the one that came first stands.
        all.sort_by_key(|(r, i)| (r.stream, r.t, *i));
        let readings: Vec<Reading> = all.iter().map(|(r, _)| *r).collect();
        let sorted = sort_out_all(self.connection(), &readings).await?;
        if !sorted.is_empty() {
            let by = |r: &Reading| {
                let alike = &all[readings.partition_point(|known| (known.stream, known.t) < (r.stream, r.t))..];
                alike.iter().find(|(known, _)| known.raw == r.raw).map_or(0, |(_, message)| *message)
            };
            // What brings nothing is no delivery.
            let bring: BTreeSet<usize> = sorted.fresh.iter().chain(&sorted.repeats).map(by).collect();
            let received = bring.iter().map(|i| messages[*i].received_at);
            let begun = self.begin_batches(Source::Message, &received.collect::<Vec<_>>()).await?;
            let mut numbers = vec![0; messages.len()];
            bring.iter().zip(begun).for_each(|(message, number)| numbers[*message] = number);
            self.write_sorted(&sorted, |r| numbers[by(r)]).await?;
            let mut each: BTreeMap<(i64, usize), Brought> = BTreeMap::new();
            for r in &sorted.fresh {
                let brought = each.entry((r.stream, by(r))).or_insert((r.stream, r.t, r.t, 0));
                *brought = also(*brought, (r.stream, r.t, r.t, 1));
            }
            // What came in time is listed by the day, under the first of them.
            let mut of: BTreeMap<(i64, i64, Option<usize>), FromOne> = BTreeMap::new();
            for ((stream, message), brought) in each {
                let received_at = UnixSeconds(messages[message].received_at);
                let late = !is_in_time(Source::Message, received_at, brought.1);
                let row = of.entry((stream, received_at.0.div_euclid(DAY), late.then_some(message)));
                row.and_modify(|row| row.brought = also(row.brought, brought)).or_insert(FromOne {
                    batch: numbers[message],
                    received_at,
                    brought,
                });
            }
            note_brought(self.connection(), Source::Message, &of.into_values().collect::<Vec<_>>()).await?;
        }
        sqlx::query!("DELETE FROM inbox WHERE id <= ?", last).execute(self.connection()).await?;
        Ok(messages.len())
    }

    /// Begins deliveries that no file brought, each received at its time, and returns their numbers.
    async fn begin_batches(&mut self, source: Source, received: &[i64]) -> Result<Vec<i64>, StoreError> {
        let mut numbers = Vec::with_capacity(received.len());
        for rows in received.chunks(ROWS) {
            let sql = rows_of("INSERT INTO batch (received_at, source) VALUES", "(?,?)", rows.len());
            let mut query = sqlx::query(sqlx::AssertSqlSafe(sql.as_str()));
            for received_at in rows {
                query = query.bind(received_at).bind(source.code());
            }
            // Nobody else writes meanwhile: rows of one statement are numbered one after another.
            let last = query.execute(self.connection()).await?.last_insert_rowid();
            numbers.extend(last + 1 - rows.len() as i64..=last);
        }
        Ok(numbers)
    }
}

/// What two deliveries brought of a stream.
fn also((stream, first, last, n): Brought, other: Brought) -> Brought {
    (stream, first.min(other.1), last.max(other.2), n + other.3)
}

fn packed(readings: &[Reading]) -> Vec<u8> {
    let each = readings.iter().flat_map(|r| [r.stream.to_le_bytes(), r.t.to_le_bytes(), (r.raw + 0.0).to_le_bytes()]);
    each.flatten().collect()
}

fn unpacked(readings: &[u8]) -> impl Iterator<Item = Reading> {
    readings.as_chunks::<24>().0.iter().map(|bytes| {
        let [stream, t, raw] = [0, 8, 16].map(|at| {
            let mut eight = [0; 8];
            eight.copy_from_slice(&bytes[at..at + 8]);
            eight
        });
        Reading { stream: i64::from_le_bytes(stream), t: i64::from_le_bytes(t), raw: f64::from_le_bytes(raw) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batches::Origin;
    use crate::database::testing::store;
    use crate::stations::testing::stream;

    /// Messages of quarters of an hour of a stream, each received five seconds after the last of them.
    async fn keep(store: &Store, stream: i64, messages: &[&[(i64, f64)]]) {
        let of = |(i, raw): &(i64, f64)| Reading { stream, t: i * 900, raw: *raw };
        let messages: Vec<(UnixSeconds, Vec<Reading>)> =
            messages.iter().map(|m| (UnixSeconds(m[m.len() - 1].0 * 900 + 5), m.iter().map(of).collect())).collect();
        let mut unit = store.unit().await.unwrap();
        unit.keep_in_inbox(&messages).await.unwrap();
        unit.commit().await.unwrap();
    }

    #[tokio::test]
    async fn what_waits_is_sorted_in_as_if_it_had_come_one_by_one() {
        let messages: [&[(i64, f64)]; 6] = [
            &[(0, 1.0), (1, -0.0)],
            &[(2, 3.0)],
            // Late by two days, with what is known, what contradicts, and two that were missing.
            &[(1, 0.0), (2, 4.0), (3, 5.0), (200, 6.0)],
            &[(2, 4.0)],
            &[(2, 4.5), (4, 7.0)],
            &[(201, 8.0), (202, f64::MIN_POSITIVE)],
        ];
        let (together, _dir) = store().await;
        let (alone, _dir2) = store().await;
        let streams = (stream(&together).await, stream(&alone).await);
        keep(&together, streams.0, &messages).await;
        assert_eq!(together.series(streams.0).await.unwrap().len(), 0, "it only waits");
        assert_eq!(together.empty_inbox().await.unwrap(), 6);
        assert_eq!(together.empty_inbox().await.unwrap(), 0);
        for m in messages {
            let origin = Origin::of(Source::Message, UnixSeconds(m[m.len() - 1].0 * 900 + 5));
            let readings = m.iter().map(|(i, raw)| Reading { stream: streams.1, t: i * 900, raw: *raw });
            alone.add_readings(&origin, readings.collect()).await.unwrap();
        }
        assert_eq!(together.series(streams.0).await.unwrap(), alone.series(streams.1).await.unwrap());
        assert_eq!(together.series(streams.0).await.unwrap().len(), 8);
        assert_eq!(together.repeats(streams.0).await.unwrap(), alone.repeats(streams.1).await.unwrap());
        assert_eq!(together.repeats(streams.0).await.unwrap().len(), 2, "4 came twice, and is kept once");
        for (i, received) in [(0, 1), (1, 1), (2, 2), (3, 200), (4, 4), (200, 200), (202, 202)] {
            let came = [(&together, streams.0), (&alone, streams.1)].map(async |(store, stream)| {
                store.delivery_of(stream, UnixSeconds(i * 900)).await.unwrap().unwrap().1.received_at.0
            });
            let [a, b] = came;
            assert_eq!((a.await, b.await), (received * 900 + 5, received * 900 + 5), "{i}");
        }
        let told = async |store: &Store| {
            let all = store.deliveries_at(1).await.unwrap().remove(&1).unwrap();
            all.iter().map(|d| (d.received_at, d.first, d.last, d.readings)).collect::<Vec<_>>()
        };
        assert_eq!(told(&together).await.iter().map(|d| d.3).sum::<usize>(), 8, "each is counted once");
        assert_eq!(told(&together).await, told(&alone).await);
    }

    #[tokio::test]
    async fn what_a_killed_server_left_is_in_the_record_when_the_file_is_opened_again() {
        let (store, dir) = store().await;
        let stream = stream(&store).await;
        store.add_readings(&Origin::of(Source::Message, UnixSeconds(5)), vec![]).await.unwrap();
        keep(&store, stream, &[&[(0, 1.0)], &[(1, 2.0)], &[(2, 3.0)]]).await;
        store.close().await;
        let store = Store::open(&dir.path().join("ebrel.db")).await.unwrap();
        assert_eq!(store.series(stream).await.unwrap().values, [1.0, 2.0, 3.0]);
        assert_eq!(store.stations_to_test().await.unwrap().len(), 1, "and its tests run");
        assert_eq!(store.empty_inbox().await.unwrap(), 0);
    }

    #[tokio::test]
    async fn what_is_sent_for_ever_leaves_no_delivery() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        keep(&store, stream, &[&[(0, 1.0)], &[(0, 2.0)]]).await;
        store.empty_inbox().await.unwrap();
        let batches = async || sqlx::query_scalar!("SELECT count(*) FROM batch").fetch_one(&store.pool).await.unwrap();
        assert_eq!(batches().await, 2);
        keep(&store, stream, &[&[(0, 2.0)], &[(0, 1.0)]]).await;
        assert_eq!(store.empty_inbox().await.unwrap(), 2);
        assert_eq!((batches().await, store.repeats(stream).await.unwrap().len()), (2, 1));
    }

    #[tokio::test]
    async fn few_readings_among_many_are_told_from_them_one_by_one_and_their_months_are_made_anew() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        // Two months of every other quarter of an hour, packed; then some between, some known, one that contradicts.
        let reading = |i: i64| Reading { stream, t: i * 900, raw: i as f64 };
        let hand = crate::batches::testing::HAND;
        store.add_readings(&hand, (0..6000).filter(|i| i % 2 == 0).map(reading).collect()).await.unwrap();
        assert_eq!(store.series(stream).await.unwrap().len(), 3000);
        keep(
            &store,
            stream,
            &[&[(1, 1.0), (2, 2.0)], &[(3001, 3001.0), (3002, 7.0)], &[(5999, 5999.0), (6000, 6000.0)]],
        )
        .await;
        store.empty_inbox().await.unwrap();
        store.forget_all();
        let series = store.series(stream).await.unwrap();
        let expected: Vec<f64> =
            (0..=6000).filter(|i| i % 2 == 0 || [1, 3001, 5999].contains(i)).map(f64::from).collect();
        assert_eq!(series.values, expected);
        assert_eq!(store.repeats(stream).await.unwrap().len(), 1);
    }
}
