//! Keys by which nodes and gateways send readings: made, renewed with a grace, ended, and found by their hash.

use crate::{Store, StoreError};
use ebrel_core::units::UnixSeconds;

/// That a key was used is written down at most this often, seconds.
const NOTED: i64 = 60;

/// A key to be made.
#[derive(Debug, Clone)]
pub struct NewKey {
    /// Whose it is, in words.
    pub name: String,
    /// The hash of its secret.
    pub hash: String,
    /// The nodes that it serves for; all of one study.
    pub nodes: Vec<i64>,
    /// When it is made.
    pub at: UnixSeconds,
    /// Who makes it.
    pub by: String,
}

/// A key, as it is listed; its secret is nowhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NodeKey {
    /// Its number.
    pub id: i64,
    /// Whose it is, in words.
    pub name: String,
    /// When it was made.
    pub made_at: UnixSeconds,
    /// Who made it.
    pub made_by: String,
    /// From when on it serves no more.
    pub ends_at: Option<UnixSeconds>,
    /// Who ended it; empty if nobody did.
    pub ended_by: String,
    /// When it was used last, to the minute.
    pub used_at: Option<UnixSeconds>,
    /// How many nodes it serves for.
    pub nodes: i64,
}

/// What a key allows at a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyCheck {
    /// To send for it.
    Serves,
    /// Nobody knows it.
    Unknown,
    /// It serves no more since then.
    Ended(UnixSeconds),
    /// It is another node's.
    OtherNode,
}

impl Store {
    /// Makes a key of a study and returns its number.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if it serves for no node, or for one of another study.
    pub async fn add_key(&self, study: i64, new: &NewKey) -> Result<i64, StoreError> {
        if new.nodes.is_empty() {
            return Err(StoreError::Rule("A key serves for at least one node: choose one.".into()));
        }
        let mut tx = self.write().await?;
        let done = sqlx::query!(
            "INSERT INTO node_key (study_id, name, hash, made_at, made_by) VALUES (?, ?, ?, ?, ?)",
            study,
            new.name,
            new.hash,
            new.at.0,
            new.by
        );
        let id = done.execute(&mut *tx).await?.last_insert_rowid();
        for node in &new.nodes {
            let put = sqlx::query!(
                "INSERT OR IGNORE INTO node_key_node SELECT ?1, n.id FROM node n JOIN station s ON s.id = n.station_id
                 WHERE n.id = ?2 AND s.study_id = ?3",
                id,
                node,
                study
            );
            if put.execute(&mut *tx).await?.rows_affected() == 0 {
                return Err(StoreError::Rule("A key serves for nodes of its own study, each once.".into()));
            }
        }
        tx.commit().await?;
        Ok(id)
    }

