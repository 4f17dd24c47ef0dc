//! Air temperature that runs warm only in the sun.

use super::context::written;
use super::definition::settings;
use super::scene::Scene;
use super::screened::runs;
use super::water::nearest;
use super::{Definition, Evidence, Flag, SunlitEvidence};
use crate::series::Hours;
use crate::statistics::{mad_sigma, median};
use crate::sun::{SunTimes, sun_times};
use crate::units::{Grade, Quantity, SpanSeconds};

settings!(
    /// When air is sunlit.
    SunlitSettings {
        /// By day it is warmer than the other thermometer by so much more than by night.
        excess: 0.7 in 0.1..=30.0 "K",
        /// The same where the other thermometer stands at another station.
        excess_elsewhere: 1.5 in 0.1..=30.0 "K",
        /// On so many days.
        days: 8.0 in 1.0..=366.0 "d",
        /// And on this share of the days that can be judged.
        share: 0.15 in 0.0..=1.0 "",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Sunlit air",
    mark: "Su",
    grade: Grade::Doubtful,
    finds: "An air thermometer that is warmer than another one by day and not by night, on many days: the sun shines on it, its shield is \
            missing or stands still air. A bare thermometer is one by nature, which is a condition.",
    settings: SunlitSettings::LIST,
};

/// Excess of one day.
struct Day {
    from: i64,
    to: i64,
    excess: f64,
}

/// Days on which a thermometer runs warm in the sun: its median difference to another one while the sun stands well above the horizon, less
/// that of the night before.
pub(super) fn sunlit(scene: &Scene<'_>, own: &SunlitSettings) -> Vec<Flag> {
    let of = scene.of.channel;
    let bare = of.quantity == Quantity::BareAirTemperature;
    if !bare && of.quantity != Quantity::AirTemperature {
        return Vec::new();
    }
    let here =
        scene.all.iter().find(|s| s.channel.quantity == Quantity::AirTemperature && !std::ptr::eq(s.channel, of));
    let elsewhere = nearest(scene.station, Quantity::AirTemperature);
    let (other, name, least) = match (here, elsewhere) {
        (Some(s), _) => (std::borrow::Cow::Borrowed(s.hours()), s.channel.name.to_owned(), own.excess),
        (None, Some(e)) => (
            std::borrow::Cow::Owned(Hours::of(e.channel.view)),
            format!("{} at {}", e.channel.name, e.station),
            own.excess_elsewhere,
        ),
        (None, None) => return Vec::new(),
    };
    let days = days(scene, &other);
    let warm = |d: &Day| d.excess > least;
    let many = days.iter().filter(|d| warm(d)).count();
    if (many as f64) < own.days || (many as f64) < own.share * days.len() as f64 {
        return Vec::new();
    }
    let mut excesses: Vec<f64> = days.iter().filter(|d| warm(d)).map(|d| d.excess).collect();
    let excess = median(&mut excesses).unwrap_or(0.0);
    let grade = if bare { Grade::Condition } else { DEFINITION.grade };
    let tell = |(a, b): (usize, usize)| {
        let view = scene.of.between(days[a].from, days[b].to);
        let (start, end) = view.times.first().zip(view.times.last())?;
        let reason = format!(
            "By day {} warmer than {name}, night differences taken off, on {many} of {} days{}.",
            written(Quantity::AirTemperature, excess).replace("°C", "K"),
            days.len(),
            if bare { ": it has no shield" } else { ": the sun shines on it" },
        );
        let evidence = Evidence::SunlitAir(SunlitEvidence { excess_k: excess.into(), days: many.into() });
        let n = view.times.len();
        Some(Flag::new(grade, (*start, *end), n, excess, evidence, reason))
    };
    // A bare thermometer is so all the time; of a shielded one each day is told, for it is only wrong by day.
    let bridge = if bare { 20 } else { 0 };
    let spans = runs(days.len(), bridge, |i| warm(&days[i]));
    if bare {
        return spans.into_iter().filter_map(tell).collect();
    }
    (0..days.len()).filter(|i| warm(&days[*i])).filter_map(|i| tell((i, i))).collect()
}

fn days(scene: &Scene<'_>, other: &Hours) -> Vec<Day> {
    let own = scene.of.hours();
    let range = own.days().start.max(other.days().start)..own.days().end.min(other.days().end);
    let mut buffer = Vec::with_capacity(24);
    let mut differences = |from: i64, to: i64| {
        buffer.clear();
        buffer.extend((from..to).map(|h| own.at(h) - other.at(h)).filter(|d| d.is_finite()));
        let n = buffer.len();
        let middle = median(&mut buffer)?;
        let spread = mad_sigma(&mut buffer)?;
        (n >= 4).then_some((middle, spread))
    };
    range
        .filter_map(|day| {
            let (rise, set) = sun(scene, other, day)?;
            // An hour and a half after it rose the sun has strength; two hours after it set its warmth is gone.
            let (from, to) = ((rise + 5400).div_euclid(3600), (set - 5400).div_euclid(3600));
            let by_day = differences(from, to)?;
            let by_night = differences((rise - 7 * 3600).div_euclid(3600), (rise - 1800).div_euclid(3600))?;
            let excess = by_day.0 - by_night.0;
            Some(Day { from: from * 3600, to: to * 3600, excess: if excess > 3.0 * by_night.1 { excess } else { 0.0 } })
        })
        .collect()
}

/// When the sun rose and set on a day; where the place is not known, five hours around the warmest hour of the other thermometer.
fn sun(scene: &Scene<'_>, other: &Hours, day: i64) -> Option<(i64, i64)> {
    let midnight = day * SpanSeconds::DAY.0;
    if let Some(place) = scene.station.place {
        let SunTimes::Rises { sunrise, sunset } = sun_times(place.latitude, place.longitude, midnight) else {
            return None;
        };
        let (rise, set) = (midnight + (sunrise * 60.0) as i64, midnight + (sunset * 60.0) as i64);
        return Some((rise, if set < rise { set + SpanSeconds::DAY.0 } else { set }));
    }
    let warmest = (day * 24..day * 24 + 24)
        .filter(|h| other.at(*h).is_finite())
        .max_by(|a, b| other.at(*a).total_cmp(&other.at(*b)))?;
    Some(((warmest - 6) * 3600, (warmest + 4) * 3600))
}
