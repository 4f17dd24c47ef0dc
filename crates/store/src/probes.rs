//! Probes: instruments with a serial.

use crate::{Store, StoreError, Unit};
use ebrel_core::units::Principle;

/// One instrument with a serial.
#[derive(Debug, Clone, PartialEq)]
pub struct Probe {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// Serial as it stands on the instrument; no two probes share one.
    pub serial: String,
    /// Model in words.
    pub model: String,
    /// How it measures.
    pub principle: Principle,
    /// Smallest value it can give, in its own unit.
    pub instrument_min: Option<f64>,
    /// Largest value it can give.
    pub instrument_max: Option<f64>,
    /// Step of its values.
    pub resolution: Option<f64>,
}

impl Store {
    /// The probe with this serial; made as given if it is not known yet (its `id` is not used).
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn ensure_probe(&self, probe: &Probe) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let id = unit.ensure_probe(probe).await?;
        unit.commit().await?;
        Ok(id)
    }

    /// All probes by serial.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn probes(&self) -> Result<Vec<Probe>, StoreError> {
        let rows = sqlx::query!(
            "SELECT id, serial, model, principle, instrument_min, instrument_max, resolution FROM probe ORDER BY serial"
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .into_iter()
            .map(|r| Probe {
                id: r.id,
                serial: r.serial,
                model: r.model,
                principle: Principle::from_code(&r.principle).unwrap_or(Principle::Node),
                instrument_min: r.instrument_min,
                instrument_max: r.instrument_max,
                resolution: r.resolution,
            })
            .collect())
    }
}

impl Unit {
    /// The probe with this serial; made as given if it is not known yet (its `id` is not used).
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn ensure_probe(&mut self, probe: &Probe) -> Result<i64, StoreError> {
        let principle = probe.principle.code();
        let id = sqlx::query_scalar!(
            r#"INSERT INTO probe (serial, model, principle, instrument_min, instrument_max, resolution)
               VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT DO UPDATE SET serial = serial RETURNING id AS "id!""#,
            probe.serial,
            probe.model,
            principle,
            probe.instrument_min,
            probe.instrument_max,
            probe.resolution
        )
        .fetch_one(self.connection())
        .await?;
        Ok(id)
    }
}

#[cfg(test)]
pub(crate) mod testing {
    use super::*;

    /// A dielectric probe of no model.
    pub fn probe(serial: &str) -> Probe {
        Probe {
            id: 0,
            serial: serial.into(),
            model: String::new(),
            principle: Principle::Dielectric,
            instrument_min: None,
            instrument_max: None,
            resolution: None,
        }
    }
}
