//! Believed readings: every reading is either believed or counted as left out, whatever spans there are.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

use ebrel_core::calibration::Curve;
use ebrel_core::series::{Believed, CalibrationHistory, DatedCurve, LeftOut, Series};
use ebrel_core::temperature::{Correction, DatedCorrection};
use ebrel_core::units::UnixSeconds;
use proptest::prelude::*;

fn series() -> impl Strategy<Value = Series> {
    prop::collection::btree_map(-60..60_i64, 0.0..1000.0, 0..40)
        .prop_map(|all| Series { times: all.keys().copied().collect(), values: all.values().copied().collect() })
}

fn curve(from: i64, slope: f64) -> DatedCurve {
    let curve = Curve::from_coefficients(&[0.0, slope], 0.0, 1000.0, None).unwrap();
    DatedCurve { valid_from: UnixSeconds(from), curve }
}

proptest! {
    #[test]
    fn what_is_believed_and_what_is_left_out_make_all(
        series in series(),
        spans in prop::collection::vec((-70..70_i64, 0..30_i64), 0..6),
        (from, length) in (-70..70_i64, 0..90_i64),
        starts in prop::collection::vec(-70..70_i64, 0..3),
    ) {
        let out = LeftOut::of(spans.iter().map(|(a, n)| (UnixSeconds(*a), UnixSeconds(a + n))));
        let history = CalibrationHistory::new(starts.iter().map(|t| curve(*t, 0.001)).collect());
        let (from, to) = (UnixSeconds(from), UnixSeconds(from + length));
        let believed = Believed::new(series.view(), &history, &[], out.clone()).between(from, to);
        let within: Vec<(i64, f64)> = series.times.iter().copied().zip(series.values.iter().copied())
            .filter(|(t, _)| (from.0..to.0).contains(t)).collect();
        let stays_out = |t: i64| spans.iter().any(|(a, n)| (*a..=a + n).contains(&t));
        let expected: Vec<(i64, f64)> = within.iter().copied().filter(|(t, _)| !stays_out(*t)).collect();
        prop_assert_eq!((believed.count(), believed.left_out()), (expected.len(), within.len() - expected.len()));
        prop_assert!(within.iter().all(|(t, _)| out.holds(UnixSeconds(*t)) == stays_out(*t)));
        let first = starts.iter().min();
        let got: Vec<_> = believed.readings().collect();
        prop_assert_eq!(got.iter().map(|r| (r.time.0, r.raw)).collect::<Vec<_>>(), expected);
        for r in got {
            match first {
                Some(first) if r.time.0 < *first => prop_assert!(r.value.is_nan(), "no calibration held yet"),
                Some(_) => prop_assert!((r.value - r.raw * 0.001).abs() < 1e-9),
                None => prop_assert_eq!(r.value, r.raw),
            }
        }
    }
}

#[test]
fn a_thermometer_is_corrected_only_while_its_correction_holds() {
    let series = Series { times: vec![0, 10, 20].into(), values: vec![5.0, 5.0, f64::NAN] };
    let correction = Correction { offset: -0.5, slope: 0.0 };
    let dated = [DatedCorrection { from: UnixSeconds(10), until: None, correction }];
    let history = CalibrationHistory::default();
    let believed = Believed::new(series.view(), &history, &dated, LeftOut::default());
    assert!(believed.is_changed());
    let values: Vec<f64> = believed.readings().map(|r| r.value).collect();
    assert_eq!(values[..2], [5.0, 4.5]);
    assert!(values[2].is_nan(), "a hole stays a hole");
}
