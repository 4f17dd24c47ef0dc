//! Laws of findings: what must hold whatever the record says.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::calibration::Curve;
use ebrel_core::findings::climate::{DayExtremes, extremes, months, seasons};
use ebrel_core::findings::heat::{Method, damping, diffusivities};
use ebrel_core::findings::{
    ALWAYS, BlockBootstrap, Counts, Grid, Inflow, Paired, Part, Point, Profile, StorageSeries, Track, WettingRules,
    arrivals, before_after, block_length, buffering, capacity_as_seen, compare, falls, paired, sums, two_segments,
    wettings,
};
use ebrel_core::series::{Hours, View};
use ebrel_core::units::{SpanSeconds, UnixSeconds};
use ebrel_core::water::{VanGenuchten, fit_retention, layer_weights};
use proptest::prelude::*;
use std::f64::consts::TAU;

const QUARTER: i64 = 900;
const DAY: i64 = 86_400;
/// 1 March 2024.
const START: i64 = 1_709_251_200;

fn grid(first: i64, len: usize, step: i64) -> Grid {
    Grid::over(UnixSeconds(first), UnixSeconds(first + (len as i64 - 1) * step), SpanSeconds(step)).unwrap()
}

fn track(depth_cm: f64, values: Vec<f64>) -> Track<'static> {
    let raw = values.clone();
    Track {
        name: String::new(),
        depth_cm,
        values,
        raw,
        curves: Vec::new(),
        counts: Counts::default(),
        in_force: ALWAYS,
    }
}

fn profile(grid: Grid, levels: Vec<(f64, Vec<f64>)>) -> Profile<'static> {
    Profile::of(grid, levels.into_iter().map(|(d, v)| track(d, v)).collect(), |_| Some(0.48))
}

/// Chance for made-up records that repeats.
struct Dice(u64);

impl Dice {
    fn share(&mut self) -> f64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 11) as f64 / (1u64 << 53) as f64
    }

    fn normal(&mut self) -> f64 {
        (-2.0 * self.share().max(1e-300).ln()).sqrt() * (TAU * self.share()).cos()
    }
}

