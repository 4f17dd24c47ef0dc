//! Stations beside the first one: the same weather over other cover and other probes.

use crate::probes::blade_output_mv;
use crate::rounding::to_step;
use crate::scenario::Scenario;
use crate::soil::Soil;
use crate::weather::Now;
use rand::SeedableRng;
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// What stands over a station.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Cover {
    /// The whole canopy.
    Closed,
    /// Half of it: its soil lies between a closed and an open one.
    Half,
}

/// What is at a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sees {
    /// A blade dielectric probe, mV, by the number of its serial.
    Blade(u32),
    /// A three-rod dielectric probe, counts, by the number of its serial.
    ThreeRod(u32),
    /// A block that gives water tension, kPa.
    Tension,
    /// A thermometer in the soil, °C.
    Temperature,
    /// A thermometer in a shield, °C.
    Air,
    /// The node's own battery without a panel, V.
    Battery,
    /// A battery that is at its end, V: some weeks are left.
    WeakBattery,
    /// Signal of the node's radio, dBm: rain and wet soil eat it.
    Signal,
    /// Humidity in a box that is tight, %.
    DryBox,
    /// Humidity in a box that leaks: each rain brings water, and weeks take it away, %.
    WetBox,
    /// The logger's own temperature, °C.
    Panel,
}

impl Sees {
    /// Whether it tells of the box and its radio, and of nothing in soil or air.
    const fn is_of_the_node(self) -> bool {
        matches!(self, Self::WeakBattery | Self::Signal | Self::DryBox | Self::WetBox | Self::Panel)
    }
}

/// Signal of a node's radio on a dry day, dBm.
const SIGNAL_DBM: f64 = -84.0;

/// A port and what is at it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PortBeside {
    /// Depth, cm; of no meaning above ground.
    pub depth_cm: f64,
    /// What is there.
    pub sees: Sees,
}

/// A station beside the first.
#[derive(Debug, Clone, PartialEq)]
pub struct Beside {
    /// What stands over it.
    pub cover: Cover,
    /// What it measures.
    pub ports: Vec<PortBeside>,
}

/// What a three-rod probe of this serial counts at a water content: probes of one batch differ a little.
#[must_use]
pub fn three_rod_counts(serial: u32, theta: f64) -> f64 {
    let own = f64::from(serial % 5) - 2.0;
    (2_000.0 + 60.0 * own + 52_000.0 * theta + 18_000.0 * theta * theta).round()
}

/// Tension of the demo's silt loams at a water content, kPa: a power law (Clapp & Hornberger 1978, Water Resour. Res. 14:601, silt
/// loam: ψs 78.6 cm, b 5.3) over pores of 0.485.
fn tension_kpa(theta: f64) -> f64 {
    const AIR_ENTRY_KPA: f64 = 7.71;
    let saturation = (theta / 0.485).clamp(0.05, 1.0);
    (AIR_ENTRY_KPA * saturation.powf(-5.3)).min(300.0)
}

/// A station while it is simulated. Half cover is the mean of two soils.
pub(crate) struct Station {
    of: Beside,
    closed: Soil,
    open: Option<Soil>,
    rng: ChaCha8Rng,
    /// Chance of what tells of the node itself: probes read the same with and without it.
    own_rng: ChaCha8Rng,
    battery_v: f64,
    /// Water vapour in a box that leaks, as relative humidity, %.
    damp_pct: f64,
}

impl Station {
    pub fn new(of: &Beside, scenario: &Scenario, seed: u64) -> Self {
        let probes = of.ports.iter().filter(|p| !p.sees.is_of_the_node()).count();
        Self {
            of: of.clone(),
            closed: Soil::new(&scenario.horizons),
            open: (of.cover == Cover::Half).then(|| Soil::new(&scenario.horizons)),
            rng: ChaCha8Rng::seed_from_u64(seed ^ (0x5eed << probes)),
            own_rng: ChaCha8Rng::seed_from_u64(seed ^ (0xb0c5 << probes)),
            battery_v: 3.62,
            damp_pct: 34.0,
        }
    }

    pub fn step(&mut self, now: &Now, t: i64) {
        self.closed.step(now, t, i64::MAX);
        if let Some(open) = &mut self.open {
            open.step(now, t, i64::MIN);
        }
    }

