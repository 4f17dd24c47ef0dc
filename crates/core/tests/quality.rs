//! The tests of quality from outside: what they must find in any sound or faulty record, whatever its noise.

use ebrel_core::quality::{
    Channel, Event, EventKind, Evidence, Flag, Repeat, Settings, StationContext, Test, check_station,
};
use ebrel_core::series::{Series, View};
use ebrel_core::units::{Grade, Quantity, SpanSeconds, UnixSeconds};
use proptest::prelude::*;

const STEP: i64 = 900;

/// Noise of standard deviation 1, the same at every run.
fn noise(seed: i64, i: i64) -> f64 {
    let one = |k: i64| {
        let v = ((seed * 1009 + i * 12 + k) as f64 * 12.9898).sin() * 43_758.545_3;
        v - v.floor()
    };
    (0..12).map(one).sum::<f64>() - 6.0
}

/// A drying soil that dries by day and rests by night.
fn soil(n: i64, start: f64, sigma: f64, seed: i64) -> Series {
    let value = |i: i64| {
        let wave = 0.0015 * (i as f64 / 15.28).sin();
        let v = start - 1.5e-5 * i as f64 + wave + sigma * noise(seed, i);
        (v * 1e4).round() / 1e4
    };
    Series { times: (0..n).map(|i| i * STEP).collect(), values: (0..n).map(value).collect() }
}

fn channel(s: &Series, quantity: Quantity, depth: Option<f64>) -> Channel<'_> {
    Channel {
        node: "node 01",
        depth_cm: depth,
        interval: Some(SpanSeconds(STEP)),
        raw_unit: "mV",
        ..Channel::bare("15 cm", quantity, s.view())
    }
}

fn moist(s: &Series) -> Channel<'_> {
    channel(s, Quantity::WaterContent, Some(15.0))
}

