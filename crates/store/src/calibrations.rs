//! Adopted calibrations: whom each serves, from when, and how it came about. None is ever deleted.

use crate::unit::meaning_changed;
use crate::{Store, StoreError, Unit};
use ebrel_core::calibration::Curve;
use ebrel_core::series::DatedCurve;
use ebrel_core::units::UnixSeconds;

/// Whom a calibration serves.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// One probe, by row number.
    Probe(i64),
    /// Every probe of a model, in the soil that the calibration names, that has none of its own.
    Model(String),
}

/// What a calibration was made with.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct MadeWith {
    /// Texture or name of the soil's horizon; never empty for a model's calibration.
    pub soil: String,
    /// Dry bulk density that was packed to, g/cm³.
    pub density: Option<f64>,
    /// Kind of logger that read the probe.
    pub logger: String,
}

/// Why and by whom a calibration was taken out of use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Retirement {
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
    /// By whom; empty where a later one took its place.
    pub by: String,
    /// The reason that was given; may be empty.
    pub why: String,
}

/// A calibration that was adopted.
#[derive(Debug, Clone, PartialEq)]
pub struct Adopted {
    /// Number in the database; 0 for what is not kept yet.
    pub id: i64,
    /// Whom it serves.
    pub subject: Subject,
    /// What it was made with.
    pub made_with: MadeWith,
    /// 1, 2, ... per probe, or per model and soil.
    pub version: i64,
    /// The run it came from.
    pub run_id: Option<i64>,
    /// First moment it holds.
    pub valid_from: UnixSeconds,
    /// The curve with its covariance and range.
    pub curve: Curve,
    /// The answer in one sentence.
    pub statement: String,
    /// The samples as they were typed, JSON.
    pub samples: String,
    /// Who adopted it.
    pub adopted_by: String,
    /// Moment of it, seconds of UTC.
    pub adopted_at: UnixSeconds,
    /// When, by whom and why it was retired, if it was.
    pub retired: Option<Retirement>,
}

impl Adopted {
    /// The curve with its date.
    #[must_use]
    pub fn dated(&self) -> DatedCurve {
        DatedCurve { valid_from: self.valid_from, curve: self.curve.clone() }
    }
}

/// A calibration that is to be adopted.
#[derive(Debug, Clone, PartialEq)]
pub struct Adoption {
    /// Whom it shall serve.
    pub subject: Subject,
    /// What it was made with.
    pub made_with: MadeWith,
    /// The run it came from.
    pub run_id: Option<i64>,
    /// First moment it holds.
    pub valid_from: UnixSeconds,
    /// Raw output to water content, with its uncertainty.
    pub curve: Curve,
    /// The answer in one sentence.
    pub statement: String,
    /// The samples as they were typed, JSON.
    pub samples: String,
    /// Who adopts it.
    pub by: String,
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
}

/// A row as it stands in the table.
pub(crate) struct Row {
    pub(crate) id: i64,
    pub(crate) probe_id: Option<i64>,
    pub(crate) model: String,
    pub(crate) soil: String,
    pub(crate) density_g_cm3: Option<f64>,
    pub(crate) logger: String,
    pub(crate) version: i64,
    pub(crate) run_id: Option<i64>,
    pub(crate) valid_from: i64,
    pub(crate) curve: String,
    pub(crate) statement: String,
    pub(crate) samples: String,
    pub(crate) adopted_by: String,
    pub(crate) adopted_at: i64,
    pub(crate) retired_at: Option<i64>,
    pub(crate) retired_by: Option<String>,
    pub(crate) retired_why: Option<String>,
}

impl TryFrom<Row> for Adopted {
    type Error = StoreError;

