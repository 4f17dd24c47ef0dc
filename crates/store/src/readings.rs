//! Raw readings: stored once, as they came, for ever.

use crate::batches::Origin;
use crate::{Store, StoreError};
use ebrel_core::quality::Repeat;
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;

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

impl Reading {
    /// SQLite keeps −0 as 0: packed months must say the same as the rows that they are made of.
    pub(crate) fn as_kept(&mut self) {
        self.raw += 0.0;
    }
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

    /// Readings of a stream that came again with another value and wait for somebody to choose, in order of time.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn repeats(&self, stream: i64) -> Result<Vec<Repeat>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT r.t, r.raw AS later, f.raw AS first FROM repeated_reading r
               JOIN reading f ON f.stream_id = r.stream_id AND f.t = r.t WHERE r.stream_id = ?
               AND NOT EXISTS (SELECT 1 FROM choice c WHERE c.stream_id = r.stream_id AND c.batch = r.batch
                   AND r.t BETWEEN c.starts AND c.ends AND c.undone_at IS NULL)
               ORDER BY r.t"#,
            stream
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|r| Repeat { time: UnixSeconds(r.t), first: r.first, later: r.later }).collect())
    }

    /// As [`Self::repeats`], of each stream of a station that has any, by its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn repeats_at(&self, station: i64) -> Result<HashMap<i64, Vec<Repeat>>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT r.stream_id, r.t, r.raw AS later, f.raw AS first FROM repeated_reading r
               JOIN reading f ON f.stream_id = r.stream_id AND f.t = r.t
               WHERE r.stream_id IN (SELECT s.id FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?)
               AND NOT EXISTS (SELECT 1 FROM choice c WHERE c.stream_id = r.stream_id AND c.batch = r.batch
                   AND r.t BETWEEN c.starts AND c.ends AND c.undone_at IS NULL)
               ORDER BY r.stream_id, r.t"#,
            station
        );
        let mut all: HashMap<i64, Vec<Repeat>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            let repeat = Repeat { time: UnixSeconds(r.t), first: r.first, later: r.later };
            all.entry(r.stream_id).or_default().push(repeat);
        }
        Ok(all)
    }

    /// First and last time of any reading of a station.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn extent(&self, station: i64) -> Result<Option<(UnixSeconds, UnixSeconds)>, StoreError> {
        Ok(self.extents_of(&[station]).await?.remove(&station))
    }

    /// As [`Self::extent`], of several stations by their numbers; one without readings is not among them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn extents_of(&self, stations: &[i64]) -> Result<HashMap<i64, (UnixSeconds, UnixSeconds)>, StoreError> {
        let stations = serde_json::to_string(stations)?;
        let rows = sqlx::query!(
            r#"SELECT n.station_id, min((SELECT min(t) FROM reading WHERE stream_id = s.id)) AS "first: i64",
                      max((SELECT max(t) FROM reading WHERE stream_id = s.id)) AS "last: i64"
               FROM stream s JOIN node n ON n.id = s.node_id
               WHERE n.station_id IN (SELECT value FROM json_each(?)) GROUP BY n.station_id"#,
            stations
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let ends = rows.filter_map(|r| Some((r.station_id, (UnixSeconds(r.first?), UnixSeconds(r.last?)))));
        Ok(ends.collect())
    }
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
    async fn a_contradiction_is_kept_and_tested_once_and_sent_for_ever_leaves_no_trace() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let reading = |t, raw| Reading { stream, t, raw };
        store.add_readings(&HAND, vec![reading(0, 1.0), reading(900, 2.0)]).await.unwrap();
        let batches = async || sqlx::query_scalar!("SELECT count(*) FROM batch").fetch_one(&store.pool).await.unwrap();
        let due = async || store.changes_to_test(1).await.unwrap();
        let (before, first) = (batches().await, due().await);
        for (n, sent) in
            [vec![reading(0, 5.0), reading(0, -0.0)], vec![reading(0, -0.0), reading(0, 5.0)]].into_iter().enumerate()
        {
            let added = store.add_readings(&HAND, sent).await.unwrap();
            assert_eq!((added.new, added.repeated), (0, 2), "{n}");
            assert_eq!((batches().await, due().await), (before + 1, first + 1), "{n}: the first time alone");
        }
        let kept = store.repeats_at(1).await.unwrap().remove(&stream).unwrap();
        assert_eq!(kept.iter().map(|r| r.later).collect::<Vec<_>>(), [0.0, 5.0]);
        assert_eq!(store.series(stream).await.unwrap().values, [1.0, 2.0]);
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
