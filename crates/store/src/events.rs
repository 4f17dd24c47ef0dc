//! What happened at a station, and who says so.

use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::units::UnixSeconds;

/// Something that happened at a station, with its particulars.
#[derive(Debug, Clone, PartialEq)]
pub struct StoredEvent {
    /// Row number; 0 for what is not kept yet.
    pub id: i64,
    /// Kind and time.
    pub event: Event,
    /// How much, if that applies.
    pub amount: Option<f64>,
    /// Unit of the amount.
    pub unit: String,
    /// What else there is to say.
    pub note: String,
    /// Who says so; empty for events from before authors were kept.
    pub by: String,
    /// The number that the writer's device gave it (a UUID): the same entry sent twice is kept once.
    pub client_id: Option<String>,
    /// Counts its corrections, from 1.
    pub revision: i64,
}

impl Store {
    /// Events of a station in order of time.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn events(&self, station: i64) -> Result<Vec<StoredEvent>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, kind, starts, ends, amount, unit, note, made_by, client_id, revision
             FROM event WHERE station_id = ? AND removed_at IS NULL ORDER BY starts, id",
            station
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                let kind = EventKind::from_code(&r.kind)?;
                let event = Event { kind, start: UnixSeconds(r.starts), end: UnixSeconds(r.ends) };
                let (amount, client_id) = (r.amount, r.client_id);
                let (unit, note, by) = (r.unit, r.note, r.made_by);
                Some(StoredEvent { id: r.id, event, amount, unit, note, by, client_id, revision: r.revision })
            })
            .collect())
    }

    /// Puts a declared start in the place of another; what it was before goes into its note. Whether there was such a start.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn correct_start(&self, station: i64, was: UnixSeconds, event: &StoredEvent) -> Result<bool, StoreError> {
        let (kind, was, starts) = (EventKind::OfficialStart.code(), was.0, event.event.start.0);
        let mut unit = self.unit().await?;
        let done = sqlx::query!(
            "UPDATE event SET starts = ?1, ends = ?1, note = ?2, made_by = ?3, revision = revision + 1
             WHERE id = (SELECT id FROM event WHERE station_id = ?4 AND kind = ?5 AND starts = ?6 LIMIT 1)",
            starts,
            event.note,
            event.by,
            station,
            kind,
            was
        )
        .execute(unit.connection())
        .await?
        .rows_affected();
        unit.tests_due(station).await?;
        unit.commit().await?;
        Ok(done > 0)
    }

    /// Keeps an event. One that was kept before under the same number of its writer's device is corrected if this is a later
    /// revision of it, and left as it is otherwise.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_event(&self, station: i64, event: &StoredEvent) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.add_event(station, event).await?;
        unit.commit().await
    }
}

impl Unit {
    /// As [`Store::add_event`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_event(&mut self, station: i64, event: &StoredEvent) -> Result<(), StoreError> {
        let (kind, starts, ends) = (event.event.kind.code(), event.event.start.0, event.event.end.0);
        sqlx::query!(
            "INSERT INTO event (station_id, kind, starts, ends, amount, unit, note, made_by, client_id, revision)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
             ON CONFLICT (client_id) WHERE client_id IS NOT NULL DO UPDATE SET
                kind = excluded.kind, starts = excluded.starts, ends = excluded.ends, amount = excluded.amount,
                unit = excluded.unit, note = excluded.note, made_by = excluded.made_by, revision = excluded.revision
             WHERE excluded.revision > event.revision AND excluded.station_id = event.station_id",
            station,
            kind,
            starts,
            ends,
            event.amount,
            event.unit,
            event.note,
            event.by,
            event.client_id,
            event.revision
        )
        .execute(self.connection())
        .await?;
        self.tests_due(station).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn an_entry_sent_twice_is_kept_once_and_a_later_one_corrects_it() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        let at = UnixSeconds(900);
        let entry = |note: &str, revision| StoredEvent {
            id: 0,
            event: Event { kind: EventKind::Visit, start: at, end: at },
            amount: None,
            unit: String::new(),
            note: note.into(),
            by: "N. Arvel".into(),
            client_id: Some("0197-a".into()),
            revision,
        };
        for (note, revision) in [("gasket", 1), ("gasket", 1), ("gasket and plug", 2), ("an old copy", 1)] {
            store.add_event(station, &entry(note, revision)).await.unwrap();
        }
        assert_eq!(store.events(station).await.unwrap(), [StoredEvent { id: 1, ..entry("gasket and plug", 2) }]);
        let bare = StoredEvent { client_id: None, ..entry("without a device", 1) };
        store.add_event(station, &bare).await.unwrap();
        store.add_event(station, &bare).await.unwrap();
        assert_eq!(store.events(station).await.unwrap().len(), 3, "what has no number is not compared");
        assert_eq!(store.stations_to_test().await.unwrap(), [station], "an event may explain a flag");
    }
}
