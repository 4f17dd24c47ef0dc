//! What comes on slowly or shows only between channels: each test finds its fault in a small made-up station, and lets pass what looks like it.

mod plot;

use ebrel_core::quality::{
    Channel, Delivery, Elsewhere, Event, EventKind, Evidence, Flag, Place, Reference, Repeat, Settings, StationContext,
    Test, check_station,
};
use ebrel_core::series::Series;
use ebrel_core::units::{Grade, Quantity, UnixSeconds};
use plot::{DAY, DAYS, STEP, STORMS, channel, heat, moisture, noise, rain, rounded, series, wetting};

fn flags(station: &StationContext<'_>, test: Test) -> Vec<Vec<Flag>> {
    let mut flags = check_station(station, &Settings::default()).flags;
    flags.iter_mut().for_each(|of| of.retain(|f| f.test == test));
    flags
}

fn alone(channels: &[Channel<'_>], test: Test) -> Vec<Vec<Flag>> {
    flags(&StationContext::alone(channels, &[]), test)
}

/// How many flags each channel has.
fn counts(flags: &[Vec<Flag>]) -> Vec<usize> {
    flags.iter().map(Vec::len).collect()
}

/// First and last day of a flag.
fn days(f: &Flag) -> (i64, i64) {
    (f.start.0 / 86_400, f.end.0 / 86_400)
}

#[test]
fn exchanged_ports_are_told_from_jump_to_jump_in_all_that_they_measure() {
    let (shallow, deep) = (moisture(1, 2, 0.1), moisture(2, 30, 0.05));
    let deep = series(|i| deep.values[i as usize] + 0.08);
    let (warm, cool) = (heat(5.0), heat(40.0));
    let swap = |a: &Series, b: &Series| {
        series(|i| if (40 * DAY..52 * DAY).contains(&i) { b.values[i as usize] } else { a.values[i as usize] })
    };
    let (a, b, c, d) = (swap(&shallow, &deep), swap(&deep, &shallow), swap(&warm, &cool), swap(&cool, &warm));
    let on = |s, q, name, depth, port| Channel { port, ..channel(s, q, name, depth) };
    let channels = [
        on(&a, Quantity::WaterContent, "5 cm", 5.0, "P1"),
        on(&b, Quantity::WaterContent, "40 cm", 40.0, "P2"),
        on(&c, Quantity::SoilTemperature, "5 cm", 5.0, "P1"),
        on(&d, Quantity::SoilTemperature, "40 cm", 40.0, "P2"),
    ];
    let found = alone(&channels, Test::SwappedPorts);
    assert_eq!(counts(&found), [1, 1, 1, 1]);
    for of in &found {
        assert_eq!((of[0].start.0 / STEP, of[0].end.0 / STEP), (40 * DAY, 52 * DAY - 1), "to the reading");
    }
    assert!(found[0][0].reason.contains("carries the probe of 40 cm"), "{}", found[0][0].reason);
    let sound = [
        on(&shallow, Quantity::WaterContent, "5 cm", 5.0, "P1"),
        on(&deep, Quantity::WaterContent, "40 cm", 40.0, "P2"),
    ];
    assert_eq!(
        counts(&alone(&sound, Test::SwappedPorts)),
        [0, 0],
        "both jump with rain, and not to each other's level"
    );
}

#[test]
fn a_wrong_depth_is_told_by_its_wave_and_what_the_wave_says() {
    let (five, twenty, wrong, hundred) = (heat(5.0), heat(20.0), heat(10.0), heat(45.0));
    let of = |s, name, depth| channel(s, Quantity::SoilTemperature, name, depth);
    let channels =
        [of(&five, "5 cm", 5.0), of(&twenty, "20 cm", 20.0), of(&wrong, "50 cm", 50.0), of(&hundred, "45 cm", 45.0)];
    let found = alone(&channels, Test::HeatMisorder);
    assert_eq!(counts(&found), [0, 0, 1, 0]);
    let Evidence::HeatMisorder(evidence) = found[2][0].evidence else { panic!("evidence of heat") };
    assert!((evidence.looks_like_cm.unwrap().get() - 10.0).abs() < 2.0, "{evidence:?}");
    assert!(found[2][0].reason.contains("about 10"), "{}", found[2][0].reason);
    let sound =
        [of(&five, "5 cm", 5.0), of(&wrong, "10 cm", 10.0), of(&twenty, "20 cm", 20.0), of(&hundred, "45 cm", 45.0)];
    assert_eq!(counts(&alone(&sound, Test::HeatMisorder)), [0; 4]);
    // Ice holds the shallow one at zero: its wave is gone, and says nothing.
    let curtain = series(|_| 0.05);
    let warm = heat(5.0);
    let below = series(|i| rounded(1.5 + 0.6 * warm.values[i as usize] / 7.0, 0.01).max(0.9));
    assert_eq!(counts(&alone(&[of(&curtain, "5 cm", 5.0), of(&below, "20 cm", 20.0)], Test::HeatMisorder)), [0, 0]);
}

#[test]
fn temperature_in_water_content_is_told_and_roots_are_not() {
    let warm = heat(5.0);
    let effect = series(|i| rounded(0.25 + 0.002 * (warm.values[i as usize] - 15.0) + 6e-4 * noise(3, i), 1e-4));
    // Roots draw by day from 6 h to 18 h and rest by night.
    let drawn = |i: i64| {
        let (day, hour) = (i / DAY, (i % DAY) as f64 / 4.0);
        day as f64 + ((hour - 6.0) / 12.0).clamp(0.0, 1.0)
    };
    let roots = series(|i| rounded(0.4 - 0.002 * drawn(i) + 6e-4 * noise(4, i), 1e-4));
    for (record, want) in [(&effect, 1), (&roots, 0)] {
        let probe = [
            Channel { port: "P1", ..channel(record, Quantity::WaterContent, "5 cm", 5.0) },
            Channel { port: "P1", ..channel(&warm, Quantity::SoilTemperature, "5 cm", 5.0) },
        ];
        let found = alone(&probe, Test::DailyWiggle);
        assert_eq!(found[0].len(), want, "{:?}", found[0]);
        if want == 1 {
            let Evidence::DailyWiggle(e) = found[0][0].evidence else { panic!("evidence of a wiggle") };
            assert!((e.per_k.get() - 0.002).abs() < 2e-4 && e.agreement.get() > 0.95, "{e:?}");
        }
        assert_eq!(counts(&alone(&probe[..1], Test::DailyWiggle)), [0], "without a thermometer nothing is judged");
    }
}

#[test]
fn twins_that_part_are_told_and_twins_that_always_differed_are_not() {
    let a = moisture(5, 2, 0.08);
    let twin = moisture(6, 2, 0.08);
    let drift = series(|i| twin.values[i as usize] + 0.0012 * ((i / DAY - 60).max(0) as f64));
    let other = series(|i| 0.9 * twin.values[i as usize] + 0.05);
    let pair =
        |b| [channel(&a, Quantity::WaterContent, "20 cm a", 20.0), channel(b, Quantity::WaterContent, "20 cm b", 20.4)];
    let found = alone(&pair(&drift), Test::PairApart);
    assert_eq!(counts(&found), [1, 1], "nobody can tell yet which of the two it is");
    let (from, to) = days(&found[0][0]);
    assert!((61..95).contains(&from) && to == DAYS - 1, "from {from} to {to}");
    assert_eq!(counts(&alone(&pair(&other), Test::PairApart)), [0, 0], "soils differ within a hand's width");
    let far =
        [channel(&a, Quantity::WaterContent, "20 cm", 20.0), channel(&drift, Quantity::WaterContent, "25 cm", 25.0)];
    assert_eq!(counts(&alone(&far, Test::PairApart)), [0, 0], "five centimetres are no pair");
}

#[test]
fn soil_that_wets_under_a_dry_sky_is_told_unless_somebody_or_something_brought_water() {
    let gauge = rain();
    let rises = |i: i64| if i >= 70 * DAY { 0.06 * (-((i - 70 * DAY) as f64) / 600.0).exp() } else { 0.0 };
    let sound = moisture(7, 2, 0.08);
    let s = series(|i| sound.values[i as usize] + rises(i));
    let with = |quantity, s| channel(s, quantity, "gauge", 0.0);
    let probe = channel(&s, Quantity::WaterContent, "10 cm", 10.0);
    let station = [probe.clone(), with(Quantity::Rain, &gauge)];
    let found = alone(&station, Test::RiseWithoutWater);
    assert_eq!(counts(&found), [1, 0]);
    assert_eq!(days(&found[0][0]).0, 70);
    assert!(found[0][0].reason.contains("no rain for"), "{}", found[0][0].reason);
    assert_eq!(counts(&alone(std::slice::from_ref(&probe), Test::RiseWithoutWater)), [0], "no gauge, no verdict");
    let at = |kind, day: i64| Event {
        kind,
        start: UnixSeconds((day * DAY - 2) * STEP),
        end: UnixSeconds((day * DAY + 4) * STEP),
    };
    for kind in [EventKind::Irrigation, EventKind::Visit] {
        let events = [at(kind, 70)];
        assert_eq!(
            counts(&flags(&StationContext::alone(&station, &events), Test::RiseWithoutWater)),
            [0, 0],
            "{kind:?}"
        );
    }
    // Snow that lay while it was cold melts without a drop in the gauge.
    let cold = series(|i| if (60 * DAY..69 * DAY).contains(&i) { -4.0 } else { 8.0 + 0.3 * noise(8, i) });
    let air = channel(&cold, Quantity::AirTemperature, "air", 0.0);
    assert_eq!(counts(&alone(&[probe, station[1].clone(), air], Test::RiseWithoutWater)), [0, 0, 0]);
}

#[test]
fn a_probe_that_sleeps_through_rain_is_told_and_one_that_the_water_did_not_reach_is_not() {
    let gauge = rain();
    let (upper, lower) = (moisture(9, 2, 0.1), moisture(10, 24, 0.06));
    let deaf = series(|i| rounded(0.2 + wetting(i, &STORMS[..5], 2, 0.1) + 6e-4 * noise(11, i), 1e-4));
    let dry_below = series(|i| rounded(0.2 + wetting(i, &STORMS[..5], 24, 0.06) + 6e-4 * noise(12, i), 1e-4));
    let of = |a, b| {
        let all = [
            channel(a, Quantity::WaterContent, "8 cm", 8.0),
            channel(b, Quantity::WaterContent, "30 cm", 30.0),
            channel(&gauge, Quantity::Rain, "gauge", 0.0),
        ];
        counts(&alone(&all, Test::MissesRain))
    };
    assert_eq!(of(&upper, &lower), [0, 0, 0]);
    assert_eq!(of(&deaf, &lower), [3, 0, 0], "what passed to 30 cm passed 8 cm");
    assert_eq!(of(&upper, &dry_below), [0, 0, 0], "the soil above may have kept it");
    assert_eq!(of(&deaf, &dry_below), [0, 0, 0], "leaves may keep a rain, and dry soil repels it: nobody felt it");
}

#[test]
fn a_rain_that_a_twin_does_not_feel_either_and_one_that_is_seldom_felt_are_let_pass() {
    let gauge = rain();
    let deaf = |seed: i64, storms: &'static [i64]| {
        series(move |i| rounded(0.2 + wetting(i, storms, 2, 0.1) + 6e-4 * noise(seed, i), 1e-4))
    };
    let below = moisture(16, 12, 0.07);
    let of = |a: &Series, twin: Option<&Series>| {
        let mut all = vec![
            channel(a, Quantity::WaterContent, "8 cm", 8.0),
            channel(&below, Quantity::WaterContent, "30 cm", 30.0),
            channel(&gauge, Quantity::Rain, "gauge", 0.0),
        ];
        all.extend(twin.map(|t| channel(t, Quantity::WaterContent, "8 cm b", 8.4)));
        counts(&alone(&all, Test::MissesRain))[0]
    };
    let (one, other, well) = (deaf(17, &STORMS[..6]), deaf(18, &STORMS[..6]), deaf(19, &STORMS));
    assert_eq!(of(&one, None), 2);
    assert_eq!(of(&one, Some(&well)), 2, "its twin felt what it missed");
    assert_eq!(
        of(&one, Some(&other)),
        0,
        "two probes at one depth do not fail at the same rain: it did not come there"
    );
    assert_eq!(of(&deaf(20, &STORMS[..3]), None), 0, "a probe that usually does not answer has nothing to miss");
}

