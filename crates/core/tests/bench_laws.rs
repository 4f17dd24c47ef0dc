//! Laws that the bench's rules keep whatever the numbers: order, units, signs and symmetry.

use ebrel_core::acceptance::{Limits, Response, Seen, accept, response, water_permittivity, wetting_test};
use ebrel_core::calibration::{Curve, Form, Recommendation, Samples, compare, drift, recommend};
use ebrel_core::register::EventKind;
use ebrel_core::sampling::{Drying, drying, packing_drift};
use ebrel_core::series::{Believed, CalibrationHistory, DatedCurve, LeftOut, View};
use ebrel_core::temperature::{Correction, DatedCorrection, corrected};
use ebrel_core::tension::{PotReading, Readiness, block_response, readiness, schedule};
use ebrel_core::units::UnixSeconds;
use proptest::prelude::*;

/// A bent run with scatter: raw outputs and water contents.
fn run(n: usize, scatter: &[f64]) -> (Vec<f64>, Vec<f64>) {
    let raw: Vec<f64> = (0..n).map(|i| 850.0 + 970.0 * i as f64 / (n - 1) as f64).collect();
    let theta = raw.iter().zip(scatter).map(|(x, e)| -0.1 + 1.2e-4 * x + 8e-8 * x * x + e).collect();
    (raw, theta)
}

fn of(raw: &[f64], theta: &[f64]) -> Recommendation {
    recommend(&Samples { raw, theta, pore_space: Some(0.49), ..Samples::default() })
}

/// Leave-one-out error of each form, with what could not be fitted as `None`.
fn errors(found: &Recommendation) -> Vec<Option<f64>> {
    found.candidates.iter().map(|c| c.fit.as_ref().ok().map(|f| f.loo_rmse)).collect()
}

fn near(a: &[Option<f64>], b: &[Option<f64>]) -> bool {
    a.len() == b.len() && a.iter().zip(b).all(|(a, b)| (a.unwrap_or(0.0) - b.unwrap_or(0.0)).abs() < 1e-9)
}

fn line(from: i64, offset: f64, slope: f64) -> DatedCurve {
    let curve = Curve::from_coefficients(&[offset, slope], 0.0, 2000.0, None).expect("a curve");
    DatedCurve { valid_from: UnixSeconds(from), curve }
}

