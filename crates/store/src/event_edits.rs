//! Events corrected, taken back and put back by hand. What one said before is kept.

use crate::events::StoredEvent;
use crate::{Store, StoreError};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;

/// Who did something to an event, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// Name of the account that did it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

/// An event with what became of it.
#[derive(Debug, Clone, PartialEq)]
pub struct EventStory {
    /// As it stands, or stood when it was taken back.
    pub event: StoredEvent,
    /// Who took it back, when and why, if somebody did.
    pub removed: Option<(Change, String)>,
    /// What it said before, newest first, each with who changed that and when.
    pub before: Vec<(StoredEvent, Change)>,
}

/// A row of an event as it stands or stood.
struct Row {
    id: i64,
    kind: String,
    starts: i64,
    ends: i64,
    amount: Option<f64>,
    unit: String,
    note: String,
    by: String,
    client_id: Option<String>,
    revision: i64,
}

impl Row {
    fn event(self) -> Option<StoredEvent> {
        let kind = EventKind::from_code(&self.kind)?;
        Some(StoredEvent {
            id: self.id,
            event: Event { kind, start: UnixSeconds(self.starts), end: UnixSeconds(self.ends) },
            amount: self.amount,
            unit: self.unit,
            note: self.note,
            by: self.by,
            client_id: self.client_id,
            revision: self.revision,
        })
    }
}

