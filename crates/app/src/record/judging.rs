//! A station's record as the tests of quality see it.

use super::{ChannelRecord, StationRecord, seat, settles};
use ebrel_core::quality::{
    Channel, Elsewhere, Event, Findings, Settings, StationContext, Unjudged, check_station, unjudged,
};
use ebrel_core::series::View;
use ebrel_core::units::SpanSeconds;
use ebrel_store::{Store, StoreError};
use std::borrow::Cow;

/// Channels with what must be made for the tests: names, and values where they are not as they came.
struct ForTests<'r> {
    records: &'r [ChannelRecord],
    labels: Vec<String>,
    values: Vec<Cow<'r, [f64]>>,
}

impl<'r> ForTests<'r> {
    fn of(records: &'r [ChannelRecord]) -> Self {
        let labels = records.iter().map(|c| c.channel.label()).collect();
        Self { records, labels, values: records.iter().map(ChannelRecord::values).collect() }
    }

    /// With values as they came, for those who ask only what there is.
    fn as_they_came(records: &'r [ChannelRecord]) -> Self {
        let labels = records.iter().map(|c| c.channel.label()).collect();
        Self { records, labels, values: records.iter().map(|c| Cow::Borrowed(c.view().values)).collect() }
    }

    fn channels(&self) -> Vec<Channel<'_>> {
        let parts = self.records.iter().zip(&self.values).zip(&self.labels);
        parts.map(|((record, values), name)| channel(record, values, name, self.records)).collect()
    }
}

/// A channel as the tests see it.
fn channel<'a>(c: &'a ChannelRecord, values: &'a [f64], name: &'a str, all: &[ChannelRecord]) -> Channel<'a> {
    let (stream, placement) = (&c.channel.stream, &c.channel.placement);
    Channel {
        name,
        node: &stream.node,
        port: &stream.port,
        quantity: c.quantity(),
        depth_cm: placement.depth_cm,
        placed: (Some(placement.starts), placement.ends),
        settled: Some(settles(&seat(placement, all.iter().map(|c| &c.channel.placement)), None).until),
        interval: stream.interval_s.map(SpanSeconds),
        view: View { times: c.view().times, values },
        raw: (c.is_calibrated() || !c.corrections.is_empty()).then(|| c.view().values),
        raw_unit: &stream.unit,
        uncertainty: c.history.usual_half_width().filter(|_| c.is_calibrated()),
        instrument: placement.probe.instrument_min.zip(placement.probe.instrument_max).filter(|_| c.is_main()),
        resolution: placement.probe.resolution.filter(|_| c.is_main()),
        pore_space: c.pore_space,
        repeats: &c.repeats,
        delivered: &c.delivered,
        clock_checked: c.shown.is_some(),
        empty: &[],
        references: &[],
    }
}

impl StationRecord {
    /// Runs every test over the record, with channels of other stations beside it; one list of flags per channel, in their order.
    #[must_use]
    pub fn check(&self, neighbours: &[Self], settings: &Settings) -> Findings {
        let own = ForTests::of(&self.channels);
        let others: Vec<ForTests<'_>> = neighbours.iter().map(|n| ForTests::of(&n.channels)).collect();
        let elsewhere: Vec<Elsewhere<'_>> = neighbours
            .iter()
            .zip(&others)
            .flat_map(|(n, of)| {
                let (station, place) = (n.station.name.as_str(), n.place());
                of.channels().into_iter().map(move |channel| Elsewhere { station, place, channel })
            })
            .collect();
        let channels = own.channels();
        let events: Vec<Event> = self.events.iter().map(|e| e.event).collect();
        let (place, elsewhere) = (self.place(), &elsewhere[..]);
        let context = StationContext { channels: &channels, events: &events, place, elsewhere };
        check_station(&context, settings)
    }

    /// What the tests cannot judge here, and why; other stations are looked at without their readings.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn unjudged(&self, store: &Store) -> Result<Vec<Unjudged>, StoreError> {
        let mut others = Vec::new();
        for station in store.stations(self.study.id).await?.into_iter().filter(|s| s.id != self.station.id) {
            others.push(Self::outline(store, station.id).await?);
        }
        let own = ForTests::as_they_came(&self.channels);
        let of_others: Vec<ForTests<'_>> = others.iter().map(|o| ForTests::as_they_came(&o.channels)).collect();
        let elsewhere: Vec<Elsewhere<'_>> = others
            .iter()
            .zip(&of_others)
            .flat_map(|(o, of)| {
                let (station, place) = (o.station.name.as_str(), o.place());
                of.channels().into_iter().map(move |channel| Elsewhere { station, place, channel })
            })
            .collect();
        let (channels, place) = (own.channels(), self.place());
        Ok(unjudged(&StationContext { channels: &channels, events: &[], place, elsewhere: &elsewhere }))
    }
}
