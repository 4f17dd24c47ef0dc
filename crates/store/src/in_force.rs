//! Calibrations in force, and which of them serves a probe where it lies.

use crate::calibrations::{Adopted, Row, Subject};
use crate::{Store, StoreError};
use ebrel_core::calibration::serves_model;
use ebrel_core::series::CalibrationHistory;
use ebrel_core::soil::Horizon;
use ebrel_core::units::UnixSeconds;
use std::collections::HashMap;

impl Store {
    /// What the raw readings of a probe mean in a horizon, by date: see [`InForce::history`].
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn history(
        &self,
        probe: i64,
        model: &str,
        soil: Option<&Horizon>,
    ) -> Result<CalibrationHistory, StoreError> {
        let own = self.calibrations(&Subject::Probe(probe)).await?;
        let of_model = self.calibrations(&Subject::Model(model.to_owned())).await?;
        Ok(InForce::of(own.into_iter().chain(of_model)).history(probe, model, soil))
    }

    /// Every calibration in force.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn calibrations_in_force(&self) -> Result<InForce, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            r#"SELECT id AS "id!", probe_id, model, soil, density_g_cm3, logger, version, run_id, valid_from, curve, statement,
               samples, adopted_by, adopted_at, retired_at, retired_by, retired_why
               FROM calibration WHERE retired_at IS NULL ORDER BY version DESC, id DESC"#
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter().map(Adopted::try_from);
        Ok(InForce::of(rows.collect::<Result<Vec<_>, _>>()?))
    }

    /// What was adopted for the probes that lie or lay at a station, and for whole models.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn calibrations_at(&self, station: i64) -> Result<InForce, StoreError> {
        self.calibrations_of(&[station]).await
    }

    /// As [`Self::calibrations_at`], for the probes of several stations.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn calibrations_of(&self, stations: &[i64]) -> Result<InForce, StoreError> {
        let stations = serde_json::to_string(stations)?;
        let rows = sqlx::query_as!(
            Row,
            r#"SELECT id AS "id!", probe_id, model, soil, density_g_cm3, logger, version, run_id, valid_from, curve, statement,
               samples, adopted_by, adopted_at, retired_at, retired_by, retired_why
               FROM calibration WHERE retired_at IS NULL AND (probe_id IS NULL OR probe_id IN
                 (SELECT p.probe_id FROM placement p JOIN node n ON n.id = p.node_id
                  WHERE n.station_id IN (SELECT value FROM json_each(?))))
               ORDER BY version DESC, id DESC"#,
            stations
        );
        let rows = rows.fetch_all(&self.pool).await?.into_iter().map(Adopted::try_from);
        Ok(InForce::of(rows.collect::<Result<Vec<_>, _>>()?))
    }
}

/// Calibrations in force, read at once.
#[derive(Debug, Clone, Default)]
pub struct InForce {
    /// Newest first.
    of_probes: HashMap<i64, Vec<Adopted>>,
    /// Newest first.
    of_models: Vec<Adopted>,
}

impl InForce {
    fn of(newest_first: impl IntoIterator<Item = Adopted>) -> Self {
        let mut found = Self::default();
        for adopted in newest_first.into_iter().filter(|c| c.retired.is_none()) {
            match adopted.subject {
                Subject::Probe(id) => found.of_probes.entry(id).or_default().push(adopted),
                Subject::Model(_) => found.of_models.push(adopted),
            }
        }
        found
    }

    /// The same, if the calibration of this number were retired.
    #[must_use]
    pub fn without(mut self, retired: Option<i64>) -> Self {
        for own in self.of_probes.values_mut() {
            own.retain(|c| Some(c.id) != retired);
        }
        self.of_probes.retain(|_, own| !own.is_empty());
        self.of_models.retain(|c| Some(c.id) != retired);
        self
    }

    /// Whether a probe has one of its own, so that none of its model serves it.
    #[must_use]
    pub fn has_own(&self, probe: i64) -> bool {
        self.of_probes.contains_key(&probe)
    }

    /// The calibrations that serve a probe in a horizon, newest first: its own, or, where it has none, those of its model for
    /// that soil ([`serves_model`]). A probe that lies in no soil has only its own.
    #[must_use]
    pub fn serving(&self, probe: i64, model: &str, soil: Option<&Horizon>) -> Vec<&Adopted> {
        let for_it = |c: &&Adopted| matches!(&c.subject, Subject::Model(of) if serves_model((of, &c.made_with.soil), model, soil));
        match self.of_probes.get(&probe) {
            Some(own) => own.iter().collect(),
            None => self.of_models.iter().filter(for_it).collect(),
        }
    }

    /// The calibration by which a raw reading of a probe is read at a moment.
    #[must_use]
    pub fn holding(&self, probe: i64, model: &str, soil: Option<&Horizon>, at: UnixSeconds) -> Option<&Adopted> {
        let begun = self.serving(probe, model, soil).into_iter().rev().filter(|c| c.valid_from <= at);
        begun.max_by_key(|c| c.valid_from)
    }

    /// What the raw readings of a probe mean in a horizon, by date.
    #[must_use]
    pub fn history(&self, probe: i64, model: &str, soil: Option<&Horizon>) -> CalibrationHistory {
        // Newest first as they come; of two that begin at one moment the later adopted one holds.
        CalibrationHistory::new(self.serving(probe, model, soil).into_iter().rev().map(Adopted::dated).collect())
    }
}
