//! What the tests know of a station.

use super::{EventKind, Reference, Repeat};
use crate::series::View;
use crate::units::{Quantity, SpanSeconds, UnixSeconds, format_value};

/// One quantity from one probe over a stretch of time, with what the tests must know of it.
#[derive(Debug, Clone)]
pub struct Channel<'a> {
    /// What the channel is called, for sentences: "5 cm", "air".
    pub name: &'a str,
    /// The node it comes from; channels of one node share its gaps and its clock.
    pub node: &'a str,
    /// The port of the node; channels of one port share its plug.
    pub port: &'a str,
    /// What is measured, as the values are given (raw output where no calibration is adopted).
    pub quantity: Quantity,
    /// Depth, if it is in the soil.
    pub depth_cm: Option<f64>,
    /// From when to when (exclusive) the probe was there, as far as it is known.
    pub placed: (Option<UnixSeconds>, Option<UnixSeconds>),
    /// When a probe of its kind, put in as it was, has settled at the earliest; see [`crate::field::settling`].
    pub settled: Option<UnixSeconds>,
    /// How often a reading is due; `None`: the usual distance of the readings themselves.
    pub interval: Option<SpanSeconds>,
    /// Readings in order of time, calibrated where a calibration is adopted.
    pub view: View<'a>,
    /// The same readings as they came, if `view` is calibrated.
    pub raw: Option<&'a [f64]>,
    /// Unit of raw output ("mV"), for sentences; other quantities have their own.
    pub raw_unit: &'a str,
    /// Half width of the 95 % interval of the calibration, in the unit of `view`, where one serves.
    pub uncertainty: Option<f64>,
    /// Smallest and largest value the instrument can give, in the unit of the raw readings.
    pub instrument: Option<(f64, f64)>,
    /// Step of the raw readings, if the model's sheet tells it.
    pub resolution: Option<f64>,
    /// Pore space of the soil at this depth, m³/m³.
    pub pore_space: Option<f64>,
    /// Readings that came again for a time already known.
    pub repeats: &'a [Repeat],
    /// How the readings arrived, in the order in which they were received: a clock set back and a late delivery look alike
    /// without it. Empty if it is not known.
    pub delivered: &'a [Delivery],
    /// Whether its node's clock was held against true time, and its times are corrected by that: they need keep no grid.
    pub clock_checked: bool,
    /// Times of records that came without a value for this channel, in order.
    pub empty: &'a [i64],
    /// What was measured by hand beside it.
    pub references: &'a [Reference],
}

impl<'a> Channel<'a> {
    /// A channel of which nothing is known but its readings.
    #[must_use]
    pub const fn bare(name: &'a str, quantity: Quantity, view: View<'a>) -> Self {
        Self {
            name,
            node: "",
            port: "",
            quantity,
            depth_cm: None,
            placed: (None, None),
            settled: None,
            interval: None,
            view,
            raw: None,
            raw_unit: "",
            uncertainty: None,
            instrument: None,
            resolution: None,
            pore_space: None,
            repeats: &[],
            delivered: &[],
            clock_checked: false,
            empty: &[],
            references: &[],
        }
    }

    /// How often a reading is due, seconds: as declared, else as the readings usually come, else 15 min.
    #[must_use]
    pub fn due_every(&self) -> i64 {
        self.interval.map(|i| i.0).filter(|i| *i > 0).or_else(|| self.view.usual_interval()).unwrap_or(900).max(1)
    }

    /// A value in the unit of the instrument: as [`written`], with the unit of raw output where it is that.
    pub(super) fn as_measured(&self, value: f64) -> String {
        let calibrated = self.raw.is_some() && self.quantity == Quantity::WaterContent;
        let quantity = if calibrated { Quantity::RawOutput } else { self.quantity };
        let number = written(quantity, value);
        if quantity == Quantity::RawOutput && !self.raw_unit.is_empty() {
            return format!("{number}\u{a0}{}", self.raw_unit);
        }
        number
    }
}

