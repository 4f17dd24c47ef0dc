//! Where each probe was from when to when, and the channels that follow from it.

use crate::database::taken;
use crate::probes::Probe;
use crate::streams::Stream;
use crate::{Store, StoreError, Unit};
use ebrel_core::units::{DepthCm, Principle, Quantity, UnixSeconds};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// A probe at a port and in the soil from one time to another.
#[derive(Debug, Clone, PartialEq)]
pub struct Placement {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// The node's row.
    pub node_id: i64,
    /// Port of the node as its label has it, such as `m05`.
    pub port: String,
    /// The instrument itself.
    pub probe: Probe,
    /// Depth, if it is in the soil or at a height.
    pub depth_cm: Option<f64>,
    /// How it lies: "horizontal, blade on edge".
    pub orientation: String,
    /// First moment of it, inclusive.
    pub starts: UnixSeconds,
    /// First moment after; `None`: still there.
    pub ends: Option<UnixSeconds>,
    /// Whatever else there is to say of it; may be empty.
    pub note: String,
}

impl Placement {
    /// Whether the probe was there at a moment.
    #[must_use]
    pub fn holds(&self, at: UnixSeconds) -> bool {
        self.starts <= at && self.ends.is_none_or(|ends| at < ends)
    }

    /// What it says, as it was given.
    #[must_use]
    pub fn given(&self) -> NewPlacement {
        NewPlacement {
            node_id: self.node_id,
            port: self.port.clone(),
            probe_id: self.probe.id,
            depth_cm: self.depth_cm.and_then(|d| DepthCm::new(d).ok()),
            orientation: self.orientation.clone(),
            starts: self.starts,
            ends: self.ends,
            note: self.note.clone(),
        }
    }
}

/// A placement that is to be made.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NewPlacement {
    /// The node's row.
    pub node_id: i64,
    /// Port of the node as its label has it, such as `m05`.
    pub port: String,
    /// The probe's row.
    pub probe_id: i64,
    /// Depth, if any.
    pub depth_cm: Option<DepthCm>,
    /// How it lies.
    pub orientation: String,
    /// First moment of it, inclusive.
    pub starts: UnixSeconds,
    /// First moment after.
    pub ends: Option<UnixSeconds>,
    /// Whatever else there is to say of it; may be empty.
    pub note: String,
}

/// One quantity from one probe: a stream seen through a placement.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredChannel {
    /// What the node reports at the port.
    pub stream: Stream,
    /// The placement that gives it its meaning.
    pub placement: Placement,
}

impl StoredChannel {
    /// A name that is unique within a station: node, port, quantity, and the placement's beginning if a port has had
    /// more than one.
    #[must_use]
    pub fn name(&self) -> String {
        let node = self.stream.node.replace(' ', "");
        format!("{node}.{}.{}", self.stream.port, self.placement.probe.serial)
    }

    /// "15 cm", "air temperature": how people call it.
    #[must_use]
    pub fn label(&self) -> String {
        match self.placement.depth_cm.filter(|_| self.stream.quantity.is_in_soil()) {
            Some(depth) => format!("{depth}\u{a0}cm"),
            None => self.stream.quantity.words().to_owned(),
        }
    }
}

impl Store {
    /// Puts a probe at a port.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if another probe is at that port at the time, or it ends before it starts.
    pub async fn place(&self, new: &NewPlacement) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let id = unit.place(new).await?;
        unit.commit().await?;
        Ok(id)
    }

    /// Corrects a placement that says `was`: the readings stay as they are, and mean something else from now on.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if it says something else by now; [`StoreError::Rule`] if another probe is at that port at the
    /// time, or the dates are in the wrong order.
    pub async fn correct_placement(&self, id: i64, was: &NewPlacement, new: &NewPlacement) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.correct_placement(id, was, new).await?;
        unit.commit().await
    }

    /// Placements of a station by node, port and date.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn placements(&self, station: i64) -> Result<Vec<Placement>, StoreError> {
        Ok(self.placements_of(&[station]).await?.remove(&station).unwrap_or_default())
    }

    /// As [`Self::placements`], of several stations by their numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn placements_of(&self, stations: &[i64]) -> Result<HashMap<i64, Vec<Placement>>, StoreError> {
        let stations = serde_json::to_string(stations)?;
        let rows = sqlx::query!(
            "SELECT n.station_id, p.id, p.node_id, p.port, p.depth_cm, p.orientation, p.starts, p.ends, p.note, b.id AS probe_id,
                    b.serial, b.model, b.principle, b.instrument_min, b.instrument_max, b.resolution
             FROM placement p JOIN node n ON n.id = p.node_id JOIN probe b ON b.id = p.probe_id
             WHERE n.station_id IN (SELECT value FROM json_each(?)) ORDER BY p.node_id, p.id",
            stations
        );
        let mut all: HashMap<i64, Vec<Placement>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            all.entry(r.station_id).or_default().push(Placement {
                id: r.id,
                node_id: r.node_id,
                port: r.port,
                probe: Probe {
                    id: r.probe_id,
                    serial: r.serial,
                    model: r.model,
                    principle: Principle::from_code(&r.principle).unwrap_or(Principle::Node),
                    instrument_min: r.instrument_min,
                    instrument_max: r.instrument_max,
                    resolution: r.resolution,
                },
                depth_cm: r.depth_cm,
                orientation: r.orientation,
                starts: UnixSeconds(r.starts),
                ends: r.ends.map(UnixSeconds),
                note: r.note,
            });
        }
        Ok(all)
    }

    /// Channels of a station: every stream through every placement of its port. Moisture first, by depth.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn channels(&self, station: i64) -> Result<Vec<StoredChannel>, StoreError> {
        Ok(channels_through(&self.streams(station).await?, &self.placements(station).await?))
    }
}

