//! The soil of a station, horizon by horizon.

use crate::{Store, StoreError};
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::units::UnixSeconds;
use sqlx::SqliteConnection;
use std::collections::HashMap;

impl Store {
    /// The soil of a station.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn profile(&self, station: i64) -> Result<Profile, StoreError> {
        profile(&mut *self.pool.acquire().await?, station).await
    }

    /// As [`Self::profile`], of several stations by their numbers; one without horizons is not among them.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn profiles_of(&self, stations: &[i64]) -> Result<HashMap<i64, Profile>, StoreError> {
        profiles(&mut *self.pool.acquire().await?, stations).await
    }
}

/// The soil of a station.
pub(crate) async fn profile(connection: &mut SqliteConnection, station: i64) -> Result<Profile, StoreError> {
    Ok(profiles(connection, &[station]).await?.remove(&station).unwrap_or_default())
}

async fn profiles(connection: &mut SqliteConnection, stations: &[i64]) -> Result<HashMap<i64, Profile>, StoreError> {
    let stations = serde_json::to_string(stations)?;
    let rows = sqlx::query!(
        "SELECT station_id, top_cm, bottom_cm, name, texture, sand_pct, clay_pct, organic_matter_pct, bulk_density_g_cm3
         FROM horizon WHERE station_id IN (SELECT value FROM json_each(?)) ORDER BY top_cm",
        stations
    );
    let mut all: HashMap<i64, Vec<Horizon>> = HashMap::new();
    for r in rows.fetch_all(connection).await? {
        all.entry(r.station_id).or_default().push(Horizon {
            top_cm: r.top_cm,
            bottom_cm: r.bottom_cm,
            name: r.name,
            texture: r.texture,
            sand_pct: r.sand_pct,
            clay_pct: r.clay_pct,
            organic_matter_pct: r.organic_matter_pct,
            bulk_density_g_cm3: r.bulk_density_g_cm3,
        });
    }
    Ok(all.into_iter().map(|(station, horizons)| (station, Profile::from(horizons))).collect())
}

/// Writes the horizons of a station.
pub(crate) async fn add_horizons(
    connection: &mut SqliteConnection,
    station: i64,
    horizons: &[Horizon],
) -> Result<(), StoreError> {
    for h in horizons {
        sqlx::query!(
            "INSERT INTO horizon VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
            station,
            h.top_cm,
            h.bottom_cm,
            h.name,
            h.texture,
            h.sand_pct,
            h.clay_pct,
            h.organic_matter_pct,
            h.bulk_density_g_cm3
        )
        .execute(&mut *connection)
        .await?;
    }
    Ok(())
}

/// Whether a station's soil is that which was seen in its hole.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SoilSeen {
    /// The log that told of it.
    pub log: String,
    /// The horizons as that log had them then, JSON.
    pub seen: String,
    /// Whether that soil stands; if not, somebody went back to the plan's.
    pub stands: bool,
    /// When that was decided.
    pub at: UnixSeconds,
    /// By whom.
    pub by: String,
    /// Why.
    pub why: String,
}

impl Store {
    /// What was seen of a station's soil, if anything ever was.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn soil_seen(&self, station: i64) -> Result<Option<SoilSeen>, StoreError> {
        let row =
            sqlx::query!("SELECT log, seen, stands, at, made_by, why FROM soil_seen WHERE station_id = ?", station);
        let row = row.fetch_optional(&self.pool).await?;
        Ok(row.map(|r| SoilSeen {
            log: r.log,
            seen: r.seen,
            stands: r.stands != 0,
            at: UnixSeconds(r.at),
            by: r.made_by,
            why: r.why,
        }))
    }

    /// Makes a soil the station's, and keeps why.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses; nothing is changed then.
    pub async fn keep_soil(&self, station: i64, soil: &Profile, because: &SoilSeen) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        replace(unit.connection(), station, soil).await?;
        let (stands, at) = (i64::from(because.stands), because.at.0);
        sqlx::query!(
            "INSERT INTO soil_seen VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7) ON CONFLICT (station_id) DO UPDATE SET
                log = ?2, seen = ?3, stands = ?4, at = ?5, made_by = ?6, why = ?7",
            station,
            because.log,
            because.seen,
            stands,
            at,
            because.by,
            because.why
        )
        .execute(unit.connection())
        .await?;
        unit.commit().await
    }
}

/// Puts another soil in the place of a station's; its tests are due if it is another.
pub(crate) async fn replace(connection: &mut SqliteConnection, station: i64, soil: &Profile) -> Result<(), StoreError> {
    if *soil != profile(&mut *connection, station).await? {
        crate::unit::station_changed(connection, station).await?;
        sqlx::query!("DELETE FROM horizon WHERE station_id = ?", station).execute(&mut *connection).await?;
        add_horizons(connection, station, soil.horizons()).await?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::stations::testing::station;

    #[tokio::test]
    async fn what_was_seen_takes_the_place_and_says_who_and_why() {
        let (store, _dir) = store().await;
        let id = station(&store).await;
        assert_eq!(store.soil_seen(id).await.unwrap(), None);
        let soil = |bottom_cm| Profile::from(vec![Horizon { bottom_cm, name: "A".into(), ..Horizon::default() }]);
        let because = |stands, why: &str| SoilSeen {
            log: "l".into(),
            seen: "[]".into(),
            stands,
            at: UnixSeconds(5),
            by: "T. Quill".into(),
            why: why.into(),
        };
        for (bottom_cm, stands, why) in [(20.0, true, "as seen"), (30.0, false, "the face had slumped")] {
            store.keep_soil(id, &soil(bottom_cm), &because(stands, why)).await.unwrap();
            assert_eq!(store.profile(id).await.unwrap(), soil(bottom_cm));
            assert_eq!(store.soil_seen(id).await.unwrap(), Some(because(stands, why)));
        }
        assert_eq!(store.stations_to_test().await.unwrap(), [id], "pore spaces changed");
    }
}
