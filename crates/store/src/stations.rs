//! Stations: places with one soil profile.

use crate::database::taken;
use crate::soil::add_horizons;
use crate::{Store, StoreError, Unit};
use ebrel_core::soil::Horizon;

/// A place with one soil profile.
#[derive(Debug, Clone, PartialEq)]
pub struct Station {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// The study it belongs to.
    pub study_id: i64,
    /// Short code for files and the command line.
    pub code: String,
    /// The name that people use; several may share it.
    pub name: String,
    /// Latitude, degrees; north is positive.
    pub latitude: Option<f64>,
    /// Longitude, degrees; east is positive.
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

impl Store {
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
        let mut unit = self.unit().await?;
        let id = unit.add_station(station, horizons).await?;
        unit.commit().await?;
        Ok(id)
    }
}

impl Unit {
    /// As [`Store::add_station`].
    ///
    /// # Errors
    /// [`StoreError::Rule`] if its code is taken.
    pub async fn add_station(&mut self, station: &Station, horizons: &[Horizon]) -> Result<i64, StoreError> {
        let tx = self.connection();
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
        add_horizons(tx, id, horizons).await?;
        Ok(id)
    }
}

#[cfg(test)]
pub(crate) mod testing {
    use super::*;
    use crate::studies::Study;
    use ebrel_core::units::Quantity;

    /// A bare station; returns its number.
    pub async fn station(store: &Store) -> i64 {
        let study = Study { id: 0, name: "S".into(), question: String::new(), utc_offset_minutes: 0, fixed_now: None };
        let study_id = store.add_study(&study, None).await.unwrap();
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
