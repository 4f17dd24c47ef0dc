//! Plans of stations with their versions, the design of a study, and the catalogue of models.

use crate::drafts::{DraftKind, advance};
use crate::stations::Station;
use crate::{Store, StoreError};
use ebrel_core::soil::Profile;
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use sqlx::SqliteConnection;
use std::collections::HashMap;

/// A version of a plan.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlanVersion {
    /// Its number, from 1.
    pub version: i64,
    /// When it was last touched.
    pub made_at: UnixSeconds,
    /// Name of the account, or of the command, that did it.
    pub made_by: String,
    /// What differs from the version before, in words.
    pub changed: String,
    /// The plan's JSON.
    pub body: String,
}

/// A change that is to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct PlanChange<'c> {
    /// The plan's JSON.
    pub body: &'c str,
    /// What changed, in words.
    pub changed: &'c str,
    /// Name of the account, or of the command, that did it.
    pub by: &'c str,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
    /// What the plan says of its station.
    pub describes: Option<Description<'c>>,
}

/// What a plan says of its station: place, treatment, cover, known biases, soil. Code, name and study stay.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Description<'c> {
    /// The station with what is said of it.
    pub station: &'c Station,
    /// Its soil; `None` leaves the soil that is known.
    pub soil: Option<&'c Profile>,
}

/// Typing on in one field within this time makes no version of its own.
const ONE_CHANGE: SpanSeconds = SpanSeconds(600);