    /// What the key of this hash allows at a node; that it was used is noted.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn check_key(&self, hash: &str, node: i64, now: UnixSeconds) -> Result<KeyCheck, StoreError> {
        let row = sqlx::query!(
            r#"SELECT k.id, k.ends_at, k.used_at,
                      EXISTS (SELECT 1 FROM node_key_node WHERE key_id = k.id AND node_id = ?2) AS "own!: bool"
               FROM node_key k WHERE k.hash = ?1"#,
            hash,
            node
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(KeyCheck::Unknown) };
        if let Some(ended) = row.ends_at.filter(|at| *at <= now.0) {
            return Ok(KeyCheck::Ended(UnixSeconds(ended)));
        }
        if !row.own {
            return Ok(KeyCheck::OtherNode);
        }
        if row.used_at.is_none_or(|used| now.0 - used >= NOTED) {
            sqlx::query!("UPDATE node_key SET used_at = ? WHERE id = ?", now.0, row.id).execute(&self.pool).await?;
        }
        Ok(KeyCheck::Serves)
    }

    /// Keys that serve or served for a node, the newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn keys_of(&self, node: i64) -> Result<Vec<NodeKey>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT k.id, k.name, k.made_at, k.made_by, k.ends_at, k.ended_by, k.used_at,
                      (SELECT count(*) FROM node_key_node WHERE key_id = k.id) AS "nodes!: i64"
               FROM node_key k JOIN node_key_node n ON n.key_id = k.id WHERE n.node_id = ? ORDER BY k.id DESC"#,
            node
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        Ok(rows
            .map(|r| NodeKey {
                id: r.id,
                name: r.name,
                made_at: UnixSeconds(r.made_at),
                made_by: r.made_by,
                ends_at: r.ends_at.map(UnixSeconds),
                ended_by: r.ended_by,
                used_at: r.used_at.map(UnixSeconds),
                nodes: r.nodes,
            })
            .collect())
    }

    /// The nodes that a key serves for.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn nodes_of_key(&self, key: i64) -> Result<Vec<i64>, StoreError> {
        let nodes = sqlx::query_scalar!("SELECT node_id FROM node_key_node WHERE key_id = ? ORDER BY node_id", key);
        Ok(nodes.fetch_all(&self.pool).await?)
    }

    /// Lets a key of a node serve until `ends`; one that ends earlier already stays as it is. Whether there was one to end.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn end_key(&self, node: i64, key: i64, ends: UnixSeconds, by: &str) -> Result<bool, StoreError> {
        let done = sqlx::query!(
            "UPDATE node_key SET ends_at = ?1, ended_by = ?2 WHERE id = ?3 AND (ends_at IS NULL OR ends_at > ?1)
             AND EXISTS (SELECT 1 FROM node_key_node WHERE key_id = ?3 AND node_id = ?4)",
            ends.0,
            by,
            key,
            node
        );
        Ok(done.execute(&self.pool).await?.rows_affected() > 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    fn key(hash: &str, nodes: &[i64]) -> NewKey {
        let (name, by) = ("gateway “θ”".to_owned(), "N. Arvel".to_owned());
        NewKey { name, hash: hash.into(), nodes: nodes.to_vec(), at: UnixSeconds(100), by }
    }

    #[tokio::test]
    async fn a_key_serves_its_own_nodes_until_it_ends() {
        let (store, _dir) = store().await;
        let at = station(&store).await;
        let study = store.station(at).await.unwrap().study_id;
        let (a, b) = (store.ensure_node(at, "a").await.unwrap(), store.ensure_node(at, "b").await.unwrap());
        let old = store.add_key(study, &key("old", &[a])).await.unwrap();
        store.add_key(study, &key("gate", &[a, b])).await.unwrap();
        let check = async |hash: &str, node, now| store.check_key(hash, node, UnixSeconds(now)).await.unwrap();
        assert_eq!(check("old", a, 200).await, KeyCheck::Serves);
        assert_eq!(check("old", b, 200).await, KeyCheck::OtherNode);
        assert_eq!(check("gate", b, 200).await, KeyCheck::Serves);
        assert_eq!(check("", a, 200).await, KeyCheck::Unknown);
        // Renewed: it serves through the grace, and no longer.
        assert!(store.end_key(a, old, UnixSeconds(1000), "N. Arvel").await.unwrap());
        assert_eq!(check("old", a, 999).await, KeyCheck::Serves);
        assert_eq!(check("old", a, 1000).await, KeyCheck::Ended(UnixSeconds(1000)));
        assert!(!store.end_key(a, old, UnixSeconds(2000), "T. Quill").await.unwrap(), "no longer than it was to");
        assert!(store.end_key(a, old, UnixSeconds(500), "T. Quill").await.unwrap(), "but shorter");
        assert!(!store.end_key(b, old, UnixSeconds(1), "T. Quill").await.unwrap(), "from another node's page");
        let told: Vec<_> =
            store.keys_of(a).await.unwrap().into_iter().map(|k| (k.nodes, k.ends_at, k.used_at)).collect();
        let at = |t| Some(UnixSeconds(t));
        assert_eq!(told, [(2, None, at(200)), (1, at(500), at(999))]);
    }

    #[tokio::test]
    async fn a_key_for_nothing_for_another_study_or_of_a_known_secret_is_not_made() {
        let (store, _dir) = store().await;
        let at = station(&store).await;
        let study = store.station(at).await.unwrap().study_id;
        let a = store.ensure_node(at, "a").await.unwrap();
        for (study, new) in
            [(study, key("x", &[])), (study, key("x", &[99])), (study, key("x", &[a, a])), (study + 1, key("x", &[a]))]
        {
            assert!(store.add_key(study, &new).await.is_err(), "{new:?}");
        }
        assert!(store.keys_of(a).await.unwrap().is_empty());
        store.add_key(study, &key("x", &[a])).await.unwrap();
        assert!(store.add_key(study, &key("x", &[a])).await.is_err());
    }
}
