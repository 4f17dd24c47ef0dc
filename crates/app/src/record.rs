//! A station's record: every channel with its readings and what they mean.

use ebrel_core::quality::{Channel, Event, Repeat};
use ebrel_core::series::{Belief, Believed, CalibrationHistory, LeftOut, Series, View};
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::temperature::{DatedCorrection, corrected};
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use ebrel_store::flags::StoredFlag;
use ebrel_store::placements::StoredChannel;
use ebrel_store::stations::{Station, StoredEvent, Study};
use ebrel_store::{Store, StoreError};
use std::borrow::Cow;
use std::sync::Arc;

/// One channel with its readings.
pub struct ChannelRecord {
    /// Stream and placement.
    pub channel: StoredChannel,
    /// All readings of the stream; [`Self::view`] gives those of the placement.
    series: Arc<Series>,
    /// Calibrations of the probe; empty for channels that need none.
    pub history: CalibrationHistory,
    /// Corrections of a thermometer that stand.
    pub corrections: Vec<DatedCorrection>,
    /// Pore space of the soil at its depth.
    pub pore_space: Option<f64>,
    /// Readings that came again with another value.
    pub repeats: Vec<Repeat>,
}

impl ChannelRecord {
    /// Raw readings while the probe was in this placement.
    #[must_use]
    pub fn view(&self) -> View<'_> {
        self.series.between(self.channel.placement.starts, self.ends())
    }

    /// What the channel shows: water content once a calibration is adopted, else what the stream reports.
    #[must_use]
    pub fn quantity(&self) -> Quantity {
        if self.is_calibrated() { Quantity::WaterContent } else { self.channel.stream.quantity }
    }

    /// Whether raw output is turned into water content.
    #[must_use]
    pub fn is_calibrated(&self) -> bool {
        self.channel.stream.quantity == Quantity::RawOutput && !self.history.is_raw()
    }

    /// Unit of what the channel shows.
    #[must_use]
    pub fn unit(&self) -> &str {
        if self.is_calibrated() { Quantity::WaterContent.unit() } else { &self.channel.stream.unit }
    }

    /// Values as shown, one per raw reading; NaN where no calibration held yet.
    #[must_use]
    pub fn values(&self) -> Cow<'_, [f64]> {
        if self.is_calibrated() { Cow::Owned(self.history.resolve(self.view())) } else { self.corrected() }
    }

    /// The readings that are believed, by the flags of its station and the verdicts on them.
    #[must_use]
    pub fn believed(&self, flags: &[StoredFlag], belief: &Belief) -> Believed<'_> {
        Believed::new(self.view(), &self.history, &self.corrections, left_out(self.channel.stream.id, flags, belief))
    }

    /// Readings as corrected; borrowed where no correction stands.
    #[must_use]
    pub fn corrected(&self) -> Cow<'_, [f64]> {
        match &self.corrections[..] {
            [] => Cow::Borrowed(self.view().values),
            standing => Cow::Owned(corrected(self.view(), standing)),
        }
    }

    fn ends(&self) -> UnixSeconds {
        self.channel.placement.ends.unwrap_or(UnixSeconds(i64::MAX))
    }
}

/// The spans of a stream whose readings stay out, by the flags of its station and the verdicts on them.
#[must_use]
pub fn left_out(stream: i64, flags: &[StoredFlag], belief: &Belief) -> LeftOut {
    let own = flags.iter().filter(|f| f.stream_id == stream && f.leaves_out(belief));
    LeftOut::of(own.map(|f| (f.flag.start, f.flag.end)))
}

/// A station with all it has recorded.
pub struct StationRecord {
    /// The study.
    pub study: Study,
    /// The station.
    pub station: Station,
    /// Its soil.
    pub soil: Profile,
    /// Its channels: moisture by depth, soil temperature by depth, the rest.
    pub channels: Vec<ChannelRecord>,
    /// What happened there.
    pub events: Vec<StoredEvent>,
}

impl StationRecord {
    /// Loads a station's record. Readings come from the store's cache where they can.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such station or the database cannot be read.
    pub async fn load(store: &Store, station_id: i64) -> Result<Self, StoreError> {
        let mut record = Self::outline(store, station_id).await?;
        for channel in &mut record.channels {
            let stream = channel.channel.stream.id;
            channel.series = store.series(stream).await?;
            channel.repeats = store.repeats(stream).await?;
        }
        Ok(record)
    }

    /// A station's record without its readings: which channels there are, and what they mean.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such station or the database cannot be read.
    pub async fn outline(store: &Store, station_id: i64) -> Result<Self, StoreError> {
        let station = store.station(station_id).await?;
        let study = store.study(station.study_id).await?;
        let soil = store.profile(station_id).await?;
        let calibrations = store.calibrations_at(station_id).await?;
        let standing = store.corrections_at(station_id).await?;
        let mut channels = Vec::new();
        for channel in store.channels(station_id).await? {
            let probe = &channel.placement.probe;
            let horizon = channel.placement.depth_cm.and_then(|d| soil.at(d));
            let history = if channel.stream.quantity == Quantity::RawOutput {
                calibrations.history(probe.id, &probe.model, horizon)
            } else {
                CalibrationHistory::default()
            };
            let corrects = channel.stream.quantity.is_temperature();
            let corrections = standing.get(&probe.id).filter(|_| corrects).cloned().unwrap_or_default();
            let pore_space = horizon.and_then(Horizon::pore_space);
            let (series, repeats) = Default::default();
            channels.push(ChannelRecord { channel, series, history, corrections, pore_space, repeats });
        }
        let events = store.events(station_id).await?;
        Ok(Self { study, station, soil, channels, events })
    }

    /// First and last reading of the station.
    #[must_use]
    pub fn extent(&self) -> Option<(UnixSeconds, UnixSeconds)> {
        let ends = |c: &ChannelRecord| {
            let view = c.view();
            view.times.first().copied().zip(view.times.last().copied())
        };
        let all: Vec<(i64, i64)> = self.channels.iter().filter_map(ends).collect();
        let first = all.iter().map(|e| e.0).min()?;
        let last = all.iter().map(|e| e.1).max()?;
        Some((UnixSeconds(first), UnixSeconds(last)))
    }

    /// Runs every test over the record; one list of flags per channel, in their order.
    #[must_use]
    pub fn check(&self, settings: &ebrel_core::quality::Settings) -> Vec<Vec<ebrel_core::quality::Flag>> {
        let labels: Vec<String> = self.channels.iter().map(|c| c.channel.label()).collect();
        let values: Vec<Cow<'_, [f64]>> = self.channels.iter().map(ChannelRecord::values).collect();
        let channels: Vec<Channel<'_>> = self
            .channels
            .iter()
            .zip(&values)
            .zip(&labels)
            .map(|((c, values), name)| Channel {
                name,
                node: &c.channel.stream.node,
                quantity: c.quantity(),
                depth_cm: c.channel.placement.depth_cm,
                interval: c.channel.stream.interval_s.map(SpanSeconds),
                view: View { times: c.view().times, values },
                raw: (c.is_calibrated() || !c.corrections.is_empty()).then(|| c.view().values),
                raw_unit: &c.channel.stream.unit,
                instrument: c.channel.placement.probe.instrument_min.zip(c.channel.placement.probe.instrument_max),
                resolution: c.channel.placement.probe.resolution,
                pore_space: c.pore_space,
                repeats: &c.repeats,
            })
            .collect();
        let events: Vec<Event> = self.events.iter().map(|e| e.event).collect();
        ebrel_core::quality::check_station(&channels, &events, settings)
    }
}