/// A month of rain, of which one step in fifty has some.
fn showers(dice: &mut Dice, len: usize) -> Vec<f64> {
    (0..len).map(|_| if dice.share() < 0.02 { (dice.share() * 60.0).round() / 5.0 } else { 0.0 }).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn all_rain_is_in_the_falls_and_falls_lie_apart(seed in 1u64..5000) {
        let g = grid(START, 3000, QUARTER);
        let rain = showers(&mut Dice(seed), 3000);
        let rules = WettingRules { least_mm: 0.0, ..WettingRules::default() };
        let all = falls(&g, &rain, &rules);
        let fallen: f64 = all.iter().map(|f| f.mm).sum();
        prop_assert!((fallen - rain.iter().sum::<f64>()).abs() < 1e-9);
        prop_assert!(all.iter().all(|f| f.start < f.end && f.kind == Inflow::Rain && f.mm > 0.0));
        for pair in all.windows(2) {
            prop_assert!(pair[1].start - pair[0].end >= rules.dry, "six dry hours lie between two falls");
        }
        let large = falls(&g, &rain, &WettingRules { least_mm: 10.0, ..rules });
        let wanted: Vec<_> = all.iter().filter(|f| f.mm >= 10.0).copied().collect();
        prop_assert_eq!(large, wanted, "a larger least leaves out and does not join");
    }

    #[test]
    fn water_in_is_water_found_or_not_explained(seed in 1u64..5000) {
        let mut dice = Dice(seed);
        let g = grid(START, 1500, QUARTER);
        let rain = showers(&mut dice, 1500);
        let mut level = 0.25;
        let mut walk = |step: f64| -> Vec<f64> {
            (0..1500).map(|i| { level = (level + step * dice.normal() + rain[i] * 0.001).clamp(0.1, 0.45); level }).collect()
        };
        let p = profile(g, vec![(10.0, walk(0.001)), (30.0, walk(0.0005)), (60.0, walk(0.0002))]);
        let rules = WettingRules::default();
        for w in wettings(&p, &falls(&g, &rain, &rules), Some(2), &rules).unwrap() {
            let (stored, passed) = (w.stored.unwrap(), w.passed_mm.unwrap());
            prop_assert!((stored.mm + passed + w.unexplained_mm.unwrap() - w.fall.mm).abs() < 1e-9);
            prop_assert!(passed >= 0.0 && stored.half_width >= 0.0);
            prop_assert_eq!(w.arrivals[2].is_none(), passed == 0.0, "nothing passes where no front came");
            for arrival in w.arrivals.iter().flatten() {
                prop_assert!(arrival.time >= w.fall.start && arrival.rise > 0.0);
            }
            if let Some(speed) = w.speed_cm_h {
                prop_assert!(speed > 0.0 && !w.out_of_order);
            }
        }
    }

    #[test]
    fn storage_adds_up_over_time_and_a_change_there_and_back_is_none(
        theta in prop::collection::vec(0.05f64..0.45, 12), bottom in 12.0f64..90.0,
    ) {
        let level = |k: usize| theta[k * 4..k * 4 + 4].to_vec();
        let p = profile(grid(START, 4, QUARTER), vec![(10.0, level(0)), (25.0, level(1)), (70.0, level(2))]);
        let s = StorageSeries::of(&p, bottom).unwrap();
        let weights = layer_weights(&[10.0, 25.0, 70.0], bottom).unwrap();
        for i in 0..4 {
            let direct: f64 = weights.iter().zip(p.at(i)).map(|(w, t)| w * t).sum();
            prop_assert!((s.at(i).unwrap().mm - direct).abs() < 1e-9);
        }
        let change = |a, b| s.change(a, b).unwrap();
        prop_assert!((change(0, 1).mm + change(1, 2).mm - change(0, 2).mm).abs() < 1e-9);
        prop_assert!((change(0, 3).mm + change(3, 0).mm).abs() < 1e-9);
        prop_assert!((change(0, 3).half_width - change(3, 0).half_width).abs() < 1e-9);
        // Slopes of the profile may turn round between the two: their errors add, and no more than that.
        let both = s.at(0).unwrap().half_width() + s.at(1).unwrap().half_width();
        prop_assert!(change(0, 1).half_width <= both + 1e-9);
    }

    #[test]
    fn many_times_tell_what_single_ones_tell(slope in 1e-4f64..4e-4, raw in prop::collection::vec(300.0f64..1500.0, 24)) {
        let curve = Curve::from_coefficients(&[0.0, slope], 0.0, 2000.0, Some(0.008)).unwrap();
        let g = grid(START, 12, QUARTER);
        let of = |depth_cm, raw: &[f64]| Track {
            values: raw.iter().map(|r| curve.theta(*r)).collect(),
            raw: raw.to_vec(),
            curves: vec![(0, &curve)],
            ..track(depth_cm, Vec::new())
        };
        let p = Profile::of(g, vec![of(10.0, &raw[..12]), of(40.0, &raw[12..])], |_| None);
        let s = StorageSeries::of(&p, 50.0).unwrap();
        let all: Vec<_> = s.over(0..12).collect();
        prop_assert_eq!(all.len(), 12);
        for (i, stored) in all {
            prop_assert_eq!(Some(stored), s.at(i), "what one time left in the workings does not reach the next");
        }
    }

    #[test]
    fn a_difference_turned_round_has_the_other_sign(seed in 1u64..500, shift in -3.0f64..3.0) {
        let (g, a, b) = two_places(seed, 40, shift);
        let there = compare(&paired(&g, &a, &b, 0).unwrap(), |_| None, &BlockBootstrap::default());
        let back = compare(&paired(&g, &b, &a, 0).unwrap(), |_| None, &BlockBootstrap::default());
        let (x, y) = (there.group(Part::All).unwrap().whole.unwrap(), back.group(Part::All).unwrap().whole.unwrap());
        prop_assert!((x.estimate + y.estimate).abs() < 1e-9);
        prop_assert!((x.low + y.high).abs() < 0.05 * (x.high - x.low) + 1e-9);
        prop_assert!(x.low <= x.estimate && x.estimate <= x.high && x.effective <= x.n as f64 + 1e-9);
    }

    #[test]
    fn a_constant_moves_a_mean_and_its_interval_alike(seed in 1u64..500, by in -50.0f64..50.0, factor in 0.1f64..20.0) {
        let mut dice = Dice(seed);
        let values: Vec<f64> = (0..120).map(|_| dice.normal()).collect();
        let moved: Vec<f64> = values.iter().map(|v| by + factor * v).collect();
        let boot = BlockBootstrap { resamples: 300, seed: 3 };
        let (a, b) = (boot.mean(&values).unwrap(), boot.mean(&moved).unwrap());
        prop_assert_eq!(a.block, b.block);
        for (x, y) in [(a.estimate, b.estimate), (a.low, b.low), (a.high, b.high)] {
            prop_assert!((by + factor * x - y).abs() < 1e-6 * (1.0 + by.abs() + factor));
        }
    }

    #[test]
    fn a_break_follows_its_axes(seed in 1u64..300, at in 0.15f64..0.3, by in -2.0f64..2.0, factor in 0.5f64..50.0) {
        let mut dice = Dice(seed);
        let points: Vec<Point> = (0..90)
            .map(|i| {
                let x = 0.05 + 0.35 * f64::from(i) / 90.0;
                Point { x, y: 12.0 * (x - at).min(0.0) + 0.05 * dice.normal(), group: i as usize % 9 }
            })
            .collect();
        let moved: Vec<Point> = points.iter().map(|p| Point { x: by + factor * p.x, y: 7.0 - 3.0 * p.y, group: p.group }).collect();
        let (a, b) = (two_segments(&points).unwrap(), two_segments(&moved).unwrap());
        prop_assert!((by + factor * a.two.at - b.two.at).abs() < 1e-4 * factor);
        prop_assert!((a.line.aicc - a.two.aicc - (b.line.aicc - b.two.aicc)).abs() < 1e-3);
        prop_assert_eq!(a.breaks, b.breaks);
        let (low, high) = a.interval();
        prop_assert!(low <= a.two.at && a.two.at <= high && (a.two.at - at).abs() < 0.05);
    }

    #[test]
    fn a_retention_curve_falls_and_is_its_own_inverse(
        residual in 0.0f64..0.1, more in 0.15f64..0.5, alpha in 0.004f64..0.15, n in 1.08f64..2.9, kpa in 0.2f64..900.0,
    ) {
        let curve = VanGenuchten { residual, saturated: residual + more, alpha_per_cm: alpha, n };
        let theta = curve.theta(kpa);
        prop_assert!(theta > residual && theta <= curve.saturated && curve.theta(kpa * 1.5) <= theta);
        prop_assert!(curve.slope(kpa) <= 0.0);
        if theta < curve.saturated - 1e-6 && theta > residual + 1e-6 {
            prop_assert!((curve.kpa(theta).unwrap() / kpa - 1.0).abs() < 1e-4);
        }
    }
}

