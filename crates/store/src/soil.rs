//! The soil of a station, horizon by horizon.

use crate::{Store, StoreError};
use ebrel_core::soil::{Horizon, Profile};

impl Store {
    /// The soil of a station.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn profile(&self, station: i64) -> Result<Profile, StoreError> {
        profile(&mut *self.pool.acquire().await?, station).await
    }
}

/// The soil of a station.
pub(crate) async fn profile(connection: &mut sqlx::SqliteConnection, station: i64) -> Result<Profile, StoreError> {
    let rows = sqlx::query_as!(
        Horizon,
        "SELECT top_cm, bottom_cm, name, texture, sand_pct, clay_pct, organic_matter_pct, bulk_density_g_cm3
             FROM horizon WHERE station_id = ? ORDER BY top_cm",
        station
    );
    Ok(Profile::from(rows.fetch_all(connection).await?))
}

/// Writes the horizons of a station.
pub(crate) async fn add_horizons(
    connection: &mut sqlx::SqliteConnection,
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
