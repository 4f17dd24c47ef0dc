//! Time series, what they mean by date, and how they are thinned for a screen.
//!
//! A raw series never changes. [`CalibrationHistory`] says which calibration holds when; [`Believed`] are the readings without those that
//! flags and verdicts take out; [`thin`] gives the smallest, largest
//! and mean value per pixel column of a window, so that no spike is averaged away from sight.

mod believed;
mod history;
mod hourly;
mod thin;

pub use believed::{Belief, Believed, BelievedReading, LeftOut};
pub use history::{CalibrationHistory, DatedCurve};
pub use hourly::{DailyWave, Hours, MeanWave, daily_waves, day_by_day, mean_wave};
pub use thin::{Columns, Window, WindowError, sum_columns, thin};

use crate::field::Clock;
use crate::units::UnixSeconds;
use std::sync::Arc;

/// Readings of one stream in order of time; both vectors have the same length.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Series {
    /// Times in whole seconds of UTC, strictly rising; channels of one record share theirs.
    pub times: Arc<[i64]>,
    /// Values, in the unit of the stream.
    pub values: Vec<f64>,
}

impl Series {
    /// How many readings there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.times.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.times.is_empty()
    }

    /// The readings from `from` up to but without `to`.
    #[must_use]
    pub fn between(&self, from: UnixSeconds, to: UnixSeconds) -> View<'_> {
        let start = self.times.partition_point(|t| *t < from.0);
        let end = self.times.partition_point(|t| *t < to.0).max(start);
        View { times: &self.times[start..end], values: &self.values[start..end] }
    }

    /// The same readings at their true times, by the clock of their node. Their order stays; where a clock that was set makes two
    /// coincide, the later one comes a second after.
    ///
    /// ```
    /// use ebrel_core::field::{Clock, ClockCheck};
    /// use ebrel_core::series::Series;
    /// use ebrel_core::units::UnixSeconds;
    /// let check = ClockCheck { shown: UnixSeconds(1100), truth: UnixSeconds(1000), set: false };
    /// let clock = Clock::new(UnixSeconds(0), &[check]).unwrap();
    /// let series = Series { times: vec![0, 550, 1100, 2000].into(), values: vec![1.0; 4] };
    /// assert_eq!(series.by_clock(&clock).times[..], [0, 500, 1000, 1900]);
    /// ```
    #[must_use]
    pub fn by_clock(&self, clock: &Clock) -> Self {
        let mut times: Vec<i64> = self.times.iter().map(|t| clock.corrected(UnixSeconds(*t)).0).collect();
        for i in 1..times.len() {
            times[i] = times[i].max(times[i - 1] + 1);
        }
        Self { times: times.into(), values: self.values.clone() }
    }

    /// All readings.
    #[must_use]
    pub fn view(&self) -> View<'_> {
        View { times: &self.times, values: &self.values }
    }
}

/// Some consecutive readings of a series, borrowed.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct View<'a> {
    /// Times in whole seconds of UTC, strictly rising.
    pub times: &'a [i64],
    /// Values, as many as times.
    pub values: &'a [f64],
}

impl View<'_> {
    /// The usual distance between two readings in seconds: the median of (a sample of) the distances.
    #[must_use]
    pub fn usual_interval(&self) -> Option<i64> {
        let mut steps: Vec<i64> = self.times.windows(2).take(5000).map(|w| w[1] - w[0]).collect();
        let middle = steps.len() / 2;
        (!steps.is_empty()).then(|| *steps.select_nth_unstable(middle).1)
    }
}