impl Store {
    /// The newest version of a station's plan, if it has one.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn plan(&self, station: i64) -> Result<Option<PlanVersion>, StoreError> {
        Ok(self.newest_plans(station, 1).await?.pop())
    }

    /// The newest version of the plan of each station of a study that has one: its JSON.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn plans_of_study(&self, study: i64) -> Result<HashMap<i64, String>, StoreError> {
        // Of a group SQLite takes the row that has the maximum.
        let rows = sqlx::query!(
            r#"SELECT p.station_id AS "station_id!: i64", p.body AS "body!: String", max(p.version) AS "version!: i64" FROM plan_version p JOIN station s ON s.id = p.station_id
               WHERE s.study_id = ? GROUP BY p.station_id"#,
            study
        );
        Ok(rows.fetch_all(&self.pool).await?.into_iter().map(|r| (r.station_id, r.body)).collect())
    }

    /// Versions of a station's plan, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn plan_versions(&self, station: i64) -> Result<Vec<PlanVersion>, StoreError> {
        self.newest_plans(station, i64::MAX).await
    }

    async fn newest_plans(&self, station: i64, limit: i64) -> Result<Vec<PlanVersion>, StoreError> {
        let rows = sqlx::query!(
            "SELECT version, made_at, made_by, changed, body FROM plan_version WHERE station_id = ?
             ORDER BY version DESC LIMIT ?",
            station,
            limit
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| PlanVersion {
                version: r.version,
                made_at: UnixSeconds(r.made_at),
                made_by: r.made_by,
                changed: r.changed,
                body: r.body,
            })
            .collect())
    }

    /// Keeps a change of a plan as a new version, and returns its revision; typing on in the same field by the same person
    /// extends the last version. A clock that was set back extends nothing. `expected` is the revision that was changed. What
    /// the plan says of its station is kept with it or not at all, so that two saves at once never leave a station described by
    /// the older plan.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if somebody saved meanwhile; [`StoreError`] if the database refuses.
    pub async fn keep_plan(&self, station: i64, expected: i64, change: &PlanChange<'_>) -> Result<i64, StoreError> {
        let at = change.at.0;
        let mut tx = self.write().await?;
        let last = sqlx::query!(
            "SELECT version, made_at, made_by, changed, body FROM plan_version WHERE station_id = ?
             ORDER BY version DESC LIMIT 1",
            station
        )
        .fetch_optional(&mut *tx)
        .await?;
        let before = last.as_ref().map_or("", |l| l.body.as_str());
        let revision = advance(&mut tx, DraftKind::Plan, station, expected, (before, change.body)).await?;
        if revision == expected {
            return Ok(revision);
        }
        if let Some(description) = change.describes {
            describe(&mut tx, station, description).await?;
        }
        let goes_on = last.as_ref().filter(|l| {
            let since = change.at - UnixSeconds(l.made_at);
            l.version > 1
                && l.changed == change.changed
                && l.made_by == change.by
                && (SpanSeconds(0)..=ONE_CHANGE).contains(&since)
        });
        if let Some(last) = goes_on {
            sqlx::query!(
                "UPDATE plan_version SET body = ?, made_at = ? WHERE station_id = ? AND version = ?",
                change.body,
                at,
                station,
                last.version
            )
            .execute(&mut *tx)
            .await?;
        } else {
            let version = last.map_or(1, |l| l.version + 1);
            sqlx::query!(
                "INSERT INTO plan_version (station_id, version, made_at, made_by, changed, body) VALUES (?, ?, ?, ?, ?, ?)",
                station,
                version,
                at,
                change.by,
                change.changed,
                change.body
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(revision)
    }

    /// The design of a study as JSON, if it has one.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn study_design(&self, study: i64) -> Result<Option<String>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT body FROM study_design WHERE study_id = ?", study)
            .fetch_optional(&self.pool)
            .await?)
    }

    /// Keeps the design of a study, and its question. `expected` is the revision that was changed.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if somebody saved meanwhile; [`StoreError`] if the database refuses.
    pub async fn keep_study_design(
        &self,
        study: i64,
        expected: i64,
        question: &str,
        body: &str,
    ) -> Result<(), StoreError> {
        let before = self.study_design(study).await?.unwrap_or_default();
        let mut tx = self.write().await?;
        advance(&mut tx, DraftKind::Design, study, expected, (&before, body)).await?;
        sqlx::query!("UPDATE study SET question = ? WHERE id = ?", question, study).execute(&mut *tx).await?;
        sqlx::query!("INSERT INTO study_design VALUES (?1, ?2) ON CONFLICT DO UPDATE SET body = ?2", study, body)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// The catalogue as its users changed it, as JSON.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn catalogue(&self) -> Result<Option<String>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT body FROM catalogue WHERE id = 1").fetch_optional(&self.pool).await?)
    }

    /// Keeps a changed catalogue; `None` brings the shipped one back. `expected` is the revision that was changed.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if somebody saved meanwhile; [`StoreError`] if the database refuses.
    pub async fn keep_catalogue(&self, expected: i64, body: Option<&str>) -> Result<(), StoreError> {
        let mut tx = self.write().await?;
        let before = sqlx::query_scalar!("SELECT body FROM catalogue WHERE id = 1").fetch_optional(&mut *tx).await?;
        let texts = (before.as_deref().unwrap_or_default(), body.unwrap_or_default());
        advance(&mut tx, DraftKind::Catalogue, CATALOGUE, expected, texts).await?;
        match body {
            Some(body) => {
                sqlx::query!("INSERT INTO catalogue VALUES (1, ?1) ON CONFLICT DO UPDATE SET body = ?1", body)
                    .execute(&mut *tx)
                    .await?
            }
            None => sqlx::query!("DELETE FROM catalogue").execute(&mut *tx).await?,
        };
        tx.commit().await?;
        Ok(())
    }
}

/// The catalogue's number among documents.
pub const CATALOGUE: i64 = 1;