    fn mean(&self, of: impl Fn(&Soil) -> f64) -> f64 {
        let closed = of(&self.closed);
        self.open.as_ref().map_or(closed, |open| closed.midpoint(of(open)))
    }

    /// What the ports read, in their order.
    pub fn measure(&mut self, now: &Now) -> Vec<f64> {
        self.battery_v -= 1.2e-6 * (1.0 + 0.01 * (10.0 - now.air_c).max(0.0));
        let (toward, share) = if now.rain_mm > 0.0 { (94.0, 0.06) } else { (40.0, 0.0004) };
        self.damp_pct += (toward - self.damp_pct) * share;
        let mut values = Vec::with_capacity(self.of.ports.len());
        for port in self.of.ports.clone() {
            let (theta, soil_c) = (self.mean(|s| s.liquid(port.depth_cm)), self.mean(|s| s.temperature(port.depth_cm)));
            let rng = if port.sees.is_of_the_node() { &mut self.own_rng } else { &mut self.rng };
            let mut noise = |sigma: f64| sigma * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, rng);
            let value = match port.sees {
                Sees::Blade(serial) => {
                    to_step(blade_output_mv(serial, theta) + 0.10 * (soil_c - 20.0) + noise(0.8), 0.1)
                }
                Sees::ThreeRod(serial) => three_rod_counts(serial, theta) + to_step(noise(18.0), 1.0),
                Sees::Tension => to_step(tension_kpa(theta) * (1.0 + 0.004 * noise(1.0)), 0.1),
                Sees::Temperature => to_step(soil_c + noise(0.02), 0.01),
                Sees::Air => {
                    to_step(now.air_c - if self.open.is_some() { 0.0 } else { 0.6 * now.sun } + noise(0.05), 0.01)
                }
                Sees::Battery => to_step(self.battery_v + 0.002 * (now.air_c - 10.0) / 10.0 + noise(0.003), 0.01),
                Sees::WeakBattery => {
                    let left = 3.62 - (3.62 - self.battery_v) * 90.0;
                    to_step(left + 0.006 * (now.air_c - 10.0) / 10.0 + noise(0.003), 0.01)
                }
                Sees::Signal => (SIGNAL_DBM - 3.0 * now.rain_mm - 24.0 * (theta - 0.2).max(0.0) + noise(1.2)).round(),
                Sees::DryBox => (31.0 + 0.2 * (now.air_c - 10.0) + noise(0.6)).round(),
                Sees::WetBox => (self.damp_pct + noise(0.8)).round(),
                Sees::Panel => to_step(now.air_c + 4.0 * now.sun + noise(0.05), 0.1),
            };
            values.push(value);
        }
        values
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{ostrelle_cut_coupe, simulate, simulate_beside};

    #[test]
    fn the_weather_is_the_first_stations_and_cover_cools() {
        let mut scenario = ostrelle_cut_coupe();
        scenario.start += 100 * 86_400;
        scenario.end = scenario.start + 60 * 86_400;
        let at = |depth_cm, sees| PortBeside { depth_cm, sees };
        let ports =
            vec![at(0.0, Sees::Air), at(5.0, Sees::Temperature), at(25.0, Sees::Tension), at(5.0, Sees::ThreeRod(101))];
        let beside = |cover| Beside { cover, ports: ports.clone() };
        let all = simulate_beside(&scenario, 7, &[beside(Cover::Closed), beside(Cover::Half)]);
        let first = simulate(&scenario, 7);
        let mean = |r: &[(i64, f64)]| r.iter().map(|r| r.1).sum::<f64>() / r.len() as f64;
        let of = |port: &str| &first.streams.iter().find(|s| s.port == port).unwrap().readings;
        let (air, soil) = (mean(of("air")), mean(of("t05")));
        assert!((mean(&all[0][0]) - air).abs() < 0.5, "one weather: {} {air}", mean(&all[0][0]));
        assert!(mean(&all[0][1]) < mean(&all[1][1]) && mean(&all[1][1]) < soil, "half shade lies between the two");
        assert!(all[0][2].iter().all(|r| (7.0..=310.0).contains(&r.1)));
        assert!(all[0][3].iter().all(|r| (2_000.0..50_000.0).contains(&r.1)));
        assert_eq!(all, simulate_beside(&scenario, 7, &[beside(Cover::Closed), beside(Cover::Half)]));
    }
}
