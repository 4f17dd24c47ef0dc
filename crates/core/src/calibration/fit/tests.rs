//! Least squares against certified values, and against data that cannot carry a curve.

use super::*;
use crate::statistics::testing::assert_close;
use proptest::prelude::*;

const X: [f64; 7] = [850.0, 1012.0, 1175.0, 1340.0, 1496.0, 1658.0, 1820.0];
const Y: [f64; 7] = [0.052, 0.098, 0.151, 0.199, 0.262, 0.318, 0.389];

fn fit(x: &[f64], y: &[f64], degree: usize) -> PolynomialFit {
    PolynomialFit::new(x, y, degree, Intercept::Free).unwrap()
}

#[test]
fn straight_line_through_the_reference_run() {
    let f = fit(&X, &Y, 1);
    assert_close(f.coefficients[0], -0.251_359_125_802, 1e-9);
    assert_close(f.coefficients[1], 0.000_345_258_676_143, 1e-9);
    assert_close(f.standard_errors[0], 0.014_787_402_145, 1e-9);
    assert_close(f.rss, 0.000_422_917_045_554, 1e-9);
    assert_close(f.residual_sd, 0.009_196_923_893_93, 1e-9);
    assert_close(f.r2, 0.995_167_703_746, 1e-9);
    assert_close(f.r2_adjusted, 0.994_201_244_495, 1e-9);
    assert_close(f.aic, -61.999_712_599_1, 1e-9);
    assert_close(f.aicc.unwrap(), -53.999_712_599_1, 1e-9);
    assert_close(f.loo_rmse, 0.012_521_683_379_6, 1e-9);
    assert_close(f.leverage[0], 0.465_935_952_818, 1e-9);
    let (prediction, confidence) = f.half_widths(1250.0, 0.95);
    assert_close(f.at(1250.0).0, 0.180_214_219_377, 1e-9);
    assert_close(prediction, 0.025_385_079_043_1, 1e-9);
    assert_close(confidence, 0.009_245_771_597_8, 1e-9);
}

#[test]
fn quadratic_through_the_reference_run() {
    let f = fit(&X, &Y, 2);
    assert_close(f.coefficients[2], 8.094_112_595_81e-08, 1e-9);
    assert_close(f.standard_errors[2], 1.418_250_629_81e-08, 1e-9);
    assert_close(f.aicc.unwrap(), -55.490_461_495_3, 1e-9);
    assert_close(f.loo_rmse, 0.004_335_186_639_58, 1e-9);
    assert_close(f.half_widths(1250.0, 0.95).0, 0.010_836_691_450_4, 1e-9);
    let (statistic, p) = f.f_test(&fit(&X, &Y, 1));
    assert_close(statistic, 32.571_106_515_2, 1e-8);
    assert_close(p, 0.004_660_582_979_45, 1e-8);
}

#[test]
fn a_needless_quadratic_is_seen_as_such() {
    let x = [12.0, 18.5, 24.1, 31.0, 37.7, 45.2, 52.9];
    let y = [0.061, 0.092, 0.133, 0.171, 0.219, 0.258, 0.304];
    let (line, quadratic) = (fit(&x, &y, 1), fit(&x, &y, 2));
    assert_close(line.loo_rmse, 0.004_547_000_000_66, 1e-9);
    assert_close(quadratic.loo_rmse, 0.006_637_132_650_29, 1e-9);
    assert_close(quadratic.f_test(&line).1, 0.845_201_673_566, 1e-8);
}

#[test]
fn nist_norris() {
    let x = [
        0.2, 337.4, 118.2, 884.6, 10.1, 226.5, 666.3, 996.3, 448.6, 777.0, 558.2, 0.4, 0.6, 775.5, 666.9, 338.0, 447.5,
        11.6, 556.0, 228.1, 995.8, 887.6, 120.2, 0.3, 0.3, 556.8, 339.1, 887.2, 999.0, 779.0, 11.1, 118.3, 229.2,
        669.1, 448.9, 0.5,
    ];
    let y = [
        0.1, 338.8, 118.1, 888.0, 9.2, 228.1, 668.5, 998.5, 449.1, 778.9, 559.2, 0.3, 0.1, 778.1, 668.8, 339.3, 448.9,
        10.8, 557.7, 228.3, 998.0, 888.8, 119.6, 0.3, 0.6, 557.6, 339.3, 888.0, 998.5, 778.9, 10.2, 117.6, 228.9,
        668.4, 449.2, 0.2,
    ];
    let f = fit(&x, &y, 1);
    assert_close(f.coefficients[0], -0.262_323_073_774_029, 1e-11);
    assert_close(f.coefficients[1], 1.002_116_818_020_45, 1e-13);
    assert_close(f.standard_errors[1], 0.429_796_848_199_937e-3, 1e-11);
    assert_close(f.residual_sd, 0.884_796_396_144_373, 1e-11);
    assert_close(f.r2, 0.999_993_745_883_712, 1e-13);
}

