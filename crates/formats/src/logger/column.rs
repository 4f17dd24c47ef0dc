//! What is known of a column after its whole run: counts, range, step, and a small drawing of it.

use ebrel_core::units::UnixSeconds;

/// One reading of a file.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading {
    /// Index into the columns of the file.
    pub column: usize,
    /// Moment of it, seconds of UTC.
    pub time: UnixSeconds,
    /// The value as it stands in the file, in the column's unit.
    pub value: f64,
}

/// A column of values (or, in a long file, one channel).
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Column {
    /// The table it stands in; empty where the file holds one.
    pub table: String,
    /// The logger that wrote it, where the file tells several apart.
    pub node: String,
    /// The name that people use.
    pub name: String,
    /// Its unit, if the file tells one.
    pub unit: String,
    /// Depth as a column of the file tells it, cm.
    pub depth_cm: Option<f64>,
    /// Readings that have a value.
    pub valid: usize,
    /// Cells that were empty or marked as missing.
    pub missing: usize,
    /// Cells that hold neither a number nor a mark.
    pub words: usize,
    /// Readings that carry a mark behind the number.
    pub noted: usize,
    /// The usual distance between two records of its table, seconds.
    pub interval_s: Option<i64>,
    /// First and last time with a value.
    pub extent: Option<(UnixSeconds, UnixSeconds)>,
    /// The smallest difference between two values that follow each other, where they differ.
    pub step: Option<f64>,
    /// Its run in few steps, to be drawn.
    pub trace: Trace,
    /// Sums and counts by hour of the day, UTC.
    hours: Option<Box<[(f64, u32); 24]>>,
    range: Option<(f64, f64)>,
    last: Option<f64>,
    suspects: Vec<(f64, usize)>,
    texts: Vec<(String, usize)>,
}

/// Numbers that loggers write where there is no reading.
const SUSPECTS: [f64; 20] = [
    -9999.0, 9999.0, -99_999.0, 99_999.0, 6999.0, -6999.0, 7999.0, -7999.0, -999.0, 999.0, -99.0, 9999.9, -9999.9,
    999.9, -999.9, -99.9, 32_767.0, -32_768.0, 65_535.0, -8888.0,
];

/// Texts of a column that are remembered.
const TEXTS: usize = 24;

impl Column {
    /// A column of which nothing is known but its name and unit.
    #[must_use]
    pub fn named(name: impl Into<String>, unit: impl Into<String>) -> Self {
        Self { name: name.into(), unit: unit.into(), ..Self::default() }
    }

    pub(super) fn take(&mut self, time: UnixSeconds, value: f64) {
        self.valid += 1;
        let (first, last) = self.extent.unwrap_or((time, time));
        self.extent = Some((first.min(time), last.max(time)));
        if value.abs() >= 99.0 && SUSPECTS.contains(&value) {
            match self.suspects.iter_mut().find(|s| s.0 == value) {
                Some(known) => known.1 += 1,
                None => self.suspects.push((value, 1)),
            }
            return;
        }
        let (low, high) = self.range.unwrap_or((value, value));
        self.range = Some((low.min(value), high.max(value)));
        if let Some(last) = self.last {
            let step = (value - last).abs();
            if step > value.abs() * 1e-12 && self.step.is_none_or(|s| step < s) {
                self.step = Some(step);
            }
        }
        self.last = Some(value);
        self.trace.take(value);
        let of_hour = &mut self.hours.get_or_insert_with(Box::default)[(time.0.rem_euclid(86_400) / 3600) as usize];
        *of_hour = (of_hour.0 + value, of_hour.1 + 1);
    }

    /// Moves all its times by so many seconds.
    pub(super) fn shift(&mut self, seconds: i64) {
        let moved = |t: UnixSeconds| UnixSeconds(t.0 + seconds);
        self.extent = self.extent.map(|(a, b)| (moved(a), moved(b)));
        if let Some(hours) = &mut self.hours {
            hours.rotate_right((seconds as f64 / 3600.0).round().rem_euclid(24.0) as usize);
        }
    }

    /// The mean of each hour of the day (UTC), where every hour has readings.
    #[must_use]
    pub fn daily_wave(&self) -> Option<[f64; 24]> {
        let hours = self.hours.as_ref().filter(|h| h.iter().all(|h| h.1 > 0))?;
        Some(std::array::from_fn(|i| hours[i].0 / f64::from(hours[i].1)))
    }

