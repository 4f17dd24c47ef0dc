//! Believed readings at even times.

use crate::calibration::Curve;
use crate::series::{Believed, View};
use crate::units::{SpanSeconds, UnixSeconds};

/// Even times over a stretch of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Grid {
    first: i64,
    step: i64,
    len: usize,
}

impl Grid {
    /// More times than these have no grid: the step grows until they fit.
    pub const MOST: usize = 1 << 20;
    /// The finest step: what soil does within five minutes is noise.
    pub const FINEST: SpanSeconds = SpanSeconds(300);

    /// Times at whole steps from next to `first` to next to `last`; steps below [`Self::FINEST`] become that, and too many are made fewer by doubling.
    /// `None` if `last` lies before `first`.
    #[must_use]
    pub fn over(first: UnixSeconds, last: UnixSeconds, step: SpanSeconds) -> Option<Self> {
        let span = last.0.checked_sub(first.0).filter(|s| *s >= 0)?;
        let mut step = step.0.max(Self::FINEST.0);
        while span / step >= Self::MOST as i64 {
            step = step.checked_mul(2)?;
        }
        // The whole steps next to both ends: a reading at an end has a time of its own.
        let next = |t: UnixSeconds| (t.0.saturating_add(step / 2)).div_euclid(step) * step;
        let (from, to) = (next(first), next(last));
        Some(Self { first: from, step, len: ((to - from) / step + 1) as usize })
    }

    /// How many times.
    #[must_use]
    pub const fn len(&self) -> usize {
        self.len
    }

    /// Never: a grid has at least one time.
    #[must_use]
    pub const fn is_empty(&self) -> bool {
        self.len == 0
    }

    /// Seconds between two times.
    #[must_use]
    pub const fn step(&self) -> SpanSeconds {
        SpanSeconds(self.step)
    }

    /// The time with this index.
    #[must_use]
    pub const fn time(&self, index: usize) -> UnixSeconds {
        UnixSeconds(self.first + index as i64 * self.step)
    }

    /// Index of the last time that is not after `at`; `None` before the first, the last one behind the end.
    #[must_use]
    pub fn at(&self, at: UnixSeconds) -> Option<usize> {
        let index = (at.0 - self.first).div_euclid(self.step);
        usize::try_from(index).ok().map(|i| i.min(self.len - 1))
    }

    /// Indices of the times from `from` up to but without `to`.
    #[must_use]
    pub fn between(&self, from: UnixSeconds, to: UnixSeconds) -> std::ops::Range<usize> {
        let start = self.not_before(from);
        start..self.not_before(to).max(start)
    }

    /// Index of the time next to `at`, not farther than half a step from it.
    fn nearest(&self, at: UnixSeconds) -> Option<usize> {
        let i = self.not_before(UnixSeconds(at.0.saturating_sub(self.step / 2)));
        (i < self.len && (self.time(i).0 - at.0).abs() * 2 <= self.step).then_some(i)
    }

    /// Index of the first time that is not before `at`; the length behind the end.
    fn not_before(&self, at: UnixSeconds) -> usize {
        let up = at.0.saturating_sub(self.first).saturating_add(self.step - 1).div_euclid(self.step);
        up.clamp(0, self.len as i64) as usize
    }

    /// How many steps a span takes, at least one.
    #[must_use]
    pub fn steps(&self, span: SpanSeconds) -> usize {
        (span.0 / self.step).max(1) as usize
    }

    /// The day, counted from 1970, of a time by a clock that is so many minutes ahead of UTC.
    #[must_use]
    pub const fn day(&self, index: usize, offset_minutes: i64) -> i64 {
        (self.time(index).0 + offset_minutes * 60).div_euclid(86_400)
    }
}

/// What became of a channel's readings.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Readings that the track rests on.
    pub used: usize,
    /// Readings that flags and verdicts take out.
    pub left_out: usize,
    /// Readings without a meaning: before the first calibration, or no number.
    pub without_value: usize,
    /// Of those used, readings under a condition: frozen, ponded, settling, while somebody was there.
    pub under_condition: usize,
}

impl std::ops::AddAssign for Counts {
    fn add_assign(&mut self, other: Self) {
        self.used += other.used;
        self.left_out += other.left_out;
        self.without_value += other.without_value;
        self.under_condition += other.under_condition;
    }
}

/// One channel at the times of a grid.
#[derive(Debug, Clone)]
pub struct Track<'a> {
    /// What it is called.
    pub name: String,
    /// Depth, cm.
    pub depth_cm: f64,
    /// Values, one a time; NaN where the record has a gap.
    pub values: Vec<f64>,
    /// What the probe put out, one a time.
    pub raw: Vec<f64>,
    /// Calibrations, each from an index on.
    pub curves: Vec<(usize, &'a Curve)>,
    /// What became of its readings.
    pub counts: Counts,
    /// First moment at which its probe lay there, and the first after.
    pub in_force: (UnixSeconds, UnixSeconds),
}

