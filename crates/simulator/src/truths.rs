//! Soils, pairs and responses whose truth is known, to hold findings against.

use crate::bench::BenchRun;
use crate::probes::blade_output_mv;
use crate::rounding::to_step;
use crate::soil::Soil;
use crate::weather::{Now, Weather};
use crate::years::{Climate, Ground, INTERVAL};
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

const DAY: i64 = 86_400;
/// Dry density and volume of the cores of calibrations.
const DENSITY: f64 = 1.35;
const VOLUME_CM3: f64 = 50.0;

/// What is made.
#[derive(Debug, Clone)]
pub struct SoilPlan {
    /// The same seed gives the same soil, bit for bit.
    pub seed: u64,
    /// Its weather.
    pub climate: Climate,
    /// Its soil.
    pub ground: Ground,
    /// Depths of probes of water and of warmth, cm, rising.
    pub depths: Vec<f64>,
    /// Days from 1 March on.
    pub days: i64,
}

/// A probe with the samples of its calibration.
#[derive(Debug, Clone)]
pub struct TrueProbe {
    /// What it puts out, mV.
    pub raw: Vec<f64>,
    /// Its samples: mV and content.
    pub samples: Vec<(f64, f64)>,
    /// What the soil held, m³/m³.
    pub theta: Vec<f64>,
    /// Temperature as a thermometer tells it, °C.
    pub celsius: Vec<f64>,
    /// Content that stays from 24 to 48 h after a big rain on a drained profile, without anything that drinks, m³/m³.
    pub capacity: f64,
}

/// A soil through a year.
#[derive(Debug, Clone)]
pub struct TrueSoil {
    /// First moment.
    pub start: i64,
    /// Rain in the interval before each time, mm.
    pub rain: Vec<f64>,
    /// One a depth.
    pub probes: Vec<TrueProbe>,
    /// Liquid water down to the deepest probe, mm.
    pub stored_mm: Vec<f64>,
    /// Whether there is ice anywhere down to there.
    pub frozen: Vec<bool>,
    /// Thermal diffusivity of the soil between each two neighbouring depths, m²/s.
    pub kappa: Vec<Vec<f64>>,
}

/// Makes a soil.
#[must_use]
pub fn soil(plan: &SoilPlan) -> TrueSoil {
    let mut rng = ChaCha8Rng::seed_from_u64(plan.seed);
    let start = 1_425_168_000 + (plan.seed % 7) as i64 * 365 * DAY;
    let (season, horizons) = (plan.climate.season(), plan.ground.horizons());
    let new = || Soil::new(&horizons).in_climate(season.mean_c);
    let (mut soil, mut weather) = (new(), Weather::new(&mut rng, season));
    let open = if rng.random_bool(0.5) { i64::MIN } else { i64::MAX };
    let mut t = start - 365 * DAY;
    while t < start {
        soil.step(&weather.step(t, &mut rng), t, open);
        t += INTERVAL;
    }
    let capacity = drained(new(), &plan.depths, season.mean_c);
    let serial = |k: usize| (plan.seed as u32).wrapping_mul(31).wrapping_add(k as u32 * 7919) % 9000;
    let pores = |depth: f64| horizons.iter().find(|h| depth < h.span_cm.1).map_or(0.45, |h| h.pore_space);
    let probe = |(k, depth): (usize, &f64)| {
        let thetas: Vec<f64> = (0..7).map(|i| 0.05 + (pores(*depth) - 0.07) * f64::from(i) / 6.0).collect();
        let (serial, density, volume_cm3) = (serial(k), DENSITY, VOLUME_CM3);
        let run = BenchRun { serial, density, volume_cm3, thetas: &thetas, outlier: None, packing_drift: 0.0 };
        let samples = run.samples().iter().map(|s| (s.raw_mv, (s.wet_g - s.dry_g) / VOLUME_CM3)).collect();
        TrueProbe { raw: Vec::new(), samples, theta: Vec::new(), celsius: Vec::new(), capacity: capacity[k] }
    };
    let mut made = TrueSoil {
        start,
        rain: Vec::new(),
        probes: plan.depths.iter().enumerate().map(probe).collect(),
        stored_mm: Vec::new(),
        frozen: Vec::new(),
        kappa: vec![Vec::new(); plan.depths.len().saturating_sub(1)],
    };
    let deepest = plan.depths.last().copied().unwrap_or_default();
    while t < start + plan.days * DAY {
        let now = weather.step(t, &mut rng);
        soil.step(&now, t, open);
        made.rain.push(now.rain_mm);
        made.stored_mm.push(soil.stored_mm(deepest));
        made.frozen.push(soil.has_ice(deepest));
        for (k, of) in made.probes.iter_mut().enumerate() {
            let depth = plan.depths[k];
            let theta = soil.liquid(depth);
            of.theta.push(theta);
            let noise: f64 = StandardNormal.sample(&mut rng);
            of.raw.push(to_step(blade_output_mv(serial(k), theta) + 0.8 * noise, 0.1));
            let noise: f64 = StandardNormal.sample(&mut rng);
            of.celsius.push(to_step(soil.temperature(depth) + 0.02 * noise, 0.01));
        }
        for (pair, kappa) in plan.depths.windows(2).zip(&mut made.kappa) {
            kappa.push(soil.diffusivity(pair[0], pair[1]));
        }
        t += INTERVAL;
    }
    made
}

