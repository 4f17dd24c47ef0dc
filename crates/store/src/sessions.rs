//! Sessions of accounts: begun by a password, ended by signing out, by time, or by another password.

use crate::accounts::Account;
use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;

/// A session ends after this long without a request, and this long after it began, whatever happens; seconds.
const IDLE: i64 = 12 * 3600;
const LONGEST: i64 = 30 * 86_400;
/// A session's last request is written down at most this often, seconds.
const NOTED: i64 = 60;

impl Store {
    /// Begins a session of an account. `key_hash` is the hash of the secret in its cookie.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn begin_session(&self, account: i64, key_hash: &str, now: UnixSeconds) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        let (idle, oldest) = (now.0 - IDLE, now.0 - LONGEST);
        sqlx::query!("DELETE FROM session WHERE seen_at < ? OR begun_at < ?", idle, oldest).execute(&mut *tx).await?;
        sqlx::query!("INSERT INTO session VALUES (?1, ?2, ?3, ?3)", key_hash, account, now.0).execute(&mut *tx).await?;
        Ok(tx.commit().await?)
    }

    /// Whose session this is; `None` if it ended, by signing out, by time, or by a new password.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn session(&self, key_hash: &str, now: UnixSeconds) -> Result<Option<Account>, StoreError> {
        let (idle, oldest) = (now.0 - IDLE, now.0 - LONGEST);
        let row = sqlx::query!(
            "SELECT a.id, a.name, a.password_hash, s.seen_at FROM session s JOIN account a ON a.id = s.account_id
             WHERE s.key_hash = ? AND s.seen_at >= ? AND s.begun_at >= ?",
            key_hash,
            idle,
            oldest
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        if now.0 - row.seen_at > NOTED {
            sqlx::query!("UPDATE session SET seen_at = ? WHERE key_hash = ?", now.0, key_hash)
                .execute(&self.pool)
                .await?;
        }
        Ok(Some(Account { id: row.id, name: row.name, password_hash: row.password_hash }))
    }

    /// Ends one session.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn end_session(&self, key_hash: &str) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM session WHERE key_hash = ?", key_hash).execute(&self.pool).await?;
        Ok(())
    }

    /// Ends all sessions of an account.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn end_sessions(&self, account: i64) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM session WHERE account_id = ?", account).execute(&self.pool).await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;

    #[tokio::test]
    async fn sessions_end_by_signing_out_by_time_and_by_a_new_password() {
        let (store, _dir) = store().await;
        store.add_owner("arvel", "hash").await.unwrap();
        let id = store.account("arvel").await.unwrap().unwrap().id;
        let now = UnixSeconds(1_800_000_000);
        let after = |hours: i64| UnixSeconds(now.0 + hours * 3600);
        for key in ["a", "b", "c"] {
            store.begin_session(id, key, now).await.unwrap();
        }
        store.end_session("a").await.unwrap();
        assert_eq!(store.session("a", now).await.unwrap(), None);
        assert_eq!(store.session("b", after(11)).await.unwrap().unwrap().name, "arvel");
        assert!(store.session("b", after(22)).await.unwrap().is_some(), "it was used meanwhile");
        assert_eq!(store.session("c", after(13)).await.unwrap(), None, "idle for too long");
        for hours in (22..720).step_by(10) {
            assert!(store.session("b", after(hours)).await.unwrap().is_some(), "{hours}");
        }
        assert_eq!(store.session("b", after(721)).await.unwrap(), None, "thirty days are over");
        store.begin_session(id, "d", now).await.unwrap();
        store.change_password("arvel", "other").await.unwrap();
        assert_eq!(store.session("d", now).await.unwrap(), None);
        assert_eq!(store.account("arvel").await.unwrap().unwrap().password_hash, "other");
        assert!(store.change_password("mallory", "x").await.is_err());
        store.begin_session(id, "e", now).await.unwrap();
        store.end_sessions(id).await.unwrap();
        assert_eq!(store.session("e", now).await.unwrap(), None);
    }
}