async fn describe(
    connection: &mut SqliteConnection,
    id: i64,
    Description { station, soil }: Description<'_>,
) -> Result<(), StoreError> {
    sqlx::query!(
        "UPDATE station SET latitude = ?, longitude = ?, elevation_m = ?, treatment = ?, cover = ?, known_bias = ?
             WHERE id = ?",
        station.latitude,
        station.longitude,
        station.elevation_m,
        station.treatment,
        station.cover,
        station.known_bias,
        id
    )
    .execute(&mut *connection)
    .await?;
    let Some(soil) = soil else { return Ok(()) };
    // What was seen in the open hole stands before what was planned.
    let seen = sqlx::query_scalar!("SELECT stands FROM soil_seen WHERE station_id = ?", id);
    if seen.fetch_optional(&mut *connection).await? == Some(1) {
        return Ok(());
    }
    crate::soil::replace(connection, id, soil).await
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;
    use ebrel_core::soil::Horizon;

    #[tokio::test]
    async fn typing_on_in_one_field_is_one_version_and_each_other_change_its_own() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        assert_eq!(store.plan(station).await.unwrap(), None);
        let change =
            |body, changed, at| PlanChange { body, changed, by: "N. Arvel", at: UnixSeconds(at), describes: None };
        for (body, changed, at) in [
            ("{}", "begun", 0),
            ("{\"a\": 1}", "depth of probe 1", 10),
            ("{\"a\": 15}", "depth of probe 1", 12),
            ("{\"a\": 15}", "depth of probe 1", 14),
            ("{\"a\": 16}", "depth of probe 1", 4000),
            ("{\"a\": 16, \"b\": 2}", "method", 4010),
        ] {
            let revision = store.revision(DraftKind::Plan, station).await.unwrap();
            store.keep_plan(station, revision, &change(body, changed, at)).await.unwrap();
        }
        let versions = store.plan_versions(station).await.unwrap();
        let bodies: Vec<&str> = versions.iter().map(|v| v.body.as_str()).collect();
        assert_eq!(bodies, ["{\"a\": 16, \"b\": 2}", "{\"a\": 16}", "{\"a\": 15}", "{}"]);
        assert_eq!(store.plan(station).await.unwrap().unwrap(), versions[0]);
        let revision = store.revision(DraftKind::Plan, station).await.unwrap();
        store.keep_plan(station, revision, &change("{\"a\": 9}", "method", 5)).await.unwrap();
        let all = store.plan_versions(station).await.unwrap();
        assert_eq!((all.len(), all[1].body.as_str()), (5, bodies[0]), "a clock set back overwrites no version");
        let stale = store.keep_plan(station, revision, &change("{}", "method", 6)).await;
        assert!(matches!(stale, Err(StoreError::Stale)), "{stale:?}");
    }

    #[tokio::test]
    async fn a_plan_describes_its_station_and_the_catalogue_comes_and_goes() {
        let (store, _dir) = store().await;
        let id = station(&store).await;
        let mut described = store.station(id).await.unwrap();
        described.known_bias = "a wall".into();
        let topsoil =
            Horizon { bottom_cm: 20.0, name: "A".into(), bulk_density_g_cm3: Some(1.2), ..Horizon::default() };
        let soil = Profile::from(vec![topsoil]);
        let keep = async |revision, body, station, soil| {
            let describes = Some(Description { station, soil });
            let change = PlanChange { body, changed: "c", by: "N. Arvel", at: UnixSeconds(1), describes };
            store.keep_plan(id, revision, &change).await
        };
        assert_eq!(keep(0, "{}", &described, Some(&soil)).await.unwrap(), 1);
        assert_eq!(keep(1, "{\"a\": 1}", &described, None).await.unwrap(), 2, "its soil stays");
        let late = Station { known_bias: "a hedge".into(), ..described.clone() };
        let stale = keep(1, "{\"a\": 2}", &late, Some(&Profile::default())).await;
        assert!(matches!(stale, Err(StoreError::Stale)), "who comes late describes nothing either");
        assert_eq!(store.station(id).await.unwrap().known_bias, "a wall");
        assert_eq!(store.profile(id).await.unwrap(), soil);
        store.keep_catalogue(0, Some("{}")).await.unwrap();
        assert!(matches!(store.keep_catalogue(0, None).await, Err(StoreError::Stale)), "from an old page");
        assert_eq!(store.catalogue().await.unwrap().as_deref(), Some("{}"));
        store.keep_catalogue(1, None).await.unwrap();
        assert_eq!(store.catalogue().await.unwrap(), None);
    }
}