proptest! {
    #[test]
    fn the_order_of_the_tins_does_not_matter(scatter in prop::collection::vec(-0.004..0.004f64, 7), turn in 0usize..7) {
        let (mut raw, mut theta) = run(7, &scatter);
        let before = of(&raw, &theta);
        raw.rotate_left(turn);
        theta.rotate_left(turn);
        let after = of(&raw, &theta);
        prop_assert_eq!(before.form, after.form);
        prop_assert!(near(&errors(&before), &errors(&after)));
        prop_assert_eq!(before.outliers.len(), after.outliers.len());
    }

    #[test]
    fn the_unit_of_the_raw_output_does_not_matter(scatter in prop::collection::vec(-0.004..0.004f64, 7), factor in 0.001..1000.0f64) {
        let (raw, theta) = run(7, &scatter);
        let scaled: Vec<f64> = raw.iter().map(|x| x * factor).collect();
        let (a, b) = (of(&raw, &theta), of(&scaled, &theta));
        prop_assert_eq!(a.form, b.form);
        prop_assert!(near(&errors(&a), &errors(&b)));
    }

    #[test]
    fn a_sample_on_the_curve_never_raises_the_residual_spread_of_its_form(scatter in prop::collection::vec(-0.004..0.004f64, 7), at in 860.0..1800.0f64) {
        let (mut raw, mut theta) = run(7, &scatter);
        let before = of(&raw, &theta);
        let quadratic = before.candidate(Form::Quadratic).and_then(|c| c.fit.as_ref().ok()).expect("a fit").clone();
        raw.push(at);
        theta.push(quadratic.at(at).0);
        let after = of(&raw, &theta);
        let again = after.candidate(Form::Quadratic).and_then(|c| c.fit.as_ref().ok()).expect("a fit");
        prop_assert!(again.residual_sd <= quadratic.residual_sd * (1.0 + 1e-9));
    }

    #[test]
    fn equal_uncertainties_weigh_as_none(scatter in prop::collection::vec(-0.004..0.004f64, 7), u in 1e-4..0.02f64) {
        let (raw, theta) = run(7, &scatter);
        let same = vec![u; 7];
        let weighed = recommend(&Samples { raw: &raw, theta: &theta, u_theta: &same, pore_space: Some(0.49), ..Samples::default() });
        prop_assert!(near(&errors(&of(&raw, &theta)), &errors(&weighed)));
    }

    #[test]
    fn a_change_and_its_way_back_cancel(offset in -0.05..0.05f64, slope in 1e-4..4e-4f64, raws in prop::collection::vec(100.0..1900.0f64, 1..60)) {
        let times: Vec<i64> = (0..raws.len() as i64).map(|i| i * 900).collect();
        let view = View { times: &times, values: &raws };
        let (a, b) = (line(0, 0.0, 2e-4), line(0, offset, slope));
        let (as_a, as_b) = (CalibrationHistory::new(vec![a.clone()]), CalibrationHistory::new(vec![b.clone()]));
        let all = |history| Believed::new(view, history, &[], LeftOut::default());
        let there = compare(all(&as_a), &b, None);
        let back = compare(all(&as_b), &a, None);
        prop_assert!((there.mean + back.mean).abs() < 1e-12 && (there.rms - back.rms).abs() < 1e-12);
        prop_assert_eq!(there.bands.iter().map(|b| b.readings).sum::<usize>(), raws.len());
        prop_assert!(there.rms + 1e-15 >= there.mean.abs());
        prop_assert_eq!(there.strains.0, back.strains.1);
    }

    #[test]
    fn drift_has_a_sign_and_no_drift_is_none(offset in -0.05..0.05f64, years in 1i64..8) {
        let later = years * 31_557_600;
        let there = drift(&line(0, 0.0, 2e-4), &line(later, offset, 2e-4)).expect("common range");
        prop_assert!((there.mean - offset).abs() < 1e-12);
        prop_assert!((there.per_year().expect("years") * years as f64 - offset).abs() < 1e-9);
        prop_assert!(!there.is_real(), "without an uncertainty nothing is called real");
    }

    #[test]
    fn a_reading_further_out_is_never_judged_better(inside in 430.0..465.0f64, out in 0.0..60.0f64, further in 0.0..60.0f64) {
        let limits = Limits { air: (420.0, 475.0), water: (1990.0, 2090.0), water_per_k: -2.4 };
        let judge = |air: f64| {
            let seen = Seen {
                air: Some(limits.in_air(air)),
                water: Some(limits.in_water(2040.0, 20.0)),
                straight: Some(true),
                sealed: Some(true),
            };
            match accept(&seen).verdict {
                Some(EventKind::Accepted) => 0,
                Some(EventKind::Watched) => 1,
                _ => 2,
            }
        };
        prop_assert_eq!(judge(inside), 0);
        prop_assert!(judge(475.0 + out) <= judge(475.0 + out + further));
        prop_assert!(judge(420.0 - out) <= judge(420.0 - out - further));
    }

    #[test]
    fn water_reads_lower_the_warmer_it_is(t in 0.0..99.0f64, more in 0.01..1.0f64) {
        prop_assert!(water_permittivity(t + more) < water_permittivity(t));
    }

    #[test]
    fn a_probe_is_read_the_same_whichever_way_its_output_goes(onset in 4usize..12, rise in 50.0..900.0f64) {
        let up: Vec<f64> = (0..20).map(|i| 500.0 + if i >= onset { rise } else { 0.0 }).collect();
        let down: Vec<f64> = up.iter().map(|v| 2000.0 - v).collect();
        let (a, b) = (response(&up, 2.0), response(&down, 2.0));
        prop_assert_eq!(a, b);
        let at = a.onset.expect("it rose");
        prop_assert!(at > 2.0 * (onset as f64 - 1.0) && at < 2.0 * onset as f64);
    }

    #[test]
    fn probes_may_be_listed_in_any_order(turn in 0usize..4) {
        let mut probes = [(5.0, 1.0), (10.0, 2.0), (15.0, 0.5), (20.0, 4.0)];
        probes.rotate_left(turn);
        let (depths, onsets): (Vec<f64>, Vec<f64>) = probes.iter().copied().unzip();
        let responses: Vec<Response> = onsets.iter().map(|t| Response { onset: Some(*t), rise: None }).collect();
        let found = wetting_test(&depths, &responses);
        let early: Vec<f64> = found.early.iter().map(|i| depths[*i]).collect();
        prop_assert_eq!(early, [15.0]);
        prop_assert!((found.front.expect("a front") - 5.0).abs() < 1e-12, "15 cm in 3 units, the early one left aside");
    }

    #[test]
    fn a_drift_of_the_packing_is_seen_from_either_end(scatter in prop::collection::vec(-0.006..0.006f64, 7), change in 0.1..0.2f64) {
        let densities: Vec<f64> = scatter.iter().enumerate().map(|(i, e)| 1.3 + change * i as f64 / 6.0 + e).collect();
        let reversed: Vec<f64> = densities.iter().rev().copied().collect();
        let (there, back) = (packing_drift(&densities), packing_drift(&reversed));
        let (there, back) = (there.expect("a drift"), back.expect("a drift"));
        prop_assert!((there.first - back.last).abs() < 1e-9 && (there.last - back.first).abs() < 1e-9);
    }

    #[test]
    fn more_time_in_the_oven_never_makes_a_dry_tin_damp(dry in 80.0..150.0f64, lost in 0.0..3.0f64) {
        let first = drying(&[dry + lost, dry], 20.0);
        let is_constant = |d: Drying| matches!(d, Drying::Constant { .. });
        prop_assert_eq!(is_constant(first), lost <= 0.001 * (dry - 20.0));
        let settled = drying(&[dry + lost, dry, dry], 20.0);
        prop_assert!(is_constant(settled));
    }

    #[test]
    fn the_unit_of_a_blocks_resistance_does_not_move_its_range(factor in 0.1..50.0f64) {
        let pot = |k: f64| -> Vec<PotReading> {
            (0..16).map(|i| {
                let kilopascal = 10.0 * 1.26f64.powi(i);
                PotReading { hours: f64::from(i), kilo_ohm: k * (kilopascal / 20.0).powf(0.7).max(1.8), kilopascal }
            }).collect()
        };
        let (a, b) = (block_response(&pot(1.0)).expect("a curve"), block_response(&pot(factor)).expect("a curve"));
        prop_assert!((a.range.0 - b.range.0).abs() < 1e-9 && (a.power - b.power).abs() < 1e-9);
        let (x, y) = (a.tension(5.0).expect("in range"), b.tension(5.0 * factor).expect("in range"));
        prop_assert!((x / y - 1.0).abs() < 1e-9);
    }

    #[test]
    fn a_schedule_has_no_gap_and_ends_wet(cycles in 0usize..8, soak in 1.0..48.0f64, dry in 1.0..96.0f64) {
        let steps = schedule(UnixSeconds(0), cycles, soak, dry);
        prop_assert_eq!(steps.len(), 2 * cycles + 1);
        prop_assert!(steps.windows(2).all(|w| w[0].to == w[1].from && w[0].from < w[0].to));
        prop_assert_eq!(steps[0].stage, steps[2 * cycles].stage);
    }

    #[test]
    fn readiness_does_not_ask_which_of_two_soakings_read_higher(a in 0.3..3.0f64, b in 0.3..3.0f64) {
        let kind = |r: Readiness| std::mem::discriminant(&r);
        prop_assert_eq!(kind(readiness(&[a, b])), kind(readiness(&[b, a])));
        prop_assert_eq!(kind(readiness(&[9.0, a, a])), kind(Readiness::Ready));
    }

    #[test]
    fn a_correction_and_its_opposite_give_the_readings_back(offset in -2.0..2.0f64, values in prop::collection::vec(-20.0..40.0f64, 1..40), from in 0usize..40) {
        let times: Vec<i64> = (0..values.len() as i64).collect();
        let dated = |offset| DatedCorrection {
            from: UnixSeconds(from as i64),
            until: None,
            correction: Correction { offset, slope: 0.0 },
        };
        let view = View { times: &times, values: &values };
        let there = corrected(view, &[dated(offset)]);
        prop_assert!(there.iter().zip(&values).take(from).all(|(a, b)| a == b), "before its time nothing changes");
        let back = corrected(View { times: &times, values: &there }, &[dated(-offset)]);
        prop_assert!(back.iter().zip(&values).all(|(a, b)| (a - b).abs() < 1e-12));
    }
}
