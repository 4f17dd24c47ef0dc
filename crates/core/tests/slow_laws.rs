//! What holds for all tests together, over a station with everything: order, time, units, company, settings, odd records.

mod plot;

use ebrel_core::quality::{
    Channel, Elsewhere, Event, EventKind, Flag, Place, Reference, Repeat, Settings, StationContext, Test, check_station,
};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, SpanSeconds, UnixSeconds};
use plot::{DAY, DAYS, STEP, STORMS, channel, heat, moisture, noise, rain, rounded, series, wetting};

/// Records with a fault of most slow kinds, by name.
struct Plot {
    records: Vec<(&'static str, Quantity, f64, Series)>,
}

impl Plot {
    fn faulty() -> Self {
        let (warm, deep_warm, wrong) = (heat(5.0), heat(30.0), heat(9.0));
        let base = moisture(1, 2, 0.1);
        let felt = series(|i| base.values[i as usize] + 0.002 * (warm.values[i as usize] - 15.0));
        let deep = series(|i| rounded(0.22 + wetting(i, &STORMS[2..7], 1, 0.07) + 6e-4 * noise(2, i), 1e-4));
        let twin = moisture(3, 24, 0.06);
        let drift = series(|i| twin.values[i as usize] + 0.001 * ((i / DAY - 55).max(0) as f64));
        let shaken =
            series(|i| twin.values[i as usize] + if (3000..3050).contains(&i) { 0.02 * noise(4, i) } else { 0.0 });
        let air = |i: i64| 12.0 + 6.0 * (std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.6)).cos();
        let shielded = series(|i| rounded(air(i) + 0.1 * noise(5, i), 0.1));
        let sun = |i: i64| (std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.5)).cos().max(0.0);
        let lit = series(|i| rounded(air(i) + 3.0 * sun(i) + 0.1 * noise(6, i), 0.1));
        let damp = series(|i| if (50 * DAY..60 * DAY).contains(&i) { 93.0 } else { 30.0 + (i as f64 / 15.3).sin() });
        let supply = series(|i| 12.8 - if i > 100 * DAY { 1.6 } else { 0.0 });
        let records = vec![
            ("5 cm w", Quantity::WaterContent, 5.0, felt),
            ("5 cm t", Quantity::SoilTemperature, 5.0, warm),
            ("20 cm w", Quantity::WaterContent, 20.0, shaken),
            ("20 cm w b", Quantity::WaterContent, 20.4, drift),
            ("30 cm t", Quantity::SoilTemperature, 30.0, deep_warm),
            ("50 cm w", Quantity::WaterContent, 50.0, deep),
            ("50 cm t", Quantity::SoilTemperature, 50.0, wrong),
            ("air", Quantity::AirTemperature, 0.0, shielded),
            ("bare", Quantity::BareAirTemperature, 0.0, lit),
            ("rain", Quantity::Rain, 0.0, rain()),
            ("box", Quantity::EnclosureHumidity, 0.0, damp),
            ("supply", Quantity::BatteryVoltage, 0.0, supply),
        ];
        Self { records }
    }

    fn channels(&self) -> Vec<Channel<'_>> {
        self.records.iter().map(|(name, quantity, depth, s)| channel(s, *quantity, name, *depth)).collect()
    }

    fn shifted(&self, seconds: i64) -> Self {
        let later =
            |s: &Series| Series { times: s.times.iter().map(|t| t + seconds).collect(), values: s.values.clone() };
        Self { records: self.records.iter().map(|(n, q, d, s)| (*n, *q, *d, later(s))).collect() }
    }
}

/// What a flag is, without its words.
type Bones = (String, Test, i64, i64, usize);

