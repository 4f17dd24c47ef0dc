//! A station's record: every channel with its readings and what they mean.

mod assumed;
mod flagged;
mod judging;
pub mod made_up;
mod outline;

pub use assumed::{Assumed, NodeCheck};
pub use flagged::Flagged;
pub use outline::Outlines;

use ebrel_core::field::{Clock, ClockCheck, ClockError, Disturbance, Settling, settling};
use ebrel_core::planning::Seat;
use ebrel_core::quality::{Beside, Delivery, Place, Reference, Repeat};
use ebrel_core::series::{Belief, Believed, CalibrationHistory, LeftOut, Series, View};
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::temperature::{DatedCorrection, corrected};
use ebrel_core::units::{Principle, Quantity, UnixSeconds};
use ebrel_store::batches::{Delivery as StoredDelivery, Source};
use ebrel_store::events::StoredEvent;
use ebrel_store::flags::StoredFlag;
use ebrel_store::placements::{Placement, StoredChannel};
use ebrel_store::references::NewReference;
use ebrel_store::stations::Station;
use ebrel_store::studies::Study;
use ebrel_store::{Store, StoreError};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet, HashMap};
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
    /// What was measured by hand beside its probe, as what the channel shows.
    pub references: Vec<Reference>,
    /// How its readings arrived.
    delivered: Vec<Delivery>,
    /// Readings at the times that the node's clock showed, where those are not the true ones.
    shown: Option<Arc<Series>>,
    /// The horizon that it lies in.
    pub horizon: Option<Horizon>,
}

impl ChannelRecord {
    /// Raw readings while the probe was in this placement.
    #[must_use]
    pub fn view(&self) -> View<'_> {
        self.series.between(self.channel.placement.starts, self.ends())
    }

    /// What the node's clock showed at a reading of this true time; `None` where the clock was right.
    #[must_use]
    pub fn node_time(&self, t: UnixSeconds) -> Option<UnixSeconds> {
        let shown = self.shown.as_ref()?;
        let at = self.series.times.binary_search(&t.0).ok()?;
        Some(UnixSeconds(shown.times[at]))
    }

    /// What the channel shows: water content once a calibration is adopted, else what the stream reports.
    #[must_use]
    pub fn quantity(&self) -> Quantity {
        if self.is_calibrated() { Quantity::WaterContent } else { self.channel.stream.quantity }
    }

    /// Whether this is what its probe is for: range and step in the register are of that, not of what else it may tell.
    #[must_use]
    pub fn is_main(&self) -> bool {
        let quantity = self.channel.stream.quantity;
        match self.channel.placement.probe.principle {
            // A range in millivolts says nothing of water contents that a probe worked out itself.
            Principle::Dielectric if quantity == Quantity::WaterContent => {
                self.channel.placement.probe.instrument_max.is_none_or(|most| most <= 1.0)
            }
            Principle::Dielectric | Principle::GranularMatrix | Principle::Gypsum => quantity.is_moisture(),
            Principle::Thermometer => quantity.is_temperature(),
            Principle::RainGauge => quantity == Quantity::Rain,
            Principle::Node => quantity == Quantity::BatteryVoltage,
        }
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
        self.values_in(self.view())
    }

    /// As [`Self::values`], of a part of [`Self::view`].
    #[must_use]
    pub fn values_in<'v>(&self, part: View<'v>) -> Cow<'v, [f64]> {
        match &self.corrections[..] {
            _ if self.is_calibrated() => Cow::Owned(self.history.resolve(part)),
            [] => Cow::Borrowed(part.values),
            standing => Cow::Owned(corrected(part, standing)),
        }
    }

    /// Of what was measured by hand at the station, what this channel is held against.
    pub fn beside<'r>(&'r self, references: &'r [NewReference]) -> impl Iterator<Item = &'r NewReference> {
        let quantity = self.quantity();
        let own = move |r: &&NewReference| r.stream == self.channel.stream.id && r.quantity == quantity;
        references.iter().filter(own).filter(|r| self.channel.placement.holds(r.reference.time))
    }

    /// What it shows beside something that was measured by hand at a time.
    #[must_use]
    pub fn shown_beside(&self, time: UnixSeconds) -> Option<Beside> {
        let view = self.view();
        let interval = self.channel.stream.interval_s.or_else(|| view.usual_interval()).unwrap_or(0);
        let part = Beside::part(view, time, interval);
        Beside::of(View { times: part.times, values: &self.values_in(part) })
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

/// Readings at their true times; shared as they are where the clock was right.
fn timed(series: Arc<Series>, clock: Option<&Clock>) -> Arc<Series> {
    clock.map_or(Arc::clone(&series), |clock| Arc::new(series.by_clock(clock)))
}

/// How the note of a placement begins from which on a probe lies in the soil another way, though nobody took it out.
pub const SET_ANEW: &str = "lies another way";

/// The placement with which a probe was put into its seat: a plug that went to another port moved no probe.
#[must_use]
pub fn seat<'p>(of: &Placement, all: impl Iterator<Item = &'p Placement> + Clone) -> Placement {
    let mut seat = of.clone();
    let before = |seat: &Placement| {
        let same = |p: &&Placement| p.probe.id == seat.probe.id && p.depth_cm == seat.depth_cm;
        all.clone().filter(same).find(|p| p.ends == Some(seat.starts) && p.starts < seat.starts).cloned()
    };
    while !seat.note.starts_with(SET_ANEW)
        && let Some(earlier) = before(&seat)
    {
        seat = earlier;
    }
    seat
}

