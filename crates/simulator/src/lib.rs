//! A made-up world behind the demo: seeded weather, layered soil, probes and faults whose truth is known.
//!
//! [`simulate`] takes a [`Scenario`] and a seed and returns [`Simulated`]: the raw readings that a node would have
//! stored, and the list of [`Fault`]s that were put in. The same seed gives the same readings, bit for bit.
//! [`World`] goes on step by step, and [`network`] has the stand-ins that ship: nodes and a gateway that keep what was not confirmed.
//! [`practice`] is a bench with balance, oven and handheld reader, and [`PracticeThermometer`] a bath, to learn on.
//! [`truths`] makes soils, pairs and responses whose truth is known, to hold findings against.
//! [`years`] makes years of other climates and soils with faults of every kind, to measure tests on and to practise with.
//! It is no model to learn hydrology from: water moves by gravity drainage and capillary smoothing between thin
//! layers, heat by conduction with freezing, which is enough to look and behave like soil.

mod bath;
mod bench;
mod beside;
mod faults;
pub mod network;
pub mod practice;
mod probes;
mod rounding;
mod scenario;
mod soil;
pub mod truths;
mod weather;
mod world;
pub mod years;

pub use bath::{BathReadings, PracticeThermometer, SETTINGS_C};
pub use bench::{BenchRun, SampleMasses, drying_container};
pub use beside::{Beside, Cover, PortBeside, Sees, three_rod_counts};
pub use faults::{Fault, FaultKind};
pub use probes::blade_dielectric_curve;
pub use scenario::{Horizon, MoistureProbe, Scenario, ostrelle_cut_coupe};
pub use weather::Season;
pub use world::{Step, World};

use probes::Readings;

/// One stream of raw readings as the node stored them.
#[derive(Debug, Clone, PartialEq)]
pub struct SimulatedStream {
    /// Port on the node: "m05", "rain".
    pub port: &'static str,
    /// Readings in order of time: seconds of UTC and value.
    pub readings: Vec<(i64, f64)>,
    /// Readings that came again for a time already known, with another value.
    pub repeats: Vec<(i64, f64)>,
}

/// What a simulation returns.
#[derive(Debug, Clone, PartialEq)]
pub struct Simulated {
    /// One stream per port.
    pub streams: Vec<SimulatedStream>,
    /// The faults that were put in.
    pub faults: Vec<Fault>,
}

/// Runs weather, soil, probes and faults over the scenario's time.
#[must_use]
pub fn simulate(scenario: &Scenario, seed: u64) -> Simulated {
    let mut world = World::new(scenario, seed, &[]);
    let mut readings = Readings::new(scenario);
    while let Some(step) = world.until(scenario.end) {
        readings.keep(step.t, &step.values[0]);
    }
    let faults = faults::apply(scenario, &mut readings, &mut world.rng);
    Simulated { streams: readings.into_streams(), faults }
}

/// Runs stations beside that of the scenario, under its weather: for each its ports with readings in order of time.
#[must_use]
pub fn simulate_beside(scenario: &Scenario, seed: u64, others: &[Beside]) -> Vec<Vec<Vec<(i64, f64)>>> {
    let mut world = World::new(scenario, seed, others);
    let mut all: Vec<Vec<Vec<(i64, f64)>>> = others.iter().map(|o| vec![Vec::new(); o.ports.len()]).collect();
    while let Some(step) = world.until(scenario.end) {
        for (station, values) in all.iter_mut().zip(&step.values[1..]) {
            for (port, value) in station.iter_mut().zip(values) {
                port.push((step.t, *value));
            }
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    fn short() -> Simulated {
        let mut scenario = ostrelle_cut_coupe();
        scenario.end = scenario.start + 120 * 86_400;
        simulate(&scenario, 7)
    }

    #[test]
    fn the_same_seed_gives_the_same_world() {
        assert_eq!(short(), short());
    }

    #[test]
    fn deeper_soil_is_calmer_and_later() {
        let world = short();
        let stream = |port| world.streams.iter().find(|s| s.port == port).unwrap();
        let spread = |port| {
            let values: Vec<f64> = stream(port).readings.iter().map(|r| r.1).filter(|v| v.abs() < 60.0).collect();
            let mean = values.iter().sum::<f64>() / values.len() as f64;
            values.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / values.len() as f64
        };
        assert!(spread("t05") > spread("t15") && spread("t15") > spread("t30") && spread("t30") > spread("t60"));
    }

    #[test]
    fn every_fault_lies_within_the_record() {
        let scenario = ostrelle_cut_coupe();
        let world = simulate(&scenario, 7);
        assert!(world.faults.len() >= 8);
        for fault in &world.faults {
            assert!(
                fault.start >= scenario.start && fault.end <= scenario.end && fault.start <= fault.end,
                "{fault:?}"
            );
            assert!(world.streams.iter().any(|s| s.port == fault.port), "{fault:?}");
        }
    }
}