    pub(super) fn note_text(&mut self, text: &str) {
        self.words += 1;
        if let Some(known) = self.texts.iter_mut().find(|t| t.0 == text) {
            known.1 += 1;
        } else if self.texts.len() < TEXTS {
            self.texts.push((text.chars().take(40).collect(), 1));
        }
    }

    /// Numbers that loggers often write where there is no reading, with how often each stands there.
    pub(super) fn suspects(&self) -> &[(f64, usize)] {
        &self.suspects
    }

    /// Texts that were no numbers, the first few of them, with how often each stands there.
    pub(super) fn texts(&self) -> &[(String, usize)] {
        &self.texts
    }

    /// Least and greatest value.
    #[must_use]
    pub fn range(&self) -> Option<(f64, f64)> {
        let mut range = self.range;
        for (value, _) in &self.suspects {
            let (low, high) = range.unwrap_or((*value, *value));
            range = Some((low.min(*value), high.max(*value)));
        }
        range
    }

    /// Whether it holds words and not a single number: not a column of readings.
    #[must_use]
    pub const fn is_words(&self) -> bool {
        self.valid == 0 && self.words > 0
    }

    /// Numbers that stand for a missing reading: those that loggers use, where they lie further from all other values of the column
    /// than these lie from each other. A count of 6999 among 6990 to 7009 is a reading.
    #[must_use]
    pub fn marks(&self) -> Vec<f64> {
        let Some((low, high)) = self.range else { return Vec::new() };
        let far = |v: f64| v < low - (high - low).max(1.0) || v > high + (high - low).max(1.0);
        self.suspects.iter().map(|s| s.0).filter(|v| far(*v)).collect()
    }
}

/// A run of values in few steps: least and greatest of each. It needs the same little memory however long the run is.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Trace {
    steps: Vec<(f64, f64)>,
    per_step: usize,
    in_last: usize,
}

impl Trace {
    /// The most steps; between half of it and it are used.
    pub const STEPS: usize = 128;

    fn take(&mut self, value: f64) {
        if self.in_last == 0 || self.in_last == self.per_step {
            if self.steps.len() == Self::STEPS {
                self.steps = self.steps.chunks(2).map(|p| (p[0].0.min(p[1].0), p[0].1.max(p[1].1))).collect();
                self.per_step *= 2;
            }
            self.per_step = self.per_step.max(1);
            self.steps.push((value, value));
            self.in_last = 1;
        } else if let Some(step) = self.steps.last_mut() {
            *step = (step.0.min(value), step.1.max(value));
            self.in_last += 1;
        }
    }

    /// Least and greatest value of each step, in the order of the file.
    #[must_use]
    pub fn steps(&self) -> &[(f64, f64)] {
        &self.steps
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn column(values: impl IntoIterator<Item = f64>) -> Column {
        let mut column = Column::default();
        for (i, value) in (0..).zip(values) {
            column.take(UnixSeconds(i * 900), value);
        }
        column
    }

    #[test]
    fn a_mark_is_one_only_where_it_cannot_be_a_reading() {
        let counts = column((6990..7010).map(f64::from));
        assert_eq!((counts.marks(), counts.range()), (vec![], Some((6990.0, 7009.0))));
        let warm = column([12.5, 12.75, -9999.0, 13.0, 6999.0, -9999.0]);
        assert_eq!(warm.marks(), [-9999.0, 6999.0]);
        assert_eq!(warm.step, Some(0.25));
        let dry = column([0.0, 0.0, -99.0]);
        assert_eq!(dry.marks(), [-99.0]);
        assert_eq!(column([9999.0, 9999.0]).marks(), Vec::<f64>::new(), "nothing else to compare it with");
        let near = column((880..=990).map(f64::from).chain([999.0]));
        assert_eq!(near.marks(), Vec::<f64>::new());
    }

    #[test]
    fn a_run_of_any_length_is_drawn_in_few_steps_and_keeps_its_extremes() {
        for n in [0, 1, 127, 128, 129, 100_000] {
            let run = column((0..n).map(|i| f64::from(i % 977)));
            let steps = run.trace.steps();
            assert!(
                steps.len() <= Trace::STEPS && steps.len() >= (n as usize).min(Trace::STEPS / 2),
                "{n}: {}",
                steps.len()
            );
            let low = steps.iter().map(|s| s.0).fold(f64::INFINITY, f64::min);
            let high = steps.iter().map(|s| s.1).fold(f64::NEG_INFINITY, f64::max);
            assert!(n == 0 || (low, high) == (0.0, f64::from((n - 1).min(976))));
        }
    }
}