#[test]
fn a_deep_probe_that_wets_first_is_told_after_a_second_rain() {
    let gauge = rain();
    let upper = moisture(13, 16, 0.1);
    let of = |storms: &[i64], lag: i64, with_gauge: bool| {
        let deep = series(|i| {
            let other: Vec<i64> = STORMS.iter().copied().filter(|d| !storms.contains(d)).collect();
            let v = 0.22 + wetting(i, storms, lag, 0.07) + wetting(i, &other, 60, 0.03);
            rounded(v + 6e-4 * noise(14, i), 1e-4)
        });
        let mut all = vec![
            channel(&upper, Quantity::WaterContent, "10 cm", 10.0),
            channel(&deep, Quantity::WaterContent, "50 cm", 50.0),
        ];
        all.extend(with_gauge.then(|| channel(&gauge, Quantity::Rain, "gauge", 0.0)));
        counts(&alone(&all, Test::WetsOutOfOrder))[1]
    };
    assert_eq!(of(&STORMS[2..6], 3, true), 4);
    assert_eq!(of(&STORMS[2..3], 3, true), 0, "once is chance");
    assert_eq!(of(&STORMS[2..6], 20, true), 0, "as fast as may be, and after the one above");
    assert_eq!(of(&STORMS[2..6], 3, false), 4, "without a gauge the wettings that 10 cm felt are the rains");
}

