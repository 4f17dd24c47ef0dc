//! What a point usually shows: a value of a round is held against it.

use crate::statistics::quantile;

/// Fewer values tell of no habit.
const FEWEST: usize = 10;
/// Share of the values that is left out at either end, and by how much of their spread the range is widened.
const TAIL: f64 = 0.01;
const WIDER: f64 = 0.1;

/// The range within which a point's values usually lie: the middle 98 % of them, widened by a tenth of its width at both ends.
/// `None` for fewer than ten values, and for values of which one is no number.
///
/// ```
/// use ebrel_core::field::usual_range;
/// let past: Vec<f64> = (0..=100).map(f64::from).collect();
/// let (low, high) = usual_range(&past).unwrap();
/// assert!((low + 8.8).abs() < 1e-9 && (high - 108.8).abs() < 1e-9);
/// assert_eq!(usual_range(&past[..9]), None);
/// ```
#[must_use]
pub fn usual_range(values: &[f64]) -> Option<(f64, f64)> {
    if values.len() < FEWEST || values.iter().any(|v| !v.is_finite()) {
        return None;
    }
    let mut sorted = values.to_vec();
    let (low, high) = (quantile(&mut sorted, TAIL)?, quantile(&mut sorted, 1.0 - TAIL)?);
    let wider = WIDER * (high - low);
    Some((low - wider, high + wider)).filter(|(l, h)| l.is_finite() && h.is_finite())
}
