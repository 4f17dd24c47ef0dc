//! The catalogue of models that holds.

use crate::shell::errors::Problem;
use ebrel_core::planning::Catalogue;
use ebrel_store::Store;

/// The catalogue that holds: the shipped one, or as its users changed it.
pub async fn catalogue(store: &Store) -> Result<Catalogue, Problem> {
    match store.catalogue().await? {
        None => Ok(Catalogue::shipped()),
        Some(json) => Catalogue::read(&json).map_err(|e| Problem::Internal(e.to_string())),
    }
}
