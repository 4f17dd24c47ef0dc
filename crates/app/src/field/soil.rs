//! The soil as it was seen in the open hole becomes the station's, until somebody goes back to the plan's.

use crate::planning::{PlanError, StationPlan};
use ebrel_core::field::{Log, as_seen, differences, seen};
use ebrel_core::soil::Profile;
use ebrel_core::units::UnixSeconds;
use ebrel_store::Store;
use ebrel_store::soil::SoilSeen;

/// What a log of an installation saw of the soil.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct SoilOfLog {
    /// Horizons as seen.
    pub seen: Profile,
    /// What was seen otherwise than planned.
    pub differences: Vec<String>,
    /// Why it cannot be the station's soil, if it cannot.
    pub trouble: Option<String>,
    /// What stands at the station and who says so, if anything of a hole was ever decided.
    pub decided: Option<SoilSeen>,
}

/// Holds the horizons of a log against the plan of its station.
///
/// # Errors
/// [`PlanError`] if the database cannot be read.
pub async fn soil_of(store: &Store, plan: &StationPlan, log: &Log) -> Result<SoilOfLog, PlanError> {
    let (seen, planned) = (seen(log), &plan.found.plan.soil);
    let trouble = as_seen(planned, &seen).err();
    let decided = store.soil_seen(plan.station.id).await?;
    Ok(SoilOfLog { differences: differences(planned, &seen), trouble, decided, seen })
}

/// Makes what a finished log saw the station's soil. A decision of a person stays until the log says something new, and an older
/// log that comes again changes nothing.
pub(super) async fn take_soil(store: &Store, station: i64, log: &Log) -> Result<Vec<(String, String)>, PlanError> {
    let seen = seen(log);
    let Some(last) = log.stands.last().filter(|_| log.is_closed() && !seen.horizons().is_empty()) else {
        return Ok(Vec::new());
    };
    let words = written(&seen);
    let entry = log.stands.iter().rfind(|e| e.deed.is_horizon()).unwrap_or(last);
    let stays = |d: SoilSeen| if d.log == last.log { d.seen == words } else { d.at > entry.at };
    if store.soil_seen(station).await?.is_some_and(stays) {
        return Ok(Vec::new());
    }
    let plan = StationPlan::load(store, station).await?;
    let soil = match as_seen(&plan.found.plan.soil, &seen) {
        Ok(soil) => soil,
        Err(says) => return Ok(vec![(entry.id.clone(), says)]),
    };
    let because = SoilSeen {
        log: last.log.clone(),
        seen: words,
        stands: true,
        at: entry.at,
        by: entry.by.clone(),
        why: "as seen in the open hole".into(),
    };
    store.keep_soil(station, &soil, &because).await?;
    Ok(Vec::new())
}

/// Goes back to the plan's soil, or to the one that was seen again.
///
/// # Errors
/// [`PlanError`] if the database refuses; [`ebrel_store::StoreError::NotFound`] if nothing was ever seen.
pub async fn decide_soil(
    store: &Store,
    station: i64,
    stands: bool,
    (by, why): (&str, &str),
    at: UnixSeconds,
) -> Result<(), PlanError> {
    let decided = store.soil_seen(station).await?.ok_or(ebrel_store::StoreError::NotFound("soil as seen"))?;
    let plan = StationPlan::load(store, station).await?;
    let planned = &plan.found.plan.soil;
    let soil = if stands {
        let log = Log::of(&store.field_entries(station, Some(&decided.log)).await?);
        as_seen(planned, &seen(&log)).map_err(ebrel_store::StoreError::Rule)?
    } else {
        planned.clone()
    };
    let because = SoilSeen { stands, at, by: by.to_owned(), why: why.to_owned(), ..decided };
    Ok(store.keep_soil(station, &soil, &because).await?)
}

/// Horizons in a form that tells whether two are the same.
fn written(seen: &Profile) -> String {
    let rows = seen.horizons().iter().map(|h| serde_json::json!([h.name, h.top_cm, h.bottom_cm, h.texture]));
    serde_json::Value::Array(rows.collect()).to_string()
}
