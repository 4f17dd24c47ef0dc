//! Revisions of what people type: so that a save from an old page is told from a new one and can be merged.

use crate::{Store, StoreError};
use sqlx::SqliteConnection;

/// What kind of document is typed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DraftKind {
    /// A station's plan, by the station's number.
    Plan,
    /// A calibration run.
    Run,
    /// A sheet of the bench.
    Sheet,
    /// The design of a study, by the study's number.
    Design,
    /// The catalogue of models, of which there is one.
    Catalogue,
}

impl DraftKind {
    const fn code(self) -> &'static str {
        match self {
            Self::Plan => "plan",
            Self::Run => "run",
            Self::Sheet => "sheet",
            Self::Design => "design",
            Self::Catalogue => "catalogue",
        }
    }
}

/// Revisions of one document that are remembered; of a page older than that, each difference is a conflict.
const REMEMBERED: i64 = 200;

impl Store {
    /// The newest revision of a document; 0 before its first change.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn revision(&self, kind: DraftKind, document: i64) -> Result<i64, StoreError> {
        newest(&mut *self.pool.acquire().await?, kind.code(), document).await
    }

    /// The body of a document at a revision, if it is still remembered.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn draft_at(&self, kind: DraftKind, document: i64, revision: i64) -> Result<Option<String>, StoreError> {
        let kind = kind.code();
        let body = sqlx::query_scalar!(
            "SELECT body FROM draft_revision WHERE kind = ? AND document = ? AND revision = ?",
            kind,
            document,
            revision
        );
        Ok(body.fetch_optional(&self.pool).await?)
    }
}

async fn newest(connection: &mut SqliteConnection, kind: &str, document: i64) -> Result<i64, StoreError> {
    Ok(sqlx::query_scalar!(
        r#"SELECT coalesce(max(revision), 0) AS "r!: i64" FROM draft_revision WHERE kind = ? AND document = ?"#,
        kind,
        document
    )
    .fetch_one(connection)
    .await?)
}

/// Notes the next revision of a document, within the transaction that keeps it, and returns its number. `before` is the body
/// that `expected` has; the same body again makes no revision.
///
/// # Errors
/// [`StoreError::Stale`] if `expected` is not the newest revision any more.
pub(crate) async fn advance(
    connection: &mut SqliteConnection,
    kind: DraftKind,
    document: i64,
    expected: i64,
    (before, body): (&str, &str),
) -> Result<i64, StoreError> {
    let kind = kind.code();
    if newest(&mut *connection, kind, document).await? != expected {
        return Err(StoreError::Stale);
    }
    if before == body {
        return Ok(expected);
    }
    let next = expected + 1;
    for (revision, text) in [(expected, before), (next, body)] {
        sqlx::query!("INSERT OR IGNORE INTO draft_revision VALUES (?, ?, ?, ?)", kind, document, revision, text)
            .execute(&mut *connection)
            .await?;
    }
    let oldest = next - REMEMBERED;
    sqlx::query!("DELETE FROM draft_revision WHERE kind = ? AND document = ? AND revision < ?", kind, document, oldest)
        .execute(connection)
        .await?;
    Ok(next)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;

    #[tokio::test]
    async fn of_two_saves_on_one_revision_the_second_is_told_so() {
        let (store, _dir) = store().await;
        let save = async |expected: i64, texts: (&str, &str)| {
            let mut tx = store.write().await.unwrap();
            let kept = advance(&mut tx, DraftKind::Plan, 7, expected, texts).await;
            tx.commit().await.unwrap();
            kept
        };
        assert_eq!(save(0, ("first", "second")).await.unwrap(), 1);
        assert!(matches!(save(0, ("first", "another")).await, Err(StoreError::Stale)));
        assert_eq!(save(1, ("second", "second")).await.unwrap(), 1, "nothing changed");
        let at = async |revision| store.draft_at(DraftKind::Plan, 7, revision).await.unwrap();
        assert_eq!((at(0).await.as_deref(), at(1).await.as_deref()), (Some("first"), Some("second")));
        assert_eq!(store.revision(DraftKind::Sheet, 7).await.unwrap(), 0, "each kind counts for itself");
        for i in 1..250 {
            save(i, (&i.to_string(), &(i + 1).to_string())).await.unwrap();
        }
        assert_eq!((at(3).await, at(240).await.is_some()), (None, true));
    }
}
