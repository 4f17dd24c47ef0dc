//! The made-up world must look and behave like soil, whatever the seed.

use ebrel_simulator::{FaultKind, Simulated, SimulatedStream, blade_dielectric_curve, ostrelle_cut_coupe, simulate};

const DAY: i64 = 86_400;

fn stream<'w>(world: &'w Simulated, port: &str) -> &'w SimulatedStream {
    world.streams.iter().find(|s| s.port == port).expect("a port of the scenario")
}

fn theta(serial: u32, mv: f64) -> f64 {
    let [a, b, c] = blade_dielectric_curve(serial);
    a + b * mv + c * mv * mv
}

fn mean(values: impl Iterator<Item = f64>) -> f64 {
    let (sum, n) = values.fold((0.0, 0), |(s, n), v| (s + v, n + 1));
    sum / f64::from(n)
}

/// The month (1 to 12) that a time falls into, near enough.
fn month(t: i64) -> i64 {
    ((t / DAY).rem_euclid(365) * 12 / 365) + 1
}

#[test]
fn years_have_their_rain_and_seasons() {
    for seed in [1, 2, 417] {
        let world = simulate(&ostrelle_cut_coupe(), seed);
        let rain = stream(&world, "rain");
        let years = rain.readings.len() as f64 / (365.25 * 96.0);
        let yearly = rain.readings.iter().map(|r| r.1).sum::<f64>() / years;
        assert!((450.0..1250.0).contains(&yearly), "seed {seed}: {yearly} mm a year");
        let wet = rain.readings.iter().filter(|r| r.1 > 0.0).count() as f64 / rain.readings.len() as f64;
        assert!((0.01..0.2).contains(&wet), "it rains {wet} of the time");
        let air = stream(&world, "air");
        let of = |wanted: i64| mean(air.readings.iter().filter(|r| month(r.0) == wanted).map(|r| r.1));
        assert!(of(7) - of(1) > 9.0, "summer is warmer than winter");
    }
}

#[test]
fn soil_is_wetter_in_winter_and_its_water_stays_within_the_pores() {
    let scenario = ostrelle_cut_coupe();
    let world = simulate(&scenario, 5);
    for probe in &scenario.moisture {
        let horizon = scenario.horizons.iter().find(|h| h.span_cm.1 > probe.depth_cm).expect("a horizon");
        let faulty = |t: i64| world.faults.iter().any(|f| f.port == probe.port && (f.start..=f.end).contains(&t));
        let sound: Vec<(i64, f64)> = stream(&world, probe.port)
            .readings
            .iter()
            .filter(|r| !faulty(r.0))
            .map(|r| (r.0, theta(probe.serial, r.1)))
            .collect();
        let all_within = sound.iter().all(|r| (0.02..horizon.pore_space + 0.02).contains(&r.1));
        assert!(all_within, "{} leaves the range of its horizon", probe.port);
        let of = |wanted: [i64; 3]| mean(sound.iter().filter(|r| wanted.contains(&month(r.0))).map(|r| r.1));
        assert!(of([12, 1, 2]) > of([6, 7, 8]), "{} is not wetter in winter than in summer", probe.port);
    }
}

#[test]
fn fronts_come_down_in_order_of_depth() {
    let world = simulate(&ostrelle_cut_coupe(), 417);
    let rises = |port: &str, serial: u32| {
        let readings = &stream(&world, port).readings;
        let values: Vec<f64> = readings.iter().map(|r| theta(serial, r.1)).collect();
        // A rise of 0.04 over a day.
        (96..values.len()).filter(|i| values[*i] - values[i - 96] > 0.04).count()
    };
    let (shallow, middle, deep) = (rises("m05", 417), rises("m15", 418), rises("m60", 422));
    assert!(shallow > middle && middle > deep, "{shallow} {middle} {deep}");
}

#[test]
fn the_daily_wave_is_smaller_and_later_with_depth() {
    let world = simulate(&ostrelle_cut_coupe(), 417);
    // Amplitude and hour of the largest mean over a July.
    let wave = |port: &str| {
        let hours: Vec<f64> = (0..24)
            .map(|h| {
                let july = stream(&world, port).readings.iter().filter(|r| month(r.0) == 7);
                mean(july.filter(|r| r.0 / 3600 % 24 == h).map(|r| r.1))
            })
            .collect();
        let (peak, high) = hours.iter().enumerate().max_by(|a, b| a.1.total_cmp(b.1)).expect("24 hours");
        let low = hours.iter().copied().fold(f64::INFINITY, f64::min);
        (high - low, peak)
    };
    let (five, fifteen, thirty) = (wave("t05"), wave("t15"), wave("t30"));
    assert!(five.0 > 2.0 * fifteen.0 && fifteen.0 > 2.0 * thirty.0, "{five:?} {fifteen:?} {thirty:?}");
    assert!(five.1 < fifteen.1, "the wave comes later: {five:?} {fifteen:?}");
}

#[test]
fn the_bare_sensor_runs_warm_in_sun_and_only_then() {
    let world = simulate(&ostrelle_cut_coupe(), 417);
    let pairs = stream(&world, "bare").readings.iter().zip(&stream(&world, "air").readings);
    let differences: Vec<(i64, f64)> = pairs.map(|(b, a)| (b.0 / 3600 % 24, b.1 - a.1)).collect();
    let noon = mean(differences.iter().filter(|d| d.0 == 12).map(|d| d.1));
    let night = mean(differences.iter().filter(|d| d.0 == 1).map(|d| d.1));
    assert!(noon > 1.0 && night.abs() < 0.05, "{noon} {night}");
}

#[test]
fn every_kind_of_fault_is_there_with_its_truth() {
    let world = simulate(&ostrelle_cut_coupe(), 417);
    let has = |kind: FaultKind| world.faults.iter().any(|f| f.kind == kind);
    for kind in [
        FaultKind::Gap,
        FaultKind::Repeated,
        FaultKind::NotConnected,
        FaultKind::OutOfInstrument,
        FaultKind::Impossible,
        FaultKind::Spike,
        FaultKind::Step,
        FaultKind::Stuck,
        FaultKind::Ponded,
    ] {
        assert!(has(kind), "{kind:?}");
    }
    for gap in world.faults.iter().filter(|f| f.kind == FaultKind::Gap) {
        let lost = world.streams.iter().all(|s| s.readings.iter().all(|r| !(gap.start..=gap.end).contains(&r.0)));
        assert!(lost, "{gap:?} holds readings");
    }
    let plug = world.faults.iter().find(|f| f.kind == FaultKind::NotConnected).expect("a pulled plug");
    let zeros = stream(&world, plug.port).readings.iter().filter(|r| (plug.start..=plug.end).contains(&r.0));
    assert!(zeros.clone().count() > 100 && zeros.into_iter().all(|r| r.1 == 0.0));
}