/// Contents at some depths, mean from 24 to 48 h after 60 mm of rain in eight hours on a profile that was full and drained for fifteen days,
/// under a sky that takes nothing.
fn drained(mut soil: Soil, depths: &[f64], mean_c: f64) -> Vec<f64> {
    const DRAINS: i64 = 15 * 96;
    const RAINS: i64 = 32;
    soil.fill();
    let mut sums = vec![0.0; depths.len()];
    for step in 0..DRAINS + RAINS + 192 {
        let rain_mm = if (DRAINS..DRAINS + RAINS).contains(&step) { 60.0 / RAINS as f64 } else { 0.0 };
        soil.step(&Now { air_c: mean_c.max(4.0), sun: 0.0, rain_mm }, step * INTERVAL, i64::MAX);
        if step >= DRAINS + RAINS + 96 {
            sums.iter_mut().zip(depths).for_each(|(s, d)| *s += soil.liquid(*d) / 96.0);
        }
    }
    sums
}

/// Daily differences of two places that truly differ by the second value: one day keeps a share of what the day before was off, as weather
/// does, and the year swings.
#[must_use]
pub fn pair(seed: u64, days: usize, keeps: f64) -> (Vec<f64>, f64) {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0x9a17);
    let truth = rng.random_range(-1.5..1.5);
    let mut off: f64 = StandardNormal.sample(&mut rng);
    let differences = (0..days).map(|_| {
        let fresh: f64 = StandardNormal.sample(&mut rng);
        off = keeps * off + (1.0 - keeps * keeps).sqrt() * fresh;
        truth + 0.6 * off
    });
    (differences.collect(), truth)
}

/// A response of plants: content, growth and which plant; and where it truly breaks.
pub type Response = (Vec<(f64, f64, usize)>, f64);

/// Twelve plants, thirty weeks: growth rises with content up to the break, and is level above it. Each plant has its own vigour.
#[must_use]
pub fn response(seed: u64) -> Response {
    let mut rng = ChaCha8Rng::seed_from_u64(seed ^ 0xfe2d);
    let breaks = rng.random_range(0.12..0.26);
    let normal = |rng: &mut ChaCha8Rng| -> f64 { StandardNormal.sample(rng) };
    let mut points = Vec::new();
    for plant in 0..12 {
        let vigour = 1.0 + 0.06 * normal(&mut rng);
        for week in 0..30 {
            let wet = 0.38 - 0.012 * f64::from(week) * if plant < 6 { 0.4 } else { 1.0 };
            let theta = (wet + 0.02 * normal(&mut rng)).clamp(0.03, 0.45);
            let growth = 2.4 * vigour * (1.0 - ((breaks - theta) / 0.18).max(0.0)) + 0.25 * normal(&mut rng);
            points.push((theta, growth, plant));
        }
    }
    (points, breaks)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_soil_is_made_with_its_truth_and_the_same_again() {
        let plan = SoilPlan {
            seed: 3,
            climate: Climate::Mild,
            ground: Ground::SiltLoam,
            depths: vec![5.0, 20.0, 50.0],
            days: 40,
        };
        let of = soil(&plan);
        assert_eq!((of.rain.len(), of.probes.len(), of.kappa.len(), of.stored_mm.len()), (40 * 96, 3, 2, 40 * 96));
        assert!(of.stored_mm.iter().all(|mm| (20.0..245.0).contains(mm)));
        assert!(of.kappa.iter().flatten().all(|k| (1e-7..1.2e-6).contains(k)));
        assert!(of.probes.iter().all(|p| (0.2..0.49).contains(&p.capacity) && p.samples.len() == 7));
        assert_eq!(of.probes[1].raw, soil(&plan).probes[1].raw);
    }

    #[test]
    fn pairs_and_responses_differ_by_their_seed_and_hold_their_truth_on_the_whole() {
        let (days, truth) = pair(5, 20_000, 0.7);
        let mean = days.iter().sum::<f64>() / days.len() as f64;
        assert!((mean - truth).abs() < 0.08, "{mean} {truth}");
        assert_ne!(pair(6, 10, 0.7).1, truth);
        let (points, breaks) = response(1);
        assert_eq!(points.len(), 360);
        let above = points.iter().filter(|p| p.0 > breaks).map(|p| p.1);
        let (n, sum) = above.fold((0, 0.0), |(n, s), y| (n + 1, s + y));
        assert!((sum / f64::from(n) - 2.4).abs() < 0.2);
    }
}
