//! Clocks that went wrong, and readings that came late.

use super::definition::settings;
use super::scene::{Scene, Told, Whole};
use super::{ClockEvidence, Definition, Evidence, Flag, LateEvidence};
use crate::units::{Grade, SpanSeconds};
use std::collections::BTreeMap;

settings!(
    /// When a clock is wrong.
    ClockSettings {
        /// Stamps leave their grid by so much.
        seconds: 45.0 in 1.0..=3600.0 "s",
        /// This share of a node's channels must show the same.
        share: 0.6 in 0.1..=1.0 "",
    }
);

pub(super) const CLOCK: Definition = Definition {
    title: "Clock",
    mark: "C",
    grade: Grade::Doubtful,
    finds: "Stamps from before a probe was there or after it went, stamps that drift off the grid of the record, and a node whose channels all \
            miss or repeat the same stretch: its clock was set, summer time began or ended.",
    settings: ClockSettings::LIST,
};

pub(super) const LATE: Definition = Definition {
    title: "Late",
    mark: "La",
    grade: Grade::Condition,
    finds: "Readings that arrived after readings of later times: what a node held back while nothing could be sent. They are whole, and were \
            not there when the rest was looked at.",
    settings: &[],
};

/// A clock that drifts by less does not drift, s a day.
const STANDS: f64 = 0.1;
/// A clock drifts on as long as its stamps keep within this of an even drift, s.
const EVENLY_S: f64 = 30.0;
/// A probe may be noted as put in a little after its first reading, s.
const AROUND_PLACEMENT: i64 = SpanSeconds::DAY.0;

/// Stamps of a time at which the probe was not there.
pub(super) fn not_there(scene: &Scene<'_>) -> Vec<Flag> {
    let channel = scene.of.channel;
    let (from, to) = channel.placed;
    let times = channel.view.times;
    let before = from.map_or(0, |from| times.partition_point(|t| *t < from.0 - AROUND_PLACEMENT));
    let after = to.map_or(times.len(), |to| times.partition_point(|t| *t <= to.0 + AROUND_PLACEMENT)).max(before);
    // A placement that leaves out most of a record is itself what is wrong.
    if 2 * (after - before) < times.len() {
        return Vec::new();
    }
    let tell = |a: usize, b: usize, words: &str| {
        let n = b - a;
        let reason = format!(
            "{n} {} stamped {words}: the clock was lost and began anew, or they belong to another probe.",
            if n == 1 { "reading is" } else { "readings are" },
        );
        let evidence = Evidence::Clock(ClockEvidence { drift_s_per_day: 0.0.into(), shift_s: 0.0.into() });
        (n > 0).then(|| Flag::new(Grade::Wrong, (times[a], times[b - 1]), n, 100.0, evidence, reason))
    };
    let early = tell(0, before, "before the probe was put in");
    let late = tell(after, times.len(), "after the probe was taken out");
    [early, late].into_iter().flatten().collect()
}

/// Channels of one node, by their place in the station's list.
fn nodes(whole: &Whole<'_>) -> Vec<Vec<usize>> {
    let mut nodes: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (i, s) in whole.all.iter().enumerate().filter(|(_, s)| !s.times.is_empty()) {
        nodes.entry(s.channel.node).or_default().push(i);
    }
    nodes.into_values().collect()
}

/// What happened to a node's clock, with its first and last stamp and, where it was set, by how many seconds.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Trouble {
    /// All channels repeat a stretch: it was set back by its length.
    Back(i64, i64, i64),
    /// All channels miss a stretch as long as one that they repeat: it was set ahead.
    Ahead(i64, i64, i64),
    /// Stamps drift off the grid, by so many seconds a day, from where they stood on it.
    Drift(i64, i64, f64),
    /// Stamps stand off the grid, by so many seconds.
    Off(i64, i64, i64),
}

/// What the stamps of each node tell of its clock: repeats with other values on most of its channels, holes of the length of such a repeat, and
/// stamps that drift off the grid.
pub(super) fn clocks(whole: &Whole<'_>, own: &ClockSettings) -> Vec<Told> {
    let mut told = Vec::new();
    for node in nodes(whole) {
        let back = repeats(whole, &node, own);
        let ahead = holes(whole, &node, own, &back);
        let troubles = back.iter().chain(&ahead).copied().chain(drifts(whole, &node, own));
        for trouble in troubles {
            told.extend(node.iter().filter_map(|i| tell(whole, *i, trouble)));
        }
    }
    told
}

