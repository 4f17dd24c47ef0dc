//! The same time more than once.

use super::context::written;
use super::scene::Scene;
use super::{Channel, Definition, Evidence, Flag, RepeatedEvidence};
use crate::units::{Grade, Quantity, UnixSeconds};

pub(super) const DEFINITION: Definition = Definition {
    title: "Came twice",
    mark: "R",
    grade: Grade::Doubtful,
    finds: "Readings that came again for a time already known; doubtful where the value is another, a condition where it is the same.",
    settings: &[],
};

/// A reading that came again for a time already known. The first one stands; this one is kept beside it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Repeat {
    /// Time of both.
    pub time: UnixSeconds,
    /// The value that stands.
    pub first: f64,
    /// The value that came later.
    pub later: f64,
}

/// Joins repeats that lie close together: with other values they are doubtful, with equal ones a condition.
pub(super) fn repeated(scene: &Scene<'_>) -> Vec<Flag> {
    let (channel, interval) = (scene.of.channel, scene.of.interval);
    let mut flags = Vec::new();
    for differs in [true, false] {
        let mut of_kind: Vec<&Repeat> =
            channel.repeats.iter().filter(|r| (r.first.to_bits() != r.later.to_bits()) == differs).collect();
        of_kind.sort_by_key(|r| r.time);
        for run in of_kind.chunk_by(|a, b| b.time.0 - a.time.0 <= 4 * interval) {
            flags.push(flag(channel, run, differs));
        }
    }
    flags
}

fn flag(channel: &Channel<'_>, run: &[&Repeat], differs: bool) -> Flag {
    let largest = run.iter().map(|r| (r.later - r.first).abs()).fold(0.0, f64::max);
    let (first, last) = (run[0], run[run.len() - 1]);
    let n = run.len();
    let reason = if differs {
        let quantity = if channel.raw.is_some() { Quantity::RawOutput } else { channel.quantity };
        format!(
            "{n} {} came again with another value; the first stands ({}), the later is kept beside it ({}).",
            if n == 1 { "reading" } else { "readings" },
            written(quantity, first.first),
            written(quantity, first.later),
        )
    } else {
        format!("{n} {} came twice with the same value and count once.", if n == 1 { "reading" } else { "readings" })
    };
    let evidence = RepeatedEvidence { largest_difference: largest.into(), repeats: n.into() };
    let grade = if differs { DEFINITION.grade } else { Grade::Condition };
    Flag::new(grade, (first.time.0, last.time.0), n, 1.0, Evidence::Repeated(evidence), reason)
}

#[cfg(test)]
mod tests {
    use super::super::Test;
    use super::super::testing::{channel, found, series};
    use super::*;

    #[test]
    fn another_value_is_doubtful_the_same_value_a_condition() {
        let s = series(50, |i| i as f64);
        let repeat = |i: i64, later: f64| Repeat { time: UnixSeconds(i * 900), first: i as f64, later };
        let repeats = [repeat(3, 3.0), repeat(4, 4.0), repeat(30, 31.5)];
        let mut c = channel(&s);
        c.repeats = &repeats;
        let flags = found(&c, Test::Repeated);
        assert_eq!(
            flags.iter().map(|f| (f.grade, f.readings)).collect::<Vec<_>>(),
            [(Grade::Condition, 2), (Grade::Doubtful, 1)]
        );
        assert!(flags[1].reason.contains("the first stands (30.0), the later is kept beside it (31.5)"));
    }
}
