//! Readings that came twice with different values, and which of the two a person chose.

use crate::unit::station_changed;
use crate::{Store, StoreError};
use ebrel_core::series::Series;
use ebrel_core::units::UnixSeconds;

/// How a value came here.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Arrived {
    /// Before deliveries were kept.
    Unknown,
    /// In a message, or typed.
    Received(UnixSeconds),
    /// From a file of this name, imported then.
    File(UnixSeconds, String),
}

impl Arrived {
    fn of(received: Option<i64>, file: Option<String>) -> Self {
        match (received.map(UnixSeconds), file) {
            (None, _) => Self::Unknown,
            (Some(at), None) => Self::Received(at),
            (Some(at), Some(name)) => Self::File(at, name),
        }
    }
}

/// One value that came beside another.
#[derive(Debug, Clone, PartialEq)]
pub struct Contradiction {
    /// Number of the stream whose reading came twice.
    pub stream: i64,
    /// Time of both, as the node told it.
    pub time: UnixSeconds,
    /// The value that came first.
    pub first: f64,
    /// How the first one came here.
    pub first_from: Arrived,
    /// The value that came later.
    pub later: f64,
    /// The delivery that brought the later one.
    pub batch: i64,
    /// How the later one came here.
    pub later_from: Arrived,
    /// What was chosen between the two; `None`: it waits.
    pub choice: Option<Chosen>,
}

/// A choice that stands.
#[derive(Debug, Clone, PartialEq)]
pub struct Chosen {
    /// Number by which it is taken back.
    pub id: i64,
    /// Whether the later value stands.
    pub later: bool,
    /// The reason that was given; may be empty.
    pub reason: String,
    /// Name of the account that chose.
    pub by: String,
    /// Moment of the choice.
    pub at: UnixSeconds,
}

/// A choice that is to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// Number of the stream whose readings came twice.
    pub stream: i64,
    /// The delivery of the later values.
    pub batch: i64,
    /// First and last time, inclusive.
    pub span: (UnixSeconds, UnixSeconds),
    /// Whether the later values stand.
    pub later: bool,
    /// The reason that is given; may be empty.
    pub reason: String,
    /// Name of the account that chooses.
    pub by: String,
    /// Moment of the choice.
    pub at: UnixSeconds,
}

/// Puts the values that were chosen in the place of the first ones, as they are meant. Of several deliveries whose values were chosen
/// for one time, the one that was chosen last counts; that the first stands against one delivery says nothing of another.
pub(crate) async fn apply(
    connection: &mut sqlx::SqliteConnection,
    stream: i64,
    series: &mut Series,
) -> Result<(), StoreError> {
    let rows = sqlx::query!(
        "SELECT r.t, r.raw FROM repeated_reading r
         JOIN choice c ON c.id = (SELECT max(id) FROM choice WHERE stream_id = r.stream_id AND batch = r.batch
             AND r.t BETWEEN starts AND ends AND undone_at IS NULL)
         WHERE r.stream_id = ? AND c.later = 1 ORDER BY c.id, r.t",
        stream
    );
    for row in rows.fetch_all(connection).await? {
        if let Ok(i) = series.times.binary_search(&row.t) {
            series.values[i] = row.raw;
        }
    }
    Ok(())
}