    fn try_from(r: Row) -> Result<Self, StoreError> {
        Ok(Self {
            id: r.id,
            subject: r.probe_id.map_or(Subject::Model(r.model), Subject::Probe),
            made_with: MadeWith { soil: r.soil, density: r.density_g_cm3, logger: r.logger },
            version: r.version,
            run_id: r.run_id,
            valid_from: UnixSeconds(r.valid_from),
            curve: serde_json::from_str(&r.curve)?,
            statement: r.statement,
            samples: r.samples,
            adopted_by: r.adopted_by,
            adopted_at: UnixSeconds(r.adopted_at),
            retired: r.retired_at.map(|at| Retirement {
                at: UnixSeconds(at),
                by: r.retired_by.unwrap_or_default(),
                why: r.retired_why.unwrap_or_default(),
            }),
        })
    }
}

impl Store {
    /// Adopts a calibration as the next version of its subject and returns the version. One that began at the same
    /// moment is retired by it; none is deleted.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses, or a model's calibration names no soil.
    pub async fn adopt(&self, adoption: &Adoption) -> Result<i64, StoreError> {
        let mut unit = self.unit().await?;
        let version = unit.adopt(adoption, None).await?;
        unit.commit().await?;
        Ok(version)
    }

    /// Takes a calibration out of use; it stays on record.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses.
    pub async fn retire(&self, calibration: i64, retirement: &Retirement) -> Result<(), StoreError> {
        let mut unit = self.unit().await?;
        unit.retire(calibration, retirement).await?;
        unit.commit().await
    }

    /// One calibration.
    ///
    /// # Errors
    /// [`StoreError::NotFound`] if there is none with this number.
    pub async fn calibration(&self, id: i64) -> Result<Adopted, StoreError> {
        sqlx::query_as!(Row, "SELECT * FROM calibration WHERE id = ?", id)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(StoreError::NotFound("calibration"))?
            .try_into()
    }

    /// All calibrations of one subject, retired ones too, newest version first; a model's in all soils.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn calibrations(&self, subject: &Subject) -> Result<Vec<Adopted>, StoreError> {
        let (probe, model) = match subject {
            Subject::Probe(id) => (Some(*id), ""),
            Subject::Model(model) => (None, model.as_str()),
        };
        let rows = sqlx::query_as!(
            Row,
            r#"SELECT id AS "id!", probe_id, model, soil, density_g_cm3, logger, version, run_id, valid_from, curve, statement,
               samples, adopted_by, adopted_at, retired_at, retired_by, retired_why
               FROM calibration WHERE probe_id IS ?1 AND model = ?2 ORDER BY version DESC, id DESC"#,
            probe,
            model
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(Adopted::try_from).collect()
    }

    /// The calibrations that came from a run, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn calibrations_of_run(&self, run: i64) -> Result<Vec<Adopted>, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            r#"SELECT id AS "id!", probe_id, model, soil, density_g_cm3, logger, version, run_id, valid_from, curve, statement,
               samples, adopted_by, adopted_at, retired_at, retired_by, retired_why
               FROM calibration WHERE run_id = ? ORDER BY id DESC"#,
            run
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(Adopted::try_from).collect()
    }

    /// Every calibration of a model in a soil, newest first.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn model_calibrations(&self) -> Result<Vec<Adopted>, StoreError> {
        let rows = sqlx::query_as!(
            Row,
            r#"SELECT id AS "id!", probe_id, model, soil, density_g_cm3, logger, version, run_id, valid_from, curve, statement,
               samples, adopted_by, adopted_at, retired_at, retired_by, retired_why
               FROM calibration WHERE probe_id IS NULL ORDER BY id DESC"#
        );
        rows.fetch_all(&self.pool).await?.into_iter().map(Adopted::try_from).collect()
    }
}

impl Unit {
    /// As [`Store::retire`]. Whether it was in use until now.
    ///
    /// # Errors
    /// As there.
    pub async fn retire(&mut self, calibration: i64, retirement: &Retirement) -> Result<bool, StoreError> {
        let done = sqlx::query!(
            "UPDATE calibration SET retired_at = ?, retired_by = ?, retired_why = ? WHERE id = ? AND retired_at IS NULL",
            retirement.at.0,
            retirement.by,
            retirement.why,
            calibration
        );
        let retired = done.execute(self.connection()).await?.rows_affected() > 0;
        self.calibration_changed(calibration).await?;
        Ok(retired)
    }

