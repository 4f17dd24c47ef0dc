//! A clock that drifts off its program's grid: the checks that its mend assumes bring every stamp back.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

mod plot;

use ebrel_core::field::{Clock, ClockCheck};
use ebrel_core::quality::{Cause, CauseKind, Channel, Mend, Settings, StationContext, Test, check_station};
use ebrel_core::series::Series;
use ebrel_core::units::{Quantity, UnixSeconds};
use plot::{DAY, DAYS, STEP, channel, heat, moisture, rain};

const SECONDS: i64 = 86_400;

/// The stamps of a clock that runs `per_day` s a day too fast from day `from` to day `to`, and is set right then.
fn stamped(of: &Series, per_day: f64, from: i64, to: i64) -> Series {
    let shown = |t: &i64| {
        let drifts = (from * SECONDS..to * SECONDS).contains(t);
        if drifts { t + ((t - from * SECONDS) as f64 / SECONDS as f64 * per_day).round() as i64 } else { *t }
    };
    let mut readings: Vec<(i64, f64)> = of.times.iter().map(shown).zip(of.values.iter().copied()).collect();
    readings.sort_by_key(|r| r.0);
    readings.dedup_by_key(|r| r.0);
    let (times, values): (Vec<i64>, Vec<f64>) = readings.into_iter().unzip();
    Series { times: times.into(), values }
}

/// Causes of a node of three channels with such a clock.
fn causes(per_day: f64, from: i64, to: i64) -> (Vec<Cause>, Series) {
    let all = [heat(5.0), heat(20.0), moisture(1, 2, 0.1)].map(|s| stamped(&s, per_day, from, to));
    // The gauge has a clock of its own, which is right.
    let gauge = rain();
    let channels = [
        Channel { node: "gauge", ..channel(&gauge, Quantity::Rain, "gauge", 0.0) },
        channel(&all[0], Quantity::SoilTemperature, "5 cm", 5.0),
        channel(&all[1], Quantity::SoilTemperature, "20 cm", 20.0),
        channel(&all[2], Quantity::WaterContent, "w", 5.0),
    ];
    let mut found = check_station(&StationContext::alone(&channels, &[]), &Settings::default()).causes;
    found.retain(|c| c.kind == CauseKind::ClockWrong);
    let [first, ..] = all;
    (found, first)
}

fn checks(found: &[Cause]) -> Vec<ClockCheck> {
    let [Cause { mend: Some(Mend::Clock { node, checks }), .. }] = found else { panic!("one mend: {found:?}") };
    assert_eq!(node, "node 01");
    checks.clone()
}

/// Stamps that stand more than two seconds off the grid once they are corrected.
fn off(of: &Series, checks: &[ClockCheck]) -> usize {
    let clock = Clock::new(UnixSeconds(-1), checks).unwrap();
    let corrected = of.times.iter().map(|t| clock.corrected(UnixSeconds(*t)).0);
    corrected.filter(|t| ((t + STEP / 2).rem_euclid(STEP) - STEP / 2).abs() > 2).count()
}

#[test]
fn a_fast_and_a_slow_clock_come_back_to_the_grid_from_where_they_left_it() {
    for per_day in [4.0, 6.5, 12.0, -5.0, -9.0] {
        let (found, shown) = causes(per_day, 30, 90);
        let checks = checks(&found);
        assert_eq!(checks.len(), 2);
        let begins = (checks[0].shown.0 as f64 / SECONDS as f64 - 30.0).abs();
        assert!(begins < 0.6, "{per_day} s a day: begins {begins} days off");
        assert_eq!(checks[0].ahead().0, 0, "right where it begins");
        let total = per_day * 60.0;
        assert!((checks[1].ahead().0 as f64 - total).abs() <= 3.0, "{per_day}: {:?} of {total}", checks[1].ahead());
        assert!(checks[1].set, "and set right then");
        assert!(off(&shown, &[]) > 5000, "as it came it is off the grid for months");
        assert!(off(&shown, &checks) <= 1, "{per_day}: {} are off", off(&shown, &checks));
    }
}

#[test]
fn a_drift_of_more_than_an_interval_is_followed_past_the_grid() {
    // 1,140 s in 95 days: after 75 days its stamps stand on the grid again, one record late.
    let (found, shown) = causes(12.0, 10, 105);
    let checks = checks(&found);
    assert!((checks[1].ahead().0 - 1140).abs() <= 3, "{checks:?}");
    assert!(off(&shown, &checks) <= 2);
}

#[test]
fn a_clock_that_stands_off_its_grid_is_told_and_moved_by_nobody() {
    // From day 40 to 80 it is five minutes late, evenly.
    let late = |t: i64| if (40 * SECONDS..80 * SECONDS).contains(&t) { t + 300 } else { t };
    let warm = heat(5.0);
    let of = Series { times: warm.times.iter().map(|t| late(*t)).collect(), values: warm.values.clone() };
    let channels = ["a", "b", "c"].map(|name| channel(&of, Quantity::SoilTemperature, name, 5.0));
    let found = check_station(&StationContext::alone(&channels, &[]), &Settings::default());
    let clock: Vec<_> = found.flags[0].iter().filter(|f| f.test == Test::Clock).collect();
    assert_eq!(clock.len(), 1);
    assert!(clock[0].reason.contains("stand 5 min after their grid for 40 days"), "{}", clock[0].reason);
    assert!(found.causes.iter().all(|c| c.mend.is_none()), "nobody knows when it left: {:?}", found.causes);
}

#[test]
fn a_drift_to_the_record_s_end_is_corrected_to_there() {
    let (found, shown) = causes(5.0, 40, DAYS + 1);
    let checks = checks(&found);
    assert_eq!(checks[1].shown.0, *shown.times.last().unwrap());
    assert_eq!(off(&shown, &checks), 0);
}

#[test]
fn a_clock_that_also_began_anew_offers_no_mend() {
    // Ten records of another age beside the drift: nobody knows what it showed.
    let (_, drifted) = causes(6.0, 30, 90);
    let lost = Series {
        times: (-400_000..-399_990).map(|i| i * STEP).chain(drifted.times.iter().copied()).collect(),
        values: std::iter::repeat_n(15.0, 10).chain(drifted.values.iter().copied()).collect(),
    };
    let placed = (Some(UnixSeconds(0)), Some(UnixSeconds(DAYS * DAY * STEP)));
    let channels =
        ["a", "b", "c"].map(|name| Channel { placed, ..channel(&lost, Quantity::SoilTemperature, name, 5.0) });
    let found = check_station(&StationContext::alone(&channels, &[]), &Settings::default()).causes;
    let clocks: Vec<&Cause> = found.iter().filter(|c| c.kind == CauseKind::ClockWrong).collect();
    assert_eq!(clocks.len(), 2, "two things: {clocks:?}");
    assert_eq!(clocks.iter().filter(|c| c.mend.is_some()).count(), 1, "the drift can be mended, the other age cannot");
    let early = clocks.iter().find(|c| c.end < UnixSeconds(0)).unwrap();
    assert!(early.mend.is_none() && early.against.is_empty());
}

#[test]
fn a_sound_clock_and_one_within_a_minute_of_its_grid_are_let_pass() {
    assert!(causes(0.0, 30, 90).0.is_empty());
    assert!(causes(0.4, 30, 90).0.is_empty(), "24 s are what programs jitter");
}
