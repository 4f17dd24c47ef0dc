//! A station's believed channels on one grid.

use crate::record::{ChannelRecord, Flagged, StationRecord};
use ebrel_core::field::Way;
use ebrel_core::findings::{ALWAYS, Counts, Fall, Grid, Inflow, Profile, Track, WettingRules, falls, sums};
use ebrel_core::quality::EventKind;
use ebrel_core::series::{Belief, LeftOut};
use ebrel_core::units::{Grade, Quantity, SpanSeconds, UnixSeconds};
use ebrel_store::flags::StoredFlag;

/// A stretch of a record, and what of it is believed.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Selection {
    /// First moment; `None` from the begin.
    pub from: Option<UnixSeconds>,
    /// First moment after; `None` to the end.
    pub to: Option<UnixSeconds>,
    /// Which grades stay out.
    pub belief: Belief,
}

/// Rain in the steps of a grid.
pub struct Rain {
    /// mm in the step up to each time; NaN where the gauge told nothing.
    pub sums: Vec<f64>,
    /// The station whose gauge it is, where this one has none.
    pub borrowed: Option<String>,
}

/// A station's record with its flags, on a grid.
pub struct Ground<'r> {
    /// The record.
    pub record: &'r StationRecord,
    /// Its times.
    pub grid: Grid,
    flags: &'r [StoredFlag],
    belief: Belief,
}

/// A gauge farther away tells nothing of the rain here, km.
const NEAR_KM: f64 = 5.0;

impl<'r> Ground<'r> {
    /// The record on a grid whose step is the coarsest of its usual intervals in the soil, at most an hour; `None` without a reading.
    #[must_use]
    pub fn new(of: &'r Flagged, selection: &Selection) -> Option<Self> {
        let (record, flags) = (&of.record, &of.flags[..]);
        let (first, last) = record.extent()?;
        let soil = record.channels.iter().filter(|c| c.quantity().is_in_soil());
        let step = soil.map(usual).max().unwrap_or(SpanSeconds(900)).min(SpanSeconds(3600));
        let from = selection.from.unwrap_or(first).max(first);
        let to = selection.to.map_or(last, |to| (to - SpanSeconds(1)).min(last));
        let grid = Grid::over(from, to, step)?;
        Some(Self { record, grid, flags, belief: selection.belief.clone() })
    }

    /// The same on another grid.
    #[must_use]
    pub fn on(self, grid: Grid) -> Self {
        Self { grid, ..self }
    }

    /// One channel on the grid.
    #[must_use]
    pub fn track(&self, channel: &'r ChannelRecord) -> Track<'r> {
        let depth = channel.channel.placement.depth_cm.unwrap_or(f64::NAN);
        let margin = SpanSeconds(usual(channel).0 * 3);
        let last = self.grid.time(self.grid.len() - 1);
        let believed = channel.believed(self.flags, &self.belief).between(self.grid.time(0) - margin, last + margin);
        let stream = channel.channel.stream.id;
        let true_but =
            |f: &&StoredFlag| f.stream_id == stream && f.flag.grade == Grade::Condition && !f.leaves_out(&self.belief);
        let spans: Vec<_> = self.flags.iter().filter(true_but).map(|f| (f.flag.start, f.flag.end)).collect();
        let under_condition = if spans.is_empty() {
            0
        } else {
            let conditions = LeftOut::of(spans);
            believed.times().filter(|t| conditions.holds(*t)).count()
        };
        let placement = &channel.channel.placement;
        let mut track = Track::of(&channel.channel.label(), depth, believed, usual(channel), &self.grid);
        track.counts.under_condition = under_condition;
        track.in_force = (placement.starts, placement.ends.unwrap_or(ALWAYS.1));
        track
    }

    /// The longest usual distance between two readings of a channel in the soil: between two of them a line is drawn.
    #[must_use]
    pub fn between_readings(&self) -> SpanSeconds {
        let soil = self.record.channels.iter().filter(|c| c.quantity().is_in_soil());
        soil.map(usual).max().unwrap_or(self.grid.step())
    }

    /// All channels of a quantity that lie in the soil, by depth.
    #[must_use]
    pub fn profile(&self, quantity: Quantity) -> Profile<'r> {
        let of = self.record.channels.iter().filter(|c| c.quantity() == quantity);
        let below = of.filter(|c| c.channel.placement.depth_cm.is_some_and(|d| d >= 0.0));
        let tracks = below.map(|c| self.track(c)).collect();
        let pores = |depth: f64| self.record.soil.at(depth).and_then(ebrel_core::soil::Horizon::pore_space);
        Profile::of(self.grid, tracks, pores)
    }

