//! Who may do what in which study, and the links that let somebody in once.

use crate::{Store, StoreError};
use ebrel_core::roles::Role;
use ebrel_core::units::UnixSeconds;

/// What is within a study, by its number.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Within {
    /// The study itself.
    Study,
    /// A station.
    Station,
    /// An import into a station.
    Import,
    /// A calibration run.
    Run,
    /// Another sheet of the bench.
    Sheet,
}

impl Within {
    /// What it is called.
    #[must_use]
    pub const fn noun(self) -> &'static str {
        match self {
            Self::Study => "study",
            Self::Station => "station",
            Self::Import => "import",
            Self::Run => "calibration run",
            Self::Sheet => "sheet",
        }
    }
}

/// Somebody in a study.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Number of the account.
    pub account: i64,
    /// The name that people use; several may share it.
    pub name: String,
    /// What they may do.
    pub role: Role,
}

/// A link that lets one person in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Invitation {
    /// Hash of the secret in the link.
    pub key_hash: String,
    /// Into which study.
    pub study: i64,
    /// The role that it gives.
    pub role: Role,
    /// Who made it.
    pub by: String,
    /// Until when it holds.
    pub ends_at: UnixSeconds,
    /// Who came in by it.
    pub used_by: Option<String>,
}

impl Store {
    /// The study that something is in.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is nothing of that kind with this number.
    pub async fn study_of(&self, what: Within, id: i64) -> Result<i64, StoreError> {
        let study = match what {
            Within::Study => {
                sqlx::query_scalar!(r#"SELECT id AS "id!" FROM study WHERE id = ?"#, id)
                    .fetch_optional(&self.pool)
                    .await?
            }
            Within::Station => {
                sqlx::query_scalar!("SELECT study_id FROM station WHERE id = ?", id).fetch_optional(&self.pool).await?
            }
            Within::Import => {
                sqlx::query_scalar!(
                    "SELECT s.study_id FROM import i JOIN station s ON s.id = i.station_id WHERE i.id = ?",
                    id
                )
                .fetch_optional(&self.pool)
                .await?
            }
            Within::Run => {
                sqlx::query_scalar!("SELECT study_id FROM calibration_run WHERE id = ?", id)
                    .fetch_optional(&self.pool)
                    .await?
            }
            Within::Sheet => {
                sqlx::query_scalar!("SELECT study_id FROM bench_sheet WHERE id = ?", id)
                    .fetch_optional(&self.pool)
                    .await?
            }
        };
        study.ok_or(StoreError::NotFound(what.noun()))
    }

    /// The role of an account in a study; `None`: it is none of its business.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn role(&self, study: i64, account: i64) -> Result<Option<Role>, StoreError> {
        let code = sqlx::query_scalar!("SELECT role FROM member WHERE study_id = ? AND account_id = ?", study, account);
        Ok(code.fetch_optional(&self.pool).await?.as_deref().and_then(Role::from_code))
    }

