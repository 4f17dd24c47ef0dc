//! Whatever is typed: never a panic, and never a figure that is not a finite number.

use ebrel_core::calibration::{Curve, Form, Intercept, PolynomialFit, Samples, drift, recommend};
use ebrel_core::series::DatedCurve;
use ebrel_core::sun::{SunTimes, sun_times};
use ebrel_core::temperature::{
    Beta, Claims, ReadingUncertainty, SteinhartHart, Thermocouple, ToleranceClass, agreement, check, platinum_convert,
};
use ebrel_core::tension::{HalfBridge, PotReading, block_response, matrix_tension};
use ebrel_core::units::{ParticleDensity, UnixSeconds};
use proptest::prelude::*;

/// Numbers as an accident makes them: usual ones, equal ones, the ends of what a float holds, and none.
fn any_number() -> impl Strategy<Value = f64> {
    prop_oneof![
        6 => (-50i32..2000).prop_map(f64::from),
        4 => -1.0..2000.0f64,
        2 => prop::sample::select(vec![0.0, 900.0, 900.0, 900.000_000_1, 1500.0, 0.05, 0.13]),
        1 => prop::sample::select(vec![
            f64::NAN, f64::INFINITY, f64::NEG_INFINITY, f64::MAX, f64::MIN, f64::MIN_POSITIVE, 1e-310, -0.0, 1e160, -1e160,
        ]),
    ]
}

fn numbers(most: usize) -> impl Strategy<Value = Vec<f64>> {
    prop::collection::vec(any_number(), 0..most)
}

fn no_strange_words(text: &str) -> bool {
    !text.contains("NaN") && !text.contains("inf ") && !text.contains("inf,") && !text.contains("inf.")
}

