//! What the instruments make of soil and weather: raw outputs with noise and a resolution.

use crate::SimulatedStream;
use crate::rounding::to_step;
use crate::scenario::{MoistureProbe, Scenario};
use crate::soil::Soil;
use crate::weather::Now;
use rand::Rng;
use rand_distr::{Distribution, StandardNormal};

/// The true curve of a blade probe with this serial: coefficients of θ in mV, lowest power first.
///
/// Probes of one batch differ a little; the curve bends upwards, as those of blades in loess do.
#[must_use]
pub fn blade_dielectric_curve(serial: u32) -> [f64; 3] {
    let own = f64::from(serial % 7) - 3.0;
    [-0.1285 + 0.0011 * own, 1.42e-4 + 1.1e-6 * own, 7.6e-8]
}

/// Raw output in mV at water content θ, by the inverse of the true curve.
pub(crate) fn blade_output_mv(serial: u32, theta: f64) -> f64 {
    let [a, b, c] = blade_dielectric_curve(serial);
    (-b + (b * b - 4.0 * c * (a - theta)).max(0.0).sqrt()) / (2.0 * c)
}

pub(crate) struct Readings {
    moisture: Vec<MoistureProbe>,
    thermometers: Vec<(&'static str, f64)>,
    streams: Vec<SimulatedStream>,
    battery_v: f64,
}

impl Readings {
    pub fn new(scenario: &Scenario) -> Self {
        let names = scenario.moisture.iter().map(|p| p.port).chain(scenario.thermometers.iter().map(|t| t.0));
        let streams = names
            .chain(["air", "bare", "rain", "batt"])
            .map(|port| SimulatedStream { port, readings: Vec::new(), repeats: Vec::new() })
            .collect();
        Self {
            moisture: scenario.moisture.clone(),
            thermometers: scenario.thermometers.clone(),
            streams,
            battery_v: 3.9,
        }
    }

    /// What the ports read, in their order.
    pub fn measure(&mut self, now: &Now, soil: &Soil, rng: &mut impl Rng) -> Vec<f64> {
        let mut noise = |sigma: f64| sigma * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, rng);
        let mut values = Vec::with_capacity(self.streams.len());
        for probe in &self.moisture {
            let warm = 0.10 * (soil.temperature(probe.depth_cm) - 20.0);
            let mv = blade_output_mv(probe.serial, soil.liquid(probe.depth_cm)) + warm + noise(0.8);
            values.push(to_step(mv, 0.1));
        }
        for (_, depth) in &self.thermometers {
            values.push(to_step(soil.temperature(*depth) + noise(0.015), 0.01));
        }
        values.push(to_step(now.air_c + noise(0.05), 0.01));
        values.push(to_step(now.air_c + 5.2 * now.sun + noise(0.07), 0.01));
        values.push(now.rain_mm);
        self.battery_v += 0.0021 * now.sun - 0.00042 + 0.002 * (3.75 - self.battery_v);
        self.battery_v = self.battery_v.min(4.15);
        values.push(to_step(self.battery_v + 0.002 * (now.air_c - 10.0) / 10.0 + noise(0.003), 0.01));
        values
    }

    pub fn keep(&mut self, t: i64, values: &[f64]) {
        for (stream, value) in self.streams.iter_mut().zip(values) {
            stream.readings.push((t, *value));
        }
    }

    /// The ports, in the order in which [`Self::measure`] reads them.
    pub fn ports(&self) -> Vec<&'static str> {
        self.streams.iter().map(|s| s.port).collect()
    }

    pub fn stream(&mut self, port: &str) -> Option<&mut SimulatedStream> {
        self.streams.iter_mut().find(|s| s.port == port)
    }

    pub fn streams(&mut self) -> impl Iterator<Item = &mut SimulatedStream> {
        self.streams.iter_mut()
    }

    pub fn into_streams(self) -> Vec<SimulatedStream> {
        self.streams
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn output_and_curve_are_inverse() {
        for theta in [0.05, 0.2, 0.35, 0.5] {
            let mv = blade_output_mv(417, theta);
            let [a, b, c] = blade_dielectric_curve(417);
            assert!((a + b * mv + c * mv * mv - theta).abs() < 1e-12);
            assert!((300.0..2500.0).contains(&mv), "{mv} mV");
        }
    }
}
