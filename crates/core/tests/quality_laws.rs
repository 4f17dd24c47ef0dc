//! What holds for the tests of quality whatever they are given: any quantity, any length, any order of channels, any day.

use ebrel_core::quality::{Channel, Event, EventKind, Findings, Flag, Settings, StationContext, Test, check_station};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use proptest::prelude::*;

const STEP: i64 = 900;
const DAY: i64 = 86_400;

/// Everything that a node or a stand-in for one can report.
const QUANTITIES: [Quantity; 8] = [
    Quantity::WaterContent,
    Quantity::RawOutput,
    Quantity::WaterTension,
    Quantity::SoilTemperature,
    Quantity::AirTemperature,
    Quantity::Rain,
    Quantity::BatteryVoltage,
    Quantity::RelativeHumidity,
];

/// What befalls a record.
#[derive(Debug, Clone, Copy)]
enum Fault {
    Spike,
    Stuck,
    Step,
    Noise,
    Zero,
    Missing,
    Unknown,
}

fn fault() -> impl Strategy<Value = (Fault, usize, usize)> {
    let kinds = [Fault::Spike, Fault::Stuck, Fault::Step, Fault::Noise, Fault::Zero, Fault::Missing, Fault::Unknown];
    (prop::sample::select(kinds.to_vec()), 0usize..1500, 1usize..200)
}

fn jitter(seed: u64, i: usize) -> f64 {
    let x = (seed.wrapping_mul(2_654_435_761).wrapping_add(i as u64)).wrapping_mul(6_364_136_223_846_793_005);
    (x >> 11) as f64 / (1u64 << 53) as f64 - 0.5
}

/// A record of a quantity with its faults; the faults say where.
fn record(quantity: Quantity, n: usize, seed: u64, faults: &[(Fault, usize, usize)]) -> Series {
    let (level, swing, unit) = match quantity {
        Quantity::WaterContent => (0.28, 0.004, 1e-4),
        Quantity::RawOutput => (900.0, 4.0, 0.1),
        Quantity::WaterTension => (-40.0, 2.0, 0.1),
        Quantity::Rain => (0.0, 0.0, 0.2),
        Quantity::BatteryVoltage => (3.6, 0.02, 0.01),
        Quantity::RelativeHumidity => (80.0, 10.0, 0.1),
        _ => (12.0, 4.0, 0.01),
    };
    let mut values: Vec<f64> = (0..n)
        .map(|i| {
            let day = (i as f64 / 96.0 * std::f64::consts::TAU).sin();
            ((level + swing * (day + 0.2 * jitter(seed, i))) / unit).round() * unit
        })
        .collect();
    let mut kept = vec![true; n];
    for (fault, at, long) in faults {
        let (from, to) = ((*at).min(n), (at + long).min(n));
        for i in from..to {
            match fault {
                Fault::Spike if i == from => values[i] += 30.0 * swing.max(unit),
                Fault::Spike => {}
                Fault::Stuck => values[i] = values[from],
                Fault::Step => values[i..].iter_mut().take(1).for_each(|v| *v += 12.0 * swing.max(unit)),
                Fault::Noise => values[i] += 20.0 * swing.max(unit) * jitter(seed ^ 77, i),
                Fault::Zero => values[i] = 0.0,
                Fault::Missing => kept[i] = false,
                Fault::Unknown => values[i] = f64::NAN,
            }
        }
    }
    let there: Vec<usize> = (0..n).filter(|i| kept[*i]).collect();
    Series {
        times: there.iter().map(|i| *i as i64 * STEP).collect(),
        values: there.into_iter().map(|i| values[i]).collect(),
    }
}

fn channel<'a>(series: &'a Series, quantity: Quantity, name: &'a str) -> Channel<'a> {
    let depth_cm = quantity.is_in_soil().then_some(15.0);
    let interval = Some(SpanSeconds(STEP));
    Channel {
        node: "node 01",
        port: name,
        depth_cm,
        interval,
        raw_unit: "mV",
        ..Channel::bare(name, quantity, series.view())
    }
}

