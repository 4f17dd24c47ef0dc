//! Several writes that are one action: all of them stand, or none.

use crate::adding::changed;
use crate::cache::SeriesCache;
use crate::{Store, StoreError};
use sqlx::{Sqlite, SqliteConnection, Transaction};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// An action that holds the write lock until [`Unit::commit`]; dropped before that, nothing of it happened.
pub struct Unit {
    tx: Transaction<'static, Sqlite>,
    /// Streams that got readings: counted as changed at the end, once for all that came. With them the readings, if they are few and
    /// all that changed.
    pub(crate) touched: BTreeMap<i64, Option<Vec<(i64, f64)>>>,
    /// By how much decoded series grow when this stands.
    grown: Vec<Growth>,
    pub(crate) cache: Arc<SeriesCache>,
    /// Probes whose readings mean something else now: the tests of their stations are due at the end, once.
    pub(crate) meant_anew: BTreeSet<i64>,
}

/// Few readings that are all that one change of a stream brought.
struct Growth {
    stream: i64,
    change: i64,
    readings: Vec<(i64, f64)>,
}

impl Store {
    /// Begins an action of several writes.
    ///
    /// # Errors
    /// [`StoreError`] if the write lock is not to be had.
    pub async fn unit(&self) -> Result<Unit, StoreError> {
        Ok(Unit {
            tx: self.write().await?,
            touched: BTreeMap::new(),
            grown: Vec::new(),
            cache: Arc::clone(&self.cache),
            meant_anew: BTreeSet::new(),
        })
    }
}

impl Unit {
    /// Makes all of it stand.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses; nothing of it stands then.
    pub async fn commit(mut self) -> Result<(), StoreError> {
        self.count_changes().await?;
        self.tx.commit().await?;
        self.grown.into_iter().for_each(|g| self.cache.grow(g.stream, g.change, g.readings));
        Ok(())
    }

    /// Counts what changed so far: tests are due from then on.
    pub(crate) async fn count_changes(&mut self) -> Result<(), StoreError> {
        let mut touched = std::mem::take(&mut self.touched);
        let streams: Vec<i64> = touched.keys().copied().collect();
        let (mut stations, changes) = changed(self.connection(), &streams).await?;
        let few = changes.into_iter().filter_map(|(stream, change)| {
            touched.remove(&stream).flatten().map(|readings| Growth { stream, change, readings })
        });
        self.grown.extend(few);
        let probes: Vec<i64> = std::mem::take(&mut self.meant_anew).into_iter().collect();
        if !probes.is_empty() {
            stations.extend(stations_of(self.connection(), &probes, "").await?);
        }
        for station in stations {
            self.tests_due(station).await?;
        }
        Ok(())
    }

    pub(crate) fn connection(&mut self) -> &mut SqliteConnection {
        &mut self.tx
    }

    /// Notes that the readings of a station, or what they mean, changed: its tests must run again.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn tests_due(&mut self, station: i64) -> Result<(), StoreError> {
        station_changed(self.connection(), station).await
    }
}

/// Notes that a station's readings, or what they mean, changed: its own tests must run again, and those of the stations of its study
/// that have no gauge and may borrow its one.
pub(crate) async fn station_changed(connection: &mut SqliteConnection, station: i64) -> Result<(), StoreError> {
    sqlx::query!(
        "WITH gauged AS (SELECT DISTINCT n.station_id FROM stream s JOIN node n ON n.id = s.node_id WHERE s.quantity = 'rain')
         INSERT INTO station_tests (station_id, due)
         SELECT s.id, 1 FROM station s
         WHERE s.id = ?1 OR (s.study_id = (SELECT study_id FROM station WHERE id = ?1)
             AND ?1 IN gauged AND s.id NOT IN gauged)
         ON CONFLICT DO UPDATE SET due = due + 1",
        station
    )
    .execute(connection)
    .await?;
    Ok(())
}

/// Notes that what a probe's readings mean changed, at every station where it (or a probe of the model) lies or lay.
pub(crate) async fn meaning_changed(
    connection: &mut SqliteConnection,
    probe: Option<i64>,
    model: &str,
) -> Result<(), StoreError> {
    for station in stations_of(connection, probe.as_slice(), model).await? {
        station_changed(connection, station).await?;
    }
    Ok(())
}

/// Stations where one of these probes, or a probe of the model, lies or lay.
async fn stations_of(connection: &mut SqliteConnection, probes: &[i64], model: &str) -> Result<Vec<i64>, StoreError> {
    let probes = serde_json::to_string(probes)?;
    let stations = sqlx::query_scalar!(
        "SELECT DISTINCT n.station_id
         FROM placement p JOIN node n ON n.id = p.node_id JOIN probe b ON b.id = p.probe_id
         WHERE p.probe_id IN (SELECT value FROM json_each(?1)) OR (?2 <> '' AND b.model = ?2)",
        probes,
        model
    );
    Ok(stations.fetch_all(connection).await?)
}