#[test]
fn what_a_hand_held_beside_the_probe_contradicts_is_told() {
    let s = heat(20.0);
    let at = |day: i64, off: f64, uncertainty| {
        let i = day * DAY + 40;
        Reference { time: UnixSeconds(i * STEP), value: s.values[i as usize] + off, uncertainty }
    };
    let references = [
        at(10, 0.1, Some(0.2)),
        at(40, -1.4, Some(0.2)),
        at(70, 0.8, None),
        Reference { time: UnixSeconds(900 * 86_400), value: 90.0, uncertainty: None },
    ];
    let probe = Channel { references: &references, ..channel(&s, Quantity::SoilTemperature, "20 cm", 20.0) };
    let found = alone(&[probe], Test::ReferenceApart);
    assert_eq!(found[0].iter().map(|f| days(f).0).collect::<Vec<_>>(), [40]);
    assert!(found[0][0].reason.starts_with("By hand"), "{}", found[0][0].reason);
}

#[test]
fn air_is_warm_by_the_sun_only_if_it_is_so_by_day_and_not_by_night() {
    let place = Some(Place { latitude: 47.0, longitude: 0.0 });
    let air = |i: i64| 12.0 + 6.0 * (std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.6)).cos();
    let shielded = series(|i| rounded(air(i) + 0.1 * noise(15, i), 0.1));
    let sun = |i: i64| (std::f64::consts::TAU * (i as f64 / DAY as f64 - 0.5)).cos().max(0.0);
    let lit = series(|i| rounded(air(i) + 3.0 * sun(i) + 0.1 * noise(16, i), 0.1));
    let warm = series(|i| rounded(air(i) + 1.5 + 0.1 * noise(17, i), 0.1));
    let of = |s, quantity| {
        let all = [channel(&shielded, Quantity::AirTemperature, "air", 0.0), channel(s, quantity, "other", 0.0)];
        flags(&StationContext { place, ..StationContext::alone(&all, &[]) }, Test::SunlitAir)
    };
    let bare = of(&lit, Quantity::BareAirTemperature);
    assert_eq!(counts(&bare), [0, 1]);
    assert_eq!(bare[1][0].grade, Grade::Condition, "it has no shield, and is what it is");
    let found = of(&lit, Quantity::AirTemperature);
    assert!(found[0].is_empty() && found[1].len() as i64 > DAYS - 5, "each day of the one that is lit");
    assert!(found[1].iter().all(|f| f.grade == Grade::Doubtful && f.end.0 - f.start.0 < 43_200));
    assert_eq!(counts(&of(&warm, Quantity::AirTemperature)), [0, 0], "warmer by day and night is an offset");
    let elsewhere =
        [Elsewhere { station: "Coupe", place, channel: channel(&shielded, Quantity::AirTemperature, "air", 0.0) }];
    let here = [channel(&lit, Quantity::AirTemperature, "air", 0.0)];
    let borrowed =
        flags(&StationContext { place, elsewhere: &elsewhere, ..StationContext::alone(&here, &[]) }, Test::SunlitAir);
    assert!(
        borrowed[0].len() as i64 > DAYS - 5 && borrowed[0][0].reason.contains("air at Coupe"),
        "{}",
        borrowed[0][0].reason
    );
    assert_eq!(counts(&alone(&here, Test::SunlitAir)), [0], "one thermometer alone is not judged");
}