/// How long the record of a probe settles, by its principle and its seat; `wetted` is the first good wetting since, if known.
#[must_use]
pub fn settles(placement: &Placement, wetted: Option<UnixSeconds>) -> Settling {
    let seat = if placement.note.contains("repacked") { Seat::Repacked } else { Seat::Undisturbed };
    settling(placement.probe.principle, seat, Disturbance::Installed, placement.starts, wetted)
}

/// The spans of a stream whose readings stay out, by the flags of its station and the verdicts on them.
#[must_use]
pub fn left_out(stream: i64, flags: &[StoredFlag], belief: &Belief) -> LeftOut {
    let own = flags.iter().filter(|f| f.stream_id == stream && f.leaves_out(belief));
    LeftOut::of(own.map(|f| (f.flag.start, f.flag.end)))
}

/// A station with all it has recorded.
pub struct StationRecord {
    /// The study that it belongs to, for its clock and its name.
    pub study: Study,
    /// The place itself, with coordinates and treatment.
    pub station: Station,
    /// Horizons from the surface down.
    pub soil: Profile,
    /// Its channels: moisture by depth, soil temperature by depth, the rest.
    pub channels: Vec<ChannelRecord>,
    /// What happened there.
    pub events: Vec<StoredEvent>,
    /// Checks of its nodes' clocks, in order of time.
    pub clock_checks: Vec<NodeCheck>,
    /// What was measured by hand there and stands, in order of time.
    pub references: Vec<NewReference>,
}

impl StationRecord {
    /// Loads a station's record. Readings come from the store's cache where they can.
    ///
    /// # Errors
    /// [`StoreError`] if there is no such station or the database cannot be read.
    pub async fn load(store: &Store, station_id: i64) -> Result<Self, StoreError> {
        Self::load_as(store, station_id, None, &Assumed::default()).await
    }

    /// As [`Self::load`], if the station's placements were these, and something more held that is not so.
    ///
    /// # Errors
    /// As there.
    pub async fn load_as(
        store: &Store,
        station_id: i64,
        placements: Option<&[Placement]>,
        assumed: &Assumed,
    ) -> Result<Self, StoreError> {
        let mut record = Self::outline_as(store, station_id, placements, assumed.retired).await?;
        record.clock_checks.extend_from_slice(&assumed.checks);
        record.clock_checks.sort_by_key(|c| c.check.truth);
        let clocks = record.clocks();
        let series = store.series_at(station_id).await?;
        let (repeats, delivered) = (store.repeats_at(station_id).await?, store.deliveries_at(station_id).await?);
        let by_hand = store.references(station_id).await?;
        record.references = by_hand.into_iter().filter(|r| r.undone.is_none()).map(|r| r.new).collect();
        for channel in &mut record.channels {
            let stream = channel.channel.stream.id;
            let as_stored = series.get(&stream).cloned().unwrap_or_default();
            let clock = clocks.get(&channel.channel.stream.node);
            channel.shown = clock.map(|_| Arc::clone(&as_stored));
            channel.series = timed(as_stored, clock);
            let repeated = repeats.get(&stream).into_iter().flatten();
            channel.repeats = repeated.filter(|r| channel.channel.placement.holds(r.time)).copied().collect();
            channel.references = channel.beside(&record.references).map(|r| r.reference).collect();
            let seen = |d: &StoredDelivery| Delivery { received_at: d.received_at, first: d.first, last: d.last };
            // A file that is imported later holds nothing back: only messages come late.
            let sent = delivered.get(&stream).into_iter().flatten().filter(|d| d.source == Source::Message);
            channel.delivered = sent.map(seen).collect();
            channel.delivered.sort_by_key(|d| d.received_at);
        }
        Ok(record)
    }