fn run(channels: &[Channel<'_>], events: &[Event]) -> Findings {
    check_station(&StationContext::alone(channels, events), &Settings::default())
}

/// A flag without its sentence: times in sentences change with the day.
fn bones(flag: &Flag, shift: i64) -> (i64, i64, Test, String, usize) {
    (flag.start.0 - shift, flag.end.0 - shift, flag.test, flag.grade.code().to_owned(), flag.readings)
}

type Faults = Vec<(Fault, usize, usize)>;

fn station() -> impl Strategy<Value = Vec<(Quantity, u64, Faults)>> {
    let one = (prop::sample::select(QUANTITIES.to_vec()), 0u64..1000, prop::collection::vec(fault(), 0..4));
    prop::collection::vec(one, 1..5)
}

fn series_of(station: &[(Quantity, u64, Faults)]) -> Vec<Series> {
    station.iter().map(|(quantity, seed, faults)| record(*quantity, 1600, *seed, faults)).collect()
}

const NAMES: [&str; 4] = ["a", "b", "c", "d"];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    /// A flag lies within its record, concerns readings that are there (or are missing there), and says so in whole words.
    #[test]
    fn flags_lie_where_the_record_is(station in station()) {
        let series = series_of(&station);
        let channels: Vec<_> = series.iter().zip(&station).zip(NAMES).map(|((s, (q, ..)), n)| channel(s, *q, n)).collect();
        let found = run(&channels, &[]);
        prop_assert_eq!(found.flags.len(), channels.len());
        for (flags, s) in found.flags.iter().zip(&series) {
            for f in flags {
                prop_assert!(f.start <= f.end && f.readings >= 1, "{:?}", f);
                prop_assert!(!f.reason.is_empty() && !f.reason.contains("NaN") && !f.reason.contains("inf"), "{}", f.reason);
                prop_assert!(f.strength.is_finite(), "{:?}", f);
                let (first, last) = (s.times[0], *s.times.last().unwrap());
                prop_assert!(f.start.0 >= first && f.end.0 <= last, "{:?} outside {first} to {last}", f);
                let there = s.times.iter().filter(|t| (f.start.0..=f.end.0).contains(*t)).count();
                let due = ((f.end.0 - f.start.0) / STEP + 1) as usize;
                let most = if f.test == Test::Gap { due } else { there };
                prop_assert!(f.readings <= most, "{} of {most}: {:?}", f.readings, f);
                let json = serde_json::to_string(&f.evidence).unwrap();
                prop_assert!(!json.contains("NaN"), "{json}");
            }
            prop_assert!(flags.windows(2).all(|w| w[0].start <= w[1].start), "in order");
        }
    }

    /// In which order a station's channels are listed says nothing of its soil.
    #[test]
    fn the_order_of_channels_does_not_matter(station in station(), turn in 1usize..4) {
        let series = series_of(&station);
        let mut channels: Vec<_> = series.iter().zip(&station).zip(NAMES).map(|((s, (q, ..)), n)| channel(s, *q, n)).collect();
        let plain = run(&channels, &[]).flags;
        let turn = turn % channels.len();
        channels.rotate_left(turn);
        let mut turned = run(&channels, &[]).flags;
        turned.rotate_right(turn);
        for (a, b) in plain.iter().zip(&turned) {
            let of = |flags: &[Flag]| flags.iter().map(|f| bones(f, 0)).collect::<Vec<_>>();
            prop_assert_eq!(of(a), of(b));
        }
    }

    /// The same record some whole days later is judged the same: no test knows a date.
    #[test]
    fn another_day_is_judged_alike(station in station(), days in 1i64..3000) {
        let series = series_of(&station);
        let later: Vec<Series> = series
            .iter()
            .map(|s| Series { times: s.times.iter().map(|t| t + days * DAY).collect(), values: s.values.clone() })
            .collect();
        let of = |series: &[Series], shift: i64| {
            let channels: Vec<_> = series.iter().zip(&station).zip(NAMES).map(|((s, (q, ..)), n)| channel(s, *q, n)).collect();
            let visit = UnixSeconds(500 * STEP + shift);
            let events = [Event { kind: EventKind::Visit, start: visit, end: visit }];
            let flags = run(&channels, &events).flags.into_iter();
            flags.map(|of| of.iter().map(|f| bones(f, shift)).collect::<Vec<_>>()).collect::<Vec<_>>()
        };
        prop_assert_eq!(of(&series, 0), of(&later, days * DAY));
    }

    /// Records too short to say anything are let pass; nothing that comes breaks the run.
    #[test]
    fn short_and_odd_records_are_let_pass(
        quantity in prop::sample::select(QUANTITIES.to_vec()),
        values in prop::collection::vec(prop_oneof![
            3 => -1e3f64..1e3, 1 => Just(0.0), 1 => Just(f64::NAN), 1 => Just(-0.0), 1 => Just(1e300), 1 => Just(-1e300),
        ], 0..8),
        step in prop_oneof![Just(1i64), Just(900), Just(86_400 * 30)],
    ) {
        let series = Series { times: (0..values.len() as i64).map(|i| i * step).collect(), values };
        let found = run(&[channel(&series, quantity, "a")], &[]);
        prop_assert_eq!(found.flags.len(), 1);
        for f in &found.flags[0] {
            prop_assert!(!f.reason.contains("NaN"), "{}", f.reason);
        }
    }
}

