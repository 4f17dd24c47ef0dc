//! Drawings of one measure against another that convince of a finding: water content against warmth, waves by depth, sun.

use super::evidence::{Line, beside_it};
use crate::components::trace::{Axes, Cloud, Point, cloud};
use ebrel_app::record::{ChannelRecord, StationRecord};
use ebrel_core::quality::Evidence;
use ebrel_core::series::{MeanWave, View, day_by_day, mean_wave};
use ebrel_core::sun::sun_height;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use ebrel_store::flags::StoredFlag;
use std::collections::HashMap;

/// The longest stretch in the middle of a finding that is looked at, days.
const LONGEST: i64 = 60;

/// The drawings of a finding, each with what it shows.
pub fn clouds(record: &StationRecord, own: &ChannelRecord, flag: &StoredFlag) -> Vec<(String, Cloud)> {
    let (start, end) = (flag.flag.start.0, flag.flag.end.0);
    let (middle, half) = (start.midpoint(end), LONGEST * SpanSeconds::DAY.0 / 2);
    // One day alone tells no wave.
    let least = 4 * SpanSeconds::DAY.0;
    let span = (start.max(middle - half).min(middle - least), end.min(middle + half).max(middle + least));
    let found = match flag.flag.evidence {
        Evidence::DailyWiggle(e) => vec![wiggle(record, own, span, e.per_k.get())],
        Evidence::HeatMisorder(_) => by_depth(record, own, span),
        Evidence::SunlitAir(_) => vec![sun(record, own, span)],
        _ => Vec::new(),
    };
    found.into_iter().flatten().collect()
}

/// Times and values of a channel in a span, as shown.
fn part(c: &ChannelRecord, (from, to): (i64, i64)) -> (Vec<i64>, Vec<f64>) {
    let line = Line::of(c, (UnixSeconds(from), UnixSeconds(to)));
    (line.times, line.values)
}

/// Water content against the probe's own warmth, hour by hour, each less the mean of its day.
fn wiggle(record: &StationRecord, own: &ChannelRecord, span: (i64, i64), per_k: f64) -> Option<(String, Cloud)> {
    let heat = beside_it(record, own, |c| c.quantity() == Quantity::SoilTemperature)?;
    let (water, warm) = (part(own, span), part(heat, span));
    let warm: HashMap<i64, f64> = day_by_day(View { times: &warm.0, values: &warm.1 }).into_iter().collect();
    let water = day_by_day(View { times: &water.0, values: &water.1 });
    let points = water.into_iter().filter_map(|(t, v)| Some(Point::plain(*warm.get(&t)?, v))).collect();
    let axes = Axes {
        x: "soil temperature less its day, K".into(),
        y: "water content less its day, m³/m³".into(),
        down: false,
        line: Some((0.0, per_k)),
        words: format!("Water content against soil temperature, hour by hour: {per_k} m³/m³ for each kelvin."),
    };
    Some(("Hour by hour: water content follows warmth".to_owned(), cloud(points, axes)?))
}

/// The wave of one thermometer.
struct Wave {
    depth_cm: f64,
    name: String,
    own: bool,
    wave: MeanWave,
}

/// Size and lag of the daily wave of every soil thermometer by its depth: the deeper, the smaller and later.
fn by_depth(record: &StationRecord, own: &ChannelRecord, span: (i64, i64)) -> Vec<Option<(String, Cloud)>> {
    let warm = record.channels.iter().filter(|c| c.quantity() == Quantity::SoilTemperature);
    let mut waves: Vec<Wave> = warm
        .filter_map(|c| {
            let (times, values) = part(c, span);
            let wave = mean_wave(View { times: &times, values: &values })?;
            // The finding may be told of what else the port carries.
            let (here, there) = (&c.channel.stream, &own.channel.stream);
            let own = here.node_id == there.node_id && here.port == there.port;
            Some(Wave { depth_cm: c.channel.placement.depth_cm?, name: c.channel.label(), own, wave })
        })
        .collect();
    waves.sort_by(|a, b| a.depth_cm.total_cmp(&b.depth_cm));
    let Some(first) = waves.first().map(|w| w.wave.peak) else { return Vec::new() };
    let drawn = |title: &str, unit: &str, of: &dyn Fn(&MeanWave) -> f64| {
        let point = |w: &Wave| Point { x: of(&w.wave), y: w.depth_cm, name: w.name.clone(), own: w.own };
        let (x, y, words) = (unit.to_owned(), "depth, cm".to_owned(), title.to_owned());
        let axes = Axes { x, y, down: true, line: None, words };
        Some((title.to_owned(), cloud(waves.iter().map(point).collect(), axes)?))
    };
    vec![
        drawn("Size of the daily wave by depth: smaller with each step down", "half range, K", &|w| w.amplitude),
        drawn("Its lag behind the shallowest: later with each step down", "hours", &|w| {
            (w.peak - first + 6.0).rem_euclid(24.0) - 6.0
        }),
    ]
}

/// How much warmer than the other air thermometer, against the height of the sun.
fn sun(record: &StationRecord, own: &ChannelRecord, span: (i64, i64)) -> Option<(String, Cloud)> {
    let place = record.place()?;
    let other = record.channels.iter().find(|c| c.quantity() == Quantity::AirTemperature && !std::ptr::eq(*c, own))?;
    let (here, there) = (part(own, span), part(other, span));
    let there: HashMap<i64, f64> = there.0.into_iter().zip(there.1).collect();
    let points =
        here.0.iter().zip(&here.1).filter_map(|(t, v)| {
            Some(Point::plain(sun_height(place.latitude, place.longitude, *t), v - there.get(t)?))
        });
    let axes = Axes {
        x: "height of the sun, degrees".into(),
        y: format!("warmer than {}, K", other.channel.label()),
        down: false,
        line: None,
        words: "Difference of two air thermometers against the height of the sun.".into(),
    };
    Some(("Warmer the higher the sun stands".to_owned(), cloud(points.collect(), axes)?))
}
