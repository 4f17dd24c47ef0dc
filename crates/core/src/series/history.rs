//! What a raw reading means at its time.

use super::View;
use crate::calibration::Curve;
use crate::units::UnixSeconds;

/// A calibration and the moment from which it holds; the next one ends it.
#[derive(Debug, Clone, PartialEq)]
pub struct DatedCurve {
    /// First moment it holds.
    pub valid_from: UnixSeconds,
    /// Raw output to water content, with its uncertainty.
    pub curve: Curve,
}

/// The calibrations of one probe, by date.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct CalibrationHistory {
    curves: Vec<DatedCurve>,
    contradictions: Vec<UnixSeconds>,
}

impl CalibrationHistory {
    /// Puts calibrations in order of their dates. Of several that begin at one moment the last one given holds, and the
    /// moment is kept as a contradiction, to be said where the probe is shown.
    #[must_use]
    pub fn new(mut curves: Vec<DatedCurve>) -> Self {
        curves.sort_by_key(|c| c.valid_from);
        let mut history = Self::default();
        for dated in curves {
            match history.curves.last_mut() {
                Some(last) if last.valid_from == dated.valid_from => {
                    history.contradictions.push(dated.valid_from);
                    *last = dated;
                }
                _ => history.curves.push(dated),
            }
        }
        history
    }

    /// Moments at which more than one calibration begins.
    #[must_use]
    pub fn contradictions(&self) -> &[UnixSeconds] {
        &self.contradictions
    }

    /// Whether no calibration was ever adopted.
    #[must_use]
    pub fn is_raw(&self) -> bool {
        self.curves.is_empty()
    }

    /// The calibrations in order of their dates.
    #[must_use]
    pub fn curves(&self) -> &[DatedCurve] {
        &self.curves
    }

    /// Cuts readings where the calibration changes. Each piece has its curve; the first has none if readings
    /// begin before the first calibration.
    #[must_use]
    pub fn pieces<'a>(&'a self, view: View<'a>) -> Vec<(View<'a>, Option<&'a Curve>)> {
        let mut pieces = Vec::new();
        let mut start = 0;
        let mut current = None;
        for dated in &self.curves {
            let cut = view.times.partition_point(|t| *t < dated.valid_from.0);
            if cut > start {
                pieces.push((view.slice(start..cut), current));
                start = cut;
            }
            current = Some(&dated.curve);
        }
        if start < view.times.len() {
            pieces.push((view.slice(start..view.times.len()), current));
        }
        pieces
    }

    /// Half width of the 95 % interval in the middle of the newest calibration's range, if it has an uncertainty.
    #[must_use]
    pub fn usual_half_width(&self) -> Option<f64> {
        let newest = &self.curves.last()?.curve;
        newest.half_width(newest.x_min.midpoint(newest.x_max))
    }

    /// Water content at every reading; NaN where no calibration held yet.
    #[must_use]
    pub fn resolve(&self, view: View<'_>) -> Vec<f64> {
        let mut out = Vec::with_capacity(view.values.len());
        for (piece, curve) in self.pieces(view) {
            match curve {
                Some(curve) => out.extend(piece.values.iter().map(|raw| curve.theta(*raw))),
                None => out.resize(out.len() + piece.values.len(), f64::NAN),
            }
        }
        out
    }
}

impl<'a> View<'a> {
    /// The readings with these indices.
    #[must_use]
    pub fn slice(&self, range: std::ops::Range<usize>) -> View<'a> {
        View { times: &self.times[range.clone()], values: &self.values[range] }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn dated(from: i64, slope: f64) -> DatedCurve {
        let curve = Curve::from_coefficients(&[0.0, slope], 0.0, 1000.0, None).unwrap();
        DatedCurve { valid_from: UnixSeconds(from), curve }
    }

    #[test]
    fn each_reading_takes_the_calibration_of_its_time() {
        let history = CalibrationHistory::new(vec![dated(300, 2.0), dated(100, 1.0)]);
        let view = View { times: &[0, 100, 200, 300, 400], values: &[1.0; 5] };
        let theta = history.resolve(view);
        assert!(theta[0].is_nan(), "before the first calibration there is no water content");
        assert_eq!(theta[1..], [1.0, 1.0, 2.0, 2.0]);
        assert_eq!(history.pieces(view).len(), 3);
    }

    #[test]
    fn of_two_calibrations_at_one_moment_the_last_given_holds_and_it_is_told() {
        let history = CalibrationHistory::new(vec![dated(5, 1.0), dated(9, 3.0), dated(5, 2.0)]);
        assert_eq!(history.curves(), [dated(5, 2.0), dated(9, 3.0)]);
        assert_eq!(history.contradictions(), [UnixSeconds(5)]);
        assert!(CalibrationHistory::new(vec![dated(5, 1.0), dated(9, 3.0)]).contradictions().is_empty());
    }
}
