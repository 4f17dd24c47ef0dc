//! The register of probes: events in a probe's life, where it was and is, and the sheets of the bench.

use crate::calibrations::Adopted;
use crate::drafts::{DraftKind, advance};
use crate::in_force::InForce;
use crate::{Store, StoreError, Unit};
use ebrel_core::register::EventKind;
use ebrel_core::soil::Profile;
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;
use std::collections::hash_map::Entry;

/// Something that happened to a probe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProbeEvent {
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
    /// What happened, or is to be done.
    pub kind: EventKind,
    /// Whatever else there is to say of it; may be empty.
    pub note: String,
    /// Who noted it.
    pub by: String,
}

/// A place that a probe had or has.
#[derive(Debug, Clone, PartialEq)]
pub struct ProbePlace {
    /// The station's row.
    pub station_id: i64,
    /// The study's row.
    pub study_id: i64,
    /// The station's name.
    pub station: String,
    /// Port of the node as its label has it, such as `m05`.
    pub port: String,
    /// Depth, cm.
    pub depth_cm: Option<f64>,
    /// First moment of it, inclusive.
    pub starts: UnixSeconds,
    /// First moment after; `None`: still there.
    pub ends: Option<UnixSeconds>,
}

/// A sheet of the bench: a check or comparison, as typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BenchSheet {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// Number of the study that it belongs to.
    pub study_id: i64,
    /// What kind of sheet.
    pub kind: String,
    /// What it is called.
    pub title: String,
    /// When it was begun.
    pub made_at: UnixSeconds,
    /// The form as typed, JSON.
    pub draft: String,
}

impl Store {
    /// Notes something in a probe's life.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_probe_event(&self, probe: i64, event: &ProbeEvent) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.add_probe_event(probe, event).await?;
        unit.commit().await
    }

    /// The life of one probe, or of all, oldest first, each event with the number of its probe.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn probe_events(&self, probe: Option<i64>) -> Result<Vec<(i64, ProbeEvent)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT probe_id, at, kind, note, made_by FROM probe_event WHERE ?1 IS NULL OR probe_id = ?1
             ORDER BY at, id",
            probe
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .filter_map(|r| {
                let kind = EventKind::from_code(&r.kind)?;
                Some((r.probe_id, ProbeEvent { at: UnixSeconds(r.at), kind, note: r.note, by: r.made_by }))
            })
            .collect())
    }

    /// Where one probe, or all, were and are, newest first, each place with the number of its probe.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn probe_places(&self, probe: Option<i64>) -> Result<Vec<(i64, ProbePlace)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT p.probe_id, s.id AS station_id, s.study_id, s.name AS station, p.port, p.depth_cm, p.starts, p.ends
             FROM placement p JOIN node n ON n.id = p.node_id JOIN station s ON s.id = n.station_id
             WHERE ?1 IS NULL OR p.probe_id = ?1 ORDER BY p.starts DESC",
            probe
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| {
                let (starts, ends) = (UnixSeconds(r.starts), r.ends.map(UnixSeconds));
                let (station_id, study_id, depth_cm) = (r.station_id, r.study_id, r.depth_cm);
                (
                    r.probe_id,
                    ProbePlace { station_id, study_id, station: r.station, port: r.port, depth_cm, starts, ends },
                )
            })
            .collect())
    }

    /// The newest calibration that serves each probe where it lies now; probes that none serves are not in it.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn served_now<'c>(&self, in_force: &'c InForce) -> Result<HashMap<i64, &'c Adopted>, StoreError> {
        let probes = sqlx::query!(
            r#"SELECT p.id AS "id!", p.model, l.depth_cm AS "depth_cm?", n.station_id AS "station_id?"
               FROM probe p LEFT JOIN placement l ON l.probe_id = p.id AND l.ends IS NULL
               LEFT JOIN node n ON n.id = l.node_id"#
        );
        let probes = probes.fetch_all(&self.pool).await?;
        let mut profiles: HashMap<i64, Profile> = HashMap::new();
        for station in probes.iter().filter_map(|p| p.station_id) {
            if let Entry::Vacant(unknown) = profiles.entry(station) {
                unknown.insert(self.profile(station).await?);
            }
        }
        let mut served = HashMap::new();
        for p in &probes {
            let profile = p.station_id.and_then(|id| profiles.get(&id));
            let soil = profile.zip(p.depth_cm).and_then(|(profile, depth)| profile.at(depth));
            if let Some(newest) = in_force.serving(p.id, &p.model, soil).first() {
                served.entry(p.id).or_insert(*newest);
            }
        }
        Ok(served)
    }

    /// Begins a sheet (its `id` is not used) and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_sheet(&self, sheet: &BenchSheet) -> Result<i64, StoreError> {
        let at = sheet.made_at.0;
        let done = sqlx::query!(
            "INSERT INTO bench_sheet (study_id, kind, title, made_at, draft) VALUES (?, ?, ?, ?, ?)",
            sheet.study_id,
            sheet.kind,
            sheet.title,
            at,
            sheet.draft
        );
        Ok(done.execute(&self.pool).await?.last_insert_rowid())
    }

    /// One sheet.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn sheet(&self, id: i64) -> Result<BenchSheet, StoreError> {
        let row = sqlx::query!("SELECT id, study_id, kind, title, made_at, draft FROM bench_sheet WHERE id = ?", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("sheet of the bench"))?;
        Ok(BenchSheet {
            id: row.id,
            study_id: row.study_id,
            kind: row.kind,
            title: row.title,
            made_at: UnixSeconds(row.made_at),
            draft: row.draft,
        })
    }

    /// Sheets of a study, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn sheets(&self, study: i64) -> Result<Vec<BenchSheet>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, study_id, kind, title, made_at, draft FROM bench_sheet WHERE study_id = ? ORDER BY id DESC",
            study
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| BenchSheet {
                id: r.id,
                study_id: r.study_id,
                kind: r.kind,
                title: r.title,
                made_at: UnixSeconds(r.made_at),
                draft: r.draft,
            })
            .collect())
    }

    /// Keeps a sheet as it is typed so far, and returns its revision. `expected` is the revision that was changed.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if somebody saved meanwhile; [`StoreError`] if the database refuses.
    pub async fn keep_sheet(&self, id: i64, expected: i64, title: &str, draft: &str) -> Result<i64, StoreError> {
        let before = self.sheet(id).await?.draft;
        let mut tx = self.write().await?;
        let revision = advance(&mut tx, DraftKind::Sheet, id, expected, (&before, draft)).await?;
        sqlx::query!("UPDATE bench_sheet SET title = ?, draft = ? WHERE id = ?", title, draft, id)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(revision)
    }
}