#[test]
fn a_supply_under_its_knee_and_water_in_the_box_are_told() {
    let falls = series(|i| 12.8 - 0.4 * ((i / DAY) as f64 / 40.0).powi(2).min(4.0));
    let winter = series(|i| 12.5 + 0.3 * (i as f64 / 3000.0).cos());
    let of = |s, quantity, test| alone(&[channel(s, quantity, "health", 0.0)], test).remove(0);
    let low = of(&falls, Quantity::BatteryVoltage, Test::LowPower);
    assert_eq!((low.len(), low[0].grade), (1, Grade::Condition));
    assert!((60..75).contains(&days(&low[0]).0), "{:?}", days(&low[0]));
    assert_eq!(of(&winter, Quantity::BatteryVoltage, Test::LowPower), []);
    let wet = series(|i| if (50 * DAY..58 * DAY).contains(&i) { 92.0 } else { 30.0 + 4.0 * (i as f64 / 15.3).sin() });
    let damp = series(|i| 30.0 + (i / DAY) as f64 * 0.2 + 4.0 * (i as f64 / 15.3).sin());
    let found = of(&wet, Quantity::EnclosureHumidity, Test::WetBox);
    assert_eq!(found.iter().map(days).collect::<Vec<_>>(), [(50, 57)]);
    assert_eq!(of(&damp, Quantity::EnclosureHumidity, Test::WetBox), []);
}

