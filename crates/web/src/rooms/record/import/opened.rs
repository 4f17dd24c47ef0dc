//! An import with its file.

use crate::shell::errors::Problem;
use crate::state::State;
use crate::state::places::Place;
use ebrel_app::importing::{self, Job, Mapping};
use ebrel_core::units::UnixSeconds;
use ebrel_formats::logger::{self, ReadError, Recipe, Survey, Text, TextError};
use ebrel_store::imports::Import;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;

/// An import with its file, and a place to read it at.
pub struct Opened {
    pub place: Place,
    pub import: Import,
    pub station: Station,
    pub study: Study,
    pub text: Text,
    pub head: Vec<String>,
}

/// Any value as JSON.
pub fn json(value: &impl serde::Serialize) -> Result<String, Problem> {
    serde_json::to_string(value).map_err(|e| Problem::Internal(e.to_string()))
}

/// JSON that Ebrel wrote itself.
pub fn of_json<T: serde::de::DeserializeOwned>(text: &str) -> Result<T, Problem> {
    serde_json::from_str(text).map_err(|e| Problem::Internal(e.to_string()))
}

impl Opened {
    /// Opens an import and its file.
    pub async fn load(state: &State, id: i64) -> Result<Self, Problem> {
        let place = state.heavy.take().await?;
        let import = state.store.import(id).await?;
        let station = state.store.station(import.station_id).await?;
        let study = state.store.study(station.study_id).await?;
        let path = importing::kept_at(&state.data, &import.sha256);
        let opened = place.run(move || {
            let text = Text::of_file(path)?;
            let head = text.head(importing::HEAD_LINES)?;
            Ok::<_, TextError>((text, head))
        });
        let (text, head) = opened.await?.map_err(|e| Problem::Internal(e.to_string()))?;
        Ok(Self { place, import, station, study, text, head })
    }

    /// The recipe and mapping that were kept last.
    pub fn kept(&self) -> Result<(Recipe, Mapping), Problem> {
        Ok((of_json(&self.import.recipe)?, of_json(&self.import.mapping)?))
    }

    /// What the file holds by a recipe, counted in full.
    pub async fn survey(&self, recipe: &Recipe, now: UnixSeconds) -> Result<Result<Survey, ReadError>, Problem> {
        let (text, recipe) = (self.text.clone(), recipe.clone());
        Ok(self.place.run(move || logger::survey(&text, &recipe, importing::latest(now))).await?)
    }

    /// All that storing or comparing needs.
    pub fn job(&self, recipe: Recipe, mapping: Mapping, survey: Survey, now: UnixSeconds) -> Job {
        Job { text: self.text.clone(), recipe, mapping, survey, latest: importing::latest(now) }
    }
}