    /// Studies of an account, with its role in each, in the order in which they were begun.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn roles(&self, account: i64) -> Result<Vec<(i64, Role)>, StoreError> {
        let rows = sqlx::query!("SELECT study_id, role FROM member WHERE account_id = ? ORDER BY study_id", account);
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.filter_map(|r| Some((r.study_id, Role::from_code(&r.role)?))).collect())
    }

    /// Who is in a study, by name.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn members(&self, study: i64) -> Result<Vec<Member>, StoreError> {
        let rows = sqlx::query!(
            "SELECT a.id, a.name, m.role FROM member m JOIN account a ON a.id = m.account_id
             WHERE m.study_id = ? ORDER BY a.name",
            study
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows.filter_map(|r| Some(Member { account: r.id, name: r.name, role: Role::from_code(&r.role)? })).collect())
    }

    /// Gives an account a role in a study, or takes it out with `None`.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the study would be left without an owner.
    pub async fn give_role(&self, study: i64, account: i64, role: Option<Role>) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        match role.map(Role::code) {
            Some(role) => sqlx::query!(
                "INSERT INTO member (study_id, account_id, role) VALUES (?1, ?2, ?3)
                 ON CONFLICT (study_id, account_id) DO UPDATE SET role = ?3",
                study,
                account,
                role
            ),
            None => sqlx::query!("DELETE FROM member WHERE study_id = ? AND account_id = ?", study, account),
        }
        .execute(&mut *tx)
        .await?;
        let owner = Role::Owner.code();
        let owned = sqlx::query_scalar!(
            r#"SELECT EXISTS (SELECT 1 FROM member WHERE study_id = ? AND role = ?) AS "e!: bool""#,
            study,
            owner
        );
        if !owned.fetch_one(&mut *tx).await? {
            return Err(StoreError::Rule("A study needs an owner: make somebody else one first.".into()));
        }
        Ok(tx.commit().await?)
    }

    /// Keeps an invitation.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn invite(&self, new: &Invitation, now: UnixSeconds) -> Result<(), StoreError> {
        let role = new.role.code();
        sqlx::query!(
            "INSERT INTO invitation (key_hash, study_id, role, made_by, made_at, ends_at) VALUES (?, ?, ?, ?, ?, ?)",
            new.key_hash,
            new.study,
            role,
            new.by,
            now.0,
            new.ends_at.0
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The invitation of this secret, if it still holds and nobody came in by it.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if there is none, it has ended or was used: the same sentence for all, a stranger learns nothing.
    pub async fn invitation(&self, key_hash: &str, now: UnixSeconds) -> Result<Invitation, StoreError> {
        let row = sqlx::query!(
            "SELECT study_id, role, made_by, ends_at FROM invitation WHERE key_hash = ? AND ends_at > ? AND used_by IS NULL",
            key_hash,
            now.0
        );
        let row = row.fetch_optional(&self.pool).await?.ok_or_else(no_invitation)?;
        Ok(Invitation {
            key_hash: key_hash.to_owned(),
            study: row.study_id,
            role: Role::from_code(&row.role).ok_or_else(no_invitation)?,
            by: row.made_by,
            ends_at: UnixSeconds(row.ends_at),
            used_by: None,
        })
    }

    /// Invitations into a study that still hold, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn invitations(&self, study: i64, now: UnixSeconds) -> Result<Vec<Invitation>, StoreError> {
        let rows = sqlx::query!(
            "SELECT key_hash, role, made_by, ends_at FROM invitation
             WHERE study_id = ? AND ends_at > ? AND used_by IS NULL ORDER BY made_at DESC, key_hash",
            study,
            now.0
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let invitation = |r: &str| Role::from_code(r);
        Ok(rows
            .filter_map(|r| {
                let (role, ends_at) = (invitation(&r.role)?, UnixSeconds(r.ends_at));
                Some(Invitation { key_hash: r.key_hash, study, role, by: r.made_by, ends_at, used_by: None })
            })
            .collect())
    }

    /// Takes an invitation into a study back.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn withdraw_invitation(&self, study: i64, key_hash: &str) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM invitation WHERE study_id = ? AND key_hash = ? AND used_by IS NULL", study, key_hash)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Lets an account in by an invitation, once. One that is in already with a higher role keeps it.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the invitation does not hold.
    pub async fn join(&self, key_hash: &str, account: i64, now: UnixSeconds) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let study = join(&mut tx, key_hash, account, now).await?;
        tx.commit().await?;
        Ok(study)
    }

    /// Makes an account and lets it in by an invitation, both or neither; returns the study.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the name is taken or the invitation does not hold.
    pub async fn join_as_new(
        &self,
        key_hash: &str,
        name: &str,
        password_hash: &str,
        now: UnixSeconds,
    ) -> Result<i64, StoreError> {
        let mut tx = self.write().await?;
        let done = sqlx::query!("INSERT INTO account (name, password_hash) VALUES (?, ?)", name, password_hash)
            .execute(&mut *tx)
            .await
            .map_err(|e| {
                crate::database::taken(e, || format!("The name “{name}” is taken: choose another, or sign in."))
            })?;
        let study = join(&mut tx, key_hash, done.last_insert_rowid(), now).await?;
        tx.commit().await?;
        Ok(study)
    }
}

fn no_invitation() -> StoreError {
    StoreError::Rule("This link does not hold, or no longer: ask whoever sent it for another.".into())
}

