//! The fit against certified data, against itself by brute force, and against invariants.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::calibration::{Curve, Form, Intercept, PolynomialFit, Recommendation, Samples};
use proptest::prelude::*;

fn close(got: f64, want: f64, relative: f64) {
    assert!((got - want).abs() <= relative * want.abs() + 1e-12, "got {got}, want {want}");
}

fn fit(x: &[f64], y: &[f64], degree: usize) -> PolynomialFit {
    PolynomialFit::new(x, y, degree, Intercept::Free).unwrap()
}

fn recommend(raw: &[f64], theta: &[f64]) -> Recommendation {
    ebrel_core::calibration::recommend(&Samples { raw, theta, ..Samples::default() })
}

/// A run as a bench makes it: raw output and water content with errors that depend on `seed`.
fn run(n: usize, bend: f64, seed: u64) -> (Vec<f64>, Vec<f64>) {
    let error = |i: usize| ((seed * 31 + i as u64 * 17) % 23) as f64 / 23.0 - 0.5;
    let x: Vec<f64> = (0..n).map(|i| 800.0 + 1100.0 * i as f64 / (n - 1) as f64).collect();
    let y = x.iter().enumerate().map(|(i, x)| -0.2 + 3.2e-4 * x + bend * (x - 1350.0).powi(2) + 0.006 * error(i));
    let y = y.collect();
    (x, y)
}

/// NIST StRD Pontius: a load cell, quadratic.
#[test]
fn nist_pontius() {
    let y = [
        0.11019, 0.21956, 0.32949, 0.43899, 0.54803, 0.65694, 0.76562, 0.87487, 0.98292, 1.09146, 1.20001, 1.30822,
        1.41599, 1.52399, 1.63194, 1.73947, 1.84646, 1.95392, 2.06128, 2.16844, 0.11052, 0.22018, 0.32939, 0.43886,
        0.54798, 0.65739, 0.76596, 0.87474, 0.98300, 1.09150, 1.20004, 1.30818, 1.41613, 1.52408, 1.63159, 1.73965,
        1.84696, 1.95445, 2.06177, 2.16829,
    ];
    let x: Vec<f64> = (0..40).map(|i| 150_000.0 * f64::from(i % 20 + 1)).collect();
    let f = fit(&x, &y, 2);
    close(f.coefficients[0], 0.673_565_789_473_684e-3, 1e-9);
    close(f.coefficients[1], 0.732_059_160_401_003e-6, 1e-10);
    close(f.coefficients[2], -0.316_081_871_345_029e-14, 1e-8);
    close(f.residual_sd, 0.205_177_424_076_185e-3, 1e-9);
    close(f.standard_errors[0], 0.107_938_612_033_077e-3, 1e-9);
}

/// NIST StRD NoInt2: three points through the origin.
#[test]
fn nist_no_intercept_of_three_points() {
    let f = PolynomialFit::new(&[4.0, 5.0, 6.0], &[3.0, 4.0, 4.0], 1, Intercept::Zero).unwrap();
    close(f.coefficients[0], 0.727_272_727_272_727, 1e-13);
    close(f.standard_errors[0], 0.420_827_318_078_432e-1, 1e-12);
    close(f.residual_sd, 0.369_274_472_937_998, 1e-12);
    close(f.r2, 0.993_348_115_299_335, 1e-12);
}

