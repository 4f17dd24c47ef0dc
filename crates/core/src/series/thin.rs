//! Smallest, largest and mean value per pixel column.

use super::View;
use crate::units::UnixSeconds;
use thiserror::Error;

/// A stretch of time that is cut into columns of equal length.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Window {
    from: i64,
    to: i64,
    columns: usize,
}

/// A window that cannot be drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum WindowError {
    /// The end is not after the start.
    #[error("the window must end after it starts")]
    Empty,
    /// More or fewer columns than a screen has.
    #[error("between 1 and {} columns can be asked for", Window::MOST_COLUMNS)]
    Columns,
}

impl Window {
    /// No screen is wider.
    pub const MOST_COLUMNS: usize = 4000;

    /// A window of `columns` pixel columns from `from` up to but without `to`.
    ///
    /// # Errors
    /// [`WindowError`] for an empty stretch or a number of columns that no screen has.
    pub fn new(from: UnixSeconds, to: UnixSeconds, columns: usize) -> Result<Self, WindowError> {
        if to.0 <= from.0 || to.0.checked_sub(from.0).is_none() {
            return Err(WindowError::Empty);
        }
        if !(1..=Self::MOST_COLUMNS).contains(&columns) {
            return Err(WindowError::Columns);
        }
        Ok(Self { from: from.0, to: to.0, columns })
    }

    /// First second of the window.
    #[must_use]
    pub const fn from(&self) -> UnixSeconds {
        UnixSeconds(self.from)
    }

    /// First second after the window.
    #[must_use]
    pub const fn to(&self) -> UnixSeconds {
        UnixSeconds(self.to)
    }

    /// Number of columns.
    #[must_use]
    pub const fn columns(&self) -> usize {
        self.columns
    }

    /// First second that belongs to column `index` or a later one.
    #[must_use]
    pub fn edge(&self, index: usize) -> i64 {
        let span = i128::from(self.to - self.from) * index as i128;
        self.from + (span / self.columns as i128) as i64
    }

    /// Calls `each` for every column with the range of indices of `times` that fall into it.
    fn each_column(&self, times: &[i64], mut each: impl FnMut(usize, std::ops::Range<usize>)) {
        let mut start = times.partition_point(|t| *t < self.from);
        for column in 0..self.columns {
            let edge = if column + 1 == self.columns { self.to } else { self.edge(column + 1) };
            // Columns hold few readings in a narrow window and many in a wide one: look near first.
            let mut end = start;
            let mut stride = 1;
            while end < times.len() && times[end] < edge {
                end += stride;
                stride *= 2;
            }
            let low = end.saturating_sub(stride).max(start);
            let high = end.min(times.len());
            end = low + times[low..high].partition_point(|t| *t < edge);
            each(column, start..end);
            start = end;
        }
    }
}

/// One value per column; NaN where a column has no reading.
#[derive(Debug, Clone, PartialEq)]
pub struct Columns {
    /// Smallest value of each column; NaN where it has none.
    pub min: Vec<f64>,
    /// Largest value of each column; NaN where it has none.
    pub max: Vec<f64>,
    /// Arithmetic mean of each column; NaN where it has none.
    pub mean: Vec<f64>,
    /// Number of readings.
    pub count: Vec<u32>,
}

impl Columns {
    /// Columns without readings.
    #[must_use]
    pub fn empty(columns: usize) -> Self {
        let nan = vec![f64::NAN; columns];
        Self { min: nan.clone(), max: nan.clone(), mean: nan, count: vec![0; columns] }
    }

    /// Takes in another piece of the same strip (another probe at that depth, another calibration).
    pub fn merge(&mut self, other: &Self) {
        for i in 0..self.min.len() {
            if other.count[i] == 0 {
                continue;
            }
            let (n, m) = (f64::from(self.count[i]), f64::from(other.count[i]));
            self.mean[i] = if n == 0.0 { other.mean[i] } else { (self.mean[i] * n + other.mean[i] * m) / (n + m) };
            self.min[i] = self.min[i].min(other.min[i]);
            self.max[i] = self.max[i].max(other.max[i]);
            self.count[i] += other.count[i];
        }
    }
}