    /// Takes a calibration into use again that was retired so.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if it is in use, or was retired otherwise since.
    pub async fn take_up_again(&mut self, calibration: i64, retirement: &Retirement) -> Result<(), StoreError> {
        let done = sqlx::query!(
            "UPDATE calibration SET retired_at = NULL, retired_by = NULL, retired_why = NULL
             WHERE id = ? AND retired_at = ? AND retired_by = ? AND retired_why = ?",
            calibration,
            retirement.at.0,
            retirement.by,
            retirement.why
        );
        if done.execute(self.connection()).await?.rows_affected() == 0 {
            return Err(StoreError::Stale);
        }
        self.calibration_changed(calibration).await
    }

    async fn calibration_changed(&mut self, calibration: i64) -> Result<(), StoreError> {
        let of = sqlx::query!("SELECT probe_id, model FROM calibration WHERE id = ?", calibration);
        let of = of.fetch_optional(self.connection()).await?.ok_or(StoreError::NotFound("calibration"))?;
        meaning_changed(self.connection(), of.probe_id, &of.model).await
    }

    /// As [`Store::adopt`], as version `wanted` where that is not taken.
    ///
    /// # Errors
    /// [`StoreError`] if the database refuses, or a model's calibration names no soil.
    pub async fn adopt(&mut self, adoption: &Adoption, wanted: Option<i64>) -> Result<i64, StoreError> {
        let curve = serde_json::to_string(&adoption.curve)?;
        let (from, at) = (adoption.valid_from.0, adoption.at.0);
        let MadeWith { soil, density, logger } = &adoption.made_with;
        let (probe, model) = match &adoption.subject {
            Subject::Probe(id) => (Some(*id), ""),
            Subject::Model(model) => (None, model.as_str()),
        };
        // A probe's versions count on whatever the soil; a model's are counted for each soil.
        let counted_soil = if probe.is_none() { soil.as_str() } else { "" };
        let tx = self.connection();
        sqlx::query!(
            "UPDATE calibration SET retired_at = ?1, retired_by = ?2, retired_why = 'a later version begins at the same moment'
             WHERE probe_id IS ?3 AND model = ?4 AND (?5 = '' OR lower(soil) = lower(?5))
               AND valid_from = ?6 AND retired_at IS NULL",
            at,
            adoption.by,
            probe,
            model,
            counted_soil,
            from
        )
        .execute(&mut *tx)
        .await?;
        let version = sqlx::query_scalar!(
            r#"SELECT CASE WHEN ?4 > 0 AND NOT EXISTS (SELECT 1 FROM calibration WHERE probe_id IS ?1 AND model = ?2
                       AND (?3 = '' OR lower(soil) = lower(?3)) AND version = ?4) THEN ?4
                   ELSE (SELECT coalesce(max(version), 0) + 1 FROM calibration
                       WHERE probe_id IS ?1 AND model = ?2 AND (?3 = '' OR lower(soil) = lower(?3))) END AS "v!: i64""#,
            probe,
            model,
            counted_soil,
            wanted
        )
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query!(
            "INSERT INTO calibration
             (probe_id, model, soil, density_g_cm3, logger, version, run_id, valid_from, curve, statement, samples,
              adopted_by, adopted_at)
             VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            probe,
            model,
            soil,
            density,
            logger,
            version,
            adoption.run_id,
            from,
            curve,
            adoption.statement,
            adoption.samples,
            adoption.by,
            at
        )
        .execute(&mut *tx)
        .await?;
        meaning_changed(tx, probe, model).await?;
        Ok(version)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::database::testing::store;
    use crate::probes::testing::probe;
    use ebrel_core::soil::Horizon;

