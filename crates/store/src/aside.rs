//! Messages that could not be taken whole and whose sender cannot be told.

use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;

/// So many different ones are kept; of more, somebody sends nonsense, and the first ones tell it.
const KEPT: i64 = 1000;

/// A message that is set aside.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Aside {
    /// Topic on which it came.
    pub topic: String,
    /// Hash of topic and payload.
    pub hash: String,
    /// Why it is here, as a sentence.
    pub reason: String,
    /// It as it came.
    pub payload: Vec<u8>,
    /// When it came.
    pub received_at: UnixSeconds,
}

/// One as it is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AsideRow {
    /// Number by which it is fetched.
    pub id: i64,
    /// Topic on which it came.
    pub topic: String,
    /// Why it is here.
    pub reason: String,
    /// Its size, bytes.
    pub bytes: i64,
    /// How often it came.
    pub times: i64,
    /// When it came first.
    pub received_at: UnixSeconds,
    /// When it came last.
    pub last_at: UnixSeconds,
}

impl Store {
    /// Keeps a message that could not be taken; one that is kept already is counted.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn set_aside(&self, message: &Aside) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        let counted = sqlx::query!(
            "UPDATE aside SET times = times + 1, last_at = ?2, reason = ?3 WHERE hash = ?1",
            message.hash,
            message.received_at.0,
            message.reason
        );
        if counted.execute(&mut *tx).await?.rows_affected() == 0 {
            sqlx::query!(
                "INSERT INTO aside (topic, hash, reason, payload, received_at, last_at)
                 SELECT ?1, ?2, ?3, ?4, ?5, ?5 WHERE (SELECT count(*) FROM aside) < ?6",
                message.topic,
                message.hash,
                message.reason,
                message.payload,
                message.received_at.0,
                KEPT
            )
            .execute(&mut *tx)
            .await?;
        }
        Ok(tx.commit().await?)
    }

    /// The messages that are set aside, the last ones first, and how many there are in all.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn asides(&self, most: i64) -> Result<(Vec<AsideRow>, i64), StoreError> {
        let rows = sqlx::query!(
            r#"SELECT id, topic, reason, length(payload) AS "bytes!: i64", times, received_at, last_at
               FROM aside ORDER BY last_at DESC, id DESC LIMIT ?"#,
            most
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter().map(|r| AsideRow {
            id: r.id,
            topic: r.topic,
            reason: r.reason,
            bytes: r.bytes,
            times: r.times,
            received_at: UnixSeconds(r.received_at),
            last_at: UnixSeconds(r.last_at),
        });
        let rows = rows.collect();
        let all = sqlx::query_scalar!("SELECT count(*) FROM aside").fetch_one(&self.pool).await?;
        Ok((rows, all))
    }

    /// A message that is set aside, as it came.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none of this number.
    pub async fn aside(&self, id: i64) -> Result<Vec<u8>, StoreError> {
        let found = sqlx::query_scalar!("SELECT payload FROM aside WHERE id = ?", id);
        found.fetch_optional(&self.pool).await?.ok_or(StoreError::NotFound("message"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;

    #[tokio::test]
    async fn what_is_sent_for_ever_stands_once_and_nonsense_ends_somewhere() {
        let (store, _dir) = store().await;
        let message = |n: i64| Aside {
            topic: "n/θ/r".into(),
            hash: n.to_string(),
            reason: "half a gzip".into(),
            payload: vec![0, 159],
            received_at: UnixSeconds(n),
        };
        for n in [7, 7, 8] {
            store.set_aside(&message(n)).await.unwrap();
        }
        let (rows, all) = store.asides(10).await.unwrap();
        assert_eq!((all, rows[0].times, rows[1].times, rows[1].bytes), (2, 1, 2, 2));
        assert_eq!(store.aside(rows[1].id).await.unwrap(), [0, 159]);
        assert!(store.aside(99).await.is_err());
        for n in 100..1200 {
            store.set_aside(&message(n)).await.unwrap();
        }
        assert_eq!(store.asides(10).await.unwrap().1, KEPT);
        store.set_aside(&message(7)).await.unwrap();
        assert_eq!(store.asides(1).await.unwrap().0.len(), 1);
    }
}