fn bones(channels: &[Channel<'_>], shift: i64) -> Vec<Bones> {
    let flags = check_station(&StationContext::alone(channels, &[]), &Settings::default()).flags;
    let one = |c: &Channel<'_>, f: &Flag| (c.name.to_owned(), f.test, f.start.0 - shift, f.end.0 - shift, f.readings);
    let mut all: Vec<Bones> =
        channels.iter().zip(&flags).flat_map(|(c, of)| of.iter().map(|f| one(c, f)).collect::<Vec<_>>()).collect();
    all.sort();
    all
}

#[test]
fn the_plot_shows_what_these_laws_are_about() {
    let plot = Plot::faulty();
    let found = bones(&plot.channels(), 0);
    for test in [
        Test::DailyWiggle,
        Test::HeatMisorder,
        Test::PairApart,
        Test::Noise,
        Test::WetsOutOfOrder,
        Test::SunlitAir,
        Test::WetBox,
        Test::LowPower,
    ] {
        assert!(found.iter().any(|f| f.1 == test), "{test:?} is not among {found:?}");
    }
}

#[test]
fn the_order_of_channels_says_nothing() {
    let plot = Plot::faulty();
    let channels = plot.channels();
    let plain = bones(&channels, 0);
    for turn in [1, 5, 9] {
        let mut turned = channels.clone();
        turned.rotate_left(turn);
        assert_eq!(bones(&turned, 0), plain, "turned by {turn}");
    }
    let mut back = channels;
    back.reverse();
    assert_eq!(bones(&back, 0), plain);
}

#[test]
fn whole_days_later_all_is_judged_alike() {
    let plot = Plot::faulty();
    let plain = bones(&plot.channels(), 0);
    for days in [1, 400, -9000] {
        let later = plot.shifted(days * 86_400);
        assert_eq!(bones(&later.channels(), days * 86_400), plain, "{days} days");
    }
}

#[test]
fn a_sound_channel_more_changes_nothing_that_was_said() {
    let plot = Plot::faulty();
    let mut channels = plot.channels();
    let plain = bones(&channels, 0);
    // Another kind at a depth of its own, and a radio: neither neighbour nor twin of anything.
    let salt = series(|i| rounded(0.8 + 0.02 * noise(30, i), 1e-3));
    let radio = series(|i| (-90.0 + noise(31, i)).round());
    channels.push(channel(&salt, Quantity::ElectricalConductivity, "salt", 70.0));
    channels.push(channel(&radio, Quantity::SignalStrength, "radio", 0.0));
    let mut with: Vec<Bones> = bones(&channels, 0);
    with.retain(|f| f.0 != "salt" && f.0 != "radio");
    assert_eq!(with, plain);
}

#[test]
fn raw_output_is_judged_alike_in_any_unit() {
    let plot = Plot::faulty();
    let scaled = |factor: f64, offset: f64| -> Vec<Bones> {
        let records: Vec<Series> = plot
            .records
            .iter()
            .map(|(_, q, _, s)| {
                let turn = |v: &f64| if *q == Quantity::WaterContent { v * factor + offset } else { *v };
                Series { times: s.times.clone(), values: s.values.iter().map(turn).collect() }
            })
            .collect();
        let raw = |q: Quantity| if q == Quantity::WaterContent { Quantity::RawOutput } else { q };
        let channels: Vec<Channel<'_>> =
            plot.records.iter().zip(&records).map(|((n, q, d, _), s)| channel(s, raw(*q), n, *d)).collect();
        let tests = [Test::Noise, Test::Spike, Test::Step, Test::PairApart, Test::Stuck, Test::MissesRain];
        bones(&channels, 0).into_iter().filter(|f| tests.contains(&f.1)).collect()
    };
    let plain = scaled(1024.0, 0.0);
    assert!(plain.iter().any(|f| f.1 == Test::PairApart) && plain.iter().any(|f| f.1 == Test::Noise));
    assert_eq!(scaled(1024.0 * 64.0, 4096.0), plain);
}

#[test]
fn every_number_at_either_end_of_its_range_still_gives_an_answer() {
    let plot = Plot::faulty();
    let channels = plot.channels();
    for test in Test::ALL.iter().copied() {
        for setting in test.definition().settings {
            for edge in [setting.range.min, setting.range.max] {
                let mut own = Settings::default();
                own.set(test, setting.key, edge).unwrap();
                let found = check_station(&StationContext::alone(&channels, &[]), &own);
                for f in found.flags.iter().flatten() {
                    assert!(f.start <= f.end && f.strength.is_finite(), "{test:?} {} at {edge}: {f:?}", setting.key);
                    assert!(!f.reason.contains("NaN") && !f.reason.contains("inf"), "{}", f.reason);
                }
            }
        }
    }
}

/// Takes every nth reading.
fn thinned(s: &Series, every: usize) -> Series {
    Series {
        times: s.times.iter().step_by(every).copied().collect(),
        values: s.values.iter().step_by(every).copied().collect(),
    }
}

#[test]
fn odd_records_are_judged_or_let_pass() {
    let plot = Plot::faulty();
    let of = |change: &dyn Fn(&Series) -> Series, interval: i64| {
        let records: Vec<Series> = plot.records.iter().map(|r| change(&r.3)).collect();
        let channels: Vec<Channel<'_>> = plot
            .records
            .iter()
            .zip(&records)
            .map(|((n, q, d, _), s)| Channel { interval: Some(SpanSeconds(interval)), ..channel(s, *q, n, *d) })
            .collect();
        let found = check_station(&StationContext::alone(&channels, &[]), &Settings::default());
        for (c, f) in channels.iter().zip(&found.flags).flat_map(|(c, of)| of.iter().map(move |f| (c, f))) {
            let (first, last) = (c.view.times[0], *c.view.times.last().unwrap());
            assert!(f.start.0 >= first && f.end.0 <= last, "{} {f:?}", c.name);
            assert!(!f.reason.contains("NaN"), "{}", f.reason);
        }
        found
    };
    // Once a day, as by hand; every four hours; a minute.
    for (every, interval) in [(96, 86_400), (16, 14_400), (1, 60)] {
        let quick = interval == 60;
        let change = |s: &Series| {
            let mut s = thinned(s, every);
            if quick {
                s.times = s.times.iter().map(|t| t / 15).collect();
            }
            s
        };
        of(&change, interval);
    }
    // An interval that changes half-way, and three months of silence.
    of(
        &|s| {
            let n = s.times.len();
            let keep = |i: &usize| *i < n / 2 || i.is_multiple_of(4);
            Series {
                times: (0..n).filter(keep).map(|i| s.times[i]).collect(),
                values: (0..n).filter(keep).map(|i| s.values[i]).collect(),
            }
        },
        STEP,
    );
    let silent = of(
        &|s| {
            let keep = |i: &usize| !(10 * DAY..100 * DAY).contains(&(*i as i64));
            Series {
                times: (0..s.times.len()).filter(keep).map(|i| s.times[i]).collect(),
                values: (0..s.times.len()).filter(keep).map(|i| s.values[i]).collect(),
            }
        },
        STEP,
    );
    assert!(silent.flags.iter().all(|of| of.iter().any(|f| f.test == Test::Gap)), "each channel says its silence");
    // Three days, and one reading.
    of(&|s| Series { times: s.times[..288].into(), values: s.values[..288].to_vec() }, STEP);
    of(&|s| Series { times: s.times[..1].into(), values: s.values[..1].to_vec() }, STEP);
    // Steps as coarse as half a kelvin and a hundredth of water, and one value for ever.
    of(&|s| Series { times: s.times.clone(), values: s.values.iter().map(|v| rounded(*v, 0.01)).collect() }, STEP);
    of(&|s| Series { times: s.times.clone(), values: s.values.iter().map(|v| rounded(*v, 0.5)).collect() }, STEP);
    of(&|s| Series { times: s.times.clone(), values: vec![0.25; s.values.len()] }, STEP);
}

#[test]
fn ten_thousand_of_everything_is_no_trouble() {
    let plot = Plot::faulty();
    let repeats: Vec<Repeat> =
        (0..10_000).map(|i| Repeat { time: UnixSeconds(i * STEP), first: 0.2, later: 0.21 }).collect();
    let references: Vec<Reference> =
        (0..10_000).map(|i| Reference { time: UnixSeconds(i * STEP), value: 0.9, uncertainty: Some(0.01) }).collect();
    let visits: Vec<Event> = (0..10_000)
        .map(|i| {
            let kind = if i % 2 == 0 { EventKind::Irrigation } else { EventKind::Visit };
            Event { kind, start: UnixSeconds(i * STEP), end: UnixSeconds(i * STEP + 600) }
        })
        .collect();
    let drip = series(|i| if i % 3 == 0 { 0.4 } else { 0.0 });
    let mut channels = plot.channels();
    channels[0] = Channel { repeats: &repeats, references: &references, ..channels[0].clone() };
    channels.push(channel(&drip, Quantity::Irrigation, "drip", 0.0));
    let found = check_station(&StationContext::alone(&channels, &visits), &Settings::default());
    let of = |test: Test| found.flags[0].iter().filter(|f| f.test == test).count();
    assert!(of(Test::ReferenceApart) > 9_000, "each contradicts: {}", of(Test::ReferenceApart));
    assert_eq!(of(Test::Repeated), 1, "they lie side by side");
    assert!(found.flags.iter().flatten().all(|f| f.test != Test::RiseWithoutWater), "it is watered all the time");
    assert_eq!(of(Test::Clock), 0, "one channel that came twice is no clock");
}

#[test]
fn of_two_stations_with_a_thermometer_the_nearer_is_borrowed() {
    let air = |i: i64| 12.0 + 6.0 * (std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.6)).cos();
    let shielded = series(|i| rounded(air(i) + 0.1 * noise(40, i), 0.1));
    let sun = |i: i64| (std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.5)).cos().max(0.0);
    let lit = series(|i| rounded(air(i) + 4.0 * sun(i) + 0.1 * noise(41, i), 0.1));
    let at = |latitude| Some(Place { latitude, longitude: 0.0 });
    let of = |station, place| Elsewhere {
        station,
        place,
        channel: channel(&shielded, Quantity::AirTemperature, "air", 0.0),
    };
    let here = [channel(&lit, Quantity::AirTemperature, "air", 0.0)];
    let both = [of("far", at(48.0)), of("unknown", None), of("near", at(47.01))];
    let station = StationContext { place: at(47.0), elsewhere: &both, ..StationContext::alone(&here, &[]) };
    let found = check_station(&station, &Settings::default()).flags;
    let told: Vec<&Flag> = found[0].iter().filter(|f| f.test == Test::SunlitAir).collect();
    assert!(told.len() as i64 > DAYS - 5, "{}", told.len());
    assert!(told.iter().all(|f| f.reason.contains("air at near")), "{}", told[0].reason);
}
