//! Whether water that reached the soil explains a rise, as far as anything tells of water.

use super::{Channel, Elsewhere, Event, EventKind, StationContext};
use crate::field::Way;
use crate::units::{Quantity, SpanSeconds};

/// A gauge that is silent for longer than this many intervals told nothing of the time between.
const SILENT_INTERVALS: i64 = 4;
/// A sum above this within one interval is no rain, mm.
const MOST_MM: f64 = 500.0;

/// Water over a stretch of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) enum Fallen {
    /// So much, mm: a gauge was read all through.
    Known(f64),
    /// At least so much, mm: no gauge tells of a part of the time.
    AtLeast(f64),
    /// No gauge tells of any of it.
    Unknown,
}

impl Fallen {
    /// What is known to have fallen, mm; 0 where nothing is.
    pub fn mm(self) -> f64 {
        self.known_mm().unwrap_or(0.0)
    }

    /// What is known to have fallen, mm; `None` where nothing is known.
    pub fn known_mm(self) -> Option<f64> {
        match self {
            Self::Known(mm) | Self::AtLeast(mm) => Some(mm),
            Self::Unknown => None,
        }
    }
}

/// One rain.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Storm {
    /// The first reading that tells of it.
    pub from: i64,
    /// The last one.
    pub to: i64,
    /// What fell, mm.
    pub mm: f64,
}

/// How long a front may take to a depth, s: six hours and 45 minutes for each centimetre, which is slow even for a clay.
pub(super) fn front_takes(depth_cm: f64) -> i64 {
    const BASE: i64 = 6 * 3600;
    const PER_CM: f64 = 45.0 * 60.0;
    BASE + (depth_cm.max(0.0) * PER_CM) as i64
}

/// Rain and irrigation of a station, ready to be asked for the sum over any stretch.
pub(super) struct Water {
    times: Vec<i64>,
    /// Sum up to and with `times[i]`; one longer than `times`, beginning with 0.
    sums: Vec<f64>,
    /// Stretches over which some gauge was read, in order, apart from each other.
    known: Vec<(i64, i64)>,
    /// When water was given, in order, apart from each other.
    irrigation: Vec<(i64, i64)>,
    /// Whose gauge it is, where the station has none of its own: " (the gauge of Cut coupe)".
    borrowed: String,
}

/// A gauge farther away tells nothing of the rain here, km.
const NEAR_KM: f64 = 5.0;

/// How far another station is away, km, if both places are known.
fn apart_km(station: &StationContext<'_>, other: &Elsewhere<'_>) -> Option<f64> {
    let (here, there) = station.place.zip(other.place)?;
    Some(Way::between(here, there).metres / 1000.0)
}

/// The nearest channel of a quantity at another station; stations of which no place is known come last, by their names.
pub(super) fn nearest<'e>(station: &'e StationContext<'_>, quantity: Quantity) -> Option<&'e Elsewhere<'e>> {
    station.elsewhere.iter().filter(|e| e.channel.quantity == quantity).min_by(|a, b| {
        let km = |e| apart_km(station, e).unwrap_or(f64::INFINITY);
        km(a).total_cmp(&km(b)).then_with(|| a.station.cmp(b.station))
    })
}

/// The gauges of the nearest other station that has any, and its name.
fn nearest_gauges<'e>(station: &'e StationContext<'_>) -> Option<(&'e str, Vec<&'e Channel<'e>>)> {
    let near = nearest(station, Quantity::Rain).filter(|e| apart_km(station, e).is_none_or(|km| km <= NEAR_KM))?;
    let gauges = station.elsewhere.iter().filter(|e| e.channel.quantity == Quantity::Rain && e.station == near.station);
    Some((near.station, gauges.map(|e| &e.channel).collect()))
}

/// Whether any gauge tells of rain at a station: its own, or the nearest one within 5 km.
pub(super) fn has_gauge(station: &StationContext<'_>) -> bool {
    station.channels.iter().any(|c| c.quantity == Quantity::Rain) || nearest_gauges(station).is_some()
}

