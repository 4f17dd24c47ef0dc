//! The made-up world, one quarter of an hour after the other: for as long as somebody asks.

use crate::beside::{Beside, Station};
use crate::probes::Readings;
use crate::scenario::Scenario;
use crate::soil::Soil;
use crate::weather::Weather;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;

/// What all stations read at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct Step {
    /// Seconds of UTC.
    pub t: i64,
    /// Rain of the interval that ends now, mm.
    pub rain_mm: f64,
    /// Of the scenario's own station and of each beside it: values of its ports, in their order.
    pub values: Vec<Vec<f64>>,
}

/// Weather, the scenario's station, and others beside it under the same weather.
pub struct World {
    scenario: Scenario,
    pub(crate) rng: ChaCha8Rng,
    weather: Weather,
    soil: Soil,
    first: Readings,
    stations: Vec<Station>,
    /// The next moment.
    t: i64,
    /// Rain that somebody let fall, mm per step, and for how many more.
    poured: (f64, u32),
}

impl World {
    /// The world at the scenario's start.
    #[must_use]
    pub fn new(scenario: &Scenario, seed: u64, others: &[Beside]) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let weather = Weather::new(&mut rng, scenario.season);
        let mut world = Self {
            rng,
            weather,
            soil: Soil::new(&scenario.horizons),
            first: Readings::new(scenario),
            stations: others.iter().map(|o| Station::new(o, scenario, seed)).collect(),
            // A year of running in lets the profile forget how it was begun.
            t: scenario.start - 365 * 86_400,
            poured: (0.0, 0),
            scenario: scenario.clone(),
        };
        while world.t < world.scenario.start {
            world.weather_and_soil();
        }
        world
    }

    /// Ports of a scenario's own station, in the order of their values.
    #[must_use]
    pub fn ports_of(scenario: &Scenario) -> Vec<&'static str> {
        Readings::new(scenario).ports()
    }

    /// Lets so much rain fall from now on, evenly over some steps, mm.
    pub fn pour(&mut self, mm: f64, steps: u32) {
        self.poured = (mm / f64::from(steps.max(1)), steps.max(1));
    }

    /// The next step, unless it lies after `end`.
    pub fn until(&mut self, end: i64) -> Option<Step> {
        (self.t <= end).then(|| self.step())
    }

    /// The next quarter of an hour.
    pub fn step(&mut self) -> Step {
        let t = self.t;
        let now = self.weather_and_soil();
        // The first station's noise and the weather draw from one stream of chance: it must draw for others, too.
        let mut values = vec![self.first.measure(&now, &self.soil, &mut self.rng)];
        values.extend(self.stations.iter_mut().map(|s| s.measure(&now)));
        Step { t, rain_mm: now.rain_mm, values }
    }

    fn weather_and_soil(&mut self) -> crate::weather::Now {
        let mut now = self.weather.step(self.t, &mut self.rng);
        if self.poured.1 > 0 {
            self.poured.1 -= 1;
            now.rain_mm = crate::rounding::to_step(now.rain_mm + self.poured.0, 0.2);
        }
        self.soil.step(&now, self.t, self.scenario.canopy_removed);
        for station in &mut self.stations {
            station.step(&now, self.t);
        }
        self.t += self.scenario.interval;
        now
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ostrelle_cut_coupe;

    #[test]
    fn rain_that_is_poured_falls_once_and_wets_the_soil() {
        let scenario = ostrelle_cut_coupe();
        let after = |pour: bool| {
            let mut world = World::new(&scenario, 7, &[]);
            if pour {
                world.pour(24.0, 4);
            }
            let steps: Vec<Step> = (0..40).map(|_| world.step()).collect();
            assert!(steps.windows(2).all(|w| w[1].t - w[0].t == 900) && steps[0].t == scenario.start);
            (steps.iter().map(|s| s.rain_mm).sum::<f64>(), steps[39].values[0][0])
        };
        let (dry, wet) = (after(false), after(true));
        assert!((wet.0 - dry.0 - 24.0).abs() < 1e-9, "{wet:?} {dry:?}");
        assert!(wet.1 > dry.1 + 10.0, "the probe at 5 cm, mV: {wet:?} {dry:?}");
    }
}