    /// The first channel of a quantity, whose placements are joined; `None` if there is none.
    #[must_use]
    pub fn joined(&self, quantity: Quantity) -> Option<(Vec<f64>, Counts)> {
        let mut all: Option<(Vec<f64>, Counts)> = None;
        for channel in self.record.channels.iter().filter(|c| c.quantity() == quantity) {
            let track = self.track(channel);
            match &mut all {
                None => all = Some((track.values, track.counts)),
                Some((values, counts)) => {
                    values.iter_mut().zip(&track.values).filter(|(v, _)| v.is_nan()).for_each(|(v, t)| *v = *t);
                    *counts += track.counts;
                }
            }
        }
        all
    }

    /// Rain by the station's own gauge, or that of the nearest other station within 5 km.
    #[must_use]
    pub fn rain(&self, neighbours: &[Flagged]) -> Option<Rain> {
        let gauges = |record: &StationRecord| record.channels.iter().any(|c| c.quantity() == Quantity::Rain);
        if gauges(self.record) {
            return Some(Rain { sums: self.sums(self.record, self.flags, Quantity::Rain)?, borrowed: None });
        }
        let km = |other: &StationRecord| {
            let way = self.record.place().zip(other.place()).map(|(a, b)| Way::between(a, b).metres / 1000.0);
            way.unwrap_or(NEAR_KM)
        };
        let near = neighbours.iter().filter(|n| gauges(&n.record) && km(&n.record) <= NEAR_KM);
        let name = |n: &Flagged| n.record.station.name.clone();
        let near = near.min_by(|a, b| km(&a.record).total_cmp(&km(&b.record)).then_with(|| name(a).cmp(&name(b))))?;
        Some(Rain { sums: self.sums(&near.record, &near.flags, Quantity::Rain)?, borrowed: Some(name(near)) })
    }

    /// Sums of a quantity that is one, over all of its channels at a station.
    fn sums(&self, record: &StationRecord, flags: &[StoredFlag], quantity: Quantity) -> Option<Vec<f64>> {
        let mut all: Option<Vec<f64>> = None;
        for channel in record.channels.iter().filter(|c| c.quantity() == quantity) {
            let believed = channel.believed(flags, &self.belief).plain();
            let readings: (Vec<i64>, Vec<f64>) = believed.map(|r| (r.time.0, r.value)).unzip();
            let view = ebrel_core::series::View { times: &readings.0, values: &readings.1 };
            let of = sums(view, usual(channel), &self.grid);
            match &mut all {
                None => all = Some(of),
                Some(known) => known.iter_mut().zip(of).filter(|(k, _)| k.is_nan()).for_each(|(k, v)| *k = v),
            }
        }
        all
    }

    /// Rain and water that was given, as falls in order of time.
    #[must_use]
    pub fn falls(&self, rain: Option<&Rain>, rules: &WettingRules) -> Vec<Fall> {
        let mut all = rain.map_or_else(Vec::new, |rain| falls(&self.grid, &rain.sums, rules));
        let given = self.sums(self.record, self.flags, Quantity::Irrigation).unwrap_or_default();
        let metered = falls(&self.grid, &given, rules);
        all.extend(metered.into_iter().map(|f| Fall { kind: Inflow::Irrigation, ..f }));
        let (first, last) = (self.grid.time(0), self.grid.time(self.grid.len() - 1));
        let told = self.record.events.iter().filter(|e| e.event.kind == EventKind::Irrigation && e.unit == "mm");
        let told = told.filter(|e| e.event.start >= first && e.event.end <= last);
        all.extend(told.filter_map(|e| {
            let mm = e.amount.filter(|mm| *mm >= rules.least_mm)?;
            Some(Fall { kind: Inflow::Irrigation, start: e.event.start, end: e.event.end, mm })
        }));
        all.sort_by_key(|f| f.start);
        all
    }
}

/// The usual distance of a channel's readings.
pub(super) fn usual(channel: &ChannelRecord) -> SpanSeconds {
    let stated = channel.channel.stream.interval_s;
    SpanSeconds(stated.or_else(|| channel.view().usual_interval()).unwrap_or(900).max(1))
}