#[test]
fn a_constant_a_ramp_and_nothing_at_all_are_judged_without_a_spike_or_a_step() {
    for quantity in QUANTITIES {
        let (level, rise) = if quantity == Quantity::Rain { (0.0, 0.0) } else { (0.25, 1e-5) };
        let constant = Series { times: (0..2000).map(|i| i * STEP).collect(), values: vec![level; 2000] };
        let values = (0..2000).map(|i| level + rise * f64::from(i)).collect();
        let ramp = Series { times: constant.times.clone(), values };
        let empty = Series { times: Vec::new().into(), values: Vec::new() };
        let unknown = Series { times: constant.times.clone(), values: vec![f64::NAN; 2000] };
        for series in [&constant, &ramp, &empty, &unknown] {
            let flags = run(&[channel(series, quantity, "a")], &[]).flags.remove(0);
            let jumps = flags.iter().filter(|f| matches!(f.test, Test::Spike | Test::Step)).count();
            assert_eq!(jumps, 0, "{quantity:?}: {flags:?}");
        }
        assert!(run(&[channel(&empty, quantity, "a")], &[]).flags[0].is_empty());
    }
    assert!(run(&[], &[]).flags.is_empty(), "a station without channels");
}

#[test]
fn every_test_has_a_name_a_mark_and_settings_within_their_own_range() {
    let settings = Settings::default();
    let mut titles: Vec<&str> = Vec::new();
    for test in Test::ALL.iter().copied() {
        let definition = test.definition();
        assert!(!definition.title.is_empty() && !definition.mark.is_empty() && definition.mark.len() <= 2, "{test:?}");
        titles.push(definition.title);
        for setting in definition.settings {
            let mut own = settings;
            assert_eq!(own.set(test, setting.key, setting.default), Ok(()), "{test:?} {}", setting.key);
            assert_eq!(own, settings, "the usual number is what stands without one: {test:?} {}", setting.key);
            let (low, high) = (setting.range.min, setting.range.max);
            for edge in [low, high] {
                assert_eq!(own.set(test, setting.key, edge), Ok(()), "{test:?} {}", setting.key);
            }
            for beyond in [low - 1e-6 * low.abs().max(1.0), high + 1e-6 * high.abs().max(1.0), f64::NAN] {
                assert!(own.set(test, setting.key, beyond).is_err(), "{test:?} {} {beyond}", setting.key);
            }
        }
        assert!({ settings }.set(test, "no such key", 1.0).is_err());
    }
    titles.sort_unstable();
    titles.dedup();
    assert_eq!(titles.len(), Test::ALL.len(), "no two tests of one name");
}

#[test]
fn the_laws_are_not_about_nothing() {
    let faults =
        [(Fault::Spike, 300, 1), (Fault::Missing, 700, 20), (Fault::Zero, 1000, 30), (Fault::Stuck, 1200, 190)];
    let mut tests: Vec<Test> = Vec::new();
    for quantity in [Quantity::WaterContent, Quantity::RawOutput, Quantity::SoilTemperature] {
        let series = record(quantity, 1600, 5, &faults);
        tests.extend(run(&[channel(&series, quantity, "a")], &[]).flags.remove(0).iter().map(|f| f.test));
    }
    for test in [Test::Spike, Test::Gap, Test::Stuck] {
        assert!(tests.iter().filter(|t| **t == test).count() >= 3, "{test:?} among {tests:?}");
    }
}
