//! Studies, stations with their soil, nodes and their streams, and what happened there.

use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::units::{Quantity, UnixSeconds};

/// A study: the whole, with its question.
#[derive(Debug, Clone, PartialEq)]
pub struct Study {
    /// Row number.
    pub id: i64,
    /// Its name.
    pub name: String,
    /// The question it answers.
    pub question: String,
    /// Fixed offset of the times shown, minutes east of UTC.
    pub utc_offset_minutes: i64,
    /// The moment that counts as now, if it is fixed (the demo).
    pub fixed_now: Option<i64>,
}

/// A place with one soil profile.
#[derive(Debug, Clone, PartialEq)]
pub struct Station {
    /// Row number.
    pub id: i64,
    /// The study it belongs to.
    pub study_id: i64,
    /// Short code for files and the command line.
    pub code: String,
    /// Its name.
    pub name: String,
    /// Degrees north.
    pub latitude: Option<f64>,
    /// Degrees east.
    pub longitude: Option<f64>,
    /// Metres above the sea.
    pub elevation_m: Option<f64>,
    /// What is done here, or that nothing is.
    pub treatment: String,
    /// What grows here.
    pub cover: String,
    /// What is known to bias the place; shown with its data.
    pub known_bias: String,
}

/// What a node reports at a port.
#[derive(Debug, Clone, PartialEq)]
pub struct Stream {
    /// Row number.
    pub id: i64,
    /// The node's row.
    pub node_id: i64,
    /// The node's name.
    pub node: String,
    /// The port.
    pub port: String,
    /// The quantity as reported.
    pub quantity: Quantity,
    /// Its unit as reported.
    pub unit: String,
    /// Seconds between readings, if known.
    pub interval_s: Option<i64>,
}

impl Store {
    /// All studies, oldest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn studies(&self) -> Result<Vec<Study>, StoreError> {
        let rows =
            sqlx::query_as!(Study, "SELECT id, name, question, utc_offset_minutes, fixed_now FROM study ORDER BY id");
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One study.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn study(&self, id: i64) -> Result<Study, StoreError> {
        sqlx::query_as!(Study, "SELECT id, name, question, utc_offset_minutes, fixed_now FROM study WHERE id = ?", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("study"))
    }