fn fit_is_finite(fit: &PolynomialFit) -> bool {
    let single =
        [fit.rss, fit.residual_sd, fit.r2, fit.r2_adjusted, fit.aic, fit.loo_rmse, fit.half_widths(0.0, 0.95).0];
    single.iter().chain(&fit.coefficients).chain(&fit.standard_errors).chain(&fit.leverage).all(|v| v.is_finite())
        && fit.studentized.iter().flatten().chain(&fit.aicc).all(|v| v.is_finite())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn fits_and_recommendations(raw in numbers(10), theta in numbers(10), u in numbers(10), permittivity in any::<bool>()) {
        let n = raw.len().min(theta.len());
        let (raw, theta) = (&raw[..n], &theta[..n]);
        let u = if u.len() >= n { &u[..n] } else { &[] };
        for degree in 1..=3 {
            if let Ok(fit) = PolynomialFit::new(raw, theta, degree, Intercept::Free) {
                prop_assert!(fit_is_finite(&fit), "{fit:?}");
            }
        }
        for u_raw in [&[][..], u] {
            let found = recommend(&Samples { raw, theta, u_theta: u, u_raw, permittivity, pore_space: Some(0.5) });
            prop_assert!(no_strange_words(&found.sentence), "{}", found.sentence);
            prop_assert!(found.reasons.iter().chain(&found.impossible).all(|r| no_strange_words(r)), "{:?}", found.reasons);
            prop_assert!(found.outliers.iter().all(|o| o.1.is_finite()));
            if let Some(taken) = found.form.and_then(|f| found.candidate(f)) {
                prop_assert!(taken.half_width().is_some_and(f64::is_finite));
                prop_assert!(taken.fit.as_ref().is_ok_and(fit_is_finite) && taken.direction.is_some());
            }
        }
    }

    #[test]
    fn drift_between_any_two_curves(a in numbers(9), b in numbers(9), theta in numbers(9), plain in any::<bool>()) {
        let version = |raw: &[f64], from| {
            let n = raw.len().min(theta.len());
            let fit = PolynomialFit::new(&raw[..n], &theta[..n], 1, Intercept::Free).ok()?;
            Some(DatedCurve { valid_from: UnixSeconds(from), curve: Curve::from_fit(&fit, Form::Line) })
        };
        let earlier = if plain {
            let curve = Curve::from_coefficients(&[0.1, 2e-4], 0.0, 2000.0, Some(0.01)).unwrap();
            Some(DatedCurve { valid_from: UnixSeconds(0), curve })
        } else {
            version(&a, 0)
        };
        if let (Some(earlier), Some(later)) = (earlier, version(&b, 86_400)) {
            for found in [drift(&earlier, &later), drift(&later, &later)].into_iter().flatten() {
                prop_assert!(found.test.is_none_or(|t| t.f.is_finite() && (0.0..=1.0).contains(&t.p)), "{found:?}");
                prop_assert!(found.at.iter().all(|p| p.half_width.is_none_or(f64::is_finite)));
                prop_assert!(no_strange_words(&found.sentence()), "{}", found.sentence());
                prop_assert!(!plain || found.test.is_none() || found.years == 0.0, "nothing is claimed without covariance");
            }
            let same = drift(&later, &later).unwrap();
            prop_assert!(!same.is_real(), "a curve has not drifted from itself: {same:?}");
        }
    }

    #[test]
    fn thermometers(probe in numbers(7), reference in numbers(7), claim in any_number(), other in any_number()) {
        let found = check(&probe, &reference, Claims { probe: claim, reference: other });
        prop_assert!(no_strange_words(&found.sentence) && found.reasons.iter().all(|r| no_strange_words(r)), "{found:?}");
        prop_assert!(found.correction.is_none_or(|c| c.offset.is_finite() && c.slope.is_finite()));
        prop_assert!(agreement(&probe, &reference).is_none_or(|a| a.sd.is_finite() && a.limit_half_width.is_finite()));
    }

    #[test]
    fn conversions(x in any_number(), y in any_number(), z in any_number(), more in numbers(7)) {
        let u = ReadingUncertainty { signal: 0.1, kelvin: 0.1 };
        let fine = |c: Option<ebrel_core::temperature::Converted>| c.is_none_or(|c| c.celsius.is_finite() && c.u.is_finite());
        prop_assert!(fine(platinum_convert(x, y, ToleranceClass::B, u)));
        for kind in Thermocouple::ALL {
            prop_assert!(fine(kind.convert(x, y, u)));
        }
        if let [a, b, c, d, e, f] = more[..] {
            if let Some(curve) = SteinhartHart::through([(a, b), (c, d), (e, f)]) {
                prop_assert!(fine(curve.convert(x, u)));
            }
            if let Some(beta) = Beta::through((a, b), (c, d)) {
                prop_assert!(beta.temperature(x).is_none_or(f64::is_finite));
            }
        }
        if let Ok(read) = (HalfBridge { drive_v: x, fixed_ohm: y }).read(z, -z) {
            prop_assert!(read.ohm.is_finite() && read.galvanic_v.is_finite());
        }
        prop_assert!(matrix_tension(x, y).is_none_or(f64::is_finite));
        prop_assert!((1.0..=5.0).contains(&ParticleDensity::of_organic(Some(x)).get()));
        if let SunTimes::Rises { sunrise, sunset } = sun_times(x, y, 1_720_224_000) {
            prop_assert!(sunrise.is_finite() && sunset.is_finite());
        }
    }

    #[test]
    fn blocks(hours in numbers(14), ohm in numbers(14), kilopascal in numbers(14)) {
        let looks: Vec<PotReading> = (hours.iter().zip(&ohm).zip(&kilopascal))
            .map(|((h, r), k)| PotReading { hours: *h, kilo_ohm: *r, kilopascal: *k })
            .collect();
        if let Ok(found) = block_response(&looks) {
            let figures = [found.plateau, found.range.0, found.range.1, found.factor, found.power, found.relative_error];
            prop_assert!(figures.iter().chain(&found.lag_hours).all(|f| f.is_finite()), "{found:?}");
        }
    }
}
