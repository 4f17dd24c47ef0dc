//! The record of a made-up year, as if a station had kept it: what people practise on.

use super::{ChannelRecord, StationRecord};
use ebrel_core::quality::{Event, EventKind};
use ebrel_core::series::{CalibrationHistory, Series};
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::units::{Principle, Quantity, UnixSeconds};
use ebrel_simulator::years::{INTERVAL, Year, YearChannel};
use ebrel_store::events::StoredEvent;
use ebrel_store::placements::{Placement, StoredChannel};
use ebrel_store::probes::Probe;
use ebrel_store::stations::Station;
use ebrel_store::streams::Stream;
use ebrel_store::studies::Study;
use std::sync::Arc;

/// Number of the stream of a channel of the year.
#[must_use]
pub const fn stream_of(channel: usize) -> i64 {
    channel as i64 + 1
}

impl StationRecord {
    /// A record of a made-up year: its channels in the order of the year, their streams numbered by [`stream_of`].
    #[must_use]
    pub fn made_up(year: Year) -> Self {
        let study = Study {
            id: 0,
            name: "Practice".into(),
            question: String::new(),
            utc_offset_minutes: 0,
            fixed_now: Some(year.end),
        };
        let station = Station {
            id: 0,
            study_id: 0,
            code: "practice".into(),
            name: "A made-up station".into(),
            latitude: Some(year.place.0),
            longitude: Some(year.place.1),
            elevation_m: None,
            treatment: String::new(),
            cover: String::new(),
            known_bias: String::new(),
        };
        let horizon = |h: &ebrel_simulator::Horizon| Horizon {
            top_cm: h.span_cm.0,
            bottom_cm: h.span_cm.1,
            name: h.name.into(),
            texture: h.texture.into(),
            sand_pct: Some(h.sand_clay_pct.0),
            clay_pct: Some(h.sand_clay_pct.1),
            organic_matter_pct: Some(h.organic_pct),
            bulk_density_g_cm3: Some(h.bulk_density),
        };
        let soil = Profile::from(year.soil.iter().map(horizon).collect::<Vec<_>>());
        let visit = |(i, (start, end)): (usize, &(i64, i64))| StoredEvent {
            id: i as i64 + 1,
            event: Event { kind: EventKind::Visit, start: UnixSeconds(*start), end: UnixSeconds(*end) },
            amount: None,
            unit: String::new(),
            note: String::new(),
            by: String::new(),
            client_id: None,
            revision: 1,
        };
        let events = year.visits.iter().enumerate().map(visit).collect();
        let begin = year.start;
        let channels = year.channels.into_iter().enumerate().map(|(i, c)| channel(i, c, begin, &soil)).collect();
        Self { study, station, soil, channels, events, clock_checks: Vec::new(), references: Vec::new() }
    }
}

fn channel(i: usize, c: YearChannel, begin: i64, soil: &Profile) -> ChannelRecord {
    let id = stream_of(i);
    let principle = match c.quantity {
        Quantity::WaterContent => Principle::Dielectric,
        Quantity::Rain => Principle::RainGauge,
        q if q.is_temperature() => Principle::Thermometer,
        _ => Principle::Node,
    };
    let stream = Stream {
        id,
        node_id: 1,
        node: "node".into(),
        port: c.port.clone(),
        quantity: c.quantity,
        unit: c.quantity.unit().to_owned(),
        interval_s: Some(INTERVAL),
    };
    let probe = Probe {
        id,
        serial: c.port.clone(),
        model: String::new(),
        principle,
        instrument_min: Some(c.range.0),
        instrument_max: Some(c.range.1),
        resolution: Some(c.resolution),
    };
    let placement = Placement {
        id,
        node_id: 1,
        port: c.port,
        probe,
        depth_cm: c.depth_cm,
        orientation: String::new(),
        // Long before: nothing settles in an exercise.
        starts: UnixSeconds(begin - 400 * 86_400),
        ends: None,
        note: String::new(),
    };
    ChannelRecord {
        channel: StoredChannel { stream, placement },
        series: Arc::new(Series { times: c.times.into(), values: c.values }),
        history: CalibrationHistory::default(),
        corrections: Vec::new(),
        pore_space: c.pore_space,
        references: Vec::new(),
        repeats: Vec::new(),
        delivered: Vec::new(),
        shown: None,
        horizon: c.depth_cm.and_then(|d| soil.at(d)).cloned(),
    }
}
