//! Causes in a node: silences, clocks, supply, water in the box, deliveries, people.

use super::{Cause, CauseKind, Found, HOURS, Mend, Search, cause, channels_of, counted, extent, long, stretches};
use crate::field::ClockCheck;
use crate::quality::{Evidence, Test};
use crate::statistics::median;
use crate::units::{SpanSeconds, UnixSeconds};
use std::collections::BTreeMap;

/// From this many channels of a node on, the same silence is the node's.
const SHARED: usize = 3;

/// What a node whose supply runs down, or whose box is wet, brings forth.
const ODD: [Test; 7] =
    [Test::Gap, Test::Noise, Test::Spike, Test::NotConnected, Test::OutOfInstrument, Test::Stuck, Test::Impossible];

pub fn causes(search: &Search<'_>) -> Vec<Cause> {
    let mut found = silences(search);
    found.extend(clocks(search));
    found.extend(health(search, Test::LowPower, CauseKind::LowPower));
    found.extend(health(search, Test::WetBox, CauseKind::WetBox));
    found.extend(deliveries(search));
    found.extend(people(search));
    found
}

fn by_node<'s>(search: &Search<'s>, found: impl Iterator<Item = Found<'s>>) -> BTreeMap<&'s str, Vec<Found<'s>>> {
    let mut nodes: BTreeMap<&str, Vec<Found<'_>>> = BTreeMap::new();
    found.for_each(|f| nodes.entry(search.node(f.channel)).or_default().push(f));
    nodes
}

fn silences(search: &Search<'_>) -> Vec<Cause> {
    let mut silences: BTreeMap<(UnixSeconds, UnixSeconds, &str), Vec<Found<'_>>> = BTreeMap::new();
    for f in search.of(&[Test::Gap]) {
        silences.entry((f.flag.start, f.flag.end, search.node(f.channel))).or_default().push(f);
    }
    let shared = silences.into_iter().filter(|(_, found)| found.len() >= SHARED);
    shared
        .map(|((start, end, node), mut found)| {
            let first = found[0];
            // A channel of a slower rhythm misses fewer records of the same silence.
            let slow = search.of(&[Test::Gap]).filter(|f| {
                search.node(f.channel) == node
                    && f.flag.start >= start
                    && f.flag.end <= end
                    && (f.flag.start, f.flag.end) != (start, end)
            });
            let due = search.channels[first.channel].due_every();
            let missing = first.flag.readings;
            let which = if node.is_empty() { "The node" } else { node };
            let reason = format!(
                "{which} was silent for {}: {} of {} channels are missing.",
                SpanSeconds(end.0 - start.0 + due).in_words(),
                counted(missing, "record", "records"),
                found.len()
            );
            found.extend(slow);
            cause(search, CauseKind::SilentNode, &found, reason)
        })
        .collect()
}

fn clocks(search: &Search<'_>) -> Vec<Cause> {
    let mut causes = Vec::new();
    for (node, found) in by_node(search, search.of(&[Test::Clock])) {
        let which = if node.is_empty() { "the node" } else { node };
        let is_set = |f: &Found<'_>| match f.flag.evidence {
            Evidence::Clock(e) => e.drift_s_per_day.get() == 0.0 && e.shift_s.get() != 0.0,
            _ => false,
        };
        let (set, wrong): (Vec<Found<'_>>, Vec<Found<'_>>) = found.into_iter().partition(is_set);
        if !set.is_empty() {
            let mut times: Vec<UnixSeconds> = set.iter().map(|f| f.flag.start).collect();
            times.sort_unstable();
            times.dedup_by(|a, b| a.0 - b.0 <= HOURS);
            let mut all = set;
            let touches = |f: &Found<'_>| {
                search.node(f.channel) == node
                    && times.iter().any(|t| f.flag.start.0 - HOURS <= t.0 && t.0 <= f.flag.end.0 + HOURS)
            };
            all.extend(search.of(&[Test::Repeated, Test::Gap, Test::Late, Test::Step]).filter(touches));
            let reason = format!(
                "The clock of {which} was set {}, by summer time or by hand: between, its stamps may be off by as much.",
                if times.len() == 1 { "once".to_owned() } else { format!("{} times", times.len()) },
            );
            let mut cause = cause(search, CauseKind::ClockSet, &all, reason);
            cause.against = search.visited(cause.start, cause.end);
            causes.push(cause);
        }
        for run in stretches(wrong, HOURS) {
            let (start, end) = extent(&run);
            let within = |f: &Found<'_>| search.node(f.channel) == node && f.flag.start >= start && f.flag.end <= end;
            let mut all = run.clone();
            all.extend(search.of(&[Test::Repeated]).filter(within));
            let reason = format!(
                "The clock of {which} was wrong for {}: {} say so together.",
                long(start, end),
                counted(channels_of(&run), "channel", "channels")
            );
            let mut wrong = cause(search, CauseKind::ClockWrong, &all, reason);
            wrong.mend = drifted(&run).map(|checks| Mend::Clock { node: node.to_owned(), checks });
            if wrong.mend.is_some() {
                wrong.against = "Nobody held this clock against another: that its program's grid is the truth is assumed. The first stamps after it was set \
                                 right may stand among the last before."
                    .to_owned();
            }
            causes.push(wrong);
        }
    }
    causes
}