/// Stretches of times that came again, on most channels of a node, with other values.
fn repeats(whole: &Whole<'_>, node: &[usize], own: &ClockSettings) -> Vec<Trouble> {
    let mut at: BTreeMap<i64, usize> = BTreeMap::new();
    let mut interval = i64::MAX;
    for i in node {
        let of = &whole.all[*i];
        interval = interval.min(of.interval);
        let other = of.channel.repeats.iter().filter(|r| r.first.to_bits() != r.later.to_bits());
        let sums = of.channel.quantity.is_sum();
        // A gauge repeats its zeros: they are the same and yet another reading.
        let zeros = of.channel.repeats.iter().filter(|r| sums && r.first.to_bits() == r.later.to_bits());
        for r in other.chain(zeros) {
            *at.entry(r.time.0).or_default() += 1;
        }
    }
    // A channel of a slower rhythm has fewer times that can come again.
    let due = |t: i64| {
        node.iter().filter(|i| t % whole.all[**i].interval == 0 || whole.all[**i].interval == interval).count()
    };
    let times: Vec<i64> =
        at.iter().filter(|(t, n)| **n >= 3 && **n as f64 >= own.share * due(**t) as f64).map(|(t, _)| *t).collect();
    times
        .chunk_by(|a, b| b - a <= 2 * interval)
        .map(|run| {
            let (a, b) = (run[0], run[run.len() - 1]);
            Trouble::Back(a, b, b - a + interval)
        })
        .collect()
}

/// Stretches that most channels of a node miss and that are as long as one that it repeats.
fn holes(whole: &Whole<'_>, node: &[usize], own: &ClockSettings, back: &[Trouble]) -> Vec<Trouble> {
    let Some(fastest) = node.iter().min_by_key(|i| whole.all[**i].interval) else { return Vec::new() };
    let (times, interval) = (whole.all[*fastest].channel.view.times, whole.all[*fastest].interval);
    let lengths: Vec<i64> = back
        .iter()
        .filter_map(|t| match t {
            Trouble::Back(_, _, long) => Some(*long),
            _ => None,
        })
        .collect();
    let hole = |w: &&[i64]| {
        let missing = w[1] - w[0] - interval;
        missing > interval / 2 && lengths.iter().any(|l| (l - missing).abs() <= interval)
    };
    let shared = |from: i64, to: i64| {
        let others = node.iter().filter(|i| whole.all[**i].interval <= to - from);
        let (all, miss) = others.fold((0, 0), |(all, miss), i| {
            let t = whole.all[*i].channel.view.times;
            let a = t.partition_point(|t| *t < from);
            (all + 1, miss + usize::from(t.get(a).is_none_or(|t| *t > to)))
        });
        miss as f64 >= own.share * f64::from(all) && all > 0
    };
    times
        .windows(2)
        .filter(hole)
        .map(|w| (w[0] + interval, w[1] - interval))
        .filter(|(from, to)| shared(*from, *to))
        .map(|(from, to)| Trouble::Ahead(from, to, to - from + interval))
        .collect()
}

/// Stretches in which the stamps of a node drift off the grid that they keep otherwise, or stand off it.
fn drifts(whole: &Whole<'_>, node: &[usize], own: &ClockSettings) -> Vec<Trouble> {
    let Some(fastest) = node.iter().max_by_key(|i| whole.all[**i].times.len()) else { return Vec::new() };
    let (times, interval) = (&whole.all[*fastest].times, whole.all[*fastest].interval);
    if interval < 120 || times.len() < 200 || whole.all[*fastest].channel.clock_checked {
        return Vec::new();
    }
    let mut counts: BTreeMap<i64, usize> = BTreeMap::new();
    times.iter().for_each(|t| *counts.entry(t.rem_euclid(interval)).or_default() += 1);
    let Some((grid, _)) = counts.iter().max_by_key(|(_, n)| **n) else { return Vec::new() };
    // Seconds off the grid, those next to what is expected: a drift may pass half an interval, and a whole one.
    let off = |t: i64, expected: f64| {
        let beside = (t - grid) - expected.round() as i64;
        expected.round() as i64 + (beside + interval / 2).rem_euclid(interval) - interval / 2
    };
    let least = (own.seconds as i64).min(interval / 4);
    let mut found: Vec<Trouble> = Vec::new();
    for (a, b) in super::screened::runs(times.len(), 8, |i| off(times[i], 0.0).abs() > least) {
        // Where the stamps of a drift come near the grid again, one record late, it goes on.
        let known = matches!(found.last(), Some(Trouble::Drift(_, until, _)) if times[a] <= *until);
        if known || b - a < 48 {
            continue;
        }
        let begin = off(times[a], 0.0);
        let end = times[a..=b].iter().fold(begin, |last, t| off(*t, last as f64));
        let days = |from: i64, to: i64| (to - from) as f64 / SpanSeconds::DAY.0 as f64;
        let rate = (end - begin) as f64 / days(times[a], times[b]).max(1e-9);
        if rate.abs() < STANDS {
            found.push(Trouble::Off(times[a], times[b], begin));
            continue;
        }
        // It was right as long before as it needs for what it is off when that is noticed, and goes on as long as it runs evenly.
        let right = times[a] - (begin as f64 / rate * SpanSeconds::DAY.0 as f64) as i64;
        let first = times.partition_point(|t| *t < right);
        let expected = |t: i64| rate * days(right, t);
        let evenly = |t: &&i64| (off(**t, expected(**t)) as f64 - expected(**t)).abs() <= EVENLY_S;
        let last = times[b..].iter().take_while(evenly).last().copied().unwrap_or(times[b]);
        let ahead = off(last, expected(last)) as f64;
        found.push(Trouble::Drift(times[first], last, ahead / days(times[first], last).max(1e-9)));
    }
    found
}

