//! Readings as they are believed: what a probe reported, what it means, and what flags and verdicts take out.
//!
//! Exports, the Bench and every finding take a channel's readings from [`Believed`], so that all leave out the same ones and say
//! how many. Nothing here changes a reading.

use super::{CalibrationHistory, View};
use crate::calibration::Curve;
use crate::temperature::DatedCorrection;
use crate::units::{Grade, UnixSeconds, Verdict};

/// What takes a reading out: the grades of flags on which nobody has decided. A verdict beats the grade either way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Belief {
    /// Grades whose readings stay out until a person keeps them.
    pub leave_out: Vec<Grade>,
}

impl Default for Belief {
    /// What is graded wrong stays out.
    fn default() -> Self {
        Self { leave_out: vec![Grade::Wrong] }
    }
}

impl Belief {
    /// Whether the readings under a flag stay out.
    ///
    /// ```
    /// # use ebrel_core::{series::Belief, units::{Grade, Verdict}};
    /// let usual = Belief::default();
    /// assert!(usual.leaves_out(Grade::Wrong, None) && !usual.leaves_out(Grade::Doubtful, None));
    /// assert!(usual.leaves_out(Grade::Condition, Some(Verdict::LeftOut)), "a person beats the test");
    /// assert!(!usual.leaves_out(Grade::Wrong, Some(Verdict::Kept)));
    /// ```
    #[must_use]
    pub fn leaves_out(&self, grade: Grade, verdict: Option<Verdict>) -> bool {
        match verdict {
            Some(Verdict::LeftOut) => true,
            Some(Verdict::Kept) => false,
            None => self.leave_out.contains(&grade),
        }
    }
}

/// Spans of time whose readings stay out, in order and apart from each other; both ends belong to a span.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LeftOut(Vec<(i64, i64)>);

impl LeftOut {
    /// The union of spans in any order.
    #[must_use]
    pub fn of(spans: impl IntoIterator<Item = (UnixSeconds, UnixSeconds)>) -> Self {
        let mut spans: Vec<(i64, i64)> = spans.into_iter().map(|(a, b)| (a.0, b.0)).collect();
        spans.sort_unstable();
        let mut apart: Vec<(i64, i64)> = Vec::with_capacity(spans.len());
        for (start, end) in spans {
            match apart.last_mut() {
                Some((_, last)) if start <= *last => *last = (*last).max(end),
                _ => apart.push((start, end)),
            }
        }
        Self(apart)
    }

    /// Whether a reading of this moment stays out.
    #[must_use]
    pub fn holds(&self, at: UnixSeconds) -> bool {
        let next = self.0.partition_point(|(_, end)| *end < at.0);
        self.0.get(next).is_some_and(|(start, _)| *start <= at.0)
    }

    /// How many of some rising times stay out.
    #[must_use]
    pub fn count(&self, times: &[i64]) -> usize {
        let within = |(start, end): &(i64, i64)| {
            times.partition_point(|t| t <= end).saturating_sub(times.partition_point(|t| t < start))
        };
        self.0.iter().map(within).sum()
    }
}

/// One believed reading.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BelievedReading<'a> {
    /// When, by the node's clock.
    pub time: UnixSeconds,
    /// As it came, in the unit of the stream.
    pub raw: f64,
    /// What it means: water content by the calibration of that date (NaN before the first), a corrected temperature, or as it came.
    pub value: f64,
    /// 95 % half width of the value, where the calibration tells one.
    pub half_width: Option<f64>,
    /// The calibration that gave the value.
    pub curve: Option<&'a Curve>,
}

/// Readings of one channel, with what they mean by date, without those that stay out.
#[derive(Debug, Clone)]
pub struct Believed<'a> {
    view: View<'a>,
    history: &'a CalibrationHistory,
    corrections: &'a [DatedCorrection],
    out: LeftOut,
}

impl<'a> Believed<'a> {
    /// All readings of a view but those that stay out. Where `meaning` has calibrations the view is raw output.
    #[must_use]
    pub fn new(
        view: View<'a>,
        history: &'a CalibrationHistory,
        corrections: &'a [DatedCorrection],
        out: LeftOut,
    ) -> Self {
        Self { view, history, corrections, out }
    }

    /// Those from `from` up to but without `to`.
    #[must_use]
    pub fn between(self, from: UnixSeconds, to: UnixSeconds) -> Self {
        let start = self.view.times.partition_point(|t| *t < from.0);
        let end = self.view.times.partition_point(|t| *t < to.0).max(start);
        Self { view: self.view.slice(start..end), ..self }
    }

    /// How many there are. Every reading of the view is either one of these or [left out](Self::left_out).
    #[must_use]
    pub fn count(&self) -> usize {
        self.view.times.len() - self.left_out()
    }

    /// How many stay out.
    #[must_use]
    pub fn left_out(&self) -> usize {
        self.out.count(self.view.times)
    }

    /// What the raw output means by date.
    #[must_use]
    pub fn history(&self) -> &'a CalibrationHistory {
        self.history
    }

    /// Whether values may differ from what came.
    #[must_use]
    pub fn is_changed(&self) -> bool {
        !self.history.is_raw() || !self.corrections.is_empty()
    }

    /// The times of the readings, without making what they mean.
    pub fn times(&self) -> impl Iterator<Item = UnixSeconds> + '_ {
        self.view.times.iter().map(|t| UnixSeconds(*t)).filter(|t| !self.out.holds(*t))
    }

    /// The readings in order of time, made one after another.
    pub fn readings(self) -> impl Iterator<Item = BelievedReading<'a>> + use<'a> {
        self.made(true)
    }

    /// The same without half widths, which take longer to work out than the values.
    pub fn plain(self) -> impl Iterator<Item = BelievedReading<'a>> + use<'a> {
        self.made(false)
    }

    fn made(self, with_half_widths: bool) -> impl Iterator<Item = BelievedReading<'a>> + use<'a> {
        let (corrections, calibrated) = (self.corrections, !self.history.is_raw());
        let pieces = self.history.pieces(self.view).into_iter();
        let all = pieces.flat_map(move |(piece, curve)| {
            let half_width = curve.filter(|_| with_half_widths).and_then(Curve::half_widths);
            piece.times.iter().zip(piece.values).map(move |(t, raw)| {
                let time = UnixSeconds(*t);
                let value = match curve {
                    Some(curve) => curve.theta(*raw),
                    None if calibrated => f64::NAN,
                    None => corrections.iter().find(|c| c.holds(time)).map_or(*raw, |c| c.correction.apply(*raw)),
                };
                BelievedReading { time, raw: *raw, value, half_width: half_width.as_ref().map(|of| of(*raw)), curve }
            })
        });
        let mut out = self.out.0.into_iter().peekable();
        all.filter(move |reading| {
            while out.next_if(|(_, end)| *end < reading.time.0).is_some() {}
            out.peek().is_none_or(|(start, _)| reading.time.0 < *start)
        })
    }
}