#[test]
fn clocks_that_were_set_lost_or_drift_are_told_once_for_the_node() {
    let (a, b, c) = (heat(5.0), heat(20.0), moisture(18, 2, 0.1));
    let repeats = |s: &Series| -> Vec<Repeat> {
        let of = |i: i64| Repeat {
            time: UnixSeconds(i * STEP),
            first: s.values[i as usize],
            later: s.values[i as usize] + 0.3,
        };
        (50 * DAY..50 * DAY + 4).map(of).collect()
    };
    let (ra, rb, rc) = (repeats(&a), repeats(&b), repeats(&c));
    let hole = |s: &Series| {
        let keep = |i: &usize| !(20 * DAY..20 * DAY + 4).contains(&(*i as i64));
        Series {
            times: (0..s.times.len()).filter(keep).map(|i| s.times[i]).collect(),
            values: (0..s.times.len()).filter(keep).map(|i| s.values[i]).collect(),
        }
    };
    let (ha, hb, hc) = (hole(&a), hole(&b), hole(&c));
    let of = |s, q, name, repeats| Channel { repeats, ..channel(s, q, name, 5.0) };
    let set = [
        of(&ha, Quantity::SoilTemperature, "5 cm", ra.as_slice()),
        of(&hb, Quantity::SoilTemperature, "20 cm", rb.as_slice()),
        of(&hc, Quantity::WaterContent, "w", rc.as_slice()),
    ];
    let found = alone(&set, Test::Clock);
    assert_eq!(counts(&found), [2, 2, 2], "an hour that is missing and an hour that came twice");
    assert!(found[0][0].reason.contains("jumped ahead by 60 min") && found[0][1].reason.contains("set back by 60 min"));
    let one =
        [of(&a, Quantity::SoilTemperature, "5 cm", ra.as_slice()), of(&b, Quantity::SoilTemperature, "20 cm", &[])];
    assert_eq!(counts(&alone(&one, Test::Clock)), [0, 0], "one channel that came twice is no clock");

    let drift = |s: &Series| {
        let late = |t: i64| if t > 60 * 86_400 { (t - 60 * 86_400) * 6 / 86_400 } else { 0 };
        Series { times: s.times.iter().map(|t| t + late(*t)).collect(), values: s.values.clone() }
    };
    let (da, db) = (drift(&a), drift(&b));
    let drifting =
        [channel(&da, Quantity::SoilTemperature, "5 cm", 5.0), channel(&db, Quantity::SoilTemperature, "20 cm", 20.0)];
    let found = alone(&drifting, Test::Clock);
    assert_eq!(counts(&found), [1, 1]);
    let checked = drifting.clone().map(|c| Channel { clock_checked: true, ..c });
    assert_eq!(counts(&alone(&checked, Test::Clock)), [0, 0], "times that were corrected need keep no grid");
    let Evidence::Clock(e) = found[0][0].evidence else { panic!("evidence of a clock") };
    assert!((e.drift_s_per_day.get() - 6.0).abs() < 0.1, "{e:?}");

    let lost = Series {
        times: (-400_000..-399_990).map(|i| i * STEP).chain(a.times.iter().copied()).collect(),
        values: std::iter::repeat_n(15.0, 10).chain(a.values.iter().copied()).collect(),
    };
    let placed = (Some(UnixSeconds(0)), Some(UnixSeconds(DAYS * DAY * STEP)));
    let found = check_station(
        &StationContext::alone(&[Channel { placed, ..channel(&lost, Quantity::SoilTemperature, "5 cm", 5.0) }], &[]),
        &Settings::default(),
    );
    let of = |test| found.flags[0].iter().filter(|f| f.test == test).collect::<Vec<_>>();
    assert_eq!((of(Test::Clock).len(), of(Test::Clock)[0].readings, of(Test::Clock)[0].grade), (1, 10, Grade::Wrong));
    assert_eq!(of(Test::Gap).len(), 0, "between two ages there is no silence");
}