#[test]
fn nist_no_intercept() {
    let x: Vec<f64> = (60..=70).map(f64::from).collect();
    let y: Vec<f64> = (130..=140).map(f64::from).collect();
    let f = PolynomialFit::new(&x, &y, 1, Intercept::Zero).unwrap();
    assert_close(f.coefficients[0], 2.074_380_165_289_26, 1e-12);
    assert_close(f.standard_errors[0], 0.165_289_256_198_347e-1, 1e-12);
    assert_close(f.r2, 0.999_365_492_298_663, 1e-12);
}

#[test]
fn nist_wampler_is_exact_and_with_noise() {
    let x: Vec<f64> = (0..=20).map(f64::from).collect();
    let y: Vec<f64> = x.iter().map(|x| (0..=5).map(|i| x.powi(i)).sum()).collect();
    let exact = fit(&x, &y, 5);
    let noise = [759.0, -2048.0, 2048.0, -2048.0, 2523.0, -2048.0, 2048.0, -2048.0, 1838.0, -2048.0, 2048.0];
    let noisy: Vec<f64> = y.iter().enumerate().map(|(i, y)| y + noise[i.min(20 - i)]).collect();
    let noisy = fit(&x, &noisy, 5);
    for i in 0..=5 {
        assert_close(exact.coefficients[i], 1.0, 1e-7);
        assert_close(noisy.coefficients[i], 1.0, 1e-7);
    }
    assert_close(noisy.residual_sd, 2360.145_023_792_68, 1e-9);
    assert_close(noisy.standard_errors[0], 2152.326_246_781_70, 1e-8);
}

#[test]
fn samples_that_cannot_carry_a_curve_are_refused_with_words() {
    let message =
        |x: &[f64], y: &[f64], degree| PolynomialFit::new(x, y, degree, Intercept::Free).unwrap_err().to_string();
    assert!(message(&X[..2], &Y[..2], 1).contains("2 samples cannot carry this curve"));
    assert!(message(&[900.0; 5], &Y[..5], 1).contains("different wetnesses"));
    assert!(message(&[f64::NAN, 1.0, 2.0], &Y[..3], 1).contains("not a finite number"));
}

#[test]
fn equal_weights_change_nothing_and_a_heavy_sample_draws_the_curve_to_it() {
    let plain = fit(&X, &Y, 1);
    let same = PolynomialFit::weighted(&X, &Y, &[7.0; 7], 1, Intercept::Free).unwrap();
    assert_close(same.residual_sd, plain.residual_sd, 1e-12);
    assert_close(same.coefficients[1], plain.coefficients[1], 1e-12);
    let heavy = [1.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1e6];
    let drawn = PolynomialFit::weighted(&X, &Y, &heavy, 1, Intercept::Free).unwrap();
    assert!(drawn.residuals[6].abs() < plain.residuals[6].abs() / 100.0);
    let twice = PolynomialFit::weighted(&X, &Y, &[2.0, 1.0, 1.0, 1.0, 1.0, 1.0, 1.0], 1, Intercept::Free).unwrap();
    let (mut x, mut y) = (X.to_vec(), Y.to_vec());
    x.push(X[0]);
    y.push(Y[0]);
    assert_close(twice.coefficients[0], fit(&x, &y, 1).coefficients[0], 1e-9);
    assert!(PolynomialFit::weighted(&X, &Y, &[0.0; 7], 1, Intercept::Free).is_err());
}

proptest! {
    #[test]
    fn order_and_units_of_raw_do_not_matter(shift in -500.0..500.0f64, factor in 0.01..100.0f64, turn in 0usize..7) {
        let plain = fit(&X, &Y, 2);
        let mut x: Vec<f64> = X.iter().map(|x| (x + shift) * factor).collect();
        let mut y = Y.to_vec();
        x.rotate_left(turn);
        y.rotate_left(turn);
        let moved = fit(&x, &y, 2);
        prop_assert!((plain.loo_rmse - moved.loo_rmse).abs() < 1e-9);
        prop_assert!((plain.at(1250.0).0 - moved.at((1250.0 + shift) * factor).0).abs() < 1e-9);
    }

    #[test]
    fn a_perfect_sample_never_raises_the_residual_sum(at in 850.0..1820.0f64) {
        let plain = fit(&X, &Y, 2);
        let (mut x, mut y) = (X.to_vec(), Y.to_vec());
        x.push(at);
        y.push(plain.at(at).0);
        prop_assert!(fit(&x, &y, 2).rss <= plain.rss * (1.0 + 1e-9));
    }
}
