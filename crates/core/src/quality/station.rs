//! One station's channels, and all tests over them.

use super::conditions::{frozen, impossible};
use super::gap::gaps;
use super::instrument::{not_connected, out_of_instrument};
use super::noise::Noise;
use super::repeated::{Repeat, repeated};
use super::spike::spikes;
use super::step::steps;
use super::stuck::stuck;
use super::water::Water;
use super::{Flag, Test, coded_event};
use crate::series::View;
use crate::units::{Quantity, SpanSeconds, UnixSeconds};
use serde::{Deserialize, Serialize};

pub use coded_event::EventKind;

/// One quantity from one probe over a stretch of time, with what the tests must know of it.
#[derive(Debug, Clone)]
pub struct Channel<'a> {
    /// What the channel is called, for sentences: "5 cm", "air".
    pub name: &'a str,
    /// The node it comes from; channels of one node share its gaps.
    pub node: &'a str,
    /// What is measured, as the values are given (raw output where no calibration is adopted).
    pub quantity: Quantity,
    /// Depth, if it is in the soil.
    pub depth_cm: Option<f64>,
    /// How often a reading is due; `None`: the usual distance of the readings themselves.
    pub interval: Option<SpanSeconds>,
    /// Readings in order of time, calibrated where a calibration is adopted.
    pub view: View<'a>,
    /// The same readings as they came, if `view` is calibrated.
    pub raw: Option<&'a [f64]>,
    /// Unit of raw output ("mV"), for sentences; other quantities have their own.
    pub raw_unit: &'a str,
    /// Smallest and largest value the instrument can give, in the unit of the raw readings.
    pub instrument: Option<(f64, f64)>,
    /// Step of the raw readings, if the model's sheet tells it.
    pub resolution: Option<f64>,
    /// Pore space of the soil at this depth, m³/m³.
    pub pore_space: Option<f64>,
    /// Readings that came again for a time already known.
    pub repeats: &'a [Repeat],
}

/// Something that happened at the station.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Event {
    /// What kind of thing.
    pub kind: EventKind,
    /// When it began.
    pub start: UnixSeconds,
    /// When it ended.
    pub end: UnixSeconds,
}

/// Thresholds of the tests. They are counts of the record's own noise, steps and wiggles, not fixed values.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Settings {
    /// A departure counts from this many standard deviations of the record's noise.
    pub sigmas: f64,
    /// ... and this many steps of its resolution.
    pub resolutions: f64,
    /// ... and this many of its usual wiggles (97.5th percentile).
    pub wiggles: f64,
    /// Longest spike, in readings.
    pub spike_readings: usize,
    /// A gap is more than this many intervals without a reading.
    pub gap_intervals: f64,
    /// Shortest time without change that can be called stuck, hours.
    pub stuck_hours: f64,
    /// Chance that readings which repeat themselves as often as this record's do stand still so long.
    pub stuck_chance: f64,
    /// Stretches of the length of a standstill usually move further than this many steps of the record's resolution.
    pub stuck_steps: f64,
    /// The same for moisture, as a share of `stuck_steps`: it is calm for longer, and jumps.
    pub stuck_moisture_share: f64,
    /// Rain (mm) within the reach of a depth that explains a rise.
    pub rain_mm: f64,
}

impl Default for Settings {
    fn default() -> Self {
        Self {
            sigmas: 8.0,
            resolutions: 4.0,
            wiggles: 3.0,
            spike_readings: 4,
            gap_intervals: 1.5,
            stuck_hours: 3.0,
            stuck_chance: 1e-9,
            stuck_steps: 2.5,
            stuck_moisture_share: 0.6,
            rain_mm: 0.5,
        }
    }
}

/// A channel with faults already found taken out, as the later tests see it.
pub(super) struct Screened<'a> {
    pub channel: &'a Channel<'a>,
    pub interval: i64,
    /// Times of the readings that are still believed.
    pub times: Vec<i64>,
    /// Their values.
    pub values: Vec<f64>,
    /// Their texture; `None` for too short a record.
    pub noise: Option<Noise>,
}

impl<'a> Screened<'a> {
    fn new(channel: &'a Channel<'a>, interval: i64, out: &[Flag]) -> Self {
        let mut judged = Self {
            channel,
            interval,
            times: channel.view.times.to_vec(),
            values: channel.view.values.to_vec(),
            noise: None,
        };
        judged.drop_flagged(out);
        let resolution = channel.resolution.filter(|_| channel.raw.is_none());
        judged.noise = Noise::estimate(judged.view(), interval, resolution);
        judged
    }