#[test]
fn what_arrived_after_later_readings_is_told_as_late_and_a_repeat_is_not() {
    let s = heat(5.0);
    let came = |first: i64, last: i64| Delivery {
        received_at: UnixSeconds(0),
        first: UnixSeconds(first * STEP),
        last: UnixSeconds(last * STEP),
    };
    let delivered =
        [came(0, 999), came(1100, 2000), came(1000, 1049), came(2001, 2100), came(1050, 1099), came(2101, 3000)];
    let probe = Channel { delivered: &delivered, ..channel(&s, Quantity::SoilTemperature, "5 cm", 5.0) };
    let found = alone(&[probe], Test::Late).remove(0);
    assert_eq!(
        found.iter().map(|f| (f.start.0 / STEP, f.end.0 / STEP, f.readings)).collect::<Vec<_>>(),
        [(1000, 1099, 100)]
    );
    assert_eq!(found[0].grade, Grade::Condition);
}

#[test]
fn a_burst_of_noise_is_told_and_a_stormy_front_or_a_stuck_probe_s_end_is_not() {
    let calm = moisture(19, 2, 0.1);
    let burst = series(|i| {
        let shake = if (800..860).contains(&i) { 0.01 * noise(20, i) } else { 0.0 };
        calm.values[i as usize] + shake
    });
    let found = alone(&[channel(&burst, Quantity::WaterContent, "10 cm", 10.0)], Test::Noise).remove(0);
    assert_eq!(found.len(), 1);
    assert!(
        (798..806).contains(&(found[0].start.0 / STEP)) && (852..862).contains(&(found[0].end.0 / STEP)),
        "{found:?}"
    );
    let sound = moisture(19, 2, 0.2);
    assert_eq!(counts(&alone(&[channel(&sound, Quantity::WaterContent, "10 cm", 10.0)], Test::Noise)), [0]);
    let stuck = series(|i| if (3000..5500).contains(&i) { 0.2 } else { sound.values[i as usize] });
    assert_eq!(counts(&alone(&[channel(&stuck, Quantity::WaterContent, "10 cm", 10.0)], Test::Noise)), [0]);
}
