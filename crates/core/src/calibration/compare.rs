//! What a new calibration would change in a record, before it is adopted.

use super::Curve;
use crate::series::{Believed, DatedCurve};
use crate::units::UnixSeconds;

/// Seconds of a day.
const DAY: i64 = 86_400;
/// Width of a band of water content in the summary, m³/m³.
const BAND: f64 = 0.05;

/// The largest change.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Largest {
    /// Moment of it, seconds of UTC.
    pub at: UnixSeconds,
    /// Water content before, m³/m³.
    pub before: f64,
    /// Its mean after the change, m³/m³.
    pub after: f64,
}

/// Change among readings that were of one wetness before.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ContentBand {
    /// Lower edge, m³/m³; the band is 0.05 wide.
    pub from: f64,
    /// Readings in it.
    pub readings: usize,
    /// Mean change, m³/m³.
    pub mean: f64,
}

/// Means of one day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayMeans {
    /// Start of the day, UTC.
    pub day: UnixSeconds,
    /// Mean before; NaN where no calibration held.
    pub before: f64,
    /// Mean water content after the change, m³/m³.
    pub after: f64,
}

/// How often a calibration is asked for what it does not know or what cannot be.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct OutOfBounds {
    /// Readings beyond the samples: extrapolated.
    pub beyond: usize,
    /// Water contents below zero.
    pub below_zero: usize,
    /// Water contents above the pore space.
    pub above_pores: usize,
}

/// What changes, by how much, where.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// Readings that the new curve would speak for.
    pub readings: usize,
    /// Of these, readings that had no water content before.
    pub new: usize,
    /// Further readings of that time, which flags or verdicts leave out: nothing here counts them.
    pub left_out: usize,
    /// Mean change over the readings that had one, m³/m³.
    pub mean: f64,
    /// Root of the mean squared change.
    pub rms: f64,
    /// The largest change among readings that neither curve extrapolates.
    pub largest: Option<Largest>,
    /// Change by wetness, dry first.
    pub bands: Vec<ContentBand>,
    /// Means of each day before and after, for the drawing.
    pub days: Vec<DayMeans>,
    /// Strains of the old meaning and of the new one.
    pub strains: (OutOfBounds, OutOfBounds),
}

/// Compares what a record means now with what it would mean if `candidate` held from its date until the next one.
///
/// `now` are readings of raw output; those that are no numbers are passed over. Only readings whose calibration changes count.
#[must_use]
pub fn compare(now: Believed<'_>, candidate: &DatedCurve, pore_space: Option<f64>) -> Comparison {
    let next = now.history().curves().iter().map(|c| c.valid_from).find(|t| *t > candidate.valid_from);
    let now = now.between(candidate.valid_from, next.unwrap_or(UnixSeconds(i64::MAX)));
    let mut found = Comparison {
        readings: 0,
        new: 0,
        left_out: now.left_out(),
        mean: 0.0,
        rms: 0.0,
        largest: None,
        bands: Vec::new(),
        days: Vec::new(),
        strains: Default::default(),
    };
    let (mut sum, mut squares) = (0.0, 0.0);
    let mut bands: std::collections::BTreeMap<i64, (usize, f64)> = Default::default();
    let mut days: std::collections::BTreeMap<i64, (f64, f64, f64)> = Default::default();
    for r in now.readings().filter(|r| r.raw.is_finite()) {
        let before = r.curve.map_or(f64::NAN, |_| r.value);
        let after = candidate.curve.theta(r.raw);
        found.readings += 1;
        strain(&mut found.strains.1, &candidate.curve, r.raw, pore_space);
        let day = days.entry(r.time.0.div_euclid(DAY)).or_default();
        *day = (day.0 + before, day.1 + after, day.2 + 1.0);
        let Some(curve) = r.curve else {
            found.new += 1;
            continue;
        };
        strain(&mut found.strains.0, curve, r.raw, pore_space);
        let change = after - before;
        (sum, squares) = (sum + change, squares + change * change);
        let band = bands.entry((before / BAND).floor() as i64).or_default();
        *band = (band.0 + 1, band.1 + change);
        let known = !curve.is_beyond(r.raw) && !candidate.curve.is_beyond(r.raw);
        if known && found.largest.is_none_or(|l| (l.after - l.before).abs() < change.abs()) {
            found.largest = Some(Largest { at: r.time, before, after });
        }
    }
    let had = (found.readings - found.new).max(1) as f64;
    (found.mean, found.rms) = (sum / had, (squares / had).sqrt());
    found.bands = bands
        .into_iter()
        .map(|(i, (n, sum))| ContentBand { from: i as f64 * BAND, readings: n, mean: sum / n as f64 })
        .collect();
    found.days = days
        .into_iter()
        .map(|(d, (before, after, n))| DayMeans { day: UnixSeconds(d * DAY), before: before / n, after: after / n })
        .collect();
    found
}