/// A probe that lay there all the time.
pub const ALWAYS: (UnixSeconds, UnixSeconds) = (UnixSeconds(i64::MIN), UnixSeconds(i64::MAX));

/// Readings farther apart than this many of the usual intervals have a gap between them.
const GAP_INTERVALS: f64 = 2.5;

impl<'a> Track<'a> {
    /// Believed readings at the times of a grid, by a line between two neighbours. Where two lie more than two and a half of the usual
    /// intervals apart nothing is between them: a gap stays a gap.
    #[must_use]
    pub fn of(name: &str, depth_cm: f64, believed: Believed<'a>, usual: SpanSeconds, grid: &Grid) -> Self {
        let mut track = Self {
            name: name.to_owned(),
            depth_cm,
            values: vec![f64::NAN; grid.len],
            raw: vec![f64::NAN; grid.len],
            curves: Vec::new(),
            counts: Counts { left_out: believed.left_out(), ..Counts::default() },
            in_force: ALWAYS,
        };
        let bridge = ((usual.0 as f64 * GAP_INTERVALS) as i64).max(grid.step);
        let mut before: Option<(i64, f64, f64)> = None;
        for reading in believed.plain() {
            let (t, raw, value) = (reading.time.0, reading.raw, reading.value);
            if !(value.is_finite() && raw.is_finite()) {
                track.counts.without_value += 1;
                before = None;
                continue;
            }
            track.counts.used += 1;
            let near = before.filter(|b| t - b.0 <= bridge);
            let from = near.map_or(t, |b| b.0 + 1);
            let cells = grid.between(UnixSeconds(from), UnixSeconds(t + 1));
            if let Some(curve) = reading.curve
                && track.curves.last().is_none_or(|(_, last)| !std::ptr::eq(*last, curve))
            {
                let nearest = grid.nearest(reading.time).unwrap_or(cells.start);
                track.curves.push((cells.start.min(nearest), curve));
            }
            // A reading that stands alone stands at the time next to it.
            if near.is_none()
                && let Some(i) = grid.nearest(reading.time)
            {
                (track.raw[i], track.values[i]) = (raw, value);
            }
            for i in cells {
                let share = near.map_or(1.0, |b| (grid.time(i).0 - b.0) as f64 / (t - b.0) as f64);
                let (r0, v0) = near.map_or((raw, value), |b| (b.1, b.2));
                track.raw[i] = r0 + (raw - r0) * share;
                track.values[i] = v0 + (value - v0) * share;
            }
            before = Some((t, raw, value));
        }
        track
    }
}

