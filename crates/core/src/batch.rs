//! A batch of probes side by side in one well-mixed medium: the spread, and the odd one out.

use crate::register::EventKind;
use crate::statistics::{mad_sigma, median};

/// A robust z-score beyond this is an outlier (Iglewicz & Hoaglin 1993, How to Detect and Handle Outliers, ch. 3).
pub const ODD_Z: f64 = 3.5;
/// Fewer probes than this have no middle to be odd against.
pub const FEWEST: usize = 4;

/// One probe of the batch.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Member {
    /// What it read, in the unit of all of them.
    pub reading: f64,
    /// Its distance from the batch's median.
    pub off: f64,
    /// Robust z-score; `None` where the others do not differ at all.
    pub z: Option<f64>,
    /// Accepted, to be watched, or rejected.
    pub verdict: EventKind,
}

/// The judgement of a batch.
#[derive(Debug, Clone, PartialEq)]
pub struct Batch {
    /// Median of all readings.
    pub median: f64,
    /// Largest minus smallest.
    pub spread: f64,
    /// Robust standard deviation.
    pub sigma: f64,
    /// Members in the order given.
    pub members: Vec<Member>,
}

/// Compares readings of probes that all see the same; `tolerance` is how far one may stand off the median, in the unit of
/// the readings. z = (x − median)/(1.4826 MAD). `None` for fewer than [`FEWEST`] probes.
///
/// Within the tolerance a probe is accepted; beyond it, it is watched; beyond twice the tolerance and odd by its z, or
/// beyond four times it, it is rejected.
#[must_use]
pub fn side_by_side(readings: &[f64], tolerance: f64) -> Option<Batch> {
    if readings.len() < FEWEST || !readings.iter().all(|r| r.is_finite()) {
        return None;
    }
    let middle = median(&mut readings.to_vec())?;
    let sigma = mad_sigma(&mut readings.to_vec())?;
    let (low, high) = readings.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(l, h), r| (l.min(*r), h.max(*r)));
    let members = readings.iter().map(|reading| {
        let off = reading - middle;
        let z = (sigma > 0.0).then(|| off / sigma);
        let odd = z.is_none_or(|z| z.abs() > ODD_Z);
        let verdict = match off.abs() {
            d if d <= tolerance => EventKind::Accepted,
            d if d > 4.0 * tolerance || (d > 2.0 * tolerance && odd) => EventKind::Rejected,
            _ => EventKind::Watched,
        };
        Member { reading: *reading, off, z, verdict }
    });
    Some(Batch { median: middle, spread: high - low, sigma, members: members.collect() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn the_odd_one_out_is_named_and_does_not_drag_the_others_along() {
        let batch = side_by_side(&[902.0, 898.0, 905.0, 901.0, 955.0, 899.0], 10.0).unwrap();
        assert_eq!(batch.median, 901.5);
        let verdicts: Vec<EventKind> = batch.members.iter().map(|m| m.verdict).collect();
        use EventKind::{Accepted, Rejected, Watched};
        assert_eq!(verdicts, [Accepted, Accepted, Accepted, Accepted, Rejected, Accepted]);
        assert!(batch.members[4].z.unwrap() > 10.0);
        let wide = side_by_side(&[880.0, 890.0, 900.0, 910.0, 920.0], 10.0).unwrap();
        assert_eq!(wide.members[4].verdict, Watched, "wide, but no odder than its batch");
        assert_eq!(side_by_side(&[900.0, 901.0, 902.0], 10.0), None);
        assert_eq!(side_by_side(&[900.0, f64::NAN, 902.0, 903.0], 10.0), None);
        let equal = side_by_side(&[900.0, 900.0, 900.0, 900.0, 940.0], 10.0).unwrap();
        assert_eq!((equal.members[4].verdict, equal.members[0].z), (Rejected, None));
    }

    proptest! {
        #[test]
        fn shifting_all_readings_shifts_nothing_but_the_median(shift in -500.0..500.0f64) {
            let plain = [902.0, 898.0, 905.0, 901.0, 955.0, 899.0];
            let a = side_by_side(&plain, 10.0).unwrap();
            let b = side_by_side(&plain.map(|r| r + shift), 10.0).unwrap();
            for (x, y) in a.members.iter().zip(&b.members) {
                prop_assert_eq!(x.verdict, y.verdict);
                prop_assert!((x.off - y.off).abs() < 1e-9);
            }
        }
    }
}