impl Water {
    /// What is known of water at a station. Where it has no gauge of its own, that of the nearest station within 5 km tells of rain.
    pub fn at(station: &StationContext<'_>) -> Self {
        let own = station.channels.iter().any(|c| c.quantity == Quantity::Rain);
        match nearest_gauges(station).filter(|_| !own) {
            None => Self::of(station.channels.iter(), station.events),
            Some((name, gauges)) => Self {
                borrowed: format!(" (the gauge of {name})"),
                ..Self::of(station.channels.iter().chain(gauges), station.events)
            },
        }
    }

    /// "31.5 mm of rain", "no gauge tells of rain".
    pub fn words(&self, fallen: Fallen) -> String {
        match fallen {
            Fallen::Known(mm) => format!("{mm:.1}\u{a0}mm of rain{}", self.borrowed),
            Fallen::AtLeast(mm) => {
                format!("at least {mm:.1}\u{a0}mm of rain (the gauge was silent for a part){}", self.borrowed)
            }
            Fallen::Unknown => "no gauge to tell of rain".to_owned(),
        }
    }

    /// Takes every gauge of the station, one after the other or side by side (of two at one time the larger sum counts),
    /// every irrigation channel, and the irrigations noted as events.
    fn of<'c>(channels: impl Iterator<Item = &'c Channel<'c>>, events: &[Event]) -> Self {
        let mut fallen: Vec<(i64, f64)> = Vec::new();
        let mut known: Vec<(i64, i64)> = Vec::new();
        let mut irrigation: Vec<(i64, i64)> =
            events.iter().filter(|e| e.kind == EventKind::Irrigation).map(|e| (e.start.0, e.end.0)).collect();
        for channel in channels {
            let (times, values) = (channel.view.times, channel.view.values);
            let interval = channel.due_every();
            let sound = |v: f64| (0.0..MOST_MM).contains(&v);
            let wet = times.iter().zip(values).filter(|(_, mm)| sound(**mm) && **mm > 0.0);
            if channel.quantity == Quantity::Irrigation {
                irrigation.extend(wet.map(|(t, _)| (*t - interval, *t)));
            } else if channel.quantity == Quantity::Rain {
                fallen.extend(wet.map(|(t, mm)| (*t, *mm)));
                // A gauge that never writes a zero writes only when it rains: its silence is dry.
                let by_event = !values.contains(&0.0);
                let silent = if by_event { i64::MAX } else { SILENT_INTERVALS * interval };
                known.extend(stretches(
                    times.iter().zip(values).filter(|(_, v)| sound(**v)).map(|(t, _)| *t),
                    interval,
                    silent,
                ));
            }
        }
        fallen.sort_by(|a, b| a.0.cmp(&b.0).then(b.1.total_cmp(&a.1)));
        fallen.dedup_by_key(|f| f.0);
        let sums = std::iter::once(0.0).chain(fallen.iter().scan(0.0, |sum, f| {
            *sum += f.1;
            Some(*sum)
        }));
        Self {
            sums: sums.collect(),
            times: fallen.iter().map(|f| f.0).collect(),
            known: joined(known),
            irrigation: joined(irrigation),
            borrowed: String::new(),
        }
    }

    /// Water between `from` and `to`, both inclusive.
    pub fn rain(&self, from: i64, to: i64) -> Fallen {
        let start = self.times.partition_point(|t| *t < from);
        let end = self.times.partition_point(|t| *t <= to);
        let mm = (self.sums[end.max(start)] - self.sums[start]).max(0.0);
        let first = self.known.partition_point(|s| s.1 < from);
        match self.known.get(first) {
            Some(s) if s.0 <= from && s.1 >= to => Fallen::Known(mm),
            Some(s) if s.0 <= to => Fallen::AtLeast(mm),
            _ => Fallen::Unknown,
        }
    }

    /// Whether water was given between `from` and `to`, both inclusive.
    pub fn watered(&self, from: i64, to: i64) -> bool {
        let first = self.irrigation.partition_point(|given| given.1 < from);
        self.irrigation.get(first).is_some_and(|given| given.0 <= to)
    }

    /// Whether any gauge tells anything.
    pub fn tells(&self) -> bool {
        !self.known.is_empty()
    }

    /// Rains of at least `least_mm`; a pause of less than six hours is a part of one.
    pub fn storms(&self, least_mm: f64) -> Vec<Storm> {
        const PAUSE: i64 = 6 * 3600;
        let mut storms: Vec<Storm> = Vec::new();
        for (i, t) in self.times.iter().enumerate() {
            let mm = self.sums[i + 1] - self.sums[i];
            match storms.last_mut() {
                Some(s) if t - s.to <= PAUSE => (s.to, s.mm) = (*t, s.mm + mm),
                _ => storms.push(Storm { from: *t, to: *t, mm }),
            }
        }
        storms.retain(|s| s.mm >= least_mm);
        storms
    }

    /// How long before `t` it was dry, as far as a gauge tells and nothing was given; `None` where none tells.
    pub fn dry_before(&self, t: i64) -> Option<i64> {
        let told = self.known.partition_point(|s| s.1 < t);
        let begins = self.known.get(told).filter(|s| s.0 <= t).map(|s| s.0)?;
        let before = self.times.partition_point(|time| *time <= t);
        let rained = before.checked_sub(1).map_or(begins, |i| self.times[i].max(begins));
        let begun = self.irrigation.partition_point(|given| given.0 <= t);
        let given = begun.checked_sub(1).map(|i| self.irrigation[i].1.min(t));
        Some(t - given.map_or(rained, |g| g.max(rained)))
    }

    /// Words for how dry it was before `t`, for the end of a sentence.
    pub fn dryness(&self, t: i64) -> String {
        let before = self.times.partition_point(|time| *time <= t);
        let told = self.known.partition_point(|s| s.1 < t);
        let begins = self.known.get(told).filter(|s| s.0 <= t).map(|s| s.0);
        match (begins, before.checked_sub(1).map(|i| self.times[i])) {
            (None, _) => "no gauge tells of rain".to_owned(),
            (Some(begins), Some(last)) if last >= begins => {
                format!("no rain for {}{}", SpanSeconds(t - last).in_words(), self.borrowed)
            }
            (Some(begins), _) => {
                format!("no rain since the gauge began {} before{}", SpanSeconds(t - begins).in_words(), self.borrowed)
            }
        }
    }

    /// Whether water that came before `t`, `needed_mm` of it, may be arriving at `depth_cm` just then. A front needs time: six hours
    /// and 45 minutes for each centimetre are granted, which is slow even for a clay.
    pub fn may_arrive(&self, t: i64, depth_cm: f64, needed_mm: f64) -> bool {
        let from = t - front_takes(depth_cm);
        // A gauge's reading closes its interval, so the rain may be booked up to an hour after the probe saw it.
        let to = t + 3600;
        self.rain(from, to).mm() >= needed_mm || self.watered(from, to)
    }
}

