//! What the tests go by at a station: the usual numbers, those of its study, and its own.

use crate::unit::station_changed;
use crate::{Store, StoreError, Unit};
use ebrel_core::quality::{Settings, Test};
use ebrel_core::units::UnixSeconds;
use std::collections::BTreeMap;

/// A number that somebody set.
#[derive(Debug, Clone, PartialEq)]
pub struct OwnSetting {
    /// The station; `None`: all stations of the study that have none of their own.
    pub station: Option<i64>,
    /// The test concerned.
    pub test: Test,
    /// The setting's key.
    pub key: String,
    /// The number, within the range of its setting.
    pub value: f64,
    /// Who set it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

/// What was set at one time, as a whole.
#[derive(Debug, Clone, PartialEq)]
pub struct SettingVersion {
    /// Number of it; 0 of what is gathered from several.
    pub id: i64,
    /// The station; `None`: all stations of the study.
    pub station: Option<i64>,
    /// "test.key" and its number; what is not among them is as usual.
    pub numbers: BTreeMap<String, f64>,
    /// Who set it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

impl Store {
    /// Every version of a study's settings, the newest first: those for all of its stations and those for single ones.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn setting_versions(&self, study: i64) -> Result<Vec<SettingVersion>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, station_id, numbers, set_by, set_at FROM setting_version WHERE study_id = ? ORDER BY id DESC",
            study
        );
        let mut versions = Vec::new();
        for r in rows.fetch_all(&self.pool).await? {
            let (numbers, at) = (serde_json::from_str(&r.numbers)?, UnixSeconds(r.set_at));
            versions.push(SettingVersion { id: r.id, station: r.station_id, numbers, by: r.set_by, at });
        }
        Ok(versions)
    }

    /// What was set in a study, for all of its stations and for single ones.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn own_settings(&self, study: i64) -> Result<Vec<OwnSetting>, StoreError> {
        let rows = sqlx::query!(
            "SELECT station_id, test, key, value, set_by, set_at FROM test_setting WHERE study_id = ? ORDER BY id",
            study
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter();
        let set = rows.filter_map(|r| {
            let (test, at) = (Test::from_code(&r.test)?, UnixSeconds(r.set_at));
            Some(OwnSetting { station: r.station_id, test, key: r.key, value: r.value, by: r.set_by, at })
        });
        Ok(set.collect())
    }

    /// What the tests go by at a station. A number that this version does not know, or no longer allows, is passed over: the
    /// usual one stands, as the page of the tests shows.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn settings(&self, study: i64, station: i64) -> Result<Settings, StoreError> {
        let mut settings = Settings::default();
        let own = self.own_settings(study).await?;
        for of in [None, Some(station)] {
            for s in own.iter().filter(|s| s.station == of) {
                if let Err(error) = settings.set(s.test, &s.key, s.value) {
                    tracing::warn!(station, %error, "a setting of a test is passed over");
                }
            }
        }
        Ok(settings)
    }

    /// Puts what was set for a study, or for one station of it, in the place of what was set there before: what is not among it
    /// is as usual again. The stations concerned must be tested anew.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_settings(
        &self,
        study: i64,
        station: Option<i64>,
        set: &[(Test, &str, f64)],
        by: &str,
        at: UnixSeconds,
    ) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.keep_settings(study, station, set, by, at).await?;
        unit.commit().await
    }

    /// The numbers that differ from the usual ones at a station, those of its study among them, with who set the last of them and
    /// when; `None` if all are usual.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn settings_in_force(&self, study: i64, station: i64) -> Result<Option<SettingVersion>, StoreError> {
        let own = self.own_settings(study).await?;
        let mut numbers = BTreeMap::new();
        for of in [None, Some(station)] {
            let here = own.iter().filter(|s| s.station == of);
            numbers.extend(here.map(|s| (format!("{}.{}", s.test.code(), s.key), s.value)));
        }
        let concerned = own.iter().filter(|s| s.station.is_none_or(|of| of == station));
        let last = concerned.max_by_key(|s| s.at);
        Ok(last.map(|s| SettingVersion { id: 0, station: Some(station), numbers, by: s.by.clone(), at: s.at }))
    }
}

