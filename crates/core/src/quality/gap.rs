//! Records that are missing.

use super::definition::settings;
use super::scene::Scene;
use super::{Definition, Evidence, Flag, GapEvidence, Test};
use crate::units::{Grade, SpanSeconds};

settings!(
    /// When readings are missing.
    GapSettings {
        /// More than this many intervals without a reading are a gap.
        intervals: 1.5 in 1.05..=100.0 "intervals",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Gap",
    mark: "G",
    grade: Grade::Condition,
    finds: "Readings that were due and are not there.",
    settings: GapSettings::LIST,
};

/// Stretches longer than the settings' number of intervals without a reading.
pub(super) fn gaps(scene: &Scene<'_>, own: &GapSettings) -> Vec<Flag> {
    let (view, interval) = (scene.of.channel.view, scene.of.interval);
    let limit = (own.intervals * interval as f64) as i64;
    // A stamp of a lost clock is no end of a silence.
    let lost = |t: i64| scene.found.iter().any(|f| f.test == Test::Clock && (f.start.0..=f.end.0).contains(&t));
    let gaps = view.times.windows(2).filter(|w| w[1] - w[0] > limit && !lost(w[0]) && !lost(w[1]));
    gaps.map(|w| gap((w[0], w[1]), interval)).collect()
}

/// The silence between two readings.
fn gap((before, after): (i64, i64), interval: i64) -> Flag {
    let missing = ((after - before) as f64 / interval as f64).round() as usize - 1;
    let (start, end) = (before + interval, (after - interval).max(before + 1));
    let evidence = GapEvidence { interval_s: (interval as f64).into(), missing: missing.into() };
    let every = SpanSeconds(interval).in_words();
    let long = SpanSeconds(after - before).in_words();
    let n = missing.max(1);
    let reason = format!("{n} of the readings due every {every} are missing: {long} of silence.");
    Flag::new(DEFINITION.grade, (start.min(end), end.max(start)), n, 0.0, Evidence::Gap(evidence), reason)
}

#[cfg(test)]
mod tests {
    use super::super::Test;
    use super::super::testing::{check, series, without};

    #[test]
    fn a_silence_is_one_flag_with_its_count() {
        let s = without(&series(100, |i| i as f64), 40..60);
        let flags = check(&s, None, Test::Gap);
        assert_eq!(flags.len(), 1);
        assert_eq!((flags[0].start.0, flags[0].end.0, flags[0].readings), (40 * 900, 59 * 900, 20));
        assert!(flags[0].reason.starts_with("20 of the readings due every 15 min are missing"), "{}", flags[0].reason);
    }

    #[test]
    fn a_clock_that_jitters_makes_no_gap() {
        let mut s = series(50, |i| i as f64);
        s.times = s.times.iter().enumerate().map(|(i, t)| t + (i as i64 % 3) * 60).collect();
        assert!(check(&s, None, Test::Gap).is_empty());
    }
}