/// "0.287 m³/m³": a value with the decimals and the unit of its quantity.
pub(super) fn written(quantity: Quantity, value: f64) -> String {
    let least = 0.1f64.powi(i32::try_from(quantity.decimals()).unwrap_or(0));
    // What is more than nothing is not told as nothing.
    let number = if value > 0.0 && value < 0.5 * least {
        format!("under {}", format_value(least, quantity.decimals()))
    } else {
        format_value(value, quantity.decimals())
    };
    let unit = crate::units::unit_for_people(quantity.unit());
    if unit.is_empty() { number } else { format!("{number}\u{a0}{unit}") }
}

/// What one import or message brought of a channel.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Delivery {
    /// When it was received.
    pub received_at: UnixSeconds,
    /// Its first reading that was not known.
    pub first: UnixSeconds,
    /// Its last one.
    pub last: UnixSeconds,
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

/// Where a station stands.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Place {
    /// Latitude, degrees; north is positive.
    pub latitude: f64,
    /// Longitude, degrees; east is positive.
    pub longitude: f64,
}

/// A channel of another station of the study; what is borrowed from it is said as borrowed.
#[derive(Debug, Clone)]
pub struct Elsewhere<'a> {
    /// The other station's name.
    pub station: &'a str,
    /// Where it stands, if that is known.
    pub place: Option<Place>,
    /// What it measures there.
    pub channel: Channel<'a>,
}

/// Everything that the tests see of one station.
///
/// Rain and irrigation are channels among the others: whether water is known, none, or not known at a time is worked out
/// from them and never assumed.
#[derive(Debug, Clone)]
pub struct StationContext<'a> {
    /// Its channels, in the soil, in the air, and of the nodes' own health.
    pub channels: &'a [Channel<'a>],
    /// Visits, irrigations, program changes and the like.
    pub events: &'a [Event],
    /// Where it stands: the sun's path follows from it.
    pub place: Option<Place>,
    /// Channels of other stations of the study.
    pub elsewhere: &'a [Elsewhere<'a>],
}

impl<'a> StationContext<'a> {
    /// A station that stands alone at an unknown place.
    #[must_use]
    pub const fn alone(channels: &'a [Channel<'a>], events: &'a [Event]) -> Self {
        Self { channels, events, place: None, elsewhere: &[] }
    }

    /// The channels that measure the same quantity at the same depth as this one: probes put in as a pair.
    ///
    /// ```
    /// use ebrel_core::quality::{Channel, StationContext};
    /// use ebrel_core::series::View;
    /// use ebrel_core::units::Quantity;
    /// let empty = View { times: &[], values: &[] };
    /// let at = |name, depth| Channel { depth_cm: Some(depth), ..Channel::bare(name, Quantity::WaterContent, empty) };
    /// let channels = [at("5 cm", 5.0), at("15 cm", 15.0), at("15 cm b", 15.5)];
    /// let station = StationContext::alone(&channels, &[]);
    /// assert_eq!(station.twins(1).map(|c| c.name).collect::<Vec<_>>(), ["15 cm b"]);
    /// assert_eq!(station.twins(0).count(), 0);
    /// ```
    pub fn twins(&self, of: usize) -> impl Iterator<Item = &'a Channel<'a>> {
        /// Two probes meant for one depth lie within this, cm.
        const SAME_CM: f64 = 1.0;
        let own = self.channels.get(of);
        self.channels.iter().enumerate().filter_map(move |(i, other)| {
            let own = own.filter(|_| i != of)?;
            let apart = own.depth_cm.zip(other.depth_cm).map(|(a, b)| (a - b).abs())?;
            (own.quantity == other.quantity && apart <= SAME_CM).then_some(other)
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_little_is_not_told_as_nothing() {
        let of = |v| written(Quantity::WaterContent, v);
        assert_eq!(of(0.000_18), "under 0.001\u{a0}m³/m³");
        assert_eq!(of(0.000_6), "0.001\u{a0}m³/m³");
        assert_eq!([of(0.0), of(-0.000_18)], ["0.000\u{a0}m³/m³", "0.000\u{a0}m³/m³"]);
        assert_eq!(written(Quantity::SoilTemperature, 0.04), "under 0.1\u{a0}°C");
    }
}