    /// Begins a study (the `id` given is not used) and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_study(&self, study: &Study) -> Result<i64, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO study (name, question, utc_offset_minutes, fixed_now) VALUES (?, ?, ?, ?)",
            study.name,
            study.question,
            study.utc_offset_minutes,
            study.fixed_now
        );
        Ok(done.execute(&self.pool).await?.last_insert_rowid())
    }

    /// Stations of a study, in the order in which they were made.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn stations(&self, study: i64) -> Result<Vec<Station>, StoreError> {
        let rows = sqlx::query_as!(Station, "SELECT * FROM station WHERE study_id = ? ORDER BY id", study);
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// One station.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn station(&self, id: i64) -> Result<Station, StoreError> {
        sqlx::query_as!(Station, "SELECT * FROM station WHERE id = ?", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("station"))
    }

    /// The station with this code or name.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none.
    pub async fn station_called(&self, name: &str) -> Result<Station, StoreError> {
        sqlx::query_as!(Station, "SELECT * FROM station WHERE code = ?1 OR name = ?1 ORDER BY code = ?1 DESC", name)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("station"))
    }

    /// Makes a station with its horizons in one go and returns its number.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if its code is taken.
    pub async fn add_station(&self, station: &Station, horizons: &[Horizon]) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let done = sqlx::query!(
            "INSERT INTO station (study_id, code, name, latitude, longitude, elevation_m, treatment, cover, known_bias)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            station.study_id,
            station.code,
            station.name,
            station.latitude,
            station.longitude,
            station.elevation_m,
            station.treatment,
            station.cover,
            station.known_bias
        )
        .execute(&mut *tx)
        .await
        .map_err(|e| {
            taken(e, || format!("A station with the code “{}” is there already: choose another.", station.code))
        })?;
        let id = done.last_insert_rowid();
        add_horizons(&mut tx, id, horizons).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// The soil of a station.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn profile(&self, station: i64) -> Result<Profile, StoreError> {
        profile(&mut *self.pool.acquire().await?, station).await
    }

    /// Streams of a station by node and port.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn streams(&self, station: i64) -> Result<Vec<Stream>, StoreError> {
        let rows = sqlx::query!(
            "SELECT s.id, s.node_id, n.name AS node, s.port, s.quantity, s.unit, s.interval_s
             FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ? ORDER BY n.id, s.id",
            station
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                let quantity = Quantity::from_code(&r.quantity)?;
                let (node_id, interval_s) = (r.node_id, r.interval_s);
                Some(Stream { id: r.id, node_id, node: r.node, port: r.port, quantity, unit: r.unit, interval_s })
            })
            .collect())
    }

    /// The node of this name at a station; made if it is not there yet.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn ensure_node(&self, station: i64, name: &str) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let id = unit.ensure_node(station, name).await?;
        unit.commit().await?;
        Ok(id)
    }

    /// The stream of a node, port and quantity; made if it is not there yet.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it is there with another unit.
    pub async fn ensure_stream(
        &self,
        node: i64,
        port: &str,
        quantity: Quantity,
        unit_of: &str,
        interval_s: Option<i64>,
    ) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let id = unit.ensure_stream(node, port, quantity, unit_of, interval_s).await?;
        unit.commit().await?;
        Ok(id)
    }

    /// Events of a station in order of time.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn events(&self, station: i64) -> Result<Vec<StoredEvent>, StoreError> {
        let rows = sqlx::query!(
            "SELECT kind, starts, ends, amount, unit, note FROM event WHERE station_id = ? ORDER BY starts, id",
            station
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                let kind = EventKind::from_code(&r.kind)?;
                let event = Event { kind, start: UnixSeconds(r.starts), end: UnixSeconds(r.ends) };
                Some(StoredEvent { event, amount: r.amount, unit: r.unit, note: r.note })
            })
            .collect())
    }

    /// Keeps an event.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_event(&self, station: i64, event: &StoredEvent) -> Result<(), StoreError> {
        let (kind, starts, ends) = (event.event.kind.code(), event.event.start.0, event.event.end.0);
        sqlx::query!(
            "INSERT INTO event (station_id, kind, starts, ends, amount, unit, note) VALUES (?, ?, ?, ?, ?, ?, ?)",
            station,
            kind,
            starts,
            ends,
            event.amount,
            event.unit,
            event.note
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

/// Something that happened at a station, with its particulars.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredEvent {
    /// Kind and time.
    pub event: Event,
    /// How much, if that applies.
    pub amount: Option<f64>,
    /// Unit of the amount.
    pub unit: String,
    /// Words.
    pub note: String,
}

impl Unit {
    /// As [`Store::ensure_node`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn ensure_node(&mut self, station: i64, name: &str) -> Result<i64, StoreError> {
        sqlx::query!("INSERT OR IGNORE INTO node (station_id, name) VALUES (?, ?)", station, name)
            .execute(self.connection())
            .await?;
        Ok(sqlx::query_scalar!("SELECT id FROM node WHERE station_id = ? AND name = ?", station, name)
            .fetch_one(self.connection())
            .await?)
    }

    /// As [`Store::ensure_stream`].
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it is there with another unit.
    pub async fn ensure_stream(
        &mut self,
        node: i64,
        port: &str,
        quantity: Quantity,
        unit: &str,
        interval_s: Option<i64>,
    ) -> Result<i64, StoreError> {
        let code = quantity.code();
        sqlx::query!(
            "INSERT OR IGNORE INTO stream (node_id, port, quantity, unit, interval_s) VALUES (?, ?, ?, ?, ?)",
            node,
            port,
            code,
            unit,
            interval_s
        )
        .execute(self.connection())
        .await?;
        let row = sqlx::query!(
            "SELECT id, unit FROM stream WHERE node_id = ? AND port = ? AND quantity = ?",
            node,
            port,
            code
        )
        .fetch_one(self.connection())
        .await?;
        if row.unit != unit {
            return Err(StoreError::Rule(format!(
                "Port {port} has reported {} in {} so far; this file gives {unit}. Choose that unit, or another port name.",
                quantity.words(),
                row.unit
            )));
        }
        Ok(row.id)
    }
}

