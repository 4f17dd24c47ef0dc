//! Nodes, and what they report at their ports.

use crate::{Store, StoreError, Unit};
use ebrel_core::units::{Quantity, UnixSeconds};
use std::collections::HashMap;

/// What a node reports at a port.
#[derive(Debug, Clone, PartialEq)]
pub struct Stream {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// The node's row.
    pub node_id: i64,
    /// The node's name.
    pub node: String,
    /// Port of the node as its label has it, such as `m05`.
    pub port: String,
    /// The quantity as reported.
    pub quantity: Quantity,
    /// Its unit as reported.
    pub unit: String,
    /// Seconds between readings, if known.
    pub interval_s: Option<i64>,
}

/// A node of a station.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// Number in the database, by which it sends.
    pub id: i64,
    /// The station that it belongs to.
    pub station: i64,
    /// What people and files call it; one at a station.
    pub name: String,
}

/// A port that sends and at which no probe was ever placed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct UnplacedPort {
    /// The node's row.
    pub node_id: i64,
    /// The node's name.
    pub node: String,
    /// The port's name.
    pub port: String,
    /// What it sends.
    pub quantities: Vec<Quantity>,
    /// Time of its first reading.
    pub first: Option<UnixSeconds>,
}

/// A quantity that another station of a study measures.
#[derive(Debug, Clone, PartialEq)]
pub struct MeasuredBeside {
    /// The station's name.
    pub station: String,
    /// Its latitude, degrees, if it is known.
    pub latitude: Option<f64>,
    /// Its longitude, degrees, if it is known.
    pub longitude: Option<f64>,
    /// What it measures.
    pub quantity: Quantity,
}

impl Store {
    /// What the other stations of a study measure, each quantity of a station once.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn measured_beside(&self, study: i64, station: i64) -> Result<Vec<MeasuredBeside>, StoreError> {
        let rows = sqlx::query!(
            "SELECT DISTINCT st.name, st.latitude, st.longitude, s.quantity
             FROM stream s JOIN node n ON n.id = s.node_id JOIN station st ON st.id = n.station_id
             WHERE st.study_id = ? AND st.id <> ? ORDER BY st.name, s.quantity",
            study,
            station
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let beside = rows.filter_map(|r| {
            let quantity = Quantity::from_code(&r.quantity)?;
            Some(MeasuredBeside { station: r.name, latitude: r.latitude, longitude: r.longitude, quantity })
        });
        Ok(beside.collect())
    }

    /// Ports of a station's nodes that send and have no probe, by node and port: nobody knows what their readings mean. What tells of
    /// the node itself needs none.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn unplaced_ports(&self, station: i64) -> Result<Vec<UnplacedPort>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT n.id AS node_id, n.name AS node, s.port, s.quantity,
                      (SELECT min(t) FROM reading WHERE stream_id = s.id) AS "first: i64"
               FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?
               AND NOT EXISTS (SELECT 1 FROM placement p WHERE p.node_id = s.node_id AND p.port = s.port)
               ORDER BY n.id, s.port, s.id"#,
            station
        );
        let mut ports: Vec<UnplacedPort> = Vec::new();
        for r in rows.fetch_all(&self.pool).await? {
            let first = r.first.map(UnixSeconds);
            let quantity = Quantity::from_code(&r.quantity);
            if quantity.is_some_and(Quantity::is_of_the_node) {
                continue;
            }
            match ports.last_mut().filter(|p| p.node_id == r.node_id && p.port == r.port) {
                Some(port) => {
                    port.quantities.extend(quantity);
                    port.first = port.first.into_iter().chain(first).min();
                }
                None => {
                    let (node_id, node, port) = (r.node_id, r.node, r.port);
                    ports.push(UnplacedPort { node_id, node, port, quantities: quantity.into_iter().collect(), first });
                }
            }
        }
        Ok(ports)
    }

    /// Nodes of a study by station and number.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn nodes(&self, study: i64) -> Result<Vec<Node>, StoreError> {
        let rows = sqlx::query_as!(
            Node,
            "SELECT n.id, n.station_id AS station, n.name FROM node n JOIN station s ON s.id = n.station_id
             WHERE s.study_id = ? ORDER BY n.station_id, n.id",
            study
        );
        Ok(rows.fetch_all(&self.pool).await?)
    }

    /// The station that a node belongs to.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is no such node.
    pub async fn station_of_node(&self, node: i64) -> Result<i64, StoreError> {
        let station = sqlx::query_scalar!("SELECT station_id FROM node WHERE id = ?", node);
        station.fetch_optional(&self.pool).await?.ok_or(StoreError::NotFound("node"))
    }

    /// Streams of a station by node and port.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn streams(&self, station: i64) -> Result<Vec<Stream>, StoreError> {
        Ok(self.streams_of(&[station]).await?.remove(&station).unwrap_or_default())
    }

    /// As [`Self::streams`], of several stations by their numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn streams_of(&self, stations: &[i64]) -> Result<HashMap<i64, Vec<Stream>>, StoreError> {
        let stations = serde_json::to_string(stations)?;
        let rows = sqlx::query!(
            "SELECT n.station_id, s.id, s.node_id, n.name AS node, s.port, s.quantity, s.unit, s.interval_s
             FROM stream s JOIN node n ON n.id = s.node_id
             WHERE n.station_id IN (SELECT value FROM json_each(?)) ORDER BY n.id, s.id",
            stations
        );
        let mut all: HashMap<i64, Vec<Stream>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            let Some(quantity) = Quantity::from_code(&r.quantity) else { continue };
            let (node_id, node, port, unit) = (r.node_id, r.node, r.port, r.unit);
            let stream = Stream { id: r.id, node_id, node, port, quantity, unit, interval_s: r.interval_s };
            all.entry(r.station_id).or_default().push(stream);
        }
        Ok(all)
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
}