/// Two places by the hour over some days: weather that they share, noise of their own, and a shift.
fn two_places(seed: u64, days: usize, shift: f64) -> (Grid, Vec<f64>, Vec<f64>) {
    let mut dice = Dice(seed);
    let g = grid(START, days * 24, 3600);
    let weather: Vec<f64> = (0..days).map(|_| 3.0 * dice.normal()).collect();
    let mut place = |add: f64| -> Vec<f64> {
        let at = |i: usize| weather[i / 24] + 4.0 * (TAU * (i % 24) as f64 / 24.0).sin() + add;
        (0..days * 24).map(|i| at(i) + 0.3 * dice.normal()).collect()
    };
    let (a, b) = (place(shift), place(0.0));
    (g, a, b)
}

#[test]
fn everything_of_a_record_without_values_is_nothing_and_not_a_number() {
    let g = grid(START, 500, QUARTER);
    let empty = vec![f64::NAN; 500];
    let p = profile(g, vec![(10.0, empty.clone())]);
    assert!(p.levels.is_empty() && StorageSeries::of(&p, 30.0).is_err());
    assert!(wettings(&p, &[], None, &WettingRules::default()).is_err());
    assert!(falls(&g, &empty, &WettingRules::default()).is_empty());
    assert!(extremes(&g, &empty, 0).is_empty() && months(&[], 5.0, &[], &[]).is_empty());
    assert!(diffusivities(&[(5.0, Hours::default()), (15.0, Hours::default())]).is_empty());
    assert!(paired(&g, &empty, &empty, 0).is_err());
    assert!(fit_retention(&[], 0.0).is_err() && damping(&[], 86_400.0).is_none());
    assert_eq!(block_length(&[f64::NAN; 30]), 1);
    let s = sums(View { times: &[], values: &[] }, SpanSeconds(QUARTER), &g);
    assert!(s.iter().all(|v| v.is_nan()));
}