fn tell(whole: &Whole<'_>, i: usize, trouble: Trouble) -> Option<Told> {
    let of = &whole.all[i];
    let node = if of.channel.node.is_empty() { "the node" } else { of.channel.node };
    let (span, shift, drift, reason) = match trouble {
        Trouble::Back(a, b, long) => {
            let words = SpanSeconds(long).in_words();
            let reason =
                format!("The clock of {node} was set back by {words}: the same stamps came twice with other values.");
            ((a, b), long, 0.0, reason)
        }
        Trouble::Ahead(a, b, long) => {
            let words = SpanSeconds(long).in_words();
            let reason = format!(
                "The clock of {node} jumped ahead by {words}: all its channels miss them, and repeat as much elsewhere."
            );
            ((a, b), long, 0.0, reason)
        }
        Trouble::Off(a, b, by) => {
            let (words, long) = (SpanSeconds(by.abs()).in_words(), SpanSeconds(b - a).in_words());
            let side = if by > 0 { "after" } else { "before" };
            (
                (a, b),
                0,
                0.0,
                format!("The stamps of {node} stand {words} {side} their grid for {long}: its clock was wrong."),
            )
        }
        Trouble::Drift(a, b, drift) => (
            (a, b),
            (drift * (b - a) as f64 / SpanSeconds::DAY.0 as f64) as i64,
            drift,
            format!(
                "The stamps of {node} leave their grid by {drift:+.1}\u{a0}s a day over {}: its clock drifts.",
                SpanSeconds(b - a).in_words()
            ),
        ),
    };
    let view = of.between(span.0, span.1);
    let again = |t: i64| (span.0..=span.1).contains(&t);
    if matches!(trouble, Trouble::Back(..)) && !of.channel.repeats.iter().any(|r| again(r.time.0)) {
        return None;
    }
    let evidence = Evidence::Clock(ClockEvidence { drift_s_per_day: drift.into(), shift_s: (shift as f64).into() });
    let here = match trouble {
        // Missing readings have no stamps of their own.
        Trouble::Ahead(..) => span,
        _ => (*view.times.first()?, *view.times.last()?),
    };
    Some((i, Flag::new(CLOCK.grade, here, view.times.len().max(1), 10.0, evidence, reason)))
}

/// Readings that arrived after later ones. Those of a backlog that came bit by bit are one; what was known already is told as a repeat.
pub(super) fn late(scene: &Scene<'_>) -> Vec<Flag> {
    let channel = scene.of.channel;
    let again = |t: i64| channel.repeats.binary_search_by_key(&t, |r| r.time.0).is_ok();
    let mut newest = i64::MIN;
    let mut spans: Vec<(i64, i64, i64)> = Vec::new();
    for delivery in channel.delivered {
        let (first, last) = (delivery.first.0, delivery.last.0);
        // A message may bring what was held back together with what is new.
        if first < newest && !(again(first) && again(last)) {
            spans.push((first, last.min(newest), newest - first));
        }
        newest = newest.max(last);
    }
    spans.sort_unstable();
    spans.chunk_by(|a, b| b.0 - a.1 <= 4 * scene.of.interval).filter_map(|run| late_flag(scene, run)).collect()
}

fn late_flag(scene: &Scene<'_>, run: &[(i64, i64, i64)]) -> Option<Flag> {
    let to = run.iter().map(|s| s.1).max()?;
    let behind = run.iter().map(|s| s.2).max()?;
    let (times, values) = (scene.of.channel.view.times, scene.of.channel.view.values);
    let (a, b) = (times.partition_point(|t| *t < run[0].0), times.partition_point(|t| *t <= to));
    let n = values[a..b.max(a)].iter().filter(|v| v.is_finite()).count();
    let reason = format!(
        "{n} {} after readings that are up to {} younger: held back while nothing could be sent, or brought by hand.",
        if n == 1 { "reading arrived" } else { "readings arrived" },
        SpanSeconds(behind).in_words(),
    );
    let evidence = Evidence::Late(LateEvidence { behind_h: (behind as f64 / 3600.0).into(), readings: n.into() });
    (n > 0).then(|| Flag::new(LATE.grade, (times[a], times[b - 1]), n, 0.0, evidence, reason))
}