/// Smallest, largest, sum and number of the values that are numbers.
fn summary(values: impl Iterator<Item = f64> + Clone) -> (f64, f64, f64, u32) {
    let empty = (f64::INFINITY, f64::NEG_INFINITY, 0.0, 0);
    let add = |(low, high, sum, n): (f64, f64, f64, u32), v: f64| (low.min(v), high.max(v), sum + v, n + 1);
    let all = values.clone().fold(empty, add);
    // One value that is not a number spoils the sum; then they are looked at one by one.
    if all.2.is_nan() { values.filter(|v| !v.is_nan()).fold(empty, add) } else { all }
}

impl Columns {
    fn set(&mut self, column: usize, (low, high, sum, n): (f64, f64, f64, u32)) {
        if n > 0 {
            self.min[column] = low;
            self.max[column] = high;
            self.mean[column] = sum / f64::from(n);
            self.count[column] = n;
        }
    }
}

/// Thins readings to the columns of `window`. `value` turns a stored value into the shown one; what it makes NaN
/// is not counted.
#[must_use]
pub fn thin(view: View<'_>, window: &Window, value: impl Fn(f64) -> f64) -> Columns {
    let mut out = Columns::empty(window.columns);
    window.each_column(view.times, |column, range| {
        out.set(column, summary(view.values[range].iter().map(|v| value(*v))));
    });
    out
}

/// Sum per column, for rain; NaN where a column has no reading.
#[must_use]
pub fn sum_columns(view: View<'_>, window: &Window) -> Vec<f64> {
    let mut out = vec![f64::NAN; window.columns];
    window.each_column(view.times, |column, range| {
        if !range.is_empty() {
            out[column] = view.values[range].iter().filter(|v| v.is_finite()).sum();
        }
    });
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::series::Series;
    use proptest::prelude::*;

    fn window(from: i64, to: i64, columns: usize) -> Window {
        Window::new(UnixSeconds(from), UnixSeconds(to), columns).unwrap()
    }

    #[test]
    fn one_spike_in_ten_years_is_still_seen() {
        let times: Vec<i64> = (0..350_000).map(|i| i * 900).collect();
        let mut values = vec![0.3; times.len()];
        values[123_456] = 0.9;
        let series = Series { times: times.into(), values };
        let columns = thin(series.view(), &window(0, 350_000 * 900, 700), |v| v);
        assert_eq!(columns.max.iter().filter(|v| **v == 0.9).count(), 1);
        assert_eq!(columns.count.iter().map(|c| *c as usize).sum::<usize>(), 350_000);
    }

    #[test]
    fn a_window_must_be_drawable() {
        assert_eq!(Window::new(UnixSeconds(5), UnixSeconds(5), 10), Err(WindowError::Empty));
        assert_eq!(Window::new(UnixSeconds(0), UnixSeconds(5), 0), Err(WindowError::Columns));
    }

    #[test]
    fn empty_columns_are_not_zero_rain() {
        let series = Series { times: vec![0, 900, 5400].into(), values: vec![0.2, 0.4, 0.0] };
        let sums = sum_columns(series.view(), &window(0, 7200, 4));
        assert!((sums[0] - 0.6).abs() < 1e-12 && sums[1].is_nan() && sums[2].is_nan());
        assert_eq!(sums[3], 0.0);
    }

    proptest! {
        #[test]
        fn every_reading_falls_into_exactly_one_column(
            steps in prop::collection::vec(1i64..5000, 1..300), columns in 1usize..90, from in -2000i64..20_000, span in 1i64..400_000,
        ) {
            let times: Vec<i64> = steps.iter().scan(0, |t, s| { *t += s; Some(*t) }).collect();
            let values: Vec<f64> = (0..times.len()).map(|i| i as f64).collect();
            let series = Series { times: times.into(), values };
            let w = window(from, from + span, columns);
            let got = thin(series.view(), &w, |v| v);
            let inside = series.between(w.from(), w.to());
            prop_assert_eq!(got.count.iter().map(|c| *c as usize).sum::<usize>(), inside.values.len());
            let total: f64 = got.mean.iter().zip(&got.count).filter(|(_, c)| **c > 0).map(|(m, c)| m * f64::from(*c)).sum();
            prop_assert!((total - inside.values.iter().sum::<f64>()).abs() < 1e-6);
        }
    }
}