impl Unit {
    /// Streams of one node.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such node, or the database cannot be read.
    pub async fn streams_of(&mut self, node: i64) -> Result<Vec<Stream>, StoreError> {
        let name = sqlx::query_scalar!("SELECT name FROM node WHERE id = ?", node);
        let name = name.fetch_optional(self.connection()).await?.ok_or(StoreError::NotFound("node"))?;
        let rows = sqlx::query!("SELECT id, port, quantity, unit, interval_s FROM stream WHERE node_id = ?", node);
        let rows = rows.fetch_all(self.connection()).await?.into_iter();
        Ok(rows
            .filter_map(|r| {
                let (quantity, node) = (Quantity::from_code(&r.quantity)?, name.clone());
                Some(Stream {
                    id: r.id,
                    node_id: 0,
                    node,
                    port: r.port,
                    quantity,
                    unit: r.unit,
                    interval_s: r.interval_s,
                })
            })
            .map(|s| Stream { node_id: node, ..s })
            .collect())
    }

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
        let row = sqlx::query!(
            r#"INSERT INTO stream (node_id, port, quantity, unit, interval_s) VALUES (?, ?, ?, ?, ?)
               ON CONFLICT DO UPDATE SET port = port RETURNING id AS "id!", unit"#,
            node,
            port,
            code,
            unit,
            interval_s
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing;

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
    async fn what_other_stations_measure_is_told_once_each_and_not_what_this_one_does() {
        let (store, _dir) = store().await;
        let here = testing::station(&store).await;
        let study = store.station(here).await.unwrap().study_id;
        let other = crate::stations::Station {
            id: 0,
            code: "ride".into(),
            name: "Ride “θ”".into(),
            ..store.station(here).await.unwrap()
        };
        let other = store.add_station(&other, &[]).await.unwrap();
        for (station, port, quantity) in [
            (here, "m05", Quantity::WaterContent),
            (other, "r1", Quantity::Rain),
            (other, "r2", Quantity::Rain),
            (other, "a", Quantity::AirTemperature),
        ] {
            let node = store.ensure_node(station, "node 01").await.unwrap();
            store.ensure_stream(node, port, quantity, quantity.unit(), None).await.unwrap();
        }
        let beside = store.measured_beside(study, here).await.unwrap();
        let told: Vec<_> = beside.iter().map(|b| (b.station.as_str(), b.quantity)).collect();
        assert_eq!(told, [("Ride “θ”", Quantity::AirTemperature), ("Ride “θ”", Quantity::Rain)]);
        assert_eq!(store.measured_beside(study, other).await.unwrap().len(), 1);
    }
}
