//! What a test must doubt: long silences, frozen ground, twins at strange levels, and stations that no gauge tells of rain.

mod plot;

use ebrel_core::quality::{Channel, Evidence, Figure, Flag, Settings, StationContext, Test, check_station};
use ebrel_core::series::Series;
use ebrel_core::units::Quantity;
use plot::{DAY, STEP, STORMS, channel, heat, moisture, noise, rain, rounded, series, wetting};

fn found(channels: &[Channel<'_>], of: usize, test: Test) -> Vec<Flag> {
    let mut flags = check_station(&StationContext::alone(channels, &[]), &Settings::default()).flags.swap_remove(of);
    flags.retain(|f| f.test == test);
    flags
}

/// How many flags of a test each channel has.
fn counts(channels: &[Channel<'_>], test: Test) -> Vec<usize> {
    (0..channels.len()).map(|of| found(channels, of, test).len()).collect()
}

fn moist<'a>(s: &'a Series, name: &'a str, depth: f64) -> Channel<'a> {
    channel(s, Quantity::WaterContent, name, depth)
}

#[test]
fn a_silence_of_many_rains_does_not_become_the_probe_s_habit() {
    // It answers the first rains and the last, and sleeps through the four between: half of all.
    let asleep = 30 * DAY..80 * DAY;
    let awake: Vec<i64> = STORMS.iter().copied().filter(|d| !asleep.contains(&(d * DAY))).collect();
    let answers = series(|i| {
        let fresh = rounded(0.2 + wetting(i, &awake, 2, 0.1) + 6e-4 * noise(1, i), 1e-4);
        if asleep.contains(&i) { rounded(0.2 + 6e-4 * noise(1, i), 1e-4) } else { fresh }
    });
    let (deeper, gauge) = (moisture(2, 30, 0.05), rain());
    let station =
        [moist(&answers, "10 cm", 10.0), moist(&deeper, "30 cm", 30.0), channel(&gauge, Quantity::Rain, "gauge", 0.0)];
    let missed = found(&station, 0, Test::MissesRain);
    let days: Vec<i64> = missed.iter().map(|f| f.start.0 / 86_400).collect();
    let slept: Vec<i64> = STORMS.iter().copied().filter(|d| asleep.contains(&(d * DAY))).collect();
    assert_eq!(days, slept, "each rain of the silence");
    assert!(
        missed[0].reason.contains("in 100"),
        "the share is that of the rains around the silence: {}",
        missed[0].reason
    );
    assert!(found(&station, 1, Test::WetsOutOfOrder).is_empty(), "a probe that sleeps says nothing of who came first");
    // Without a deeper probe that felt it, nobody knows whether the water came so far.
    let alone = [station[0].clone(), station[2].clone()];
    assert!(found(&alone, 0, Test::MissesRain).is_empty());
}

#[test]
fn soil_that_stays_below_zero_takes_up_no_water_and_soil_that_thaws_may() {
    let gauge = series(|i| if i < 4 { 3.0 } else { 0.0 });
    let rise = |i: i64| if i >= 70 * DAY { 0.1 * ((i - 70 * DAY) as f64 / 8.0).min(1.0) } else { 0.0 };
    let probe = series(|i| rounded(0.2 + rise(i) + 6e-4 * noise(3, i), 1e-4));
    let other = series(|i| rounded(0.3 + 6e-4 * noise(4, i), 1e-4));
    let air = series(|i| -6.0 + 3.0 * (std::f64::consts::TAU * i as f64 / DAY as f64).cos());
    let told = |soil: &Series| {
        let station = [
            moist(&probe, "10 cm", 10.0),
            moist(&other, "5 cm", 5.0),
            channel(soil, Quantity::SoilTemperature, "10 cm warm", 10.0),
            channel(&air, Quantity::AirTemperature, "air", 0.0),
            channel(&gauge, Quantity::Rain, "gauge", 0.0),
        ];
        found(&station, 0, Test::RiseWithoutWater).len()
    };
    let cold = series(|i| rounded(-3.0 + 0.3 * (std::f64::consts::TAU * i as f64 / DAY as f64).sin(), 0.01));
    assert_eq!(told(&cold), 1, "ice that melts would hold it at zero");
    let thaws = series(|i| rounded((-3.0 + 0.05 * (i as f64 / DAY as f64 - 9.0)).min(0.4), 0.01));
    assert_eq!(told(&thaws), 0, "it stands at zero just then");
}

#[test]
fn twins_may_differ_by_the_slopes_of_their_curves_where_they_were_never_compared() {
    // For 80 days wet, then it dries as never before; the second probe's curve is a tenth flatter.
    let level = |i: i64| 0.36 - 0.22 * ((i - 80 * DAY).max(0) as f64 / (20.0 * DAY as f64)).min(1.0);
    let a = series(|i| rounded(level(i) + 4e-4 * noise(5, i), 1e-4));
    let flatter = series(|i| rounded(0.036 + 0.9 * level(i) + 4e-4 * noise(6, i), 1e-4));
    // The same in what it differs by, at levels that both had before.
    let astray = series(|i| rounded(0.36 - (level(i) - 0.36) * 0.1 + 4e-4 * noise(6, i), 1e-4));
    let still = series(|i| rounded(0.36 + 4e-4 * noise(5, i), 1e-4));
    let pair = |a: &Series, b: &Series| {
        found(&[moist(a, "20 cm a", 20.0), moist(b, "20 cm b", 20.4)], 0, Test::PairApart).len()
    };
    assert_eq!(pair(&a, &flatter), 0, "a curve's slope, not a drift");
    assert_eq!(pair(&still, &astray), 1, "it left the level at which the other stays");
    assert_eq!(pair(&astray, &still), 1, "whichever stands first");
}

#[test]
fn moisture_that_crosses_in_a_storm_is_no_exchange_though_no_gauge_tells_of_it() {
    // A third probe moves with them: where both cross it rains.
    let swap = |own: f64, other: f64, i: i64| if (40 * DAY..52 * DAY).contains(&i) { other } else { own };
    let (a, b) =
        (series(|i| swap(0.2, 0.3, i) + 6e-4 * noise(1, i)), series(|i| swap(0.3, 0.2, i) + 6e-4 * noise(2, i)));
    let calm = series(|i| 0.25 + 6e-4 * noise(3, i));
    let storms = series(|i| 0.25 + wetting(i, &[40, 52], -DAY / 2, 0.1) + 6e-4 * noise(3, i));
    let told = |third: &Series| {
        let on = |s, name, depth, port| Channel { port, ..moist(s, name, depth) };
        let station = [on(&a, "5 cm", 5.0, "P1"), on(&b, "15 cm", 15.0, "P2"), on(third, "30 cm", 30.0, "P3")];
        found(&station, 0, Test::SwappedPorts).len()
    };
    assert_eq!((told(&calm), told(&storms)), (1, 0));
}

#[test]
fn where_no_gauge_tells_the_uppermost_probe_may_be_the_first_that_a_front_reaches() {
    let jump = |drains: f64| {
        series(move |i| {
            let since = i - 50 * DAY;
            let wet = if since < 0 { 0.0 } else { 0.08 * (-since as f64 / drains).exp() };
            rounded(0.2 + wet + 6e-4 * noise(1, i), 1e-4)
        })
    };
    let deeper = series(|i| rounded(0.3 + 6e-4 * noise(2, i), 1e-4));
    let told = |s: &Series, gauge: Option<&Series>, depth: f64| {
        let mut station = vec![moist(s, "upper", depth), moist(&deeper, "other", 30.0)];
        station.extend(gauge.map(|g| channel(g, Quantity::Rain, "gauge", 0.0)));
        found(&station, 0, Test::Step).len()
    };
    let dry = series(|_| 0.0);
    assert_eq!(told(&jump(80.0), None, 10.0), 0, "it drains as soil does");
    assert_eq!(told(&jump(1e6), None, 10.0), 1, "it stays");
    assert_eq!(told(&jump(80.0), Some(&dry), 10.0), 1, "a gauge knows that it was dry");
    assert_eq!(told(&jump(80.0), None, 60.0), 1, "a front would have come past the other first");
}

#[test]
fn rain_may_fill_and_leave_a_sandy_topsoil_by_as_much_as_fell() {
    let at = 60 * DAY;
    let spike = series(|i| rounded(0.15 + if i == at { 0.06 } else { 0.0 } + 6e-4 * noise(1, i), 1e-4));
    let told = |mm: f64| {
        let gauge = series(|i| if i == at { mm } else { 0.0 });
        found(&[moist(&spike, "5 cm", 5.0), channel(&gauge, Quantity::Rain, "gauge", 0.0)], 0, Test::Spike).len()
    };
    assert_eq!(told(4.0), 0, "4 mm in the upper 50 mm are 0.08 m³/m³");
    assert_eq!(told(1.0), 1, "1 mm is 0.02");
    assert_eq!(told(0.0), 1);
}

#[test]
fn a_day_and_night_of_warmth_is_no_rain() {
    let warm = heat(5.0);
    let effect = series(|i| rounded(0.2 + 0.001 * (warm.values[i as usize] - 15.0) + 6e-4 * noise(1, i), 1e-4));
    let dry = series(|_| 0.0);
    let station = [moist(&effect, "5 cm", 5.0), channel(&dry, Quantity::Rain, "gauge", 0.0)];
    assert!(found(&station, 0, Test::RiseWithoutWater).is_empty());
    assert_eq!(warm.times[1] - warm.times[0], STEP);
}

#[test]
fn a_probe_whose_depth_heat_contradicts_is_judged_where_heat_puts_it() {
    // Labels of 5 and 40 cm are exchanged; the one that lies at 5 cm wets first, which is in order.
    let (five, twenty, forty) = (heat(5.0), heat(20.0), heat(40.0));
    let (top, middle, low) = (moisture(1, 2, 0.1), moisture(2, 20, 0.07), moisture(3, 60, 0.05));
    let gauge = rain();
    let probe = |moist, warm, name, depth| {
        [(moist, Quantity::WaterContent), (warm, Quantity::SoilTemperature)]
            .map(|(s, q)| Channel { port: name, ..channel(s, q, name, depth) })
    };
    let station = |a: f64, b: f64| {
        let probes = [probe(&top, &five, "A", a), probe(&middle, &twenty, "B", 20.0), probe(&low, &forty, "C", b)];
        let mut all: Vec<Channel<'_>> = probes.into_iter().flatten().collect();
        all.push(channel(&gauge, Quantity::Rain, "gauge", 0.0));
        all
    };
    for (a, b, wrong) in [(5.0, 40.0, [0, 0, 0]), (40.0, 5.0, [1, 0, 1])] {
        let channels = station(a, b);
        let heat = counts(&channels, Test::HeatMisorder);
        assert_eq!([heat[0], heat[2], heat[4]], wrong, "each port is told with all that it measures");
        assert_eq!(heat[1], heat[0]);
        assert_eq!(counts(&channels, Test::WetsOutOfOrder), [0; 7], "one cause is told once");
        assert_eq!(counts(&channels, Test::RiseWithoutWater), [0; 7]);
    }
    let Evidence::HeatMisorder(e) = found(&station(40.0, 5.0), 0, Test::HeatMisorder)[0].evidence else {
        panic!("evidence of heat")
    };
    assert_eq!(e.looks_like_cm.map(Figure::get), Some(5.0), "the other's depth, where one sound depth draws no line");
}