fn check(channels: &[Channel<'_>], rain: Option<View<'_>>, events: &[Event]) -> Vec<Vec<Flag>> {
    let mut all = channels.to_vec();
    all.extend(rain.map(|view| Channel { quantity: Quantity::Rain, depth_cm: None, view, ..channels[0].clone() }));
    let mut flags = check_station(&StationContext::alone(&all, events), &Settings::default()).flags;
    flags.truncate(channels.len());
    flags
}

fn of(flags: &[Flag], test: Test) -> Vec<(i64, i64)> {
    flags.iter().filter(|f| f.test == test).map(|f| (f.start.0 / STEP, f.end.0 / STEP)).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// A spike that stands well out of the noise is found where it is, whatever the noise and the sign.
    #[test]
    fn spikes_are_found_at_any_noise(sigma in 2e-4..3e-3f64, at in 200i64..2600, long in 1i64..4, up in any::<bool>(), seed in 0i64..50) {
        let mut s = soil(3000, 0.3, sigma, seed);
        let height = (40.0 * sigma).max(0.03) * if up { 1.0 } else { -1.0 };
        for i in at..at + long {
            s.values[i as usize] += height;
        }
        let flags = check(&[moist(&s)], None, &[]).remove(0);
        prop_assert_eq!(of(&flags, Test::Spike), vec![(at, at + long - 1)]);
        prop_assert_eq!(of(&flags, Test::Step), vec![]);
    }

    /// A wetting front with rain before it is no fault, however fast it comes and however high it stands.
    #[test]
    fn fronts_with_rain_are_sound(sigma in 2e-4..2e-3f64, rise in 0.02..0.25f64, readings in 1i64..9, fall in 60.0..900.0f64, seed in 0i64..50) {
        let mut s = soil(3000, 0.2, sigma, seed);
        for i in 1000..3000i64 {
            let share = ((i - 999) as f64 / readings as f64).min(1.0);
            s.values[i as usize] += rise * share * (-((i - 1000) as f64) / fall).exp();
        }
        let rain = Series { times: vec![996 * STEP, 997 * STEP].into(), values: vec![3.0, 4.0] };
        let flags = check(&[moist(&s)], Some(rain.view()), &[]).remove(0);
        prop_assert!(flags.iter().all(|f| !matches!(f.test, Test::Spike | Test::Step | Test::Stuck)), "{:?}", flags);
    }

    /// Other units and another zero change no interval: the tests know no fixed thresholds.
    #[test]
    fn units_do_not_matter(factor in 0.5..4000.0f64, shift in -500.0..500.0f64) {
        let mut s = soil(2500, 0.3, 7e-4, 1);
        s.values[400] += 0.1;
        s.values[900..1150].fill(0.2871);
        s.values[1800..].iter_mut().for_each(|v| *v -= 0.06);
        let plain = check(&[channel(&s, Quantity::RawOutput, Some(15.0))], None, &[]).remove(0);
        s.values.iter_mut().for_each(|v| *v = *v * factor + shift);
        let scaled = check(&[channel(&s, Quantity::RawOutput, Some(15.0))], None, &[]).remove(0);
        for test in [Test::Spike, Test::Step, Test::Stuck] {
            prop_assert_eq!(of(&plain, test), of(&scaled, test));
        }
        prop_assert_eq!(of(&plain, Test::Spike), vec![(400, 400)]);
        prop_assert_eq!(of(&plain, Test::Stuck), vec![(900, 1149)]);
        prop_assert_eq!(of(&plain, Test::Step).len(), 1);
    }

    /// A calm deep probe in coarse steps repeats itself for days and is sound.
    #[test]
    fn calm_and_coarse_is_not_stuck(step in 0.001..0.005f64, slope in 1e-7..2e-6f64) {
        let value = |i: i64| ((0.36 - slope * i as f64) / step).round() * step;
        let deep = Series { times: (0..6000).map(|i| i * STEP).collect(), values: (0..6000).map(value).collect() };
        let shallow = soil(6000, 0.33, 7e-4, 3);
        let deep = Channel { name: "60 cm", ..channel(&deep, Quantity::WaterContent, Some(60.0)) };
        let flags = check(&[moist(&shallow), deep], None, &[]);
        prop_assert_eq!(of(&flags[1], Test::Stuck), vec![]);
    }

    /// Every silence is counted, and none is invented.
    #[test]
    fn gaps_count_what_is_missing(cuts in prop::collection::btree_set(1usize..190, 0..6)) {
        let whole = soil(2000, 0.3, 7e-4, 1);
        let lost = |i: usize| cuts.iter().any(|c| (c * 10..c * 10 + 4).contains(&i));
        let keep: Vec<usize> = (0..2000).filter(|i| !lost(*i)).collect();
        let s = Series {
            times: keep.iter().map(|i| whole.times[*i]).collect(),
            values: keep.iter().map(|i| whole.values[*i]).collect(),
        };
        let flags = check(&[moist(&s)], None, &[]).remove(0);
        let missing: usize = flags.iter().filter(|f| f.test == Test::Gap).map(|f| f.readings).sum();
        prop_assert_eq!(missing, 2000 - keep.len());
    }
}

#[test]
fn faults_at_the_very_ends_of_a_record_do_no_harm() {
    let mut s = soil(600, 0.3, 7e-4, 2);
    s.values[0] = 0.6;
    s.values[599] = 0.05;
    let flags = check(&[moist(&s)], None, &[]).remove(0);
    assert!(flags.iter().all(|f| f.start.0 >= 0 && f.end.0 <= 599 * STEP));
    for n in 0..12 {
        let short = soil(n, 0.3, 7e-4, 2);
        assert_eq!(check(&[moist(&short)], None, &[]), vec![Vec::new()], "{n} readings");
    }
}

#[test]
fn a_departure_over_a_silence_is_not_called_a_spike() {
    let mut s = soil(1000, 0.3, 7e-4, 4);
    s.values[500] += 0.1;
    let late = |i: usize| i64::from(i >= 500) + i64::from(i >= 501);
    s.times = s.times.iter().enumerate().map(|(i, t)| t + late(i) * 40 * STEP).collect();
    let flags = check(&[moist(&s)], None, &[]).remove(0);
    assert_eq!(of(&flags, Test::Spike), []);
    assert_eq!(of(&flags, Test::Gap).len(), 2);
}

#[test]
fn a_step_at_a_visit_says_so() {
    let mut s = soil(2000, 0.3, 7e-4, 5);
    s.values[1000..].iter_mut().for_each(|v| *v -= 0.04);
    let visit = Event { kind: EventKind::ProgramChange, start: UnixSeconds(999 * STEP), end: UnixSeconds(1000 * STEP) };
    let flags = check(&[moist(&s)], None, &[visit]).remove(0);
    let step = flags.iter().find(|f| f.test == Test::Step).unwrap();
    assert!(step.reason.contains("together with a program change"), "{}", step.reason);
    assert_eq!(step.grade, Grade::Doubtful);
    let Evidence::Step(levels) = step.evidence else { panic!("a step has the evidence of one: {step:?}") };
    assert!((levels.before.get() - levels.after.get() - 0.04).abs() < 0.003);
}

#[test]
fn tension_falls_with_rain_and_that_is_no_step() {
    let value = |i: i64| 40.0 + 0.01 * i as f64 + 0.3 * noise(9, i) - if i >= 1200 { 35.0 } else { 0.0 };
    let s = Series { times: (0..2400).map(|i| i * STEP).collect(), values: (0..2400).map(value).collect() };
    let tension = channel(&s, Quantity::WaterTension, Some(20.0));
    let rain = Series { times: vec![1190 * STEP].into(), values: vec![12.0] };
    assert_eq!(of(&check(std::slice::from_ref(&tension), Some(rain.view()), &[]).remove(0), Test::Step), []);
    assert_eq!(of(&check(&[tension], None, &[]).remove(0), Test::Step).len(), 1);
}

#[test]
fn rain_is_never_judged_as_a_state() {
    let value = |i: i64| if i % 400 == 7 { 12.4 } else { 0.0 };
    let s = Series { times: (0..4000).map(|i| i * STEP).collect(), values: (0..4000).map(value).collect() };
    let gauge = Channel { instrument: Some((0.0, 60.0)), ..channel(&s, Quantity::Rain, None) };
    assert_eq!(check(&[gauge], Some(s.view()), &[]), vec![Vec::new()]);
}

#[test]
fn a_pulled_plug_is_taken_away_before_the_rest_is_judged() {
    let mut s = soil(2000, 0.3, 7e-4, 6);
    s.values[700..800].fill(0.0);
    s.values[1500] = -9999.0;
    let flags = check(&[moist(&s)], None, &[]).remove(0);
    assert_eq!(of(&flags, Test::NotConnected), [(700, 799), (1500, 1500)]);
    let others: Vec<_> = flags.iter().filter(|f| f.test != Test::NotConnected).collect();
    assert!(others.is_empty(), "neither impossible, nor stuck, nor a step: {others:?}");
}

#[test]
fn a_rail_is_not_connected_and_beyond_it_is_outside_the_instrument() {
    let value = |i: i64| match i {
        300..340 => 2500.0,
        900..904 => 2611.5,
        _ => 1400.0 - 0.1 * i as f64 + noise(7, i),
    };
    let s = Series { times: (0..2000).map(|i| i * STEP).collect(), values: (0..2000).map(value).collect() };
    let raw = Channel { instrument: Some((250.0, 2500.0)), ..channel(&s, Quantity::RawOutput, Some(15.0)) };
    let flags = check(&[raw], None, &[]).remove(0);
    assert_eq!(of(&flags, Test::NotConnected), [(300, 339)]);
    assert_eq!(of(&flags, Test::OutOfInstrument), [(900, 903)]);
}

#[test]
fn frozen_soil_explains_a_fall_of_water_content() {
    let mut water = soil(2400, 0.34, 7e-4, 8);
    let frost = 1000..1300usize;
    water.values[frost.clone()].iter_mut().for_each(|v| *v -= 0.12);
    let degrees = |i: i64| if frost.contains(&(i as usize)) { -0.2 } else { 3.0 + (i as f64 / 15.28).sin() };
    let cold = Series {
        times: (0..2400).map(|i| i * STEP).collect(),
        values: (0..2400).map(|i| degrees(i) + 0.02 * noise(3, i)).collect(),
    };
    let soil_c = Channel { name: "15 cm", ..channel(&cold, Quantity::SoilTemperature, Some(15.0)) };
    let flags = check(&[moist(&water), soil_c], None, &[]);
    let frozen = flags[0].iter().find(|f| f.test == Test::Frozen).unwrap();
    assert_eq!((frozen.start.0 / STEP, frozen.end.0 / STEP, frozen.grade), (1000, 1299, Grade::Condition));
    assert_eq!(of(&flags[0], Test::Step), []);
}

#[test]
fn repeats_with_other_values_want_a_verdict() {
    let s = soil(300, 0.3, 7e-4, 9);
    let again = |i: usize, later: f64| Repeat { time: UnixSeconds(i as i64 * STEP), first: s.values[i], later };
    let repeats = [again(50, 0.9), again(51, 0.9), again(200, s.values[200])];
    let flags = check(&[Channel { repeats: &repeats, ..moist(&s) }], None, &[]).remove(0);
    let got: Vec<_> = flags.iter().map(|f| (f.test, f.grade, f.readings)).collect();
    assert_eq!(got, [(Test::Repeated, Grade::Doubtful, 2), (Test::Repeated, Grade::Condition, 1)]);
}

#[test]
fn what_harms_most_comes_first() {
    let mut s = soil(4000, 0.3, 7e-4, 10);
    s.values[100] += 0.05;
    s.values[1000..1400].fill(0.29);
    s.values[2000..2600].fill(0.0);
    let mut flags = check(&[moist(&s)], None, &[]).remove(0);
    flags.sort_by(|a, b| b.damage().total_cmp(&a.damage()));
    let order: Vec<Test> = flags.iter().map(|f| f.test).collect();
    assert_eq!(order.first(), Some(&Test::NotConnected));
    assert_eq!(order.last(), Some(&Test::Spike));
}

#[test]
fn other_thresholds_find_less_or_more() {
    let mut s = soil(3000, 0.3, 7e-4, 11);
    s.values[500] += 0.012;
    s.values[900] += 0.2;
    let count = |settings: &Settings| {
        let flags = check_station(&StationContext::alone(&[moist(&s)], &[]), settings).flags.remove(0);
        flags.iter().filter(|f| f.test == Test::Spike).count()
    };
    assert_eq!(count(&Settings::default()), 2);
    let mut dull = Settings::default();
    dull.set(Test::Spike, "sigmas", 60.0).unwrap();
    assert_eq!(count(&dull), 1);
}

#[test]
fn the_record_itself_is_never_touched() {
    let mut s = soil(1500, 0.3, 7e-4, 12);
    s.values[700] += 0.2;
    let before = s.clone();
    let first = check(&[moist(&s)], None, &[]);
    assert_eq!(s, before);
    assert_eq!(first, check(&[moist(&s)], None, &[]), "the same record gives the same flags");
}

/// A probe that was exchanged leaves two thermometers at one depth: the frost after the exchange is the second one's to tell.
#[test]
fn frost_is_told_by_whichever_thermometer_lies_there() {
    let water = soil(2400, 0.34, 7e-4, 8);
    let degrees = |i: i64| if (1700..1900).contains(&i) { -0.3 } else { 4.0 + (i as f64 / 15.28).sin() };
    let part = |range: std::ops::Range<i64>| Series {
        times: range.clone().map(|i| i * STEP).collect(),
        values: range.map(degrees).collect(),
    };
    let (first, second) = (part(0..1200), part(1200..2400));
    let warm = Channel { name: "15 cm", ..channel(&first, Quantity::SoilTemperature, Some(15.0)) };
    let cold = Channel { name: "15 cm b", ..channel(&second, Quantity::SoilTemperature, Some(15.5)) };
    for pair in [[warm.clone(), cold.clone()], [cold, warm]] {
        let [a, b] = pair;
        let flags = check(&[moist(&water), a, b], None, &[]);
        assert_eq!(of(&flags[0], Test::Frozen), [(1700, 1899)]);
    }
}