async fn join(
    connection: &mut sqlx::SqliteConnection,
    key_hash: &str,
    account: i64,
    now: UnixSeconds,
) -> Result<i64, StoreError> {
    let row = sqlx::query!(
        r#"UPDATE invitation SET used_by = (SELECT name FROM account WHERE id = ?1)
           WHERE key_hash = ?2 AND ends_at > ?3 AND used_by IS NULL RETURNING study_id AS "study!: i64", role AS "role!""#,
        account,
        key_hash,
        now.0
    );
    let row = row.fetch_optional(&mut *connection).await?.ok_or_else(no_invitation)?;
    let was = sqlx::query_scalar!("SELECT role FROM member WHERE study_id = ? AND account_id = ?", row.study, account)
        .fetch_optional(&mut *connection)
        .await?;
    let offered = Role::from_code(&row.role).ok_or_else(no_invitation)?;
    let role = was.as_deref().and_then(Role::from_code).map_or(offered, |was| was.max(offered)).code();
    sqlx::query!(
        "INSERT INTO member (study_id, account_id, role) VALUES (?1, ?2, ?3)
         ON CONFLICT (study_id, account_id) DO UPDATE SET role = ?3",
        row.study,
        account,
        role
    )
    .execute(connection)
    .await?;
    Ok(row.study)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    const NOW: UnixSeconds = UnixSeconds(1_800_000_000);

    fn invitation(key: &str, role: Role) -> Invitation {
        let ends_at = UnixSeconds(NOW.0 + 7 * 86_400);
        Invitation { key_hash: key.into(), study: 1, role, by: "arvel".into(), ends_at, used_by: None }
    }

    #[tokio::test]
    async fn a_link_lets_one_person_in_once_and_not_after_its_time() {
        let (store, _dir) = store().await;
        station(&store).await;
        let owner = store.add_owner("arvel", "hash").await.unwrap();
        assert_eq!(store.role(1, owner).await.unwrap(), Some(Role::Owner), "the first owns what was there before");
        store.invite(&invitation("k1", Role::Field), NOW).await.unwrap();
        assert_eq!(store.invitations(1, NOW).await.unwrap().len(), 1);
        assert!(store.join_as_new("k1", "arvel", "h", NOW).await.unwrap_err().to_string().contains("is taken"));
        assert_eq!(store.join_as_new("k1", "quill", "h", NOW).await.unwrap(), 1);
        let again = store.join_as_new("k1", "mallory", "h", NOW).await.unwrap_err();
        assert!(again.to_string().contains("no longer"), "{again}");
        assert_eq!(store.account("mallory").await.unwrap(), None, "no account without a way in");
        let members: Vec<_> = store.members(1).await.unwrap().into_iter().map(|m| (m.name, m.role)).collect();
        assert_eq!(members, [("arvel".to_owned(), Role::Owner), ("quill".to_owned(), Role::Field)]);

        store.invite(&invitation("k2", Role::Guest), NOW).await.unwrap();
        let late = UnixSeconds(NOW.0 + 7 * 86_400);
        assert!(store.invitation("k2", late).await.is_err() && store.invitation("k2", NOW).await.is_ok());
        let quill = store.account("quill").await.unwrap().unwrap().id;
        store.join("k2", quill, NOW).await.unwrap();
        assert_eq!(store.role(1, quill).await.unwrap(), Some(Role::Field), "a lesser link takes nothing away");
        store.invite(&invitation("k3", Role::Owner), NOW).await.unwrap();
        store.withdraw_invitation(1, "k3").await.unwrap();
        assert!(store.join("k3", quill, NOW).await.is_err());
    }

    #[tokio::test]
    async fn a_study_never_loses_its_last_owner() {
        let (store, _dir) = store().await;
        station(&store).await;
        let owner = store.add_owner("arvel", "hash").await.unwrap();
        for role in [None, Some(Role::Guest)] {
            assert!(store.give_role(1, owner, role).await.unwrap_err().to_string().contains("needs an owner"));
            assert_eq!(store.role(1, owner).await.unwrap(), Some(Role::Owner));
        }
    }
}
