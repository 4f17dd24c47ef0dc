//! Rounds of practice: whose, which exercise, what was marked, which hints were taken, and the score at the end.

use crate::{Store, StoreError};
use ebrel_core::quality::Test;
use ebrel_core::units::UnixSeconds;

/// A round.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Round {
    /// Row number.
    pub id: i64,
    /// Whose it is; `None` in the demo.
    pub account: Option<i64>,
    /// Seed of the exercise.
    pub seed: u32,
    /// Code of its level.
    pub level: String,
    /// Name of the kind that is practised; empty: any.
    pub kind: String,
    /// When it began.
    pub begun_at: UnixSeconds,
    /// When it ended, if it has.
    pub ended_at: Option<UnixSeconds>,
    /// JSON of the score, once it has ended.
    pub score: Option<String>,
}

/// A span that was marked in a round.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct RoundMark {
    /// Row number (not used when it is to be kept).
    pub id: i64,
    /// Which channel of the exercise, from 0.
    pub channel: usize,
    /// What it was named.
    pub test: Test,
    /// First moment.
    pub start: UnixSeconds,
    /// Last moment, inclusive.
    pub end: UnixSeconds,
}

/// More marks than this one round does not take.
const MOST_MARKS: i64 = 500;

impl Store {
    /// Begins a round and returns its number.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_round(
        &self,
        account: Option<i64>,
        (seed, level, kind): (u32, &str, &str),
        at: UnixSeconds,
    ) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let done = sqlx::query!(
            "INSERT INTO training_round (account_id, seed, level, kind, begun_at) VALUES (?, ?, ?, ?, ?)",
            account,
            seed,
            level,
            kind,
            at.0
        );
        let id = done.execute(&mut *tx).await?.last_insert_rowid();
        tx.commit().await?;
        Ok(id)
    }

    /// Rounds of somebody, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn rounds(&self, account: Option<i64>) -> Result<Vec<Round>, StoreError> {
        self.some_rounds(account, None).await
    }

    async fn some_rounds(&self, account: Option<i64>, id: Option<i64>) -> Result<Vec<Round>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT id, account_id, seed AS "seed: u32", level, kind, begun_at, ended_at, score FROM training_round
               WHERE account_id IS ?1 AND (?2 IS NULL OR id = ?2) ORDER BY id DESC"#,
            account,
            id
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows
            .map(|r| Round {
                id: r.id,
                account: r.account_id,
                seed: r.seed,
                level: r.level,
                kind: r.kind,
                begun_at: UnixSeconds(r.begun_at),
                ended_at: r.ended_at.map(UnixSeconds),
                score: r.score,
            })
            .collect())
    }

    /// One round of somebody.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if it is not there or somebody else's.
    pub async fn round(&self, account: Option<i64>, id: i64) -> Result<Round, StoreError> {
        self.some_rounds(account, Some(id)).await?.pop().ok_or(StoreError::NotFound("round of practice"))
    }

    /// What was marked in a round, in the order of the hand.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn round_marks(&self, round: i64) -> Result<Vec<RoundMark>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT id, channel AS "channel: u32", test, starts, ends FROM training_mark WHERE round_id = ? ORDER BY id"#,
            round
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let marks = rows.filter_map(|r| {
            let (test, start, end) = (Test::from_code(&r.test)?, UnixSeconds(r.starts), UnixSeconds(r.ends));
            Some(RoundMark { id: r.id, channel: r.channel as usize, test, start, end })
        });
        Ok(marks.collect())
    }

    /// Marks a span in a round that goes on. The same span with the same name is marked once.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the round has ended, or holds too many marks.
    pub async fn mark_in_round(&self, round: i64, mark: &RoundMark) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        goes_on(&mut tx, round).await?;
        let (channel, test, start, end) = (mark.channel as i64, mark.test.code(), mark.start.0, mark.end.0);
        let count = sqlx::query_scalar!(r#"SELECT count(*) AS "n!: i64" FROM training_mark WHERE round_id = ?"#, round);
        if count.fetch_one(&mut *tx).await? >= MOST_MARKS {
            return Err(StoreError::Rule(format!("A round takes {MOST_MARKS} marks: remove some first.")));
        }
        sqlx::query!(
            "INSERT INTO training_mark (round_id, channel, test, starts, ends) SELECT ?1, ?2, ?3, ?4, ?5
             WHERE NOT EXISTS (SELECT 1 FROM training_mark
                 WHERE round_id = ?1 AND channel = ?2 AND test = ?3 AND starts = ?4 AND ends = ?5)",
            round,
            channel,
            test,
            start,
            end
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Takes a mark back while its round goes on.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the round has ended.
    pub async fn unmark_in_round(&self, round: i64, mark: i64) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        goes_on(&mut tx, round).await?;
        sqlx::query!("DELETE FROM training_mark WHERE id = ? AND round_id = ?", mark, round).execute(&mut *tx).await?;
        Ok(tx.commit().await?)
    }

    /// Faults for which hints were taken in a round.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn round_hints(&self, round: i64) -> Result<Vec<usize>, StoreError> {
        let rows = sqlx::query_scalar!(
            r#"SELECT fault AS "fault: u32" FROM training_hint WHERE round_id = ? ORDER BY fault"#,
            round
        );
        Ok(rows.fetch_all(&self.pool).await?.into_iter().map(|f| f as usize).collect())
    }

    /// Takes a hint in a round that goes on; for a fault it is taken once.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the round has ended.
    pub async fn hint_in_round(&self, round: i64, fault: usize) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        goes_on(&mut tx, round).await?;
        let fault = fault as i64;
        sqlx::query!("INSERT OR IGNORE INTO training_hint (round_id, fault) VALUES (?, ?)", round, fault)
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// Ends a round with its score, once: of two who end it the first counts. `scored` are the marks and the number of hints that the
    /// score is of.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it has ended already; [`StoreError::Stale`] if something was marked or hinted at meanwhile.
    pub async fn end_round(
        &self,
        round: i64,
        score: &str,
        scored: (&[RoundMark], usize),
        at: UnixSeconds,
    ) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        goes_on(&mut tx, round).await?;
        // What others commit waits for this lock: what is read now stands.
        if self.round_marks(round).await? != scored.0 || self.round_hints(round).await?.len() != scored.1 {
            return Err(StoreError::Stale);
        }
        sqlx::query!("UPDATE training_round SET ended_at = ?, score = ? WHERE id = ?", at.0, score, round)
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }
}

