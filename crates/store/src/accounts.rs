//! Who may sign in. Hashing and checking of passwords is not done here.

use crate::stations::taken;
use crate::{Store, StoreError};

/// A person who may sign in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Row number.
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

    /// Makes the first account, the owner's.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if there is one already.
    pub async fn add_owner(&self, name: &str, password_hash: &str) -> Result<(), StoreError> {
        let done = sqlx::query!(
            "INSERT INTO account (name, password_hash) SELECT ?, ? WHERE NOT EXISTS (SELECT 1 FROM account)",
            name,
            password_hash
        )
        .execute(&self.pool)
        .await
        .map_err(|e| taken(e, || "This name is taken.".into()))?;
        if done.rows_affected() == 0 {
            return Err(StoreError::Rule("Ebrel has an owner already: sign in.".into()));
        }
        Ok(())
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