impl Store {
    /// Stations whose tests have not seen their last change, as after a kill between storing and testing.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn stations_to_test(&self) -> Result<Vec<i64>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT station_id FROM station_tests WHERE due > seen ORDER BY station_id")
            .fetch_all(&self.pool)
            .await?)
    }

    /// A text that differs whenever what a station's page shows may differ: its readings, what they mean, its flags, the
    /// verdicts on them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn stamp(&self, station: i64) -> Result<String, StoreError> {
        Ok(self.stamps(&[station]).await?.remove(&station).unwrap_or_default())
    }

    /// As [`Self::stamp`], of several stations by their numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn stamps(&self, stations: &[i64]) -> Result<HashMap<i64, String>, StoreError> {
        let stations = serde_json::to_string(stations)?;
        let rows = sqlx::query!(
            r#"SELECT j.value + 0 AS "station!: i64",
                      coalesce((SELECT due FROM station_tests WHERE station_id = j.value), 0) AS "due!: i64",
                      coalesce((SELECT max(id) FROM flag WHERE station_id = j.value), 0) AS "flag!: i64",
                      (SELECT count(*) FROM flag WHERE station_id = j.value) AS "flags!: i64",
                      (SELECT coalesce(max(v.id), 0) FROM verdict v JOIN stream s ON s.id = v.stream_id
                       JOIN node n ON n.id = s.node_id WHERE n.station_id = j.value) AS "verdict!: i64",
                      (SELECT count(*) FROM verdict v JOIN stream s ON s.id = v.stream_id
                       JOIN node n ON n.id = s.node_id WHERE n.station_id = j.value AND v.undone_at IS NULL) AS "standing!: i64"
               FROM json_each(?) j"#,
            stations
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let stamp = rows.map(|r| (r.station, format!("{} {} {} {} {}", r.due, r.flag, r.flags, r.verdict, r.standing)));
        Ok(stamp.collect())
    }

    /// The count of changes of a station up to now, to be handed to [`Store::replace_flags`] by the run that sees them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn changes_to_test(&self, station: i64) -> Result<i64, StoreError> {
        let due = sqlx::query_scalar!("SELECT due FROM station_tests WHERE station_id = ?", station);
        Ok(due.fetch_optional(&self.pool).await?.unwrap_or(0))
    }
}

#[cfg(test)]
mod tests {
    use crate::batches::testing::HAND;
    use crate::database::testing::store;
    use crate::flags::Found;
    use crate::readings::Reading;
    use crate::stations::Station;
    use crate::stations::testing::station;
    use crate::studies::Study;
    use ebrel_core::units::Quantity;

    #[tokio::test]
    async fn what_is_not_committed_never_happened() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        let mut unit = store.unit().await.unwrap();
        let node = unit.ensure_node(station, "node 01").await.unwrap();
        let stream = unit.ensure_stream(node, "m05", Quantity::RawOutput, "mV", None).await.unwrap();
        unit.add_readings(&HAND, vec![Reading { stream, t: 0, raw: 1.0 }]).await.unwrap();
        unit.tests_due(station).await.unwrap();
        drop(unit);
        assert!(store.streams(station).await.unwrap().is_empty());
        assert!(store.stations_to_test().await.unwrap().is_empty());
    }

    #[tokio::test]
    async fn rain_is_the_business_of_the_stations_of_its_study_that_have_no_gauge() {
        let (store, _dir) = store().await;
        let gauged = station(&store).await;
        let one = store.station(gauged).await.unwrap();
        let beside = async |code: &str| {
            store.add_station(&Station { id: 0, code: code.into(), ..one.clone() }, &[]).await.unwrap()
        };
        let (bare, own) = (beside("bare").await, beside("own").await);
        let study = store.study(one.study_id).await.unwrap();
        let other = store.add_study(&Study { name: "Reed bed".into(), ..study }, None).await.unwrap();
        let far = Station { id: 0, study_id: other, code: "reed".into(), ..one.clone() };
        let elsewhere = store.add_station(&far, &[]).await.unwrap();
        let gauge = async |at| {
            let node = store.ensure_node(at, "node").await.unwrap();
            store.ensure_stream(node, "rain", Quantity::Rain, "mm", None).await.unwrap()
        };
        let rain = gauge(gauged).await;
        gauge(own).await;
        let due = async || {
            let due = store.stations_to_test().await.unwrap();
            for station in &due {
                let seen = store.changes_to_test(*station).await.unwrap();
                store.replace_flags(*station, seen, &Found::default()).await.unwrap();
            }
            due
        };
        store.add_readings(&HAND, vec![Reading { stream: rain, t: 0, raw: 1.0 }]).await.unwrap();
        assert_eq!(due().await, [gauged, bare]);
        store.add_readings(&HAND, vec![Reading { stream: rain, t: 0, raw: 1.0 }]).await.unwrap();
        assert!(due().await.is_empty(), "nothing new");
        let mut unit = store.unit().await.unwrap();
        unit.tests_due(bare).await.unwrap();
        unit.tests_due(elsewhere).await.unwrap();
        unit.commit().await.unwrap();
        assert_eq!(due().await, [bare, elsewhere], "who borrows lends nothing");
    }

    #[tokio::test]
    async fn tests_stay_due_until_a_run_has_seen_the_last_change() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        let change = async || {
            let mut unit = store.unit().await.unwrap();
            unit.tests_due(station).await.unwrap();
            unit.commit().await.unwrap();
        };
        change().await;
        assert_eq!(store.stations_to_test().await.unwrap(), [station]);
        let seen = store.changes_to_test(station).await.unwrap();
        change().await;
        store.replace_flags(station, seen, &Found::default()).await.unwrap();
        assert_eq!(store.stations_to_test().await.unwrap(), [station], "a change came while the tests ran");
        store.replace_flags(station, store.changes_to_test(station).await.unwrap(), &Found::default()).await.unwrap();
        assert!(store.stations_to_test().await.unwrap().is_empty());
    }
}
