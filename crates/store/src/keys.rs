//! Keys by which nodes and gateways send readings: made, renewed with a grace, ended, and found by their hash.

use crate::{Store, StoreError, Unit};
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;

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
    /// Number by which its node's page renews or ends it.
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
    /// Whether it was ended for good, whatever a clock shows.
    pub revoked: bool,
    /// When it was used last, to the minute.
    pub used_at: Option<UnixSeconds>,
    /// How many nodes it serves for.
    pub nodes: i64,
}

/// What a key allows at a node.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyCheck {
    /// To send for it.
    Serves {
        /// The moment that counts as now in its study, if not the clock's.
        fixed_now: Option<i64>,
    },
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
        let mut unit = self.unit().await?;
        let id = unit.add_key(study, new).await?;
        unit.commit().await?;
        Ok(id)
    }

    /// Puts another secret, by its hash, beside that of a node's key, which serves on until `ends`. Returns the new key's name.
    ///
    /// # Errors
    /// [`StoreError::Rule`] if the key is not of this node, or ends already.
    pub async fn renew_key(
        &self,
        (node, key): (i64, i64),
        hash: &str,
        (at, ends): (UnixSeconds, UnixSeconds),
        by: &str,
    ) -> Result<String, StoreError> {
        let mut unit = self.unit().await?;
        let old = sqlx::query!(
            "UPDATE node_key SET ends_at = ?1, ended_by = ?2 WHERE id = ?3 AND ends_at IS NULL
             AND EXISTS (SELECT 1 FROM node_key_node WHERE key_id = ?3 AND node_id = ?4) RETURNING study_id, name",
            ends.0,
            by,
            key,
            node
        );
        let Some(old) = old.fetch_optional(unit.connection()).await? else {
            return Err(StoreError::Rule("This key ends already: renew the newer one, or make another.".into()));
        };
        let nodes = sqlx::query_scalar!("SELECT node_id FROM node_key_node WHERE key_id = ? ORDER BY node_id", key);
        let nodes = nodes.fetch_all(unit.connection()).await?;
        let new = NewKey { name: old.name, hash: hash.to_owned(), nodes, at, by: by.to_owned() };
        unit.add_key(old.study_id, &new).await?;
        unit.commit().await?;
        Ok(new.name)
    }

    /// What the key of this hash allows at a node; that it was used is noted.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn check_key(&self, hash: &str, node: i64, now: UnixSeconds) -> Result<KeyCheck, StoreError> {
        let row = sqlx::query!(
            r#"SELECT k.id, k.ends_at, k.used_at, k.revoked AS "revoked!: bool", s.fixed_now,
                      EXISTS (SELECT 1 FROM node_key_node WHERE key_id = k.id AND node_id = ?2) AS "own!: bool"
               FROM node_key k JOIN study s ON s.id = k.study_id WHERE k.hash = ?1"#,
            hash,
            node
        )
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(KeyCheck::Unknown) };
        if let Some(ended) = row.ends_at.filter(|at| row.revoked || *at <= now.0) {
            return Ok(KeyCheck::Ended(UnixSeconds(ended)));
        }
        if !row.own {
            return Ok(KeyCheck::OtherNode);
        }
        if row.used_at.is_none_or(|used| now.0 - used >= NOTED) {
            sqlx::query!("UPDATE node_key SET used_at = ? WHERE id = ?", now.0, row.id).execute(&self.pool).await?;
        }
        Ok(KeyCheck::Serves { fixed_now: row.fixed_now })
    }

    /// Keys that serve or served for each of these nodes, the newest first; a node without any is not among them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn keys_of(&self, nodes: &[i64]) -> Result<HashMap<i64, Vec<NodeKey>>, StoreError> {
        let nodes = serde_json::to_string(nodes)?;
        let rows = sqlx::query!(
            r#"SELECT n.node_id, k.id, k.name, k.made_at, k.made_by, k.ends_at, k.ended_by, k.used_at, k.revoked AS "revoked!: bool",
                      (SELECT count(*) FROM node_key_node WHERE key_id = k.id) AS "nodes!: i64"
               FROM node_key k JOIN node_key_node n ON n.key_id = k.id
               WHERE n.node_id IN (SELECT value FROM json_each(?)) ORDER BY k.id DESC"#,
            nodes
        );
        let mut all: HashMap<i64, Vec<NodeKey>> = HashMap::new();
        for r in rows.fetch_all(&self.pool).await? {
            all.entry(r.node_id).or_default().push(NodeKey {
                id: r.id,
                name: r.name,
                made_at: UnixSeconds(r.made_at),
                made_by: r.made_by,
                ends_at: r.ends_at.map(UnixSeconds),
                ended_by: r.ended_by,
                revoked: r.revoked,
                used_at: r.used_at.map(UnixSeconds),
                nodes: r.nodes,
            });
        }
        Ok(all)
    }

    /// Ends a key of a node for good. Whether there was one to end.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn end_key(&self, node: i64, key: i64, at: UnixSeconds, by: &str) -> Result<bool, StoreError> {
        let done = sqlx::query!(
            "UPDATE node_key SET ends_at = ?1, ended_by = ?2, revoked = 1 WHERE id = ?3 AND revoked = 0
             AND EXISTS (SELECT 1 FROM node_key_node WHERE key_id = ?3 AND node_id = ?4)",
            at.0,
            by,
            key,
            node
        );
        Ok(done.execute(&self.pool).await?.rows_affected() > 0)
    }
}