impl Unit {
    /// As [`Store::keep_settings`].
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn keep_settings(
        &mut self,
        study: i64,
        station: Option<i64>,
        set: &[(Test, &str, f64)],
        by: &str,
        at: UnixSeconds,
    ) -> Result<(), StoreError> {
        let tx = self.connection();
        sqlx::query!("DELETE FROM test_setting WHERE study_id = ? AND station_id IS ?", study, station)
            .execute(&mut *tx)
            .await?;
        for (test, key, value) in set {
            let code = test.code();
            sqlx::query!(
                "INSERT INTO test_setting (study_id, station_id, test, key, value, set_by, set_at)
                 VALUES (?, ?, ?, ?, ?, ?, ?)",
                study,
                station,
                code,
                key,
                value,
                by,
                at.0
            )
            .execute(&mut *tx)
            .await?;
        }
        let numbers: BTreeMap<String, f64> =
            set.iter().map(|(test, key, value)| (format!("{}.{key}", test.code()), *value)).collect();
        let numbers = serde_json::to_string(&numbers)?;
        sqlx::query!(
            "INSERT INTO setting_version (study_id, station_id, numbers, set_by, set_at) VALUES (?, ?, ?, ?, ?)",
            study,
            station,
            numbers,
            by,
            at.0
        )
        .execute(&mut *tx)
        .await?;
        let stations = sqlx::query_scalar!(
            r#"SELECT id AS "id!" FROM station WHERE study_id = ?1 AND (?2 IS NULL OR id = ?2)"#,
            study,
            station
        );
        for station in stations.fetch_all(&mut *tx).await? {
            station_changed(tx, station).await?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn a_station_s_own_number_beats_its_study_s_and_both_can_be_taken_back() {
        let (store, _dir) = store().await;
        let station = station(&store).await;
        let at = UnixSeconds(5);
        let sigmas = async || store.settings(1, station).await.unwrap().spike.sigmas;
        assert_eq!(sigmas().await, 8.0);
        store.keep_settings(1, None, &[(Test::Spike, "sigmas", 10.0)], "N. Arvel", at).await.unwrap();
        assert_eq!(sigmas().await, 10.0);
        store.keep_settings(1, Some(station), &[(Test::Spike, "sigmas", 12.0)], "N. Arvel", at).await.unwrap();
        assert_eq!(sigmas().await, 12.0);
        store.keep_settings(1, None, &[(Test::Noise, "times", 9.0)], "T. Quill", UnixSeconds(7)).await.unwrap();
        let force = store.settings_in_force(1, station).await.unwrap().unwrap();
        assert_eq!(force.numbers, [("noise.times".to_owned(), 9.0), ("spike.sigmas".to_owned(), 12.0)].into());
        assert_eq!((force.by.as_str(), force.at), ("T. Quill", UnixSeconds(7)), "who set the last of them");
        assert!(store.settings_in_force(2, station).await.unwrap().is_none());
        store.keep_settings(1, None, &[(Test::Spike, "sigmas", 10.0)], "N. Arvel", at).await.unwrap();
        assert_eq!(store.stations_to_test().await.unwrap(), [station]);
        store.keep_settings(1, Some(station), &[], "N. Arvel", at).await.unwrap();
        assert_eq!(sigmas().await, 10.0);
        store.keep_settings(1, None, &[(Test::Spike, "sigmas", -1.0)], "N. Arvel", at).await.unwrap();
        assert_eq!(sigmas().await, 8.0, "a number out of range does not stand");
        let versions = store.setting_versions(1).await.unwrap();
        assert_eq!(
            versions.iter().map(|v| v.station).collect::<Vec<_>>(),
            [None, Some(station), None, None, Some(station), None]
        );
        assert_eq!(versions[4].numbers, [("spike.sigmas".to_owned(), 12.0)].into());
    }
}