/// The soil of a station.
pub(crate) async fn profile(connection: &mut sqlx::SqliteConnection, station: i64) -> Result<Profile, StoreError> {
    let rows = sqlx::query_as!(
        Horizon,
        "SELECT top_cm, bottom_cm, name, texture, sand_pct, clay_pct, organic_matter_pct, bulk_density_g_cm3
             FROM horizon WHERE station_id = ? ORDER BY top_cm",
        station
    );
    Ok(Profile::from(rows.fetch_all(connection).await?))
}

/// Writes the horizons of a station.
pub(crate) async fn add_horizons(
    connection: &mut sqlx::SqliteConnection,
    station: i64,
    horizons: &[Horizon],
) -> Result<(), StoreError> {
    for h in horizons {
        sqlx::query!(
            "INSERT INTO horizon VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            station,
            h.top_cm,
            h.bottom_cm,
            h.name,
            h.texture,
            h.sand_pct,
            h.clay_pct,
            h.organic_matter_pct,
            h.bulk_density_g_cm3
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Turns a broken UNIQUE rule into a sentence.
pub(crate) fn taken(error: sqlx::Error, sentence: impl FnOnce() -> String) -> StoreError {
    match &error {
        sqlx::Error::Database(e) if e.is_unique_violation() => StoreError::Rule(sentence()),
        _ => error.into(),
    }
}

#[cfg(test)]
pub(crate) mod testing {
    use super::*;

    /// A bare station; returns its number.
    pub async fn station(store: &Store) -> i64 {
        let study = Study { id: 0, name: "S".into(), question: String::new(), utc_offset_minutes: 0, fixed_now: None };
        let study_id = store.add_study(&study).await.unwrap();
        let text = String::new;
        let station = Station {
            id: 0,
            study_id,
            code: "cut".into(),
            name: "Cut coupe".into(),
            latitude: None,
            longitude: None,
            elevation_m: None,
            treatment: text(),
            cover: text(),
            known_bias: text(),
        };
        store.add_station(&station, &[]).await.unwrap()
    }

    /// A station with one node and one raw moisture stream; returns the stream's number.
    pub async fn stream(store: &Store) -> i64 {
        let station = station(store).await;
        let node = store.ensure_node(station, "node 01").await.unwrap();
        store.ensure_stream(node, "m05", Quantity::RawOutput, "mV", Some(900)).await.unwrap()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;

    #[tokio::test]
    async fn a_stream_is_one_however_often_it_is_named_and_keeps_its_unit() {
        let (store, _dir) = store().await;
        let first = testing::stream(&store).await;
        let node = store.streams(1).await.unwrap()[0].node_id;
        assert_eq!(store.ensure_stream(node, "m05", Quantity::RawOutput, "mV", None).await.unwrap(), first);
        let error = store.ensure_stream(node, "m05", Quantity::RawOutput, "counts", None).await.unwrap_err();
        assert!(error.to_string().contains("in mV so far; this file gives counts"), "{error}");
    }

    #[tokio::test]
    async fn a_code_is_given_once() {
        let (store, _dir) = store().await;
        let id = testing::station(&store).await;
        let again = store.station(id).await.unwrap();
        let error = store.add_station(&again, &[]).await.unwrap_err();
        assert!(error.to_string().contains("choose another"), "{error}");
        assert_eq!(store.station_called("Cut coupe").await.unwrap().id, id);
        assert!(matches!(store.station_called("elsewhere").await, Err(StoreError::NotFound("station"))));
    }
}