fn strain(strains: &mut OutOfBounds, curve: &Curve, raw: f64, pore_space: Option<f64>) {
    let theta = curve.theta(raw);
    strains.beyond += usize::from(curve.is_beyond(raw));
    strains.below_zero += usize::from(theta < 0.0);
    strains.above_pores += usize::from(pore_space.is_some_and(|p| theta > p));
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::series::{CalibrationHistory, LeftOut, View};

    fn dated(from: i64, offset: f64, slope: f64) -> DatedCurve {
        let curve = Curve::from_coefficients(&[offset, slope], 100.0, 400.0, None).unwrap();
        DatedCurve { valid_from: UnixSeconds(from), curve }
    }

    fn all<'a>(view: View<'a>, now: &'a CalibrationHistory) -> Believed<'a> {
        Believed::new(view, now, &[], LeftOut::default())
    }

    #[test]
    fn what_is_left_out_changes_nothing_and_is_counted() {
        let view = View { times: &[10, 20, 30, 40], values: &[200.0, 900.0, 200.0, 900.0] };
        let now = CalibrationHistory::new(vec![dated(0, 0.0, 0.001)]);
        let out = LeftOut::of([(UnixSeconds(0), UnixSeconds(20))]);
        let found = compare(Believed::new(view, &now, &[], out), &dated(15, 0.0, 0.0011), None);
        assert_eq!((found.readings, found.left_out, found.strains.1.beyond), (2, 1, 1));
    }

    #[test]
    fn a_shift_is_told_with_its_size_and_place() {
        let now = CalibrationHistory::new(vec![dated(0, 0.0, 0.001), dated(4 * DAY, 0.0, 0.001)]);
        let times: Vec<i64> = (0..6).map(|i| i * DAY).collect();
        let raws = [150.0, 200.0, f64::NAN, 430.0, 300.0, 300.0];
        let found = compare(all(View { times: &times, values: &raws }, &now), &dated(DAY, 0.0, 0.0011), Some(0.46));
        assert_eq!((found.readings, found.new), (2, 0), "from its date until the next calibration");
        let largest = found.largest.unwrap();
        assert_eq!(largest.at, UnixSeconds(DAY), "the larger one, of day 3, is an extrapolation");
        assert!((largest.after - largest.before - 0.02).abs() < 1e-12);
        assert!((found.mean - (0.02 + 0.043) / 2.0).abs() < 1e-12);
        assert_eq!(found.bands.iter().map(|b| b.readings).collect::<Vec<_>>(), [1, 1]);
        assert_eq!((found.strains.0.beyond, found.strains.1.above_pores, found.strains.0.above_pores), (1, 1, 0));
        assert_eq!(found.days.len(), 2);
    }

    #[test]
    fn readings_without_a_calibration_count_as_new() {
        let view = View { times: &[5, 6], values: &[200.0, 210.0] };
        let found = compare(all(view, &CalibrationHistory::default()), &dated(0, 0.0, 0.001), None);
        assert_eq!((found.readings, found.new, found.largest, found.mean), (2, 2, None, 0.0));
        assert!(found.days[0].before.is_nan() && (found.days[0].after - 0.205).abs() < 1e-12);
    }

    #[test]
    fn the_same_curve_changes_nothing() {
        let now = CalibrationHistory::new(vec![dated(0, -0.1, 0.001)]);
        let view = View { times: &[1, 2, 3], values: &[120.0, 220.0, 320.0] };
        let found = compare(all(view, &now), &dated(0, -0.1, 0.001), Some(0.5));
        assert_eq!((found.rms, found.strains.0), (0.0, found.strains.1));
    }
}
