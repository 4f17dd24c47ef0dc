//! Readings that came twice with different values, and which of the two a person chose.

use crate::unit::station_changed;
use crate::{Store, StoreError};
use ebrel_core::series::Series;
use ebrel_core::units::UnixSeconds;

/// One value that came beside another.
#[derive(Debug, Clone, PartialEq)]
pub struct Contradiction {
    /// The stream.
    pub stream: i64,
    /// Time of both.
    pub time: UnixSeconds,
    /// The value that came first.
    pub first: f64,
    /// When that was received.
    pub first_received: Option<UnixSeconds>,
    /// The import that brought it, if a file did.
    pub first_import: Option<i64>,
    /// The value that came later.
    pub later: f64,
    /// The delivery that brought the later one.
    pub batch: i64,
    /// When that was received.
    pub later_received: Option<UnixSeconds>,
    /// The import that brought it, if a file did.
    pub later_import: Option<i64>,
    /// What was chosen; `None`: it waits.
    pub choice: Option<Chosen>,
}

/// A choice that stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Chosen {
    /// Its number.
    pub id: i64,
    /// Whether the later value stands.
    pub later: bool,
    /// Why.
    pub reason: String,
    /// Who chose.
    pub by: String,
    /// When.
    pub at: UnixSeconds,
}

/// A choice that is to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// The stream.
    pub stream: i64,
    /// The delivery of the later values.
    pub batch: i64,
    /// First and last time, inclusive.
    pub span: (UnixSeconds, UnixSeconds),
    /// Whether the later values stand.
    pub later: bool,
    /// Why.
    pub reason: String,
    /// Who chooses.
    pub by: String,
    /// When.
    pub at: UnixSeconds,
}

/// Puts the values that were chosen in the place of the first ones, as they are meant.
pub(crate) async fn apply(
    connection: &mut sqlx::SqliteConnection,
    stream: i64,
    series: &mut Series,
) -> Result<(), StoreError> {
    let rows = sqlx::query!(
        r#"SELECT r.t, r.raw, c.later AS "later!: bool", f.raw AS first
           FROM choice c
           JOIN repeated_reading r
             ON r.stream_id = c.stream_id AND r.batch = c.batch AND r.t BETWEEN c.starts AND c.ends
           JOIN reading f ON f.stream_id = r.stream_id AND f.t = r.t
           WHERE c.stream_id = ? AND c.undone_at IS NULL ORDER BY c.id, r.t"#,
        stream
    );
    for row in rows.fetch_all(connection).await? {
        if let Ok(i) = series.times.binary_search(&row.t) {
            series.values[i] = if row.later { row.raw } else { row.first };
        }
    }
    Ok(())
}

impl Store {
    /// Every value of a station's streams that came beside another, by stream and time, with what was chosen last.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn contradictions(&self, station: i64) -> Result<Vec<Contradiction>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT r.stream_id, r.t, r.raw AS later, r.batch, f.raw AS first,
                      fb.received_at AS "first_received?", fb.import_id AS "first_import?",
                      lb.received_at AS "later_received?", lb.import_id AS "later_import?",
                      (SELECT max(c.id) FROM choice c WHERE c.stream_id = r.stream_id AND c.batch = r.batch
                       AND r.t BETWEEN c.starts AND c.ends AND c.undone_at IS NULL) AS "choice?: i64"
               FROM repeated_reading r
               JOIN reading f ON f.stream_id = r.stream_id AND f.t = r.t
               LEFT JOIN batch fb ON fb.id = f.batch
               LEFT JOIN batch lb ON lb.id = r.batch
               WHERE r.stream_id IN (SELECT s.id FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?)
               ORDER BY r.stream_id, r.batch, r.t"#,
            station
        );
        let rows = rows.fetch_all(&self.pool).await?;
        let mut all = Vec::with_capacity(rows.len());
        let mut last: Option<Chosen> = None;
        for r in rows {
            let choice = match r.choice {
                None => None,
                // Those of one span were mostly chosen at once.
                Some(id) if last.as_ref().is_some_and(|l| l.id == id) => last.clone(),
                Some(id) => Some(self.chosen(id).await?),
            };
            last.clone_from(&choice);
            all.push(Contradiction {
                stream: r.stream_id,
                time: UnixSeconds(r.t),
                first: r.first,
                first_received: r.first_received.map(UnixSeconds),
                first_import: r.first_import,
                later: r.later,
                batch: r.batch,
                later_received: r.later_received.map(UnixSeconds),
                later_import: r.later_import,
                choice,
            });
        }
        Ok(all)
    }

    async fn chosen(&self, id: i64) -> Result<Chosen, StoreError> {
        let row = sqlx::query!(
            r#"SELECT later AS "later!: bool", reason, chosen_by, chosen_at FROM choice WHERE id = ?"#,
            id
        );
        let r = row.fetch_one(&self.pool).await?;
        Ok(Chosen { id, later: r.later, reason: r.reason, by: r.chosen_by, at: UnixSeconds(r.chosen_at) })
    }

    /// Keeps a choice; the station's tests must run again. How many values it is about.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if nothing came twice there, or the stream is of another station.
    pub async fn choose(&self, station: i64, choice: &Choice) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let (from, to) = (choice.span.0.0, choice.span.1.0);
        let about = sqlx::query_scalar!(
            r#"SELECT count(*) AS "n!: i64" FROM repeated_reading r JOIN stream s ON s.id = r.stream_id
               JOIN node n ON n.id = s.node_id
               WHERE r.stream_id = ? AND r.batch = ? AND r.t BETWEEN ? AND ? AND n.station_id = ?"#,
            choice.stream,
            choice.batch,
            from,
            to,
            station
        );
        let about = about.fetch_one(&mut *tx).await?;
        if about == 0 {
            return Err(StoreError::Rule("Nothing came twice there any more: load the page again.".into()));
        }
        sqlx::query!(
            "INSERT INTO choice (stream_id, batch, starts, ends, later, reason, chosen_by, chosen_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            choice.stream,
            choice.batch,
            from,
            to,
            choice.later,
            choice.reason,
            choice.by,
            choice.at.0
        )
        .execute(&mut *tx)
        .await?;
        meant_otherwise(&mut tx, choice.stream, station).await?;
        tx.commit().await?;
        Ok(about)
    }

    /// Takes a choice back: what held before it holds again.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it does not stand, or is of another station.
    pub async fn undo_choice(&self, station: i64, id: i64, by: &str, at: UnixSeconds) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        let undone = sqlx::query_scalar!(
            "UPDATE choice SET undone_by = ?1, undone_at = ?2 WHERE id = ?3 AND undone_at IS NULL AND stream_id IN
             (SELECT s.id FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?4) RETURNING stream_id",
            by,
            at.0,
            id,
            station
        );
        let Some(stream) = undone.fetch_optional(&mut *tx).await? else {
            return Err(StoreError::Rule("This choice was taken back already: load the page again.".into()));
        };
        meant_otherwise(&mut tx, stream, station).await?;
        Ok(tx.commit().await?)
    }
}

