//! A station's record as the tests of quality see it.

use super::{ChannelRecord, StationRecord, seat, settles};
use ebrel_core::quality::{
    Channel, Elsewhere, Event, Findings, Judged, Place, Settings, StationContext, Unjudged, check_again, unjudged,
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
        references: &c.references,
    }
}

impl StationRecord {
    /// Runs every test over the record, with channels of other stations beside it; one list of flags per channel, in their order.
    #[must_use]
    pub fn check(&self, neighbours: &[Self], settings: &Settings) -> Findings {
        self.check_again(neighbours, settings, &mut Judged::default())
    }

    /// As [`Self::check`], with a memory of an earlier run: what has not changed since is not judged again.
    #[must_use]
    pub fn check_again(&self, neighbours: &[Self], settings: &Settings, judged: &mut Judged) -> Findings {
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
        let mut channels = own.channels();
        // Times that were moved onto their grid keep it: whatever leaves it beside is another drift.
        channels.iter_mut().for_each(|c| c.clock_checked &= self.holds_clock(c.node));
        let events: Vec<Event> = self.events.iter().map(|e| e.event).collect();
        let (place, elsewhere) = (self.place(), &elsewhere[..]);
        let context = StationContext { channels: &channels, events: &events, place, elsewhere };
        check_again(&context, settings, judged)
    }

    /// What the tests cannot judge here, and why. Of other stations it matters only what they measure.
    ///
    /// # Errors
    /// [`StoreError`] if the database cannot be read.
    pub async fn unjudged(&self, store: &Store) -> Result<Vec<Unjudged>, StoreError> {
        let beside = store.measured_beside(self.study.id, self.station.id).await?;
        let nothing = View { times: &[], values: &[] };
        let elsewhere = beside.iter().map(|b| Elsewhere {
            station: &b.station,
            place: b.latitude.zip(b.longitude).map(|(latitude, longitude)| Place { latitude, longitude }),
            channel: Channel::bare("", b.quantity, nothing),
        });
        let elsewhere: Vec<Elsewhere<'_>> = elsewhere.collect();
        let own = ForTests::as_they_came(&self.channels);
        let (channels, place) = (own.channels(), self.place());
        Ok(unjudged(&StationContext { channels: &channels, events: &[], place, elsewhere: &elsewhere }))
    }
}