impl Unit {
    async fn add_key(&mut self, study: i64, new: &NewKey) -> Result<i64, StoreError> {
        if new.nodes.is_empty() {
            return Err(StoreError::Rule("A key serves for at least one node: choose one.".into()));
        }
        let done = sqlx::query!(
            "INSERT INTO node_key (study_id, name, hash, made_at, made_by) VALUES (?, ?, ?, ?, ?)",
            study,
            new.name,
            new.hash,
            new.at.0,
            new.by
        );
        let id = done.execute(self.connection()).await?.last_insert_rowid();
        for node in &new.nodes {
            let put = sqlx::query!(
                "INSERT OR IGNORE INTO node_key_node SELECT ?1, n.id FROM node n JOIN station s ON s.id = n.station_id
                 WHERE n.id = ?2 AND s.study_id = ?3",
                id,
                node,
                study
            );
            if put.execute(self.connection()).await?.rows_affected() == 0 {
                return Err(StoreError::Rule("A key serves for nodes of its own study, each once.".into()));
            }
        }
        Ok(id)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    const SERVES: KeyCheck = KeyCheck::Serves { fixed_now: None };

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
        assert_eq!(check("old", a, 200).await, SERVES);
        assert_eq!(check("old", b, 200).await, KeyCheck::OtherNode);
        assert_eq!(check("gate", b, 200).await, SERVES);
        assert_eq!(check("", a, 200).await, KeyCheck::Unknown);
        // Renewed, once: it serves through the grace, and no longer; the new one serves for the same nodes.
        let (at, ends) = (UnixSeconds(300), UnixSeconds(1000));
        let renew = async |node, key, hash: &str| store.renew_key((node, key), hash, (at, ends), "N. Arvel").await;
        assert!(renew(b, old, "stolen").await.is_err(), "from another node's page");
        assert_eq!(renew(a, old, "new").await.unwrap(), "gateway “θ”");
        assert!(renew(a, old, "newer").await.is_err(), "from a second tab");
        assert_eq!(check("old", a, 999).await, SERVES);
        assert_eq!(check("old", a, 1000).await, KeyCheck::Ended(UnixSeconds(1000)));
        assert_eq!((check("new", a, 1000).await, check("newer", a, 1000).await), (SERVES, KeyCheck::Unknown));
        let end = async |node, t| store.end_key(node, old, UnixSeconds(t), "T. Quill").await.unwrap();
        assert!(!end(b, 1).await, "from another node's page");
        assert!(end(a, 500).await && !end(a, 600).await, "once");
        assert_eq!(check("old", a, 400).await, KeyCheck::Ended(UnixSeconds(500)), "also by a clock that was set back");
        let told: Vec<_> =
            store.keys_of(&[a]).await.unwrap()[&a].iter().map(|k| (k.nodes, k.ends_at, k.used_at)).collect();
        let at = |t| Some(UnixSeconds(t));
        assert_eq!(told, [(1, None, at(1000)), (2, None, at(200)), (1, at(500), at(999))]);
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
        assert!(store.keys_of(&[a]).await.unwrap().is_empty());
        store.add_key(study, &key("x", &[a])).await.unwrap();
        assert!(store.add_key(study, &key("x", &[a])).await.is_err());
    }
}
