//! What is known of stations and their channels without a reading: of several at once, so that a page asks once for all of them.

use super::assumed::clock_checks;
use super::{ChannelRecord, StationRecord};
use ebrel_core::series::CalibrationHistory;
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::temperature::DatedCorrection;
use ebrel_core::units::Quantity;
use ebrel_store::in_force::InForce;
use ebrel_store::placements::{Placement, StoredChannel, channels_through};
use ebrel_store::streams::Stream;
use ebrel_store::{Store, StoreError};
use std::collections::HashMap;
use std::sync::Arc;

/// Soil, streams, placements and what is adopted for the probes of some stations.
pub struct Outlines {
    soils: HashMap<i64, Profile>,
    streams: HashMap<i64, Vec<Stream>>,
    placements: HashMap<i64, Vec<Placement>>,
    calibrations: InForce,
    corrections: HashMap<i64, Vec<DatedCorrection>>,
}

impl Outlines {
    /// Loads what is known of these stations, by their numbers.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn load(store: &Store, stations: &[i64]) -> Result<Self, StoreError> {
        let (soils, streams, placements, calibrations, corrections) = tokio::try_join!(
            store.profiles_of(stations),
            store.streams_of(stations),
            store.placements_of(stations),
            store.calibrations_of(stations),
            store.corrections_of(stations),
        )?;
        Ok(Self { soils, streams, placements, calibrations, corrections })
    }

    /// The soil of a station.
    #[must_use]
    pub fn soil(&self, station: i64) -> Profile {
        self.soils.get(&station).cloned().unwrap_or_default()
    }

    /// The streams of a station.
    #[must_use]
    pub fn streams(&self, station: i64) -> &[Stream] {
        self.streams.get(&station).map(Vec::as_slice).unwrap_or_default()
    }

    /// The channels of a station, without their readings.
    #[must_use]
    pub fn channels(&self, station: i64) -> Vec<ChannelRecord> {
        let soil = self.soil(station);
        let placements = self.placements.get(&station).map(Vec::as_slice).unwrap_or_default();
        let channels = channels_through(self.streams(station), placements);
        channels.into_iter().map(|channel| self.channel(channel, &soil)).collect()
    }

    fn channel(&self, channel: StoredChannel, soil: &Profile) -> ChannelRecord {
        let (probe, quantity) = (&channel.placement.probe, channel.stream.quantity);
        let horizon = channel.placement.depth_cm.and_then(|d| soil.at(d));
        let history = if quantity == Quantity::RawOutput {
            self.calibrations.history(probe.id, &probe.model, horizon)
        } else {
            CalibrationHistory::default()
        };
        let corrections = self.corrections.get(&probe.id).filter(|_| quantity.is_temperature());
        ChannelRecord {
            pore_space: horizon.and_then(Horizon::pore_space),
            horizon: horizon.cloned(),
            history,
            corrections: corrections.cloned().unwrap_or_default(),
            channel,
            series: Arc::default(),
            shown: None,
            repeats: Vec::new(),
            references: Vec::new(),
            delivered: Vec::new(),
        }
    }
}

impl StationRecord {
    /// A station's record without its readings: which channels there are, and what they mean.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such station or the database cannot be read.
    pub async fn outline(store: &Store, station_id: i64) -> Result<Self, StoreError> {
        Self::outline_as(store, station_id, None, None).await
    }

    /// As [`Self::outline`], if the station's placements were these, and something adopted were retired.
    pub(super) async fn outline_as(
        store: &Store,
        station_id: i64,
        placements: Option<&[Placement]>,
        retired: Option<i64>,
    ) -> Result<Self, StoreError> {
        let station = store.station(station_id).await?;
        let study = store.study(station.study_id).await?;
        let mut known = Outlines::load(store, &[station_id]).await?;
        known.calibrations = known.calibrations.without(retired);
        if let Some(placements) = placements {
            known.placements.insert(station_id, placements.to_vec());
        }
        let (soil, channels) = (known.soil(station_id), known.channels(station_id));
        let events = store.events(station_id).await?;
        let clock_checks = clock_checks(store, station_id).await?;
        Ok(Self { study, station, soil, channels, events, clock_checks, references: Vec::new() })
    }
}
