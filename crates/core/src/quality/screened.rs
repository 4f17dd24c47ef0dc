//! A channel as later tests see it: with found faults taken out.

use super::{Channel, Flag, Noise};
use crate::series::View;
use crate::series::{DailyWave, Hours, daily_waves};
use crate::statistics::quantile;
use crate::units::Quantity;
use std::borrow::Cow;
use std::sync::OnceLock;

/// A channel with faults already found taken out; readings are borrowed until something is.
pub(super) struct Screened<'a> {
    pub channel: &'a Channel<'a>,
    /// Seconds between readings.
    pub interval: i64,
    /// Times of the readings that are still believed.
    pub times: Cow<'a, [i64]>,
    /// Their values, in the unit of the channel; one per time.
    pub values: Cow<'a, [f64]>,
    /// Their texture; `None` for too short a record, and before the instrument's faults are out.
    pub noise: Option<Noise>,
    hours: OnceLock<Hours>,
    waves: OnceLock<Vec<Option<DailyWave>>>,
}

impl<'a> Screened<'a> {
    pub fn new(channel: &'a Channel<'a>) -> Self {
        let (times, values) = (Cow::Borrowed(channel.view.times), Cow::Borrowed(channel.view.values));
        let (hours, waves) = (OnceLock::new(), OnceLock::new());
        Self { channel, interval: channel.due_every(), times, values, noise: None, hours, waves }
    }

    /// What is still believed of it, by the hour.
    pub fn hours(&self) -> &Hours {
        self.hours.get_or_init(|| Hours::of(self.view()))
    }

    /// Its daily wave, one for each day of [`Hours::days`].
    pub fn waves(&self) -> &[Option<DailyWave>] {
        self.waves.get_or_init(|| daily_waves(self.hours()))
    }

    /// Its daily wave of one day, counted from 1970.
    pub fn wave(&self, day: i64) -> Option<DailyWave> {
        let i = usize::try_from(day - self.hours().days().start).ok()?;
        *self.waves().get(i)?
    }

    /// The middle half of what its hours span.
    pub fn usual_span(&self) -> f64 {
        let mut levels: Vec<f64> = self.hours().between(i64::MIN / 2, i64::MAX / 2).collect();
        quantile(&mut levels, 0.75).zip(quantile(&mut levels, 0.25)).map_or(0.0, |(high, low)| high - low)
    }

    /// Readings from `from` to `to`, both inclusive.
    pub fn between(&self, from: i64, to: i64) -> View<'_> {
        let (a, b) = (self.times.partition_point(|t| *t < from), self.times.partition_point(|t| *t <= to));
        let b = b.max(a);
        View { times: &self.times[a..b], values: &self.values[a..b] }
    }

    /// What is nothing in this record: so many of its standard deviations or steps, whichever is more.
    pub fn nothing(&self, sigmas: f64, steps: f64) -> f64 {
        self.noise.map_or(f64::INFINITY, |n| (sigmas * n.sigma).max(steps * n.resolution))
    }

    pub fn view(&self) -> View<'_> {
        View { times: &self.times, values: &self.values }
    }

    /// Learns the record's noise and resolution from what is left of it.
    pub fn learn_texture(&mut self) {
        let resolution = self.channel.resolution.filter(|_| self.channel.raw.is_none());
        self.noise = Noise::estimate(self.view(), self.interval, resolution);
    }

    /// Takes out readings in flagged intervals, and values that are not numbers.
    pub fn hide(&mut self, found: &[Flag]) {
        if found.is_empty() && self.values.iter().all(|v| v.is_finite()) {
            return;
        }
        (self.hours, self.waves) = (OnceLock::new(), OnceLock::new());
        let mut spans: Vec<(i64, i64)> = found.iter().map(|f| (f.start.0, f.end.0)).collect();
        spans.sort_unstable();
        let mut next = 0;
        let mut kept = 0;
        let (times, values) = (self.times.to_mut(), self.values.to_mut());
        for i in 0..times.len() {
            let t = times[i];
            while next < spans.len() && spans[next].1 < t {
                next += 1;
            }
            let flagged = spans[next..].first().is_some_and(|s| s.0 <= t);
            if !flagged && values[i].is_finite() {
                times[kept] = t;
                values[kept] = values[i];
                kept += 1;
            }
        }
        times.truncate(kept);
        values.truncate(kept);
    }
}

/// Other channels of the same family (moisture or temperature in the soil), nearest depth first; at one depth by their
/// names, so that it does not matter in which order a station lists its channels.
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
    let called = |j: &Screened<'a>| (j.channel.node, j.channel.port, j.channel.name);
    near.sort_by(|a, b| distance(a).total_cmp(&distance(b)).then_with(|| called(a).cmp(&called(b))));
    near
}

/// Runs of readings for which `test` holds, as first and last index; a run bridges up to `bridge` other readings.
pub(super) fn runs(n: usize, bridge: usize, test: impl Fn(usize) -> bool) -> Vec<(usize, usize)> {
    let mut found: Vec<(usize, usize)> = Vec::new();
    for i in (0..n).filter(|i| test(*i)) {
        match found.last_mut() {
            Some((_, last)) if i - *last <= bridge + 1 => *last = i,
            _ => found.push((i, i)),
        }
    }
    found
}
