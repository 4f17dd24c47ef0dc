//! Made-up years with known faults: five climates on five soils, to measure the tests of quality on, and for people to practise with.
//!
//! [`year`] gives the readings of one station through one year, as a node would have stored them, and the [`Truth`] of everything that was
//! done to them. The same plan gives the same year. Probes wander, lag and feel temperature a little, as real ones do.

mod exercise;
mod ground;
mod harm;
mod kinds;
mod scoring;

pub use exercise::{Exercise, Level};
pub use ground::{Climate, Ground};
pub use kinds::{Kind, Severity};

use crate::rounding::to_step;
use crate::soil::Soil;
use crate::weather::{Now, Weather};
use ebrel_core::units::Quantity;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// Seconds between records.
pub const INTERVAL: i64 = 900;
/// Seconds of a day.
const DAY: i64 = 86_400;

/// What a year is to be.
#[derive(Debug, Clone, PartialEq)]
pub struct YearPlan {
    /// Decides all chance in it.
    pub seed: u64,
    /// The weather.
    pub climate: Climate,
    /// The soil.
    pub ground: Ground,
    /// Whether the station has a rain gauge.
    pub gauge: bool,
    /// Days of the record.
    pub days: i64,
    /// The faults, each with how plain it is.
    pub faults: Vec<(Kind, Severity)>,
}

/// One channel of the year.
#[derive(Debug, Clone, PartialEq)]
pub struct YearChannel {
    /// "5 cm", "air".
    pub name: String,
    /// Port of the node.
    pub port: String,
    /// What it measures.
    pub quantity: Quantity,
    /// Depth, if it lies in the soil, as it is noted.
    pub depth_cm: Option<f64>,
    /// Step of its values.
    pub resolution: f64,
    /// Range of the instrument.
    pub range: (f64, f64),
    /// Pore space where it lies, m³/m³.
    pub pore_space: Option<f64>,
    /// Times, seconds of UTC, rising.
    pub times: Vec<i64>,
    /// Values, one for each time.
    pub values: Vec<f64>,
    /// Readings that came again: time, first and later value.
    pub repeats: Vec<(i64, f64, f64)>,
    /// How its readings arrived: first and last time of each delivery, in that order; empty if all came in order.
    pub delivered: Vec<(i64, i64)>,
}

/// One thing that was done to the year.
#[derive(Debug, Clone, PartialEq)]
pub struct Truth {
    /// What it was.
    pub kind: Kind,
    /// How plain.
    pub severity: Severity,
    /// Where: channel, first and last second.
    pub windows: Vec<(usize, i64, i64)>,
    /// One sentence for people.
    pub words: String,
}

/// A year with its truth.
#[derive(Debug, Clone, PartialEq)]
pub struct Year {
    /// Its soil, from the surface down.
    pub soil: Vec<crate::Horizon>,
    /// First moment.
    pub start: i64,
    /// Last moment.
    pub end: i64,
    /// Latitude and longitude, degrees.
    pub place: (f64, f64),
    /// Visits: first and last second.
    pub visits: Vec<(i64, i64)>,
    /// Its channels.
    pub channels: Vec<YearChannel>,
    /// What was done to them.
    pub truth: Vec<Truth>,
}

/// Depths at which probes lie, cm; the second has a twin.
const DEPTHS: [[f64; 4]; 3] = [[5.0, 15.0, 30.0, 60.0], [10.0, 20.0, 40.0, 80.0], [5.0, 20.0, 50.0, 80.0]];

/// A probe of water content and temperature.
struct Probe {
    depth: f64,
    /// Offset of its calibration, its gain, and how far it wanders, m³/m³.
    offset: f64,
    gain: f64,
    wander: f64,
    noise: f64,
    heat_offset: f64,
}

/// Makes a year.
#[must_use]
pub fn year(plan: &YearPlan) -> Year {
    let mut rng = ChaCha8Rng::seed_from_u64(plan.seed);
    // 1 March of a year between 2015 and 2024.
    let start = 1_425_168_000 + (plan.seed % 10) as i64 * 365 * DAY + rng.random_range(0..300) * DAY;
    let end = start + plan.days * DAY - INTERVAL;
    let horizons = plan.ground.horizons();
    let mut soil = Soil::new(&horizons).in_climate(plan.climate.season().mean_c);
    let mut weather = Weather::new(&mut rng, plan.climate.season());
    let open = if rng.random_bool(0.5) { i64::MIN } else { i64::MAX };
    let mut t = start - 365 * DAY;
    while t < start {
        let now = weather.step(t, &mut rng);
        soil.step(&now, t, open);
        t += INTERVAL;
    }
    let set = DEPTHS[rng.random_range(0..DEPTHS.len())];
    let mut depths = set.to_vec();
    depths.insert(2, set[1]);
    let mut probes: Vec<Probe> = depths.iter().map(|depth| probe(*depth, &mut rng)).collect();
    let water_step = [0.0001, 0.001][rng.random_range(0..2)];
    let heat_step = [0.01, 0.1, 0.0625][rng.random_range(0..3)];
    let mut channels = channels(&depths, &horizons, plan.gauge, (water_step, heat_step));
    let mut health = Health { charge: 1.0, damp: 28.0 };
    while t <= end {
        let now = weather.step(t, &mut rng);
        soil.step(&now, t, open);
        measure(&mut channels, &mut probes, &mut health, (&soil, &now), t, &mut rng);
        t += INTERVAL;
    }
    let visits: Vec<(i64, i64)> = (1..plan.days / 60)
        .map(|k| start + k * 60 * DAY + rng.random_range(-20 * DAY..20 * DAY))
        .map(|at| (at - at % INTERVAL, at - at % INTERVAL + 3600))
        .collect();
    let mut year = Year { soil: horizons, start, end, place: (46.9, -3.2), visits, channels, truth: Vec::new() };
    harm::harm(&mut year, &plan.faults, &mut rng);
    year
}