    fn adoption(subject: Subject, from: i64, slope: f64) -> Adoption {
        Adoption {
            subject,
            made_with: MadeWith { soil: "silt loam".into(), density: Some(1.3), logger: "field node".into() },
            run_id: None,
            valid_from: UnixSeconds(from),
            curve: Curve::from_coefficients(&[0.0, slope], 0.0, 1000.0, None).unwrap(),
            statement: "Straight line".into(),
            samples: "[]".into(),
            by: "N. Arvel".into(),
            at: UnixSeconds(9),
        }
    }

    const VIEW: ebrel_core::series::View<'static> =
        ebrel_core::series::View { times: &[100, 600], values: &[1.0, 1.0] };

    #[tokio::test]
    async fn versions_add_up_and_none_is_lost() {
        let (store, _dir) = store().await;
        let id = store.ensure_probe(&probe("BD-0417")).await.unwrap();
        let own = || Subject::Probe(id);
        assert_eq!(store.adopt(&adoption(own(), 0, 1.0)).await.unwrap(), 1);
        assert_eq!(store.adopt(&adoption(own(), 500, 2.0)).await.unwrap(), 2);
        assert_eq!(store.adopt(&adoption(own(), 0, 3.0)).await.unwrap(), 3);
        assert_eq!(store.history(id, "", None).await.unwrap().resolve(VIEW), [3.0, 2.0]);
        let all = store.calibrations(&own()).await.unwrap();
        assert_eq!(all.len(), 3);
        assert_eq!(all[2].retired.as_ref().unwrap().why, "a later version begins at the same moment");
        assert_eq!((all[0].made_with.density, all[0].made_with.logger.as_str()), (Some(1.3), "field node"));
        let why = Retirement { at: UnixSeconds(10), by: "T. Quill".into(), why: "wrong density".into() };
        store.retire(all[1].id, &why).await.unwrap();
        assert_eq!(store.history(id, "", None).await.unwrap().resolve(VIEW), [3.0, 3.0]);
        assert_eq!(store.calibration(all[1].id).await.unwrap().retired, Some(why));
        assert!(matches!(store.calibration(99).await, Err(StoreError::NotFound(_))));
    }

    #[tokio::test]
    async fn a_models_curve_serves_its_probes_in_its_soil_until_they_have_their_own() {
        let (store, _dir) = store().await;
        let id = store.ensure_probe(&probe("BD-0417")).await.unwrap();
        let model = || Subject::Model("blade".into());
        assert_eq!(store.adopt(&adoption(model(), 0, 5.0)).await.unwrap(), 1);
        let mut other = adoption(model(), 0, 7.0);
        other.made_with.soil = "sand".into();
        assert_eq!(store.adopt(&other).await.unwrap(), 1, "each soil counts its own versions");
        let soil =
            |texture: &str, name: &str| Horizon { texture: texture.into(), name: name.into(), ..Horizon::default() };
        let means =
            async |texture: &str, name: &str| store.history(id, "blade", Some(&soil(texture, name))).await.unwrap();
        assert_eq!(store.model_calibrations().await.unwrap().len(), 2);
        assert!(store.calibrations_of_run(1).await.unwrap().is_empty());
        assert_eq!(means("Silt Loam", "A").await.resolve(VIEW), [5.0, 5.0]);
        assert_eq!(means("sand", "").await.resolve(VIEW), [7.0, 7.0]);
        assert!(means("clay", "").await.is_raw(), "no curve for another soil is borrowed");
        let in_force = store.calibrations_in_force().await.unwrap();
        assert!(
            store.served_now(&in_force).await.unwrap().is_empty(),
            "the probe is of another model, and on the shelf"
        );
        store.adopt(&adoption(Subject::Probe(id), 0, 1.0)).await.unwrap();
        assert_eq!(means("sand", "").await.resolve(VIEW), [1.0, 1.0]);
        other.made_with.soil = String::new();
        assert!(store.adopt(&other).await.is_err(), "a model's curve without a soil would serve anywhere");
    }
}
