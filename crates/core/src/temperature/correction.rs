//! A correction of a thermometer over time. The reading stays; what it is taken for changes.

use super::Correction;
use crate::series::View;
use crate::units::UnixSeconds;

/// A correction with the time in which it holds.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DatedCorrection {
    /// First moment it holds.
    pub from: UnixSeconds,
    /// First moment after; `None`: until further notice.
    pub until: Option<UnixSeconds>,
    /// What is added to a reading.
    pub correction: Correction,
}

impl Correction {
    /// The corrected temperature, °C.
    #[must_use]
    pub fn apply(self, celsius: f64) -> f64 {
        celsius + self.offset + self.slope * celsius
    }
}

impl DatedCorrection {
    /// Whether it holds at a moment.
    #[must_use]
    pub fn holds(&self, at: UnixSeconds) -> bool {
        at >= self.from && self.until.is_none_or(|until| at < until)
    }
}

/// Temperatures of a record as corrected; readings at times in which no correction holds stay as they are.
#[must_use]
pub fn corrected(view: View<'_>, corrections: &[DatedCorrection]) -> Vec<f64> {
    let mut values = view.values.to_vec();
    for c in corrections {
        let from = view.times.partition_point(|t| *t < c.from.0);
        let until = c.until.map_or(view.times.len(), |until| view.times.partition_point(|t| *t < until.0));
        for value in values.iter_mut().take(until).skip(from) {
            *value = c.correction.apply(*value);
        }
    }
    values
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_readings_of_its_time_are_corrected() {
        let dated = |from, until, offset, slope| DatedCorrection {
            from: UnixSeconds(from),
            until: Option::map(until, UnixSeconds),
            correction: Correction { offset, slope },
        };
        let view = View { times: &[0, 10, 20, 30], values: &[10.0, 10.0, 10.0, f64::NAN] };
        let values = corrected(view, &[dated(10, Some(20), -0.5, 0.0), dated(20, None, 0.0, 0.1)]);
        assert_eq!(values[..3], [10.0, 9.5, 11.0]);
        assert!(values[3].is_nan());
        assert_eq!(view.values[1], 10.0, "the reading stays");
        let first = dated(10, Some(20), -0.5, 0.0);
        assert!(first.holds(UnixSeconds(10)) && !first.holds(UnixSeconds(20)));
    }
}