/// Streams through these placements of their ports: moisture first, by depth.
#[must_use]
pub fn channels_through(streams: &[Stream], placements: &[Placement]) -> Vec<StoredChannel> {
    let mut channels: Vec<StoredChannel> = streams
        .iter()
        .flat_map(|s| {
            let here = placements.iter().filter(|p| p.node_id == s.node_id && p.port == s.port);
            here.map(|p| StoredChannel { stream: s.clone(), placement: p.clone() })
        })
        .collect();
    let rank = |q: Quantity| (!q.is_moisture(), q != Quantity::SoilTemperature, q);
    channels.sort_by(|a, b| {
        let depth = |c: &StoredChannel| c.placement.depth_cm.unwrap_or(f64::INFINITY);
        rank(a.stream.quantity)
            .cmp(&rank(b.stream.quantity))
            .then(depth(a).total_cmp(&depth(b)))
            .then(a.placement.starts.cmp(&b.placement.starts))
    });
    channels
}

impl Unit {
    /// Puts a probe at a port.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if another probe is at that port at the time, or it ends before it starts.
    pub async fn place(&mut self, new: &NewPlacement) -> Result<i64, StoreError> {
        let depth = new.depth_cm.map(DepthCm::get);
        let (starts, ends) = (new.starts.0, new.ends.map(|t| t.0));
        possible(self.connection(), new.node_id, &new.port, starts, ends, None).await?;
        let done = sqlx::query!(
            "INSERT INTO placement (node_id, port, probe_id, depth_cm, orientation, starts, ends, note)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            new.node_id,
            new.port,
            new.probe_id,
            depth,
            new.orientation,
            starts,
            ends,
            new.note
        )
        .execute(self.connection())
        .await?;
        self.meant_anew.insert(new.probe_id);
        Ok(done.last_insert_rowid())
    }

    /// As [`Store::correct_placement`].
    ///
    /// # Errors
    /// As there.
    pub async fn correct_placement(
        &mut self,
        id: i64,
        was: &NewPlacement,
        new: &NewPlacement,
    ) -> Result<(), StoreError> {
        let depth = new.depth_cm.map(DepthCm::get);
        let (starts, ends) = (new.starts.0, new.ends.map(|t| t.0));
        possible(self.connection(), new.node_id, &new.port, starts, ends, Some(id)).await?;
        let (old_depth, old_end) = (was.depth_cm.map(DepthCm::get), was.ends.map(|t| t.0));
        let done = sqlx::query!(
            "UPDATE placement SET port = ?, probe_id = ?, depth_cm = ?, orientation = ?, starts = ?, ends = ?, note = ?
             WHERE id = ? AND port = ? AND probe_id = ? AND depth_cm IS ? AND orientation = ? AND starts = ? AND ends IS ?",
            new.port,
            new.probe_id,
            depth,
            new.orientation,
            starts,
            ends,
            new.note,
            id,
            was.port,
            was.probe_id,
            old_depth,
            was.orientation,
            was.starts.0,
            old_end
        )
        .execute(self.connection())
        .await
        .map_err(|e| taken(e, || "This placement is there already.".into()))?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        let station = sqlx::query_scalar!("SELECT station_id FROM node WHERE id = ?", new.node_id)
            .fetch_one(self.connection())
            .await?;
        self.tests_due(station).await
    }