/// Checks that a clock which drifts evenly off the grid of its program gives by itself: right where its drift begins, and set right after
/// its end. `None` where it did anything else besides: nobody knows then what it showed.
fn drifted(run: &[Found<'_>]) -> Option<Vec<ClockCheck>> {
    let drift = |f: &Found<'_>| match f.flag.evidence {
        Evidence::Clock(e) if e.drift_s_per_day.get() != 0.0 => Some(e.drift_s_per_day.get()),
        _ => None,
    };
    let mut drifts: Vec<f64> = run.iter().map(drift).collect::<Option<_>>()?;
    let (from, to) = extent(run);
    let ahead = (median(&mut drifts)? * (to.0 - from.0) as f64 / SpanSeconds::DAY.0 as f64).round() as i64;
    let begins = ClockCheck { shown: from, truth: from, set: false };
    (ahead != 0).then(|| vec![begins, ClockCheck { shown: to, truth: to + SpanSeconds(-ahead), set: true }])
}

fn health(search: &Search<'_>, test: Test, kind: CauseKind) -> Vec<Cause> {
    let mut causes = Vec::new();
    for f in search.of(&[test]) {
        let node = search.node(f.channel);
        let day = SpanSeconds::DAY.0;
        let within = |o: &Found<'_>| {
            search.node(o.channel) == node
                && o.flag.start.0 >= f.flag.start.0 - day
                && o.flag.end.0 <= f.flag.end.0 + day
        };
        let mut all = vec![f];
        all.extend(search.of(&ODD).filter(within));
        let reason = format!(
            "{} It explains {} of the same node and time.",
            f.flag.reason,
            counted(all.len() - 1, "other finding", "other findings")
        );
        causes.push(cause(search, kind, &all, reason));
    }
    causes
}

fn deliveries(search: &Search<'_>) -> Vec<Cause> {
    let mut causes = Vec::new();
    for (node, found) in by_node(search, search.of(&[Test::Late, Test::Repeated])) {
        for run in stretches(found, 3600).into_iter().filter(|run| run.len() >= 2) {
            let readings: usize = run.iter().map(|f| f.flag.readings).sum();
            let reason = format!(
                "{} of {} came late or came again from {}.",
                counted(readings, "reading", "readings"),
                counted(channels_of(&run), "channel", "channels"),
                if node.is_empty() { "the node" } else { node },
            );
            causes.push(cause(search, CauseKind::SentAgain, &run, reason));
        }
    }
    causes
}

fn people(search: &Search<'_>) -> Vec<Cause> {
    let runs = stretches(search.of(&[Test::Visit]).collect(), 0);
    let visits = runs.into_iter().map(|run| {
        let reason =
            format!("{} were read while somebody was there.", counted(channels_of(&run), "channel", "channels"));
        cause(search, CauseKind::AtWork, &run, reason)
    });
    let mut settled: BTreeMap<(UnixSeconds, UnixSeconds), Vec<Found<'_>>> = BTreeMap::new();
    search.of(&[Test::Settling]).for_each(|f| settled.entry((f.flag.start, f.flag.end)).or_default().push(f));
    let settling = settled.into_values().map(|run| {
        let reason = format!("{} {}", counted(channels_of(&run), "channel", "channels:"), run[0].flag.reason);
        cause(search, CauseKind::AtWork, &run, reason)
    });
    visits.chain(settling).collect()
}
