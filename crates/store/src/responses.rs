//! Responses: tables of what plants or soils answered, by place and time.

use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;
use sqlx::SqliteConnection;

/// A table as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct Response {
    /// Row number; 0 for what is not kept yet.
    pub id: i64,
    /// The study that it belongs to.
    pub study_id: i64,
    /// What answered.
    pub name: String,
    /// In which unit.
    pub unit: String,
    /// Who brought it.
    pub by: String,
    /// When.
    pub at: UnixSeconds,
    /// Point (port, serial or station's code), time and value, by point and time.
    pub values: Vec<(String, UnixSeconds, f64)>,
}

impl Store {
    /// Keeps a table and returns its number; of one that stands already, with the same name, unit and values, that one's. Two values of one
    /// point at one time must not be in it.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn add_response(&self, of: &Response) -> Result<i64, StoreError> {
        let mut wanted = of.values.clone();
        wanted.sort_by(|a, b| (&a.0, a.1).cmp(&(&b.0, b.1)));
        let mut tx = self.write().await?;
        let alike = sqlx::query!(
            "SELECT id FROM response WHERE study_id = ? AND name = ? AND unit = ? AND removed_at IS NULL",
            of.study_id,
            of.name,
            of.unit
        )
        .fetch_all(&mut *tx)
        .await?;
        for known in alike {
            if values(&mut tx, known.id).await? == wanted {
                return Ok(known.id);
            }
        }
        let done = sqlx::query!(
            "INSERT INTO response (study_id, name, unit, made_by, made_at) VALUES (?, ?, ?, ?, ?)",
            of.study_id,
            of.name,
            of.unit,
            of.by,
            of.at.0
        )
        .execute(&mut *tx)
        .await?;
        let id = done.last_insert_rowid();
        for (point, t, value) in &of.values {
            sqlx::query!(
                "INSERT INTO response_value (response_id, point, t, value) VALUES (?, ?, ?, ?)",
                id,
                point,
                t.0,
                value
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(id)
    }

    /// The tables of a study that stand, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn responses(&self, study: i64) -> Result<Vec<Response>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, name, unit, made_by, made_at FROM response WHERE study_id = ? AND removed_at IS NULL ORDER BY id DESC",
            study
        )
        .fetch_all(&self.pool)
        .await?;
        let mut all = Vec::with_capacity(rows.len());
        for r in rows {
            let values = values(&mut *self.pool.acquire().await?, r.id).await?;
            let (name, unit, by, at) = (r.name, r.unit, r.made_by, UnixSeconds(r.made_at));
            all.push(Response { id: r.id, study_id: study, name, unit, by, at, values });
        }
        Ok(all)
    }

    /// Takes a table of a study back; whether it stood. It stays in the database.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn remove_response(&self, study: i64, id: i64, at: UnixSeconds) -> Result<bool, StoreError> {
        let mut tx = self.write().await?;
        let done = sqlx::query!(
            "UPDATE response SET removed_at = ? WHERE id = ? AND study_id = ? AND removed_at IS NULL",
            at.0,
            id,
            study
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(done.rows_affected() > 0)
    }
}

/// Point, time and value of a table's rows, by point and time.
async fn values(from: &mut SqliteConnection, id: i64) -> Result<Vec<(String, UnixSeconds, f64)>, StoreError> {
    let rows = sqlx::query!("SELECT point, t, value FROM response_value WHERE response_id = ? ORDER BY point, t", id)
        .fetch_all(from)
        .await?;
    Ok(rows.into_iter().map(|v| (v.point, UnixSeconds(v.t), v.value)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::studies::Study;

    #[tokio::test]
    async fn a_table_comes_back_in_order_and_can_be_taken_back_once() {
        let (store, _dir) = store().await;
        let study = Study { id: 0, name: "S".into(), question: String::new(), utc_offset_minutes: 0, fixed_now: None };
        let study_id = store.add_study(&study, None).await.unwrap();
        let at = UnixSeconds(1_000);
        let values = vec![
            ("FT-02".to_owned(), UnixSeconds(900), 12.5),
            ("FT-01".to_owned(), UnixSeconds(900), 10.0),
            ("FT-01".to_owned(), UnixSeconds(100), 9.0),
        ];
        let table =
            Response { id: 0, study_id, name: "frond \"θ\"".into(), unit: "cm".into(), by: "NA".into(), at, values };
        let id = store.add_response(&table).await.unwrap();
        let known = store.responses(study_id).await.unwrap();
        assert_eq!((known.len(), known[0].id, known[0].name.as_str()), (1, id, "frond \"θ\""));
        let order: Vec<(&str, i64)> = known[0].values.iter().map(|v| (v.0.as_str(), v.1.0)).collect();
        assert_eq!(order, [("FT-01", 100), ("FT-01", 900), ("FT-02", 900)]);
        assert_eq!(store.add_response(&table).await.unwrap(), id, "the same sent twice is kept once");
        let twice = Response {
            at: UnixSeconds(2_000),
            values: vec![table.values[0].clone(), table.values[0].clone()],
            ..table
        };
        assert!(store.add_response(&twice).await.is_err());
        assert_eq!(store.responses(study_id).await.unwrap().len(), 1, "all of a table or none of it");
        assert!(store.remove_response(study_id, id, at).await.unwrap());
        assert!(!store.remove_response(study_id, id, at).await.unwrap());
        assert!(!store.remove_response(study_id + 1, id, at).await.unwrap());
        assert!(store.responses(study_id).await.unwrap().is_empty());
    }
}