impl Store {
    /// Events of a station with what became of them, newest first: those taken back too.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn event_stories(&self, station: i64) -> Result<Vec<EventStory>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, kind, starts, ends, amount, unit, note, made_by, client_id, revision, removed_at, removed_by, removed_why
             FROM event WHERE station_id = ? ORDER BY starts DESC, id DESC",
            station
        );
        let rows = rows.fetch_all(&self.pool).await?;
        let mut before = self.events_before(station).await?;
        let story = rows.into_iter().filter_map(|r| {
            let (id, starts, ends, amount, revision) = (r.id, r.starts, r.ends, r.amount, r.revision);
            let (kind, unit, note, by, client_id) = (r.kind, r.unit, r.note, r.made_by, r.client_id);
            let event = Row { id, kind, starts, ends, amount, unit, note, by, client_id, revision }.event()?;
            let removed = r.removed_at.map(|at| (Change { by: r.removed_by, at: UnixSeconds(at) }, r.removed_why));
            Some(EventStory { event, removed, before: before.remove(&id).unwrap_or_default() })
        });
        Ok(story.collect())
    }

    /// What events of a station said before, newest first, by their numbers.
    async fn events_before(&self, station: i64) -> Result<HashMap<i64, Vec<(StoredEvent, Change)>>, StoreError> {
        let rows = sqlx::query!(
            "SELECT b.event_id, b.kind, b.starts, b.ends, b.amount, b.unit, b.note, b.made_by, b.changed_by, b.changed_at
             FROM event_before b JOIN event e ON e.id = b.event_id WHERE e.station_id = ? ORDER BY b.id DESC",
            station
        );
        let mut all: HashMap<i64, Vec<(StoredEvent, Change)>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            let change = Change { by: r.changed_by, at: UnixSeconds(r.changed_at) };
            let (id, starts, ends, amount) = (r.event_id, r.starts, r.ends, r.amount);
            let (kind, unit, note, by) = (r.kind, r.unit, r.note, r.made_by);
            let row = Row { id, kind, starts, ends, amount, unit, note, by, client_id: None, revision: 0 };
            all.entry(id).or_default().extend(row.event().map(|event| (event, change)));
        }
        Ok(all)
    }

    /// Puts an event in the place of what it said, which is kept. Its revision says what that was made of.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if somebody changed it meanwhile, or took it back; [`StoreError`] if the database refuses.
    pub async fn correct_event(&self, station: i64, event: &StoredEvent, change: &Change) -> Result<(), StoreError> {
        let (kind, starts, ends) = (event.event.kind.code(), event.event.start.0, event.event.end.0);
        let mut unit = self.unit().await?;
        sqlx::query!(
            "INSERT INTO event_before (event_id, kind, starts, ends, amount, unit, note, made_by, changed_by, changed_at)
             SELECT id, kind, starts, ends, amount, unit, note, made_by, ?, ? FROM event WHERE id = ? AND station_id = ?",
            change.by,
            change.at.0,
            event.id,
            station
        )
        .execute(unit.connection())
        .await?;
        let done = sqlx::query!(
            "UPDATE event SET kind = ?, starts = ?, ends = ?, amount = ?, unit = ?, note = ?, made_by = ?, revision = revision + 1
             WHERE id = ? AND station_id = ? AND revision = ? AND removed_at IS NULL",
            kind,
            starts,
            ends,
            event.amount,
            event.unit,
            event.note,
            change.by,
            event.id,
            station,
            event.revision
        );
        if done.execute(unit.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        unit.tests_due(station).await?;
        unit.commit().await
    }

    /// Takes an event back, or puts it back where `why` is none; it stays on record.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if that was done already; [`StoreError`] if the database refuses.
    pub async fn remove_event(
        &self,
        station: i64,
        event: i64,
        change: &Change,
        why: Option<&str>,
    ) -> Result<(), StoreError> {
        let (at, by) = (why.map(|_| change.at.0), if why.is_some() { change.by.as_str() } else { "" });
        let why = why.unwrap_or_default();
        let mut unit = self.unit().await?;
        let done = sqlx::query!(
            "UPDATE event SET removed_at = ?1, removed_by = ?2, removed_why = ?3, revision = revision + 1
             WHERE id = ?4 AND station_id = ?5 AND (removed_at IS NULL) = (?1 IS NOT NULL)",
            at,
            by,
            why,
            event,
            station
        );
        if done.execute(unit.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        unit.tests_due(station).await?;
        unit.commit().await
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn what_an_event_said_before_stays_and_two_hands_do_not_overwrite_each_other() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        let at = UnixSeconds(900);
        let event = |id, mm: f64, revision| StoredEvent {
            id,
            event: Event { kind: EventKind::Irrigation, start: at, end: at },
            amount: Some(mm),
            unit: "mm".into(),
            note: String::new(),
            by: "N. Arvel".into(),
            client_id: None,
            revision,
        };
        store.add_event(station, &event(0, 12.0, 1)).await.unwrap();
        let hand = |by: &str| Change { by: by.into(), at: UnixSeconds(9000) };
        store.correct_event(station, &event(1, 21.0, 1), &hand("R. Teal")).await.unwrap();
        let late = store.correct_event(station, &event(1, 22.0, 1), &hand("L. Odran")).await;
        assert!(matches!(late, Err(StoreError::Stale)));
        assert!(matches!(
            store.correct_event(station + 1, &event(1, 5.0, 2), &hand("x")).await,
            Err(StoreError::Stale)
        ));
        let stories = store.event_stories(station).await.unwrap();
        assert_eq!((stories[0].event.amount, stories[0].event.by.as_str()), (Some(21.0), "R. Teal"));
        assert_eq!(stories[0].before.len(), 1, "what was not changed left nothing behind");
        assert_eq!((stories[0].before[0].0.amount, &stories[0].before[0].1), (Some(12.0), &hand("R. Teal")));

        store.remove_event(station, 1, &hand("R. Teal"), Some("another bed")).await.unwrap();
        assert!(matches!(store.remove_event(station, 1, &hand("x"), Some("again")).await, Err(StoreError::Stale)));
        assert!(store.events(station).await.unwrap().is_empty());
        assert_eq!(store.event_stories(station).await.unwrap()[0].removed.as_ref().unwrap().1, "another bed");
        store.remove_event(station, 1, &hand("R. Teal"), None).await.unwrap();
        assert_eq!(store.events(station).await.unwrap().len(), 1);
    }
}
