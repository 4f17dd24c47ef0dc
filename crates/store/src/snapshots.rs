//! Moments of a station's record that somebody gave a name. What was read then stays in the record; a snapshot says when.

use crate::database::taken;
use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;

/// A named moment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Snapshot {
    /// Number in the database.
    pub id: i64,
    /// What it is called.
    pub name: String,
    /// Which moment.
    pub at: UnixSeconds,
    /// Who named it.
    pub by: String,
}

impl Store {
    /// Snapshots of a station, the latest moment first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn snapshots(&self, station: i64) -> Result<Vec<Snapshot>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, name, at, made_by FROM snapshot WHERE station_id = ? ORDER BY at DESC, id DESC",
            station
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.map(|r| Snapshot { id: r.id, name: r.name, at: UnixSeconds(r.at), by: r.made_by }).collect())
    }

    /// Names a moment, and returns its number.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the station has one of that name.
    pub async fn add_snapshot(&self, station: i64, name: &str, at: UnixSeconds, by: &str) -> Result<i64, StoreError> {
        let t = at.0;
        let done = sqlx::query!(
            "INSERT INTO snapshot (station_id, name, at, made_by) VALUES (?, ?, ?, ?)",
            station,
            name,
            t,
            by
        );
        let done = done.execute(&self.pool).await;
        let done =
            done.map_err(|e| taken(e, || format!("A snapshot is called “{name}” already: choose another name.")))?;
        Ok(done.last_insert_rowid())
    }

    /// Takes the name from a moment; the readings stay. Whether there was such a snapshot.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn remove_snapshot(&self, station: i64, id: i64) -> Result<bool, StoreError> {
        let done = sqlx::query!("DELETE FROM snapshot WHERE station_id = ? AND id = ?", station, id);
        Ok(done.execute(&self.pool).await?.rows_affected() > 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn a_name_is_given_once_at_a_station_and_can_be_taken_back() {
        let (store, _dir) = store().await;
        let id = station(&store).await;
        for (name, at) in [("before the storm", 10), ("after \"it\"", 20)] {
            store.add_snapshot(id, name, UnixSeconds(at), "T. Quill").await.unwrap();
        }
        let again = store.add_snapshot(id, "before the storm", UnixSeconds(30), "T. Quill").await.unwrap_err();
        assert!(matches!(again, StoreError::Rule(says) if says.contains("choose another")));
        let kept = store.snapshots(id).await.unwrap();
        assert_eq!(kept.iter().map(|s| s.at.0).collect::<Vec<_>>(), [20, 10]);
        assert!(!store.remove_snapshot(id + 1, kept[0].id).await.unwrap());
        assert!(store.remove_snapshot(id, kept[0].id).await.unwrap());
        assert_eq!(store.snapshots(id).await.unwrap().len(), 1);
    }
}
