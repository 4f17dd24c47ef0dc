//! Who may sign in. Hashing and checking of passwords is not done here.

use crate::{Store, StoreError};
use ebrel_core::roles::Role;

/// A person who may sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// The name to sign in with.
    pub name: String,
    /// The hashed password, in PHC form.
    pub password_hash: String,
}

impl Store {
    /// Whether anybody can sign in yet.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn has_accounts(&self) -> Result<bool, StoreError> {
        Ok(sqlx::query_scalar!(r#"SELECT EXISTS (SELECT 1 FROM account) AS "e!: bool""#).fetch_one(&self.pool).await?)
    }

    /// The account of this name.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn account(&self, name: &str) -> Result<Option<Account>, StoreError> {
        let row = sqlx::query_as!(Account, "SELECT id, name, password_hash FROM account WHERE name = ?", name);
        Ok(row.fetch_optional(&self.pool).await?)
    }

    /// Makes the first account, the owner of every study that is there already; returns its number.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if there is one already.
    pub async fn add_owner(&self, name: &str, password_hash: &str) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let done = sqlx::query!(
            "INSERT INTO account (name, password_hash) SELECT ?, ? WHERE NOT EXISTS (SELECT 1 FROM account)",
            name,
            password_hash
        )
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Rule("Ebrel has an owner already: sign in.".into()));
        }
        let (id, role) = (done.last_insert_rowid(), Role::Owner.code());
        sqlx::query!("INSERT INTO member SELECT id, ?, ? FROM study", id, role).execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Gives an account another password, and ends all of its sessions.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is no account of this name.
    pub async fn change_password(&self, name: &str, password_hash: &str) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        let id = sqlx::query_scalar!(r#"SELECT id AS "id!" FROM account WHERE name = ?"#, name)
            .fetch_optional(&mut *tx)
            .await?
            .ok_or(StoreError::NotFound("account"))?;
        sqlx::query!("UPDATE account SET password_hash = ? WHERE id = ?", password_hash, id).execute(&mut *tx).await?;
        sqlx::query!("DELETE FROM session WHERE account_id = ?", id).execute(&mut *tx).await?;
        Ok(tx.commit().await?)
    }
}

#[cfg(test)]
mod tests {
    use crate::database::testing::store;

    #[tokio::test]
    async fn only_the_first_becomes_the_owner() {
        let (store, _dir) = store().await;
        assert!(!store.has_accounts().await.unwrap());
        store.add_owner("arvel", "hash").await.unwrap();
        assert!(store.add_owner("mallory", "hash").await.unwrap_err().to_string().contains("owner already"));
        assert_eq!(store.account("arvel").await.unwrap().unwrap().password_hash, "hash");
        assert_eq!(store.account("mallory").await.unwrap(), None);
    }
}