    pub fn view(&self) -> View<'_> {
        View { times: &self.times, values: &self.values }
    }

    /// Takes out readings in flagged intervals, and values that are not numbers.
    fn drop_flagged(&mut self, out: &[Flag]) {
        if out.is_empty() && self.values.iter().all(|v| v.is_finite()) {
            return;
        }
        let mut spans: Vec<(i64, i64)> = out.iter().map(|f| (f.start.0, f.end.0)).collect();
        spans.sort_unstable();
        let mut next = 0;
        let mut kept = 0;
        for i in 0..self.times.len() {
            let t = self.times[i];
            while next < spans.len() && spans[next].1 < t {
                next += 1;
            }
            let flagged = spans[next..].first().is_some_and(|s| s.0 <= t);
            if !flagged && self.values[i].is_finite() {
                self.times[kept] = t;
                self.values[kept] = self.values[i];
                kept += 1;
            }
        }
        self.times.truncate(kept);
        self.values.truncate(kept);
    }
}

/// Runs every test over the channels of one station.
///
/// Rain and irrigation are taken from the channels of that quantity, all of them: an exchanged gauge is two. The flags of
/// each channel come in the order of the channels, sorted by start and test.
#[must_use]
pub fn check_station(channels: &[Channel<'_>], events: &[Event], settings: &Settings) -> Vec<Vec<Flag>> {
    let water = Water::new(channels, events, settings.rain_mm);
    let mut flags: Vec<Vec<Flag>> = Vec::with_capacity(channels.len());
    let mut judged = Vec::with_capacity(channels.len());
    for channel in channels {
        let interval =
            channel.interval.map(|i| i.0).filter(|i| *i > 0).or_else(|| channel.view.usual_interval()).unwrap_or(900);
        let mut found = not_connected(channel, interval);
        found.extend(out_of_instrument(channel, interval, &found));
        judged.push(Screened::new(channel, interval, &found));
        found.extend(gaps(channel, interval, settings));
        found.extend(repeated(channel, interval));
        flags.push(found);
    }
    for i in 0..judged.len() {
        let found = impossible(&judged[i], &water);
        flags[i].extend(found);
        let found = frozen(&judged[i], &judged);
        flags[i].extend(found);
        let found = spikes(&judged[i], &water, settings);
        judged[i].drop_flagged(&found);
        flags[i].extend(found);
    }
    for i in 0..judged.len() {
        let still = stuck(&judged[i], &judged, settings);
        let frozen = flags[i].iter().filter(|f| f.test == Test::Frozen);
        let explained: Vec<(i64, i64)> = frozen
            .map(|f| (f.start.0 - SpanSeconds::DAY.0, f.end.0 + SpanSeconds::DAY.0))
            .chain(still.iter().map(|f| (f.start.0, f.end.0 + 2 * judged[i].interval)))
            .collect();
        let jumps = steps(&judged[i], &judged, &water, events, &explained, settings);
        flags[i].extend(still);
        flags[i].extend(jumps);
        flags[i].sort_by_key(|f| (f.start, f.test));
    }
    flags
}

/// Other channels of the same family (moisture or temperature in the soil), nearest depth first.
pub(super) fn neighbours<'j, 'a>(of: &Screened<'_>, all: &'j [Screened<'a>]) -> Vec<&'j Screened<'a>> {
    let Some(depth) = of.channel.depth_cm else { return Vec::new() };
    let family = |q: Quantity| (q.is_moisture(), q == Quantity::SoilTemperature);
    let mut near: Vec<&Screened<'a>> = all
        .iter()
        .filter(|other| !std::ptr::eq(other.channel, of.channel) && other.channel.quantity.is_in_soil())
        .filter(|other| family(other.channel.quantity) == family(of.channel.quantity))
        .filter(|other| other.channel.depth_cm.is_some() && other.noise.is_some())
        .collect();
    let distance = |j: &Screened<'_>| j.channel.depth_cm.map_or(f64::INFINITY, |d| (d - depth).abs());
    near.sort_by(|a, b| distance(a).total_cmp(&distance(b)));
    near
}

impl Channel<'_> {
    /// A value in the unit of the instrument: as [`written`], with the unit of raw output where it is that.
    pub(super) fn as_measured(&self, value: f64) -> String {
        let calibrated = self.raw.is_some() && self.quantity == Quantity::WaterContent;
        let quantity = if calibrated { Quantity::RawOutput } else { self.quantity };
        let number = written(quantity, value);
        match quantity {
            Quantity::RawOutput if !self.raw_unit.is_empty() => format!("{number}\u{a0}{}", self.raw_unit),
            _ => number,
        }
    }
}

/// "0.287 m³/m³": a value with the decimals and the unit of its quantity.
pub(super) fn written(quantity: Quantity, value: f64) -> String {
    let decimals = quantity.decimals();
    let number = format!("{value:.decimals$}").replace('-', "−");
    let unit = crate::units::unit_for_people(quantity.unit());
    if unit.is_empty() { number } else { format!("{number}\u{a0}{unit}") }
}
