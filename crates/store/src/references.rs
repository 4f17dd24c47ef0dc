//! What was measured by hand beside probes.

use crate::unit::station_changed;
use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{Reference, ReferenceKind};
use ebrel_core::units::{Quantity, UnixSeconds};
use sqlx::SqliteConnection;

/// A reading by hand that is to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct NewReference {
    /// The stream of the probe beside which it was measured.
    pub stream: i64,
    /// What was measured: what the probe's readings mean, not what the stream reports.
    pub quantity: Quantity,
    /// When, how much, how sure; in the quantity's unit.
    pub reference: Reference,
    /// With what.
    pub kind: ReferenceKind,
    /// Whatever else there is to say.
    pub note: String,
    /// Name of the account that noted it.
    pub by: String,
    /// Moment at which it was noted.
    pub at: UnixSeconds,
}

/// A reading by hand as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredReference {
    /// Row number.
    pub id: i64,
    /// What was noted.
    pub new: NewReference,
    /// Who took it back, and when.
    pub undone: Option<(String, UnixSeconds)>,
}

impl Store {
    /// What was measured by hand at a station, in order of time, also what was taken back.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn references(&self, station: i64) -> Result<Vec<StoredReference>, StoreError> {
        let rows = sqlx::query!(
            "SELECT r.* FROM reference_reading r JOIN stream s ON s.id = r.stream_id JOIN node n ON n.id = s.node_id
             WHERE n.station_id = ? ORDER BY r.t, r.id",
            station
        );
        let stored = rows.fetch_all(&self.pool).await?.into_iter().filter_map(|r| {
            let new = NewReference {
                stream: r.stream_id,
                quantity: Quantity::from_code(&r.quantity)?,
                reference: Reference { time: UnixSeconds(r.t), value: r.value, uncertainty: r.uncertainty },
                kind: ReferenceKind::from_code(&r.kind)?,
                note: r.note,
                by: r.made_by,
                at: UnixSeconds(r.made_at),
            };
            let undone = r.undone_by.zip(r.undone_at.map(UnixSeconds));
            Some(StoredReference { id: r.id, new, undone })
        });
        Ok(stored.collect())
    }

    /// As [`Unit::add_reference`].
    ///
    /// # Errors
    /// As there.
    pub async fn add_reference(&self, new: &NewReference) -> Result<bool, StoreError> {
        let mut unit = self.unit().await?;
        let added = unit.add_reference(new).await?;
        unit.commit().await?;
        Ok(added)
    }

    /// Takes a reading by hand back; it stays on record.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if there is none of this number at the station that stands.
    pub async fn take_reference_back(
        &self,
        station: i64,
        id: i64,
        by: &str,
        at: UnixSeconds,
    ) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        let done = sqlx::query!(
            "UPDATE reference_reading SET undone_by = ?, undone_at = ? WHERE id = ? AND undone_at IS NULL AND stream_id IN
             (SELECT s.id FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?)",
            by,
            at.0,
            id,
            station
        );
        if done.execute(unit.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        unit.tests_due(station).await?;
        unit.commit().await
    }
}

impl Unit {
    /// Keeps a reading by hand, and notes that the station's tests are due. Whether it is new: the same of the same time and value
    /// that stands already is kept once.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses, or there is no such stream.
    pub async fn add_reference(&mut self, new: &NewReference) -> Result<bool, StoreError> {
        let (quantity, kind) = (new.quantity.code(), new.kind.code());
        let Reference { time, value, uncertainty } = new.reference;
        let done = sqlx::query!(
            "INSERT INTO reference_reading (stream_id, t, quantity, value, uncertainty, kind, note, made_by, made_at)
             SELECT ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9 WHERE NOT EXISTS (SELECT 1 FROM reference_reading
                 WHERE stream_id = ?1 AND t = ?2 AND quantity = ?3 AND value = ?4 AND kind = ?6 AND undone_at IS NULL)",
            new.stream,
            time.0,
            quantity,
            value,
            uncertainty,
            kind,
            new.note,
            new.by,
            new.at.0
        );
        let added = done.execute(self.connection()).await?.rows_affected() > 0;
        if added {
            stream_changed(self.connection(), new.stream).await?;
        }
        Ok(added)
    }
}

async fn stream_changed(connection: &mut SqliteConnection, stream: i64) -> Result<(), StoreError> {
    let station =
        sqlx::query_scalar!("SELECT n.station_id FROM stream s JOIN node n ON n.id = s.node_id WHERE s.id = ?", stream);
    let station = station.fetch_optional(&mut *connection).await?.ok_or(StoreError::NotFound("stream"))?;
    station_changed(connection, station).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::stream;

    fn core(stream: i64, t: i64, value: f64) -> NewReference {
        NewReference {
            stream,
            quantity: Quantity::WaterContent,
            reference: Reference { time: UnixSeconds(t), value, uncertainty: Some(0.012) },
            kind: ReferenceKind::Core,
            note: "tin 14, “θ”".into(),
            by: "N. Arvel".into(),
            at: UnixSeconds(9000),
        }
    }

    #[tokio::test]
    async fn a_reading_by_hand_is_kept_once_taken_back_once_and_stays_on_record() {
        let (store, _dir) = store().await;
        let stream = stream(&store).await;
        assert!(store.add_reference(&core(stream, 3600, 0.31)).await.unwrap());
        assert!(!store.add_reference(&core(stream, 3600, 0.31)).await.unwrap(), "the same form sent twice");
        assert!(store.add_reference(&core(stream, 3600, 0.32)).await.unwrap(), "a second core");
        assert_eq!(store.stations_to_test().await.unwrap(), [1]);
        let kept = store.references(1).await.unwrap();
        assert_eq!((kept.len(), &kept[0].new, &kept[0].undone), (2, &core(stream, 3600, 0.31), &None));
        let back = async |station| store.take_reference_back(station, kept[0].id, "T. Quill", UnixSeconds(9900)).await;
        assert!(matches!(back(2).await, Err(StoreError::Stale)), "another station's");
        back(1).await.unwrap();
        assert!(matches!(back(1).await, Err(StoreError::Stale)));
        let after = store.references(1).await.unwrap();
        assert_eq!(after[0].undone, Some(("T. Quill".into(), UnixSeconds(9900))));
        assert!(store.add_reference(&core(stream, 3600, 0.31)).await.unwrap(), "noted anew after all");
        assert!(store.add_reference(&core(99, 0, 0.3)).await.is_err(), "no such stream");
        assert!(store.references(2).await.unwrap().is_empty());
    }
}