/// Sums of rain or irrigation in the step up to each time of a grid, mm; NaN where nothing was recorded for longer than two and a half
/// usual intervals.
#[must_use]
pub fn sums(view: View<'_>, usual: SpanSeconds, grid: &Grid) -> Vec<f64> {
    let mut sums = vec![f64::NAN; grid.len];
    let bridge = ((usual.0 as f64 * GAP_INTERVALS) as i64).max(grid.step);
    let mut before: Option<i64> = None;
    for (t, mm) in view.times.iter().zip(view.values) {
        let known_from = before.filter(|b| t - b <= bridge).unwrap_or(t - usual.0);
        before = Some(*t);
        if !mm.is_finite() {
            continue;
        }
        // Every cell that begins or ends within what this reading tells of is known; the sum goes to the cell in which it ends.
        let end = grid.not_before(UnixSeconds(*t));
        let start = grid.not_before(UnixSeconds(known_from + 1));
        for cell in sums.iter_mut().take((end + 1).min(grid.len)).skip(start) {
            if cell.is_nan() {
                *cell = 0.0;
            }
        }
        if end < grid.len && grid.time(end).0 - t < grid.step {
            sums[end] += mm;
        }
    }
    sums
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::series::{CalibrationHistory, LeftOut};
    use proptest::prelude::*;

    fn track(times: &[i64], values: &[f64], out: LeftOut, grid: &Grid) -> Track<'static> {
        let (view, history) = (View { times, values }, CalibrationHistory::default());
        let track = Track::of("T", 5.0, Believed::new(view, &history, &[], out), SpanSeconds(900), grid);
        let Track { name, depth_cm, values, raw, counts, in_force, .. } = track;
        Track { name, depth_cm, values, raw, counts, in_force, curves: Vec::new() }
    }

    fn grid(first: i64, last: i64) -> Grid {
        Grid::over(UnixSeconds(first), UnixSeconds(last), SpanSeconds(900)).unwrap()
    }

    #[test]
    fn times_are_whole_steps_and_never_too_many() {
        let g = grid(100, 4000);
        assert_eq!(
            (g.len(), g.time(0), g.at(UnixSeconds(899)), g.at(UnixSeconds(9000))),
            (5, UnixSeconds(0), Some(0), Some(4))
        );
        assert_eq!((g.at(UnixSeconds(-1)), g.at(UnixSeconds(899)), g.at(UnixSeconds(900))), (None, Some(0), Some(1)));
        assert_eq!(g.between(UnixSeconds(900), UnixSeconds(1800)), 1..2);
        assert_eq!(g.between(UnixSeconds(901), UnixSeconds(i64::MAX)), 2..5);
        assert_eq!(g.between(UnixSeconds(i64::MIN), UnixSeconds(0)), 0..0);
        let long = Grid::over(UnixSeconds(0), UnixSeconds(100 * 365 * 86_400), SpanSeconds(1)).unwrap();
        assert!(long.len() <= Grid::MOST && long.step() > Grid::FINEST);
        assert_eq!(Grid::over(UnixSeconds(5), UnixSeconds(4), SpanSeconds(900)), None);
        let one = Grid::over(UnixSeconds(1), UnixSeconds(2), SpanSeconds(900)).unwrap();
        assert_eq!((one.len(), one.time(0)), (1, UnixSeconds(0)), "a single reading has a time");
    }

    #[test]
    fn a_gap_and_what_is_left_out_are_not_bridged_and_all_readings_are_accounted_for() {
        let times: Vec<i64> = (0..40).map(|i| i * 900).filter(|t| !(9000..13_500).contains(t)).collect();
        let mut values: Vec<f64> = times.iter().map(|t| *t as f64 / 900.0).collect();
        values[30] = f64::NAN;
        let out = LeftOut::of([(UnixSeconds(18_000), UnixSeconds(21_600))]);
        let g = grid(0, 39 * 900);
        let t = track(&times, &values, out, &g);
        for i in 0..40 {
            // Index 30 of those that came is the 35th time.
            let gap = (10..15).contains(&i) || (20..=24).contains(&i) || i == 35;
            assert_eq!(t.values[i].is_nan(), gap, "{i}");
            assert!(gap || (t.values[i] - i as f64).abs() < 1e-9);
        }
        assert_eq!(t.counts, Counts { used: 29, left_out: 5, without_value: 1, under_condition: 0 });
        assert_eq!(t.counts.used + t.counts.left_out + t.counts.without_value, times.len());
    }

    #[test]
    fn a_reading_that_stands_alone_is_not_lost_between_two_times() {
        let times = [333, 40_111, 80_000];
        let t = track(&times, &[1.0, 2.0, 3.0], LeftOut::default(), &grid(0, 90_000));
        let known: Vec<(usize, f64)> = t.values.iter().copied().enumerate().filter(|v| v.1.is_finite()).collect();
        assert_eq!(known, [(0, 1.0), (45, 2.0), (89, 3.0)]);
        assert_eq!(t.counts.used, 3);
    }

    #[test]
    fn readings_of_a_clock_that_drifts_fill_the_even_times() {
        let times: Vec<i64> = (0..400).map(|i| 17 + i * 901).collect();
        let values: Vec<f64> = times.iter().map(|t| *t as f64).collect();
        let g = grid(900, 350 * 900);
        let t = track(&times, &values, LeftOut::default(), &g);
        assert!((0..g.len()).all(|i| (t.values[i] - g.time(i).0 as f64).abs() < 1e-6));
    }

    proptest! {
        #[test]
        fn rain_is_summed_once(mm in prop::collection::vec(0.0f64..9.0, 1..60), step in 1i64..5) {
            let times: Vec<i64> = (0..mm.len() as i64).map(|i| 900 + i * 900).collect();
            let g = Grid::over(UnixSeconds(0), UnixSeconds(900 * 80), SpanSeconds(900 * step)).unwrap();
            let sums = sums(View { times: &times, values: &mm }, SpanSeconds(900), &g);
            let total: f64 = sums.iter().filter(|v| v.is_finite()).sum();
            prop_assert!((total - mm.iter().sum::<f64>()).abs() < 1e-9);
        }
    }

    #[test]
    fn a_silent_gauge_tells_nothing() {
        let times: Vec<i64> = (0..10).chain(30..40).map(|i| i * 900).collect();
        let values = vec![0.2; 20];
        let g = grid(0, 39 * 900);
        let s = sums(View { times: &times, values: &values }, SpanSeconds(900), &g);
        assert!(s[20].is_nan() && s[5] == 0.2 && s[35] == 0.2 && s[28].is_nan(), "{s:?}");
    }
}