impl Store {
    /// Every value of a station's streams that came beside another, by stream, delivery and time, with the choice that stands; `at`
    /// asks for those of one stream and time.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn contradictions(
        &self,
        station: i64,
        at: Option<(i64, UnixSeconds)>,
    ) -> Result<Vec<Contradiction>, StoreError> {
        let (stream, t) = (at.map(|a| a.0), at.map(|a| a.1.0));
        let rows = sqlx::query!(
            r#"SELECT r.stream_id, r.t, r.raw AS later, r.batch, f.raw AS first,
                      fb.received_at AS "first_received?", fi.file_name AS "first_file?",
                      lb.received_at AS "later_received?", li.file_name AS "later_file?",
                      c.id AS "choice?", c.later AS "chose_later?: bool", c.reason AS "reason?", c.chosen_by AS "by?",
                      c.chosen_at AS "chosen_at?"
               FROM repeated_reading r
               JOIN reading f ON f.stream_id = r.stream_id AND f.t = r.t
               LEFT JOIN batch fb ON fb.id = f.batch LEFT JOIN import fi ON fi.id = fb.import_id
               LEFT JOIN batch lb ON lb.id = r.batch LEFT JOIN import li ON li.id = lb.import_id
               LEFT JOIN choice c ON c.id = (SELECT max(id) FROM choice WHERE stream_id = r.stream_id AND batch = r.batch
                   AND r.t BETWEEN starts AND ends AND undone_at IS NULL)
               WHERE r.stream_id IN (SELECT s.id FROM stream s JOIN node n ON n.id = s.node_id WHERE n.station_id = ?1)
               AND (?2 IS NULL OR (r.stream_id = ?2 AND r.t = ?3))
               ORDER BY r.stream_id, r.batch, r.t"#,
            station,
            stream,
            t
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter().map(|r| Contradiction {
            stream: r.stream_id,
            time: UnixSeconds(r.t),
            first: r.first,
            first_from: Arrived::of(r.first_received, r.first_file),
            later: r.later,
            batch: r.batch,
            later_from: Arrived::of(r.later_received, r.later_file),
            choice: r.choice.map(|id| Chosen {
                id,
                later: r.chose_later.unwrap_or_default(),
                reason: r.reason.unwrap_or_default(),
                by: r.by.unwrap_or_default(),
                at: UnixSeconds(r.chosen_at.unwrap_or_default()),
            }),
        });
        Ok(rows.collect())
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
        let all = store.contradictions(1, None).await.unwrap();
        assert_eq!(
            all.iter().map(|c| (c.time.0, c.first, c.later)).collect::<Vec<_>>(),
            [(900, 2.0, 9.0), (1800, 3.0, 8.0)]
        );
        let at = |t| Arrived::Received(UnixSeconds(t));
        assert_eq!((&all[0].first_from, &all[0].later_from), (&at(10), &at(20)));
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
        let second = store.contradictions(1, None).await.unwrap()[1].choice.clone().unwrap();
        store.undo_choice(1, second.id, "T. Quill", UnixSeconds(60)).await.unwrap();
        assert_eq!(values().await, [1.0, 9.0, 8.0], "the choice before it holds again");
        assert!(store.undo_choice(1, second.id, "T. Quill", UnixSeconds(61)).await.is_err(), "from a second tab");
        let first = store.contradictions(1, None).await.unwrap()[0].choice.clone().unwrap();
        store.undo_choice(1, first.id, "T. Quill", UnixSeconds(70)).await.unwrap();
        assert_eq!((values().await, waiting().await), (vec![1.0, 2.0, 3.0], 2), "as it came");
    }

    #[tokio::test]
    async fn that_the_first_stands_against_one_delivery_says_nothing_of_another() {
        let (store, _dir) = store().await;
        let stream = crate::stations::testing::stream(&store).await;
        for (at, raw) in [(10, 1.0), (20, 2.0), (30, 3.0)] {
            let origin = Origin::of(Source::Message, UnixSeconds(at));
            store.add_readings(&origin, vec![Reading { stream, t: 900, raw }]).await.unwrap();
        }
        let batches: Vec<i64> = store.contradictions(1, None).await.unwrap().iter().map(|c| c.batch).collect();
        let choose = async |batch: i64, later: bool| {
            let span = (UnixSeconds(900), UnixSeconds(900));
            let (reason, by) = (String::new(), "N. Arvel".to_owned());
            store.choose(1, &Choice { stream, batch, span, later, reason, by, at: UnixSeconds(40) }).await.unwrap();
            store.series(stream).await.unwrap().values[0]
        };
        assert_eq!(choose(batches[0], true).await, 2.0);
        assert_eq!(choose(batches[1], false).await, 2.0, "the third is not meant, and the second stays");
        assert_eq!(choose(batches[1], true).await, 3.0, "the one that was chosen last");
        assert_eq!(choose(batches[1], false).await, 2.0);
        assert_eq!(choose(batches[0], false).await, 1.0);
        let here = store.contradictions(1, Some((stream, UnixSeconds(900)))).await.unwrap();
        assert_eq!((here.len(), store.contradictions(1, Some((stream, UnixSeconds(0)))).await.unwrap().len()), (2, 0));
    }
}