#[test]
fn a_season_is_its_months() {
    let day = |d: i64| DayExtremes { day: 19_700 + d, min: -1.0 + d as f64 * 0.01, mean: 5.0, max: 11.0 };
    let days: Vec<DayExtremes> = (0..700).map(day).collect();
    let rain: Vec<(i64, f64)> = days.iter().map(|d| (d.day, 1.5)).collect();
    let months = months(&days, 4.0, &rain, &[]);
    let seasons = seasons(&months);
    let sum = |of: &dyn Fn(&ebrel_core::findings::climate::Month) -> f64| {
        (months.values().map(of).sum::<f64>(), seasons.values().map(of).sum::<f64>())
    };
    for (by_month, by_season) in [
        sum(&|m| m.days as f64),
        sum(&|m| m.degree_days),
        sum(&|m| m.frost_days as f64),
        sum(&|m| m.rain.0),
        sum(&|m| m.rain.1 as f64),
    ] {
        assert!((by_month - by_season).abs() < 1e-6);
    }
    assert_eq!(months.values().map(|m| m.days).sum::<usize>(), 700);
    assert_eq!(months.values().map(|m| m.frost_days).sum::<usize>(), 100, "the hundredth day no longer freezes");
    assert!(seasons.values().all(|s| (s.mean_c - 5.0).abs() < 1e-9 && s.evapotranspiration.1 == 0));
}

#[test]
fn field_capacity_needs_two_dry_days_of_every_kind_of_water() {
    let n = 96 * 12;
    let wet = |i: usize| i.checked_sub(96).map_or(0.22, |s| 0.31 + 0.1 * 0.5f64.powf(s as f64 / 20.0));
    let deep = |i: usize| i.checked_sub(110).map_or(0.30, |_| 0.33);
    let g = grid(START, n, QUARTER);
    let p = profile(g, vec![(10.0, (0..n).map(wet).collect()), (40.0, (0..n).map(deep).collect())]);
    let mut rain = vec![0.0; n];
    rain[96] = 25.0;
    let rules = WettingRules { least_mm: 1.0, ..WettingRules::default() };
    let mut all = falls(&g, &rain, &rules);
    let seen = capacity_as_seen(&p, &rain, &all, 8.0, |_| None);
    let top = seen[0].as_ref().unwrap();
    assert!(
        (0.31..0.32).contains(&top.median) && top.interval() == top.spread,
        "without a calibration nothing is added"
    );
    assert_eq!(seen[1].as_ref().unwrap().rains.len(), 1, "a rise of 0.03 at the last level fills it");
    // Somebody waters the plot the day after: no gauge tells of it.
    let given = ebrel_core::findings::Fall { kind: Inflow::Irrigation, start: g.time(200), end: g.time(204), mm: 12.0 };
    all.push(given);
    assert_eq!(capacity_as_seen(&p, &rain, &all, 8.0, |_| None)[0], None);
}

#[test]
fn a_front_that_came_before_the_window_is_not_in_it() {
    let step = |at: usize| (0..400).map(|i| if i < at { 0.2 } else { 0.3 }).collect::<Vec<f64>>();
    let p = profile(grid(START, 400, QUARTER), vec![(10.0, step(50)), (30.0, step(150)), (60.0, step(390))]);
    let came = arrivals(&p, 99, 100..300);
    assert!(came[0].is_none() && came[2].is_none());
    assert_eq!(came[1].unwrap().time, p.grid.time(150));
}

