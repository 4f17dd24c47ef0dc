//! A station's plan: the newest draft, what follows from it, and keeping another.

use ebrel_core::planning::{
    Assessment, BiasDraft, Catalogue, CatalogueError, Design, DesignDraft, Draft, HorizonDraft, Setting, Severity,
    Typed, assess, known_bias,
};
use ebrel_core::soil::Profile;
use ebrel_core::units::UnixSeconds;
use ebrel_store::drafts::DraftKind;
use ebrel_store::plans::{Description, PlanChange};
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};
use std::collections::HashMap;
use thiserror::Error;

/// Why a plan cannot be loaded or kept.
#[derive(Debug, Error)]
pub enum PlanError {
    /// The database; a save on an old revision is [`StoreError::Stale`].
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The catalogue that was kept is none.
    #[error(transparent)]
    Catalogue(#[from] CatalogueError),
    /// The draft that was kept is none.
    #[error("the kept draft cannot be read: {0}")]
    Draft(#[from] serde_json::Error),
}

/// The catalogue that holds: the shipped one, or as its users changed it.
///
/// # Errors
/// [`PlanError`] if it cannot be read from the database.
pub async fn catalogue(store: &Store) -> Result<Catalogue, PlanError> {
    match store.catalogue().await? {
        None => Ok(Catalogue::shipped()),
        Some(json) => Ok(Catalogue::read(&json)?),
    }
}

/// The design of a study as typed, with the question that its study has; otherwise empty if none was.
///
/// # Errors
/// [`PlanError`] if it cannot be read from the database.
pub async fn study_design(store: &Store, study: &Study) -> Result<DesignDraft, PlanError> {
    let draft: DesignDraft = match store.study_design(study.id).await? {
        None => DesignDraft::default(),
        Some(json) => serde_json::from_str(&json)?,
    };
    Ok(DesignDraft { question: study.question.as_str().into(), ..draft })
}

/// A station with its plan.
pub struct StationPlan {
    /// The study that it belongs to, for its question and its clock.
    pub study: Study,
    /// The place itself, with coordinates and treatment.
    pub station: Station,
    /// The models that can be chosen.
    pub catalogue: Catalogue,
    /// The plan as typed.
    pub draft: Draft,
    /// The number of its newest version; 0 before the first change.
    pub version: i64,
    /// Its newest revision, which a save must name.
    pub revision: i64,
    /// What follows from the draft.
    pub found: Assessment,
}

impl StationPlan {
    /// Loads a station and works its plan out.
    ///
    /// # Errors
    /// [`PlanError`] if there is no such station, or something kept cannot be read.
    pub async fn load(store: &Store, station: i64) -> Result<Self, PlanError> {
        let station = store.station(station).await?;
        let study = store.study(station.study_id).await?;
        let design = study_design(store, &study).await?.resolve().0;
        let catalogue = catalogue(store).await?;
        // The revision first: a save in between is then seen as one.
        let revision = store.revision(DraftKind::Plan, station.id).await?;
        let newest = store.plan(station.id).await?;
        let (draft, version) = match newest {
            Some(newest) => (serde_json::from_str(&newest.body)?, newest.version),
            None => (first_draft(&station, &store.profile(station.id).await?), 0),
        };
        let setting = setting(&station, &design);
        let found = assess(&draft, &catalogue, &setting);
        Ok(Self { study, station, catalogue, draft, version, revision, found })
    }

    /// Keeps a changed draft with what it says of the station, and works it out anew.
    ///
    /// # Errors
    /// [`StoreError::Stale`] if another draft was kept since this one was loaded; [`PlanError`] if the database refuses.
    pub async fn keep(
        &mut self,
        store: &Store,
        draft: Draft,
        (changed, by): (&str, &str),
        at: UnixSeconds,
    ) -> Result<(), PlanError> {
        let found = assess(&draft, &self.catalogue, &self.found.plan.setting);
        let plan = &found.plan;
        let station = Station {
            latitude: plan.latitude,
            longitude: plan.longitude,
            elevation_m: plan.elevation_m,
            treatment: draft.treatment.to_string(),
            cover: draft.cover.to_string(),
            known_bias: known_bias(&draft),
            ..self.station.clone()
        };
        // Soil with a field that cannot be read yet is not passed on; the typed form keeps it.
        let whole = !found.remarks.iter().any(|r| r.at.starts_with("horizons.") && r.severity == Severity::Stop);
        let describes = Some(Description { station: &station, soil: whole.then_some(&plan.soil) });
        let body = serde_json::to_string(&draft)?;
        let change = PlanChange { body: &body, changed, by, at, describes };
        self.revision = store.keep_plan(station.id, self.revision, &change).await?;
        (self.found, self.draft, self.station) = (found, draft, station);
        Ok(())
    }
}

/// How far a station's plan is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Progress {
    /// Nobody planned it here.
    NotBegun,
    /// So many things must be put right before it can be installed.
    Stopped(usize),
    /// It can be installed.
    InOrder,
}

/// How far the plans of a study's stations are, by their numbers.
///
/// # Errors
/// [`PlanError`] if something kept cannot be read.
pub async fn progress(store: &Store, study: &Study, stations: &[Station]) -> Result<HashMap<i64, Progress>, PlanError> {
    let plans = store.plans_of_study(study.id).await?;
    let design = study_design(store, study).await?.resolve().0;
    let catalogue = catalogue(store).await?;
    let of = |station: &Station| {
        let Some(body) = plans.get(&station.id) else { return Ok((station.id, Progress::NotBegun)) };
        let draft: Draft = serde_json::from_str(body)?;
        let stops = assess(&draft, &catalogue, &setting(station, &design)).stops(None).count();
        Ok((station.id, if stops == 0 { Progress::InOrder } else { Progress::Stopped(stops) }))
    };
    stations.iter().map(of).collect()
}

/// What a station and its study's design set for the plan.
fn setting(station: &Station, design: &Design) -> Setting {
    Setting { station: station.name.clone(), interval_s: design.interval_s, months: design.months }
}

/// A draft that begins with the station's soil as it is known.
fn first_draft(station: &Station, soil: &Profile) -> Draft {
    let typed = |v: Option<f64>| v.map(Typed::from).unwrap_or_default();
    let horizons = soil.horizons().iter().map(|h| HorizonDraft {
        name: h.name.as_str().into(),
        texture: h.texture.as_str().into(),
        bottom_cm: h.bottom_cm.into(),
        density: typed(h.bulk_density_g_cm3),
        sand_pct: typed(h.sand_pct),
        clay_pct: typed(h.clay_pct),
        organic_pct: typed(h.organic_matter_pct),
    });
    let bias = (!station.known_bias.is_empty())
        .then(|| BiasDraft { what: station.known_bias.as_str().into(), ..BiasDraft::default() });
    Draft {
        latitude: typed(station.latitude),
        longitude: typed(station.longitude),
        elevation_m: typed(station.elevation_m),
        treatment: station.treatment.as_str().into(),
        cover: station.cover.as_str().into(),
        biases: bias.into_iter().collect(),
        horizons: horizons.collect(),
        ..Draft::default()
    }
}