    /// What other stations of the study measure that the tests of this one may be held against: water, air, health. What lies in
    /// the soil there says nothing of the soil here.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn neighbours(&self, store: &Store) -> Result<Vec<Self>, StoreError> {
        let mut neighbours = Vec::new();
        for station in store.stations(self.study.id).await?.into_iter().filter(|s| s.id != self.station.id) {
            let mut record = Self::outline(store, station.id).await?;
            record.channels.retain(|c| !c.channel.stream.quantity.is_in_soil());
            let clocks = record.clocks();
            for channel in &mut record.channels {
                let series = store.series(channel.channel.stream.id).await?;
                channel.series = timed(series, clocks.get(&channel.channel.stream.node));
            }
            neighbours.push(record);
        }
        Ok(neighbours)
    }

    /// What a port of a node showed through the placement of a moment, a channel a quantity.
    pub fn at_port<'r>(&'r self, node: &str, port: &str, at: UnixSeconds) -> impl Iterator<Item = &'r ChannelRecord> {
        self.channels.iter().filter(move |c| {
            let (stream, placement) = (&c.channel.stream, &c.channel.placement);
            stream.node == node && stream.port == port && placement.holds(at)
        })
    }

    /// The clocks of the nodes that were ever checked, by name: what their checks make, or why they make none. Each clock is taken
    /// as right when the node's first probe was placed.
    fn checked_clocks(&self) -> BTreeMap<&str, Result<Clock, ClockError>> {
        let started = |node: &str| {
            let of_node = self.channels.iter().filter(|c| c.channel.stream.node == node);
            of_node.map(|c| c.channel.placement.starts).min()
        };
        let nodes: BTreeSet<&str> = self.clock_checks.iter().map(|c| c.node.as_str()).collect();
        let clock = |node: &str| {
            let checks: Vec<ClockCheck> =
                self.clock_checks.iter().filter(|c| c.node == node).map(|c| c.check).collect();
            Some(Clock::new(started(node)?, &checks))
        };
        nodes.into_iter().filter_map(|node| Some((node, clock(node)?))).collect()
    }

    /// The clocks that move times, by node. Checks that make no clock correct nothing: see [`Self::clock_slips`].
    fn clocks(&self) -> HashMap<String, Clock> {
        let checked = self.checked_clocks().into_iter();
        let good = checked.filter_map(|(node, clock)| Some((node.to_owned(), clock.ok()?)));
        good.filter(|(_, clock)| !clock.is_right()).collect()
    }

    /// Whether somebody held a node's clock against another.
    #[must_use]
    pub fn holds_clock(&self, node: &str) -> bool {
        self.clock_checks.iter().any(|c| c.node == node && !c.by_grid)
    }

    /// The clock of a node by its checks; `None` if it was never checked.
    #[must_use]
    pub fn clock(&self, node: &str) -> Option<Result<Clock, ClockError>> {
        self.checked_clocks().remove(node)
    }

    /// Nodes whose checks contradict each other, with what is wrong: their times stay as they came until one is corrected.
    #[must_use]
    pub fn clock_slips(&self) -> Vec<(String, ClockError)> {
        let checked = self.checked_clocks().into_iter();
        checked.filter_map(|(node, clock)| Some((node.to_owned(), clock.err()?))).collect()
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

    /// Where it stands, if both coordinates are known.
    #[must_use]
    pub fn place(&self) -> Option<Place> {
        let (latitude, longitude) = self.station.latitude.zip(self.station.longitude)?;
        Some(Place { latitude, longitude })
    }
}