/// Stretches without a silence longer than `silent`; each begins an interval before its first reading.
fn stretches(times: impl Iterator<Item = i64>, interval: i64, silent: i64) -> Vec<(i64, i64)> {
    let mut found: Vec<(i64, i64)> = Vec::new();
    for t in times {
        match found.last_mut() {
            Some((_, end)) if t.saturating_sub(*end) <= silent => *end = t,
            _ => found.push((t - interval, t)),
        }
    }
    // A front's rain may be booked an interval late, and the last reading still speaks for that long.
    found.iter_mut().for_each(|s| s.1 += interval.max(3600));
    found
}

/// Overlapping stretches made one, in order.
fn joined(mut stretches: Vec<(i64, i64)>) -> Vec<(i64, i64)> {
    stretches.sort_unstable();
    let mut found: Vec<(i64, i64)> = Vec::new();
    for (start, end) in stretches {
        match found.last_mut() {
            Some((_, last)) if start <= *last => *last = (*last).max(end),
            _ => found.push((start, end)),
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::super::Place;
    use super::super::testing::{channel, series};
    use super::*;
    use crate::series::Series;
    use crate::units::UnixSeconds;

    fn gauge(s: &Series, quantity: Quantity) -> Channel<'_> {
        Channel { quantity, depth_cm: None, ..channel(s) }
    }

    fn water(channels: &[Channel<'_>], events: &[Event]) -> Water {
        Water::at(&StationContext::alone(channels, events))
    }

    #[test]
    fn a_station_without_a_gauge_borrows_the_nearest_and_says_so() {
        let rain = |mm| series(100, move |i| if i == 50 { mm } else { 0.0 });
        let (near, nearer, far) = (rain(4.0), rain(6.0), rain(9.0));
        let at = |latitude| Some(Place { latitude, longitude: -3.2 });
        let of = |station, place, s| Elsewhere { station, place, channel: gauge(s, Quantity::Rain) };
        let all = [of("near", at(46.91), &near), of("nearer", at(46.901), &nearer), of("far", at(47.0), &far)];
        let soil = series(100, |_| 0.3);
        let here = |channels, place, elsewhere| Water::at(&StationContext { channels, events: &[], place, elsewhere });
        let bare = [channel(&soil)];
        let borrowed = here(&bare, at(46.9), &all);
        assert_eq!(borrowed.words(borrowed.rain(0, 90 * 900)), "6.0\u{a0}mm of rain (the gauge of nearer)");
        assert_eq!(borrowed.dryness(60 * 900), "no rain for 2.5 h (the gauge of nearer)");
        assert_eq!(here(&bare, at(46.9), &all[2..]).rain(0, 90 * 900), Fallen::Unknown, "11 km are too far");
        assert_eq!(here(&bare, None, &all).rain(0, 90 * 900), Fallen::Known(9.0), "by name, where no place is known");
        let own = [channel(&soil), gauge(&near, Quantity::Rain)];
        let own = here(&own, at(46.9), &all);
        assert_eq!(own.words(own.rain(0, 90 * 900)), "4.0\u{a0}mm of rain", "its own comes first");
    }

    #[test]
    fn an_exchanged_gauge_goes_on_and_the_time_between_is_not_known() {
        let first = series(100, |i| if i == 50 { 4.0 } else { 0.0 });
        let mut second = series(100, |i| if i == 50 { 6.0 } else { 0.0 });
        second.times = second.times.iter().map(|t| t + 500 * 900).collect();
        let water = water(&[gauge(&first, Quantity::Rain), gauge(&second, Quantity::Rain)], &[]);
        assert_eq!(water.rain(0, 90 * 900), Fallen::Known(4.0));
        assert_eq!(water.rain(510 * 900, 590 * 900), Fallen::Known(6.0));
        assert_eq!(water.rain(0, 560 * 900), Fallen::AtLeast(10.0));
        assert_eq!(water.rain(200 * 900, 300 * 900), Fallen::Unknown);
        assert!(water.may_arrive(551 * 900, 5.0, 0.5) && !water.may_arrive(300 * 900, 5.0, 0.5));
        assert_eq!(water.dryness(300 * 900), "no gauge tells of rain");
        assert_eq!(water.dryness(60 * 900), "no rain for 2.5 h");
    }

    #[test]
    fn without_a_gauge_nothing_is_known_and_irrigation_counts() {
        let drip = series(100, |i| if i == 50 { 2.0 } else { 0.0 });
        let event = Event { kind: EventKind::Irrigation, start: UnixSeconds(80 * 900), end: UnixSeconds(82 * 900) };
        let water = water(&[gauge(&drip, Quantity::Irrigation)], &[event]);
        assert_eq!(water.rain(0, 90_000), Fallen::Unknown);
        assert!(
            water.may_arrive(52 * 900, 5.0, 0.5)
                && water.may_arrive(83 * 900, 5.0, 0.5)
                && !water.may_arrive(20 * 900, 5.0, 0.5)
        );
    }

    #[test]
    fn a_gauge_that_writes_only_tips_is_dry_between_them_and_an_absurd_sum_is_no_rain() {
        let tips = Series { times: vec![0, 90_000, 500_000].into(), values: vec![0.2, 0.2, 0.2] };
        assert_eq!(water(&[gauge(&tips, Quantity::Rain)], &[]).rain(100_000, 400_000), Fallen::Known(0.0));
        let broken = series(100, |i| if i == 50 { 9999.0 } else { 0.0 });
        assert_eq!(water(&[gauge(&broken, Quantity::Rain)], &[]).rain(0, 90_000), Fallen::Known(0.0));
    }
}
