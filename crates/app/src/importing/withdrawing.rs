//! Setting an import aside, and taking that back: nothing is lost either way.

use super::files::kept_at;
use super::mapping::Mapping;
use super::opening::latest;
use super::report::Report;
use super::storing::{Job, Progress, store};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{self, Recipe, Text};
use ebrel_store::imports::{Import, Withdrawn};
use ebrel_store::{Store, StoreError};
use std::path::Path;
use std::sync::Arc;

/// What setting aside changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SetAside {
    /// Readings that are no longer meant.
    pub readings: usize,
    /// Other imports that brought some of the same readings; their files were read again, so that theirs stand.
    pub read_again: Vec<String>,
    /// Of these readings, how many stand again.
    pub stand_again: usize,
}

/// Sets an import aside: its readings stay on file and are no longer meant. What other files brought too stands: they are read again.
///
/// # Errors
/// [`StoreError::Rule`] if it is set aside already; [`StoreError`] if the database refuses.
pub async fn withdraw(at: &Store, data: &Path, id: i64, why: &Withdrawn) -> Result<SetAside, StoreError> {
    let import = at.import(id).await?;
    let extent = import.report.as_deref().and_then(|r| Report::of_json(r).ok()).and_then(|r| r.extent);
    let others = at.imports(import.station_id).await?.into_iter().rev().filter(|other| {
        let report = other.report.as_deref().and_then(|r| Report::of_json(r).ok());
        let touches =
            report.as_ref().is_some_and(|r| r.extent.zip(extent).is_none_or(|(a, b)| a.0 <= b.1 && b.0 <= a.1));
        let shared = report.is_some_and(|r| r.known_readings + r.repeated_readings > 0);
        other.id != id && other.withdrawn.is_none() && touches && shared
    });
    let others: Vec<Import> = others.collect();
    let mut unit = at.unit().await?;
    let numbers: Vec<i64> = others.iter().map(|o| o.id).collect();
    let readings = unit.withdraw_import(id, why, &numbers).await?;
    unit.commit().await?;
    let mut out = SetAside { readings, read_again: Vec::new(), stand_again: 0 };
    for other in others {
        out.stand_again += read_again(at, data, &other, why.at).await?;
        out.read_again.push(other.file_name);
    }
    Ok(out)
}

/// Takes back that an import was set aside. Returns how many readings are meant again.
///
/// # Errors
/// [`StoreError::Rule`] if it is not set aside.
pub async fn restore(at: &Store, id: i64) -> Result<usize, StoreError> {
    let mut unit = at.unit().await?;
    let back = unit.restore_import(id).await?;
    unit.commit().await?;
    Ok(back)
}

/// Reads the file of an import again as it was read: what stands already stays, what does not stands then. Its report stays as it was.
/// Returns how many readings stand again.
///
/// # Errors
/// [`StoreError`] if the file or the database cannot be read; it stays due then.
pub async fn read_again(at: &Store, data: &Path, import: &Import, now: UnixSeconds) -> Result<usize, StoreError> {
    let recipe: Recipe = serde_json::from_str(&import.recipe)?;
    let mapping: Mapping = serde_json::from_str(&import.mapping)?;
    let path = kept_at(data, &import.sha256);
    let looked = tokio::task::spawn_blocking(move || {
        let text = Text::of_file(path).map_err(|e| e.to_string())?;
        let survey = logger::survey(&text, &recipe, latest(now)).map_err(|e| e.to_string())?;
        Ok::<_, String>(Job { text, recipe, mapping, survey, latest: latest(now) })
    });
    let told = |e: String| StoreError::Rule(format!("{} could not be read again: {e}.", import.file_name));
    let job = looked.await.map_err(|e| told(e.to_string()))?.map_err(told)?;
    let mut unit = at.unit().await?;
    unit.forget_repeats(import.id, false).await?;
    unit.commit().await?;
    let (_, report) = store(at, import, &job, &Arc::new(Progress::default())).await?;
    let mut unit = at.unit().await?;
    unit.read_again(import.id).await?;
    unit.commit().await?;
    Ok(report.new_readings)
}