impl Unit {
    /// As [`Store::add_probe_event`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_probe_event(&mut self, probe: i64, event: &ProbeEvent) -> Result<(), StoreError> {
        self.note_of_probe(probe, event, None).await
    }

    /// Notes something in a probe's life that came of an entry of a field log: what that entry says later takes its place.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn note_of_probe(
        &mut self,
        probe: i64,
        event: &ProbeEvent,
        entry: Option<&str>,
    ) -> Result<(), StoreError> {
        let (at, kind) = (event.at.0, event.kind.code());
        sqlx::query!(
            "INSERT INTO probe_event (probe_id, at, kind, note, made_by, entry) VALUES (?, ?, ?, ?, ?, ?)
             ON CONFLICT (entry) WHERE entry IS NOT NULL DO UPDATE SET probe_id = excluded.probe_id, at = excluded.at,
                kind = excluded.kind, note = excluded.note, made_by = excluded.made_by",
            probe,
            at,
            kind,
            event.note,
            event.by,
            entry
        )
        .execute(self.connection())
        .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::probes::testing::probe;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn a_probes_life_is_told_in_order_and_sheets_stand_as_typed() {
        let (store, _dir) = store().await;
        station(&store).await;
        let id = store.ensure_probe(&probe("BD-0500")).await.unwrap();
        let event = |at, kind| ProbeEvent { at: UnixSeconds(at), kind, note: "bucket".into(), by: "T. Quill".into() };
        store.add_probe_event(id, &event(20, EventKind::Repaired)).await.unwrap();
        store.add_probe_event(id, &event(10, EventKind::Rejected)).await.unwrap();
        for kind in [EventKind::Lost, EventKind::Returned] {
            let mut unit = store.unit().await.unwrap();
            unit.note_of_probe(id, &event(30, kind), Some("entry")).await.unwrap();
            unit.commit().await.unwrap();
        }
        let kinds: Vec<EventKind> = store.probe_events(Some(id)).await.unwrap().iter().map(|e| e.1.kind).collect();
        assert_eq!(kinds.last(), Some(&EventKind::Returned), "what an entry says later takes its place");
        let kinds = &kinds[..2];
        assert_eq!(kinds, [EventKind::Rejected, EventKind::Repaired]);
        assert_eq!(store.probe_events(None).await.unwrap().len(), 3);
        assert!(store.probe_events(Some(id + 1)).await.unwrap().is_empty());
        assert!(store.probe_places(Some(id)).await.unwrap().is_empty());
        assert!(store.served_now(&store.calibrations_in_force().await.unwrap()).await.unwrap().is_empty());
        let sheet = BenchSheet {
            id: 0,
            study_id: 1,
            kind: "temperature".into(),
            title: "ice".into(),
            made_at: UnixSeconds(5),
            draft: "{}".into(),
        };
        let number = store.add_sheet(&sheet).await.unwrap();
        store.keep_sheet(number, 0, "ice and room", "{\"a\": 1}").await.unwrap();
        let kept = store.sheet(number).await.unwrap();
        assert_eq!((kept.title.as_str(), kept.draft.as_str()), ("ice and room", "{\"a\": 1}"));
        assert_eq!(store.sheets(1).await.unwrap(), [kept]);
        assert!(matches!(store.sheet(99).await, Err(StoreError::NotFound(_))));
    }
}
