//! A station's record with its flags: what says which of its readings are believed.

use super::StationRecord;
use ebrel_store::flags::StoredFlag;
use ebrel_store::{Store, StoreError};

/// A station's record with its flags.
pub struct Flagged {
    /// The record with its readings and what they mean.
    pub record: StationRecord,
    /// The flags of the last run, with the verdicts on them.
    pub flags: Vec<StoredFlag>,
}

impl Flagged {
    /// Loads a station's record and flags.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such station or the database cannot be read.
    pub async fn load(store: &Store, station: i64) -> Result<Self, StoreError> {
        Ok(Self { record: StationRecord::load(store, station).await?, flags: store.flags(station).await? })
    }

    /// Other stations of the study, as far as they measure water and air ([`StationRecord::neighbours`]), with their flags.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn neighbours(&self, store: &Store) -> Result<Vec<Self>, StoreError> {
        let mut all = Vec::new();
        for record in self.record.neighbours(store).await?.into_iter().filter(|r| !r.channels.is_empty()) {
            let flags = store.flags(record.station.id).await?;
            all.push(Self { record, flags });
        }
        Ok(all)
    }

    /// All stations of a study.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such study or the database cannot be read.
    pub async fn of_study(store: &Store, study: i64) -> Result<Vec<Self>, StoreError> {
        let mut all = Vec::new();
        for station in store.stations(study).await? {
            all.push(Self::load(store, station.id).await?);
        }
        Ok(all)
    }
}