async fn goes_on(tx: &mut sqlx::SqliteConnection, round: i64) -> Result<(), StoreError> {
    let open = sqlx::query_scalar!(
        r#"SELECT count(*) AS "n!: i64" FROM training_round WHERE id = ? AND ended_at IS NULL"#,
        round
    );
    if open.fetch_one(&mut *tx).await? == 1 {
        return Ok(());
    }
    Err(StoreError::Rule("This round has ended: its truth is shown, so that nothing can be marked any more.".into()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;

    #[tokio::test]
    async fn a_round_takes_marks_and_hints_until_it_ends_and_is_its_owners_alone() {
        let (store, _dir) = store().await;
        let id = store.begin_round(None, (7, "easy", ""), UnixSeconds(5)).await.unwrap();
        let mark = |start| RoundMark {
            id: 0,
            channel: 2,
            test: Test::Spike,
            start: UnixSeconds(start),
            end: UnixSeconds(start + 900),
        };
        for start in [0, 0, 9000] {
            store.mark_in_round(id, &mark(start)).await.unwrap();
        }
        let marks = store.round_marks(id).await.unwrap();
        assert_eq!(marks.iter().map(|m| m.start.0).collect::<Vec<_>>(), [0, 9000], "the same twice is once");
        store.unmark_in_round(id, marks[0].id).await.unwrap();
        for fault in [3, 1, 3] {
            store.hint_in_round(id, fault).await.unwrap();
        }
        assert_eq!(store.round_hints(id).await.unwrap(), [1, 3]);
        let (marks, hints) = (store.round_marks(id).await.unwrap(), store.round_hints(id).await.unwrap().len());
        for other in [(&marks[..0], hints), (&marks[..], hints + 1)] {
            let stale = store.end_round(id, "{}", other, UnixSeconds(9)).await;
            assert!(matches!(stale, Err(StoreError::Stale)), "a score of other marks: {stale:?}");
        }
        store.end_round(id, "{}", (&marks, hints), UnixSeconds(9)).await.unwrap();
        let late = [
            store.mark_in_round(id, &mark(1)).await,
            store.unmark_in_round(id, marks[0].id).await,
            store.hint_in_round(id, 0).await,
            store.end_round(id, "[]", (&marks, hints), UnixSeconds(10)).await,
        ];
        assert!(late.iter().all(|r| matches!(r, Err(StoreError::Rule(_)))), "{late:?}");
        let round = store.round(None, id).await.unwrap();
        assert_eq!((round.score.as_deref(), round.ended_at), (Some("{}"), Some(UnixSeconds(9))));
        assert_eq!(store.round_marks(id).await.unwrap().len(), 1);
        assert!(matches!(store.round(Some(1), id).await, Err(StoreError::NotFound(_))), "somebody else's");
        assert!(store.rounds(Some(1)).await.unwrap().is_empty());
    }

    #[tokio::test]
    async fn a_round_takes_five_hundred_marks_and_no_more() {
        let (store, _dir) = store().await;
        let id = store.begin_round(None, (7, "hard", "spike"), UnixSeconds(5)).await.unwrap();
        for i in 0..=MOST_MARKS {
            let (start, end) = (UnixSeconds(i), UnixSeconds(i));
            let done = store.mark_in_round(id, &RoundMark { id: 0, channel: 0, test: Test::Gap, start, end }).await;
            assert_eq!(done.is_ok(), i < MOST_MARKS, "{i}");
        }
    }
}