fn normal(rng: &mut ChaCha8Rng) -> f64 {
    StandardNormal.sample(rng)
}

fn probe(depth: f64, rng: &mut ChaCha8Rng) -> Probe {
    Probe {
        depth,
        offset: 0.008 * normal(rng),
        gain: 1.0 + 0.04 * normal(rng),
        wander: 0.0,
        noise: rng.random_range(3e-4..1.2e-3),
        heat_offset: 0.1 * normal(rng),
    }
}

/// The channels of a station, without readings.
fn channels(
    depths: &[f64],
    horizons: &[crate::Horizon],
    gauge: bool,
    (water_step, heat_step): (f64, f64),
) -> Vec<YearChannel> {
    let mut channels = Vec::new();
    let one = |name: String, port: String, quantity, depth_cm: Option<f64>, resolution, range| YearChannel {
        name,
        port,
        quantity,
        depth_cm,
        resolution,
        range,
        pore_space: None,
        times: Vec::new(),
        values: Vec::new(),
        repeats: Vec::new(),
        delivered: Vec::new(),
    };
    for (i, depth) in depths.iter().enumerate() {
        let twin = if i > 0 && depths[i - 1] == *depth { " b" } else { "" };
        let (name, port) = (format!("{depth}\u{a0}cm{twin}"), format!("P{}", i + 1));
        let pores = horizons.iter().find(|h| *depth < h.span_cm.1).or(horizons.last()).map(|h| h.pore_space);
        let water = one(name.clone(), port.clone(), Quantity::WaterContent, Some(*depth), water_step, (0.0, 0.65));
        channels.push(YearChannel { pore_space: pores, ..water });
        channels.push(one(name, port, Quantity::SoilTemperature, Some(*depth), heat_step, (-40.0, 60.0)));
    }
    channels.push(one("air".into(), "A1".into(), Quantity::AirTemperature, None, 0.1, (-40.0, 60.0)));
    channels.push(one("air b".into(), "A2".into(), Quantity::AirTemperature, None, 0.1, (-40.0, 60.0)));
    if gauge {
        channels.push(one("rain".into(), "R".into(), Quantity::Rain, None, 0.2, (0.0, 60.0)));
    }
    channels.push(one("battery".into(), "V".into(), Quantity::BatteryVoltage, None, 0.01, (0.0, 20.0)));
    channels.push(one("box".into(), "H".into(), Quantity::EnclosureHumidity, None, 0.1, (0.0, 100.0)));
    channels
}

/// The node's own state.
struct Health {
    /// Charge of its lead battery, 0 to 1.
    charge: f64,
    /// Humidity in its box, %.
    damp: f64,
}

fn measure(
    channels: &mut [YearChannel],
    probes: &mut [Probe],
    health: &mut Health,
    (soil, now): (&Soil, &Now),
    t: i64,
    rng: &mut ChaCha8Rng,
) {
    health.charge = (health.charge + 0.004 * now.sun - 0.0006).clamp(0.35, 1.0);
    health.damp += 0.0005 * (30.0 - health.damp) + 0.05 * normal(rng);
    let mut probe = 0;
    for c in channels.iter_mut() {
        let value = match c.quantity {
            Quantity::WaterContent => {
                let p = &mut probes[probe];
                p.wander += -p.wander / 8000.0 + 2e-5 * normal(rng);
                let warm = 1e-4 * (soil.temperature(p.depth) - 15.0);
                p.offset + p.gain * soil.liquid(p.depth) + p.wander + warm + p.noise * normal(rng)
            }
            Quantity::SoilTemperature => {
                let p = &probes[probe];
                probe += 1;
                soil.temperature(p.depth) + p.heat_offset + 0.02 * normal(rng)
            }
            Quantity::AirTemperature => now.air_c + 0.08 * normal(rng) + 0.15 * now.sun,
            Quantity::Rain => now.rain_mm,
            Quantity::BatteryVoltage => 11.9 + 0.7 * health.charge + 0.5 * now.sun + 0.01 * normal(rng),
            _ => health.damp - 0.25 * (now.air_c - 10.0) + 0.3 * normal(rng),
        };
        c.times.push(t);
        c.values.push(to_step(value, c.resolution));
    }
}