/// NIST StRD Wampler2: exact values of a fifth-degree polynomial with falling coefficients.
#[test]
fn nist_wampler2() {
    let x: Vec<f64> = (0..=20).map(f64::from).collect();
    let y: Vec<f64> = x.iter().map(|x| (0..=5).map(|i| (0.1 * x).powi(i)).sum()).collect();
    let f = fit(&x, &y, 5);
    for (i, got) in f.coefficients.iter().enumerate() {
        close(*got, 0.1f64.powi(i as i32), 1e-9);
    }
    assert!(f.residual_sd < 1e-11);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    /// Leave-one-out errors and studentized residuals equal what fitting without each sample gives.
    #[test]
    fn leaving_out_by_formula_is_leaving_out_in_fact(n in 6usize..12, bend in -1e-7..1e-7f64, seed in 0u64..999, degree in 1usize..3) {
        let (x, y) = run(n, bend, seed);
        let whole = fit(&x, &y, degree);
        let mut sum = 0.0;
        for i in 0..n {
            let without = |v: &[f64]| v.iter().enumerate().filter(|(j, _)| *j != i).map(|(_, v)| *v).collect::<Vec<_>>();
            let part = fit(&without(&x), &without(&y), degree);
            let (at, _) = part.at(x[i]);
            sum += (y[i] - at).powi(2);
            if let Some(t) = whole.studentized[i] {
                let (_, se) = part.at(x[i]);
                let direct = (y[i] - at) / part.residual_sd.hypot(se);
                prop_assert!((t - direct).abs() < 1e-6 * (1.0 + direct.abs()), "{} {}", t, direct);
            }
        }
        prop_assert!((whole.loo_rmse - (sum / n as f64).sqrt()).abs() < 1e-9);
    }

    /// For one added term, F is the square of that term's t.
    #[test]
    fn f_is_t_squared(n in 6usize..12, bend in -1e-7..1e-7f64, seed in 0u64..999) {
        let (x, y) = run(n, bend, seed);
        let (line, quadratic) = (fit(&x, &y, 1), fit(&x, &y, 2));
        let (f, p) = quadratic.f_test(&line);
        let t = quadratic.coefficients[2] / quadratic.standard_errors[2];
        prop_assert!((f - t * t).abs() < 1e-6 * (1.0 + f));
        prop_assert!((0.0..=1.0).contains(&p));
        prop_assert!(quadratic.rss <= line.rss * (1.0 + 1e-12), "a further term never fits worse");
    }

    /// Leverages sum to the number of coefficients; residuals are orthogonal to the design.
    #[test]
    fn the_hat_has_its_trace(n in 5usize..14, bend in -1e-7..1e-7f64, seed in 0u64..999, degree in 1usize..3) {
        let (x, y) = run(n, bend, seed);
        let f = fit(&x, &y, degree);
        prop_assert!((f.leverage.iter().sum::<f64>() - (degree + 1) as f64).abs() < 1e-9);
        prop_assert!(f.residuals.iter().sum::<f64>().abs() < 1e-9);
        prop_assert!(f.residuals.iter().zip(&x).map(|(e, x)| e * x).sum::<f64>().abs() < 1e-6);
    }

    /// The adopted curve says what the fit said, everywhere, and its plain coefficients say the same again.
    #[test]
    fn curve_and_fit_agree(n in 6usize..12, bend in -1e-7..1e-7f64, seed in 0u64..999, at in 500.0..2400.0f64) {
        let (x, y) = run(n, bend, seed);
        let f = fit(&x, &y, 2);
        let curve = Curve::from_fit(&f, Form::Quadratic);
        let plain = Curve::from_coefficients(&curve.coefficients(), 800.0, 1900.0, None).unwrap();
        prop_assert!((curve.theta(at) - f.at(at).0).abs() < 1e-12);
        prop_assert!((plain.theta(at) - curve.theta(at)).abs() < 1e-9);
        prop_assert_eq!(curve.estimate(at).beyond_samples, !(800.0..=1900.0).contains(&at));
        prop_assert!((curve.half_width(at).unwrap() - f.half_widths(at, 0.95).0).abs() < 1e-12);
    }

    /// The order of samples changes neither the advice nor its words.
    #[test]
    fn the_advice_does_not_depend_on_order(n in 6usize..12, bend in -1e-7..2e-7f64, seed in 0u64..999, turn in 0usize..12) {
        let (mut x, mut y) = run(n, bend, seed);
        let before = recommend(&x, &y);
        x.rotate_left(turn % n);
        y.rotate_left(turn % n);
        let after = recommend(&x, &y);
        prop_assert_eq!(before.form, after.form);
        prop_assert_eq!(before.sentence, after.sentence);
    }
}

#[test]
fn a_turning_quadratic_is_not_recommended() {
    let x = [800.0, 1000.0, 1200.0, 1400.0, 1600.0, 1800.0, 2000.0];
    let y = [0.10, 0.21, 0.30, 0.36, 0.39, 0.385, 0.35];
    let r = recommend(&x, &y);
    assert_ne!(r.form, Some(Form::Quadratic));
    assert!(r.reasons.iter().any(|s| s.contains("one reading would mean two contents")), "{:?}", r.reasons);
}

#[test]
fn four_samples_are_warned_of() {
    let r = recommend(&[900.0, 1200.0, 1500.0, 1800.0], &[0.1, 0.2, 0.3, 0.4]);
    assert_eq!(r.form, Some(Form::Line));
    assert!(r.reasons.iter().any(|s| s.contains("five to seven points")), "{:?}", r.reasons);
}