    /// The first placement at a port, if there is one: (row number, note, first moment).
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn first_placement(
        &mut self,
        node: i64,
        port: &str,
    ) -> Result<Option<(i64, String, UnixSeconds)>, StoreError> {
        let row = sqlx::query!(
            "SELECT id, note, starts FROM placement WHERE node_id = ? AND port = ? ORDER BY starts LIMIT 1",
            node,
            port
        )
        .fetch_optional(self.connection())
        .await?;
        Ok(row.map(|r| (r.id, r.note, UnixSeconds(r.starts))))
    }

    /// Lets a placement begin earlier.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_placement_at(&mut self, id: i64, starts: UnixSeconds) -> Result<(), StoreError> {
        sqlx::query!("UPDATE placement SET starts = ? WHERE id = ?", starts.0, id).execute(self.connection()).await?;
        Ok(())
    }
}

/// Refuses a placement that ends before it starts, and two probes at one port at one time.
async fn possible(
    connection: &mut sqlx::SqliteConnection,
    node: i64,
    port: &str,
    starts: i64,
    ends: Option<i64>,
    but: Option<i64>,
) -> Result<(), StoreError> {
    if ends.is_some_and(|e| e <= starts) {
        return Err(StoreError::Rule("The placement must end after it starts.".into()));
    }
    let ends = ends.unwrap_or(i64::MAX);
    let but = but.unwrap_or(-1);
    let other = sqlx::query_scalar!(
        "SELECT b.serial FROM placement p JOIN probe b ON b.id = p.probe_id
         WHERE p.node_id = ? AND p.port = ? AND p.id <> ? AND p.starts < ? AND coalesce(p.ends, 9223372036854775807) > ?",
        node,
        port,
        but,
        ends,
        starts
    )
    .fetch_optional(connection)
    .await?;
    match other {
        Some(serial) => Err(StoreError::Rule(format!(
            "Probe {serial} is at port {port} in that time: end its placement first, or choose other dates."
        ))),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batches::testing::HAND;
    use crate::database::testing::store;

    pub(super) fn blade(serial: &str) -> Probe {
        Probe {
            id: 0,
            serial: serial.into(),
            model: "blade dielectric, 5 cm, analog 2.5 V".into(),
            principle: Principle::Dielectric,
            instrument_min: Some(250.0),
            instrument_max: Some(2500.0),
            resolution: Some(0.1),
        }
    }

    fn placed(node_id: i64, probe_id: i64, depth: f64, starts: i64, ends: Option<i64>) -> NewPlacement {
        NewPlacement {
            node_id,
            port: "m05".into(),
            probe_id,
            depth_cm: Some(DepthCm::new(depth).unwrap()),
            orientation: String::new(),
            starts: UnixSeconds(starts),
            ends: ends.map(UnixSeconds),
            note: String::new(),
        }
    }

    #[tokio::test]
    async fn a_wrong_depth_is_repaired_without_touching_a_reading() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let node = store.streams(1).await.unwrap()[0].node_id;
        store.add_readings(&HAND, vec![crate::readings::Reading { stream, t: 900, raw: 1021.5 }]).await.unwrap();
        let probe = store.ensure_probe(&blade("BD-0417")).await.unwrap();
        let id = store.place(&placed(node, probe, 15.0, 0, None)).await.unwrap();
        let (was, new) = (placed(node, probe, 15.0, 0, None), placed(node, probe, 5.0, 0, None));
        store.correct_placement(id, &was, &new).await.unwrap();
        assert_eq!(store.placements(1).await.unwrap()[0].given(), new);
        let stale = store.correct_placement(id, &was, &placed(node, probe, 7.0, 0, None)).await;
        assert!(matches!(stale, Err(StoreError::Stale)), "{stale:?}");
        let channels = store.channels(1).await.unwrap();
        assert_eq!(channels.iter().map(|c| c.label()).collect::<Vec<_>>(), ["5\u{a0}cm"]);
        assert_eq!(store.series(stream).await.unwrap().values, [1021.5]);
    }

    #[tokio::test]
    async fn one_port_holds_one_probe_at_a_time() {
        let (store, _dir) = store().await;
        crate::stations::testing::stream(&store).await;
        let node = store.streams(1).await.unwrap()[0].node_id;
        let first = store.ensure_probe(&blade("BD-0417")).await.unwrap();
        let second = store.ensure_probe(&blade("BD-0418")).await.unwrap();
        store.place(&placed(node, first, 5.0, 0, Some(5000))).await.unwrap();
        let error = store.place(&placed(node, second, 5.0, 4000, None)).await.unwrap_err();
        assert!(error.to_string().starts_with("Probe BD-0417 is at port m05 in that time"), "{error}");
        store.place(&placed(node, second, 5.0, 5000, None)).await.unwrap();
        assert_eq!(store.channels(1).await.unwrap().len(), 2);
    }
}