#[test]
fn the_wave_of_a_day_gives_the_same_diffusivity_in_other_units_of_heat() {
    let record = |lag: f64, size: f64, scale: f64| {
        let times: Vec<i64> = (0..24 * 45).map(|h| START + h * 3600).collect();
        let day = |h: usize| 1.0 + 0.3 * ((h / 24) as f64 * 1.3).sin();
        let wave = |h: usize| scale * (12.0 + size * day(h) * (TAU * h as f64 / 24.0 - lag).sin());
        let values: Vec<f64> = (0..times.len()).map(wave).collect();
        Hours::of(View { times: &times, values: &values })
    };
    let found = |scale: f64| {
        let depths = [(5.0, record(0.0, 6.0, scale)), (15.0, record(0.8, 2.7, scale))];
        diffusivities(&depths).iter().filter_map(|d| d.by(Method::Harmonic)).collect::<Vec<f64>>()
    };
    let (kelvin, fahrenheit) = (found(1.0), found(1.8));
    assert_eq!(kelvin.len(), 2);
    for (a, b) in kelvin.iter().zip(&fahrenheit) {
        assert!((a / b - 1.0).abs() < 1e-5);
        // Size and lag agree to κ = ω Δz²/(2 ln r Δφ).
        let wanted = TAU / 86_400.0 * 0.01 / (2.0 * (6.0f64 / 2.7).ln() * 0.8);
        assert!((a / wanted - 1.0).abs() < 0.02, "{a} {wanted}");
    }
}

#[test]
fn an_impact_is_what_changed_beyond_the_control() {
    let (g, a, b) = two_places(3, 731, 0.5);
    let date = START / DAY + 366;
    let changed: Vec<f64> = a.iter().enumerate().map(|(i, v)| if g.day(i, 0) >= date { v + 2.0 } else { *v }).collect();
    let both: Vec<f64> = b.iter().enumerate().map(|(i, v)| if g.day(i, 0) >= date { v + 2.0 } else { *v }).collect();
    let boot = BlockBootstrap::default();
    let effect = |x: &[f64], y: &[f64]| before_after(&paired(&g, x, y, 0).unwrap(), date, &boot).unwrap();
    let treated = effect(&changed, &b);
    assert!((treated.effect.estimate - 2.0).abs() < 0.1 && treated.effect.is_off_zero() && treated.like_with_like);
    let weather = effect(&changed, &both);
    assert!(weather.effect.estimate.abs() < 0.1, "what changed at both is no effect: {:?}", weather.effect);
    assert!((treated.before.estimate - 0.5).abs() < 0.1 && (treated.after.estimate - 2.5).abs() < 0.1);
}

#[test]
fn calm_days_tell_of_no_swing_and_are_counted() {
    let (g, a, b) = two_places(5, 30, 0.0);
    let flat: Vec<f64> = (0..a.len()).map(|i| if i / 24 < 12 { 8.0 } else { a[i] }).collect();
    let pairs: Paired = paired(&g, &flat, &b, 0).unwrap();
    let found = buffering(&pairs, 0.2, &BlockBootstrap::default());
    assert_eq!((found.days, found.calm), (18, 12));
    let (part, ratio) = &found.groups[0];
    assert!(*part == Part::All && (0.8..1.25).contains(&ratio.unwrap().estimate));
}

#[test]
fn two_probes_of_different_soils_give_one_curve_only_where_their_pairs_agree() {
    let loam = VanGenuchten::of_class("loam").unwrap();
    let mut dice = Dice(9);
    let pairs: Vec<(f64, f64)> = (0..600)
        .map(|_| {
            let kpa = 5.0 * 30f64.powf(dice.share());
            (kpa, loam.theta(kpa) + 0.006 * dice.normal())
        })
        .collect();
    let fit = fit_retention(&pairs, loam.residual).unwrap();
    assert!((0.008..0.016).contains(&fit.half_width), "95 % of a scatter of 0.006: {}", fit.half_width);
    assert!((fit.curve.theta(33.0) - loam.theta(33.0)).abs() < 0.005);
    let noise: Vec<(f64, f64)> = pairs.iter().map(|(kpa, _)| (*kpa, 0.25 + 0.001 * dice.normal())).collect();
    assert!(fit_retention(&noise, loam.residual).is_err(), "a content that does not fall has no curve");
}
