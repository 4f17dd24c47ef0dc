//! Entries of logs that are written at the hole: kept once each, never changed.

use crate::{Store, StoreError, Unit};
use ebrel_core::field::Entry;
use ebrel_core::units::UnixSeconds;
use std::collections::BTreeMap;

/// An entry as its table has it.
struct Row {
    id: String,
    log: String,
    code: String,
    at: i64,
    made_by: String,
    corrects: Option<String>,
    deed: String,
}

impl Row {
    fn entry(self) -> Result<Entry, StoreError> {
        let (at, deed) = (UnixSeconds(self.at), serde_json::from_str(&self.deed)?);
        let (station, by, corrects) = (self.code, self.made_by, self.corrects);
        Ok(Entry { id: self.id, log: self.log, station, at, by, corrects, deed })
    }
}

impl Store {
    /// Entries of a station in order of time: of one log, or of all.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read, or an entry is not what was written.
    pub async fn field_entries(&self, station: i64, log: Option<&str>) -> Result<Vec<Entry>, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            "SELECT e.id, e.log, s.code, e.at, e.made_by, e.corrects, e.deed
             FROM field_entry e JOIN station s ON s.id = e.station_id
             WHERE e.station_id = ?1 AND (?2 IS NULL OR e.log = ?2) ORDER BY e.at, e.id",
            station,
            log
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(Row::entry).collect()
    }

    /// Checks of clocks at a station with their corrections: what a record's times rest on, without the rest of its logs.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read, or an entry is not what was written.
    pub async fn clock_entries(&self, station: i64) -> Result<Vec<Entry>, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            r#"WITH RECURSIVE told(id) AS (
                   SELECT id FROM field_entry WHERE station_id = ?1 AND json_extract(deed, '$.kind') = 'clock'
                   UNION
                   SELECT e.id FROM field_entry e JOIN told ON e.corrects = told.id WHERE e.station_id = ?1
               )
               SELECT e.id, e.log, s.code, e.at, e.made_by, e.corrects, e.deed
               FROM told JOIN field_entry e ON e.id = told.id JOIN station s ON s.id = e.station_id ORDER BY e.at, e.id"#,
            station
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(Row::entry).collect()
    }

    /// Placements of a station that came of logs: by the entry that each follows, its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn placements_by_entry(&self, station: i64) -> Result<BTreeMap<String, i64>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT p.entry AS "entry!", p.id FROM placement p JOIN node n ON n.id = p.node_id
               WHERE n.station_id = ? AND p.entry IS NOT NULL"#,
            station
        );
        Ok(rows.fetch_all(&self.pool).await?.into_iter().map(|r| (r.entry, r.id)).collect())
    }

    /// Placements of a station that an entry of a log ended: their numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn placements_ended_by(&self, station: i64, entry: &str) -> Result<Vec<i64>, StoreError> {
        let ids = sqlx::query_scalar!(
            "SELECT p.id FROM placement p JOIN node n ON n.id = p.node_id WHERE n.station_id = ? AND p.ended_by = ?",
            station,
            entry
        );
        Ok(ids.fetch_all(&self.pool).await?)
    }

    /// Notes a photograph whose bytes are kept under this hash; one that is known stays as it was.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_photo(&self, sha256: &str, by: &str, now: UnixSeconds) -> Result<(), StoreError> {
        sqlx::query!("INSERT OR IGNORE INTO photo VALUES (?, ?, ?)", sha256, now.0, by).execute(&self.pool).await?;
        Ok(())
    }

    /// Whether an entry of a station shows this photograph, and it was received.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn has_photo(&self, station: i64, sha256: &str) -> Result<bool, StoreError> {
        let shown = sqlx::query_scalar!(
            r#"SELECT EXISTS (SELECT 1 FROM photo p JOIN field_entry e ON e.station_id = ?1
               AND json_extract(e.deed, '$.kind') = 'photo' AND json_extract(e.deed, '$.sha256') = p.sha256
               WHERE p.sha256 = ?2) AS "e!: bool""#,
            station,
            sha256
        );
        Ok(shown.fetch_one(&self.pool).await?)
    }
}

impl Unit {
    /// Keeps an entry; whether it was new. One of the same number is there already and stays as it is.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if another entry has this number: two devices never make the same.
    pub async fn add_field_entry(
        &mut self,
        station: i64,
        entry: &Entry,
        by: &str,
        now: UnixSeconds,
    ) -> Result<bool, StoreError> {
        let deed = serde_json::to_string(&entry.deed)?;
        let done = sqlx::query!(
            "INSERT OR IGNORE INTO field_entry (id, log, station_id, at, made_by, corrects, deed, received_at, received_by)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            entry.id,
            entry.log,
            station,
            entry.at.0,
            entry.by,
            entry.corrects,
            deed,
            now.0,
            by
        )
        .execute(self.connection())
        .await?;
        if done.rows_affected() == 1 {
            return Ok(true);
        }
        let same = sqlx::query_scalar!(
            r#"SELECT EXISTS (SELECT 1 FROM field_entry WHERE id = ? AND log = ? AND station_id = ? AND at = ? AND deed = ?)
               AS "e!: bool""#,
            entry.id,
            entry.log,
            station,
            entry.at.0,
            deed
        );
        if same.fetch_one(self.connection()).await? {
            return Ok(false);
        }
        Err(StoreError::Rule(
            "Another entry has this number already; the one that came first stands. Enter this one anew.".into(),
        ))
    }

    /// Says which entry ended a placement.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn note_end(&mut self, placement: i64, entry: &str) -> Result<(), StoreError> {
        sqlx::query!("UPDATE placement SET ended_by = ? WHERE id = ?", entry, placement)
            .execute(self.connection())
            .await?;
        Ok(())
    }

    /// Says which entry a placement follows.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn note_entry(&mut self, placement: i64, entry: &str) -> Result<(), StoreError> {
        sqlx::query!("UPDATE placement SET entry = ? WHERE id = ?", entry, placement)
            .execute(self.connection())
            .await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;
    use ebrel_core::field::Deed;

    #[tokio::test]
    async fn an_entry_is_kept_once_and_never_changed() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        let entry = |text: &str| Entry {
            id: "0197-entry-1".into(),
            log: "0197-log-1".into(),
            station: "cut".into(),
            at: UnixSeconds(5),
            by: "TQ".into(),
            corrects: None,
            deed: Deed::Note { text: text.into() },
        };
        let add = async |entry: &Entry| {
            let mut unit = store.unit().await.unwrap();
            let added = unit.add_field_entry(station, entry, "quill", UnixSeconds(9)).await;
            unit.commit().await.unwrap();
            added
        };
        assert!(add(&entry("θ “quoted”")).await.unwrap());
        assert!(!add(&entry("θ “quoted”")).await.unwrap(), "sent twice, kept once");
        assert!(add(&entry("another")).await.unwrap_err().to_string().contains("first stands"));
        assert_eq!(store.field_entries(station, None).await.unwrap(), [entry("θ “quoted”")]);
        assert!(store.field_entries(station, Some("0197-log-2")).await.unwrap().is_empty());
    }
}
