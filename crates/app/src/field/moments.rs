//! What every channel of a station said at a moment, or on the day before it: for snapshots and for the official start.

use crate::record::{ChannelRecord, StationRecord};
use ebrel_core::series::Belief;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds, format_value, unit_for_people};
use ebrel_store::flags::StoredFlag;
use ebrel_store::{Store, StoreError};

/// What one channel said.
#[derive(Debug, Clone, PartialEq)]
pub struct Said {
    /// What the channel is called.
    pub label: String,
    /// Depth, cm, in the soil.
    pub depth_cm: Option<f64>,
    /// What was measured.
    pub quantity: Quantity,
    /// Unit for people.
    pub unit: String,
    /// The believed reading, or the mean of those of the day.
    pub value: f64,
    /// How many readings it is made of.
    pub readings: usize,
    /// The last of them.
    pub at: UnixSeconds,
}

impl Said {
    /// What the row of a table is called: in the soil a depth alone would not tell water from warmth.
    #[must_use]
    pub fn title(&self) -> String {
        if self.depth_cm.is_some() { format!("{}, {}", self.label, self.quantity.words()) } else { self.label.clone() }
    }

    /// "0.312 m³/m³".
    #[must_use]
    pub fn words(&self) -> String {
        let number = format_value(self.value, self.quantity.decimals());
        if self.unit.is_empty() { number } else { format!("{number}\u{a0}{}", self.unit) }
    }
}

/// What a station said: each channel once, and those that said nothing that is believed.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Moment {
    /// Channels with a value, moisture first, by depth.
    pub said: Vec<Said>,
    /// Channels without one.
    pub silent: Vec<String>,
    /// Rain of the seven days before, mm, where a gauge told of all of them.
    pub rain_mm: Option<f64>,
}

/// A reading older than this many intervals says nothing of the moment.
const INTERVALS: i64 = 2;

/// What every channel said at a moment: its last believed reading, if that is not older than two intervals.
///
/// # Errors
/// [`StoreError`] if there is no such station or the database cannot be read.
pub async fn at_moment(store: &Store, station: i64, at: UnixSeconds) -> Result<Moment, StoreError> {
    let of = |c: &ChannelRecord, flags: &[StoredFlag]| {
        let every = c.channel.stream.interval_s.or_else(|| c.view().usual_interval()).unwrap_or(900).max(1);
        let from = at - SpanSeconds(INTERVALS * every);
        let within = c.believed(flags, &Belief::default()).between(from, at + SpanSeconds(1));
        let last = within.readings().filter(|r| r.value.is_finite()).last()?;
        Some((last.value, 1, last.time))
    };
    moment(store, station, at, of).await
}

/// What every channel said on the day before a moment: the mean of its believed readings.
///
/// # Errors
/// [`StoreError`] if there is no such station or the database cannot be read.
pub async fn day_before(store: &Store, station: i64, at: UnixSeconds) -> Result<Moment, StoreError> {
    let of = |c: &ChannelRecord, flags: &[StoredFlag]| {
        let within = c.believed(flags, &Belief::default()).between(at - SpanSeconds::DAY, at + SpanSeconds(1));
        let (mut sum, mut n, mut last) = (0.0, 0, at);
        for reading in within.readings().filter(|r| r.value.is_finite()) {
            (sum, n, last) = (sum + reading.value, n + 1, reading.time);
        }
        (n > 0).then(|| (sum / n as f64, n, last))
    };
    moment(store, station, at, of).await
}

async fn moment(
    store: &Store,
    station: i64,
    at: UnixSeconds,
    of: impl Fn(&ChannelRecord, &[StoredFlag]) -> Option<(f64, usize, UnixSeconds)>,
) -> Result<Moment, StoreError> {
    let record = StationRecord::load(store, station).await?;
    let flags = store.flags(station).await?;
    let mut moment = Moment::default();
    for c in &record.channels {
        let placement = &c.channel.placement;
        if placement.starts > at || placement.ends.is_some_and(|end| end <= at) {
            continue;
        }
        let (label, quantity) = (c.channel.label(), c.quantity());
        if quantity == Quantity::Rain {
            moment.rain_mm = moment.rain_mm.or_else(|| week_of_rain(c, &flags, at));
            continue;
        }
        match of(c, &flags) {
            Some((value, readings, at)) => moment.said.push(Said {
                label,
                depth_cm: placement.depth_cm.filter(|_| quantity.is_in_soil()),
                quantity,
                unit: unit_for_people(c.unit()).to_owned(),
                value,
                readings,
                at,
            }),
            None => moment.silent.push(label),
        }
    }
    Ok(moment)
}

/// Rain of the seven days before a moment, mm; `None` where the gauge was silent for more than a day of them.
fn week_of_rain(gauge: &ChannelRecord, flags: &[StoredFlag], at: UnixSeconds) -> Option<f64> {
    let from = at - SpanSeconds(7 * SpanSeconds::DAY.0);
    let (mut sum, mut heard) = (0.0, from);
    for reading in gauge.believed(flags, &Belief::default()).between(from, at + SpanSeconds(1)).readings() {
        if reading.time.0 - heard.0 > SpanSeconds::DAY.0 {
            return None;
        }
        heard = reading.time;
        sum += reading.value.max(0.0);
    }
    (at.0 - heard.0 <= SpanSeconds::DAY.0).then_some(sum)
}

impl Moment {
    /// The conditions in one line: soil by depth, then the rain of the week.
    #[must_use]
    pub fn words(&self) -> String {
        let soil = self.said.iter().filter(|s| s.depth_cm.is_some());
        let mut parts: Vec<String> = soil.map(|s| format!("{} {}", s.label, s.words())).collect();
        if let Some(mm) = self.rain_mm {
            parts.push(format!("{}\u{a0}mm of rain in the week before", format_value(mm, 1)));
        }
        parts.join(", ")
    }
}