/// Notes that a stream means something else from now on.
async fn meant_otherwise(connection: &mut sqlx::SqliteConnection, stream: i64, station: i64) -> Result<(), StoreError> {
    sqlx::query!("UPDATE stream SET changes = changes + 1 WHERE id = ?", stream).execute(&mut *connection).await?;
    station_changed(connection, station).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::batches::{Origin, Source};
    use crate::database::testing::store;
    use crate::readings::Reading;

    #[tokio::test]
    async fn what_was_chosen_is_meant_and_nothing_is_changed() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        let add = async |at: i64, values: [f64; 3]| {
            let readings = (0..3).map(|i| Reading { stream, t: i * 900, raw: values[i as usize] }).collect();
            store.add_readings(&Origin::of(Source::Message, UnixSeconds(at)), readings).await.unwrap();
        };
        add(10, [1.0, 2.0, 3.0]).await;
        add(20, [1.0, 9.0, 8.0]).await;
        let all = store.contradictions(1).await.unwrap();
        assert_eq!(
            all.iter().map(|c| (c.time.0, c.first, c.later)).collect::<Vec<_>>(),
            [(900, 2.0, 9.0), (1800, 3.0, 8.0)]
        );
        assert_eq!((all[0].first_received, all[0].later_received), (Some(UnixSeconds(10)), Some(UnixSeconds(20))));
        let choose = async |span: (i64, i64), later: bool| {
            let span = (UnixSeconds(span.0), UnixSeconds(span.1));
            let (reason, by) = ("the file is the memory card's".to_owned(), "N. Arvel".to_owned());
            let choice = Choice { stream, batch: all[0].batch, span, later, reason, by, at: UnixSeconds(30) };
            store.choose(1, &choice).await
        };
        let values = async || store.series(stream).await.unwrap().values.clone();
        let waiting = async || store.repeats(stream).await.unwrap().len();
        assert_eq!(
            (choose((0, 1800), true).await.unwrap(), values().await, waiting().await),
            (2, vec![1.0, 9.0, 8.0], 0)
        );
        assert_eq!(
            (choose((1800, 1800), false).await.unwrap(), values().await),
            (1, vec![1.0, 9.0, 3.0]),
            "one of a span"
        );
        assert!(
            choose((3600, 9000), true).await.is_err() && store.undo_choice(2, 1, "x", UnixSeconds(1)).await.is_err()
        );
        // Sent again, either of them, nothing is new and what was chosen stands.
        add(40, [1.0, 9.0, 8.0]).await;
        add(50, [1.0, 2.0, 3.0]).await;
        assert_eq!(values().await, [1.0, 9.0, 3.0]);
        let second = store.contradictions(1).await.unwrap()[1].choice.clone().unwrap();
        store.undo_choice(1, second.id, "T. Quill", UnixSeconds(60)).await.unwrap();
        assert_eq!(values().await, [1.0, 9.0, 8.0], "the choice before it holds again");
        assert!(store.undo_choice(1, second.id, "T. Quill", UnixSeconds(61)).await.is_err(), "from a second tab");
        let first = store.contradictions(1).await.unwrap()[0].choice.clone().unwrap();
        store.undo_choice(1, first.id, "T. Quill", UnixSeconds(70)).await.unwrap();
        assert_eq!((values().await, waiting().await), (vec![1.0, 2.0, 3.0], 2), "as it came");
    }
}
