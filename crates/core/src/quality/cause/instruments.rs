//! Causes in a port or a probe: exchanged ports, a wrong depth, a bad plug, stray readings, drifting twins.

use super::{Cause, CauseKind, Found, HOURS, Mend, Search, cause, counted, extent, long, stretches};
use crate::quality::{Evidence, Test};
use crate::units::{Quantity, SpanSeconds};
use std::collections::BTreeMap;

/// What exchanged ports bring forth beside their own flags.
const OF_EXCHANGE: [Test; 8] = [
    Test::Step,
    Test::Spike,
    Test::Noise,
    Test::HeatMisorder,
    Test::WetsOutOfOrder,
    Test::PairApart,
    Test::RiseWithoutWater,
    Test::MissesRain,
];
/// What a plug that touches badly brings forth.
const OF_PLUG: [Test; 5] = [Test::Noise, Test::Spike, Test::NotConnected, Test::OutOfInstrument, Test::Impossible];
/// Troubles of a plug nearer to each other than this are one.
const ONE_PLUG: i64 = 2 * SpanSeconds::DAY.0;
/// A jump back misses the first one by less than this share of it.
const BACK: f64 = 0.35;
/// So often a record is contradicted by hand, always to one side, before that is one cause.
const CONTRADICTIONS: usize = 2;
/// So many single strays of a port are one thing to decide on.
const STRAYS: usize = 3;

pub fn causes(search: &Search<'_>) -> Vec<Cause> {
    let mut found = exchanges(search);
    found.extend(depths(search));
    found.extend(plugs(search));
    found.extend(moved(search));
    found.extend(strays(search));
    found.extend(twins(search));
    found.extend(contradicted(search));
    found.extend(of_one_channel(search, Test::MissesRain, CauseKind::DeadProbe));
    found.extend(of_one_channel(search, Test::SunlitAir, CauseKind::SunlitAir));
    found
}

/// Node and port, or the channel itself where ports have no names.
fn port<'s>(search: &Search<'s>, channel: usize) -> (&'s str, &'s str, usize) {
    let c = &search.channels[channel];
    (c.node, c.port, if c.port.is_empty() { channel } else { usize::MAX })
}

fn by_port<'s>(
    search: &Search<'s>,
    found: impl Iterator<Item = Found<'s>>,
) -> BTreeMap<(&'s str, &'s str, usize), Vec<Found<'s>>> {
    let mut ports: BTreeMap<_, Vec<Found<'_>>> = BTreeMap::new();
    found.for_each(|f| ports.entry(port(search, f.channel)).or_default().push(f));
    ports
}

/// A record that is contradicted at least twice, always to the same side: of a calibrated probe that is its calibration, or the place where
/// it lies is not that of the samples.
fn contradicted(search: &Search<'_>) -> Vec<Cause> {
    let difference = |f: &Found<'_>| match &f.flag.evidence {
        Evidence::ReferenceApart(e) => e.difference.get(),
        _ => 0.0,
    };
    let mut of_channels: BTreeMap<usize, Vec<Found<'_>>> = BTreeMap::new();
    search.of(&[Test::ReferenceApart]).for_each(|f| of_channels.entry(f.channel).or_default().push(f));
    let told = |(channel, run): (usize, Vec<Found<'_>>)| {
        let higher = run.iter().filter(|f| difference(f) > 0.0).count();
        if run.len() < CONTRADICTIONS || (higher > 0 && higher < run.len()) {
            return None;
        }
        let c = &search.channels[channel];
        let (side, n) = (if higher > 0 { "higher" } else { "lower" }, run.len());
        let times = if n == 2 { "twice".to_owned() } else { format!("{n} times") };
        let reason = format!(
            "What was measured by hand contradicts {} {times}: the record is the {side} one each time.",
            c.name
        );
        let mut found = cause(search, CauseKind::Contradicted, &run, reason);
        let agree = c.references.len().saturating_sub(n);
        if agree > 0 {
            found.against =
                format!("{} with it.", counted(agree, "other reading by hand agrees", "other readings by hand agree"));
        }
        // A record that no calibration made has none to give up.
        if c.raw.is_some() && c.quantity == Quantity::WaterContent && !c.port.is_empty() {
            found.mend = Some(Mend::Retire { node: c.node.to_owned(), port: c.port.to_owned(), at: found.start });
        }
        Some(found)
    };
    of_channels.into_iter().filter_map(told).collect()
}

fn exchanges(search: &Search<'_>) -> Vec<Cause> {
    let mut causes = Vec::new();
    for run in stretches(search.of(&[Test::SwappedPorts]).collect(), 0) {
        let (start, end) = extent(&run);
        let mut ports: Vec<(&str, &str)> =
            run.iter().map(|f| (search.channels[f.channel].node, search.channels[f.channel].port)).collect();
        ports.sort_unstable();
        ports.dedup();
        let concerned = |f: &Found<'_>| {
            let c = &search.channels[f.channel];
            ports.contains(&(c.node, c.port)) && f.flag.start.0 >= start.0 - HOURS && f.flag.end.0 <= end.0 + HOURS
        };
        let mut all = run.clone();
        all.extend(search.of(&OF_EXCHANGE).filter(concerned));
        let names: Vec<&str> = names(search, &run);
        let reason = format!(
            "For {} {} carried each other's probe: both jump to where the other was, and back.",
            long(start, end),
            names.join(" and "),
        );
        let mut found = cause(search, CauseKind::SwappedPorts, &all, reason);
        (found.start, found.end) = (start, end);
        found.against = search.visited(start, end);
        if let [(node, a), (other, b)] = ports[..]
            && node == other
            && !a.is_empty()
        {
            let ports = [a.to_owned(), b.to_owned()];
            found.mend = Some(Mend::Exchange { node: node.to_owned(), ports, from: start, to: end });
        }
        causes.push(found);
    }
    causes
}

/// The names of the channels of some flags, each once.
fn names<'s>(search: &Search<'s>, found: &[Found<'_>]) -> Vec<&'s str> {
    let mut names: Vec<&str> = Vec::new();
    for f in found {
        let name = search.channels[f.channel].name;
        if !names.contains(&name) {
            names.push(name);
        }
    }
    names
}

fn depths(search: &Search<'_>) -> Vec<Cause> {
    by_port(search, search.of(&[Test::HeatMisorder]))
        .into_iter()
        .map(|((node, at_port, _), run)| {
            let (start, end) = extent(&run);
            let same = port(search, run[0].channel);
            let own = |f: &Found<'_>| port(search, f.channel) == same && f.flag.start >= start && f.flag.end <= end;
            let mut all = run.clone();
            all.extend(search.of(&[Test::WetsOutOfOrder, Test::RiseWithoutWater, Test::MissesRain]).filter(own));
            let told = run.iter().find_map(|f| match f.flag.evidence {
                Evidence::HeatMisorder(e) => e.looks_like_cm,
                _ => None,
            });
            let mut found = cause(search, CauseKind::WrongDepth, &all, run[0].flag.reason.clone());
            found.against = match told {
                Some(_) => "Or its label hangs on another cable: look at the wiring first.".to_owned(),
                None => "Which depth it has cannot be told: too few thermometers stand in order.".to_owned(),
            };
            found.mend = told.filter(|_| !at_port.is_empty()).map(|cm| Mend::Depth {
                node: node.to_owned(),
                port: at_port.to_owned(),
                at: end,
                depth_cm: cm.get().round().max(0.0),
            });
            found
        })
        .collect()
}

fn plugs(search: &Search<'_>) -> Vec<Cause> {
    let mut causes = Vec::new();
    for (_, found) in by_port(search, search.of(&OF_PLUG)) {
        for run in stretches(found, ONE_PLUG) {
            let mut tests: Vec<Test> = run.iter().map(|f| f.flag.test).collect();
            tests.sort_unstable();
            tests.dedup();
            let several = super::channels_of(&run) >= 2 || tests.len() >= 2;
            if run.len() < 2 || !several {
                continue;
            }
            let (start, end) = extent(&run);
            if tests == [Test::NotConnected] {
                let reason = format!(
                    "No probe answered at the port of {} for {}: it was unplugged, or its cable is cut.",
                    names(search, &run).join(" and "),
                    long(start, end)
                );
                causes.push(cause(search, CauseKind::BadPlug, &run, reason));
                continue;
            }
            let reason = format!(
                "Within {} {} of one port: {}. A plug or cable that touches badly does that.",
                long(start, end),
                counted(run.len(), "trouble", "troubles"),
                tests.iter().map(|t| t.definition().title.to_lowercase()).collect::<Vec<_>>().join(", "),
            );
            causes.push(cause(search, CauseKind::BadPlug, &run, reason));
        }
    }
    causes
}

/// A jump that stays, at one port: unless another one leads back, the probe lies another way since.
fn moved(search: &Search<'_>) -> Vec<Cause> {
    let mut causes = Vec::new();
    for ((node, at_port, _), found) in by_port(search, search.of(&[Test::Step])) {
        let height = |f: &Found<'_>| match f.flag.evidence {
            Evidence::Step(e) => e.after.get() - e.before.get(),
            _ => 0.0,
        };
        let leads_back = |f: &Found<'_>| {
            let h = height(f);
            found.iter().any(|o| o.channel == f.channel && (height(o) + h).abs() < BACK * h.abs())
        };
        let stays = found.iter().copied().filter(|f| {
            let c = &search.channels[f.channel];
            c.quantity.is_in_soil() && c.quantity.is_moisture() && !leads_back(f)
        });
        for run in stretches(stays.collect(), HOURS) {
            let (start, end) = extent(&run);
            let placed = search.channels[run[0].channel].placed.0;
            let fresh = placed.is_some_and(|p| start.0 - p.0 <= SpanSeconds::DAY.0);
            let why = if fresh {
                "it was put into the soil only then, later than its placement says"
            } else {
                "it was moved or pulled, or the soil around it gave way"
            };
            let reason = format!(
                "{} reads another level since: {why}. What was before and what is since are two records.",
                names(search, &run).join(" and ")
            );
            let mut moved = cause(search, CauseKind::MovedProbe, &run, reason);
            if !search.visited(start, start).is_empty() {
                moved.against =
                    "No visit is noted then: a knock to the cable or a fault of the probe looks alike.".to_owned();
            }
            moved.mend = (!at_port.is_empty()).then(|| Mend::Anew {
                node: node.to_owned(),
                port: at_port.to_owned(),
                at: start,
            });
            (moved.start, moved.end) = (start, end);
            causes.push(moved);
        }
    }
    causes
}

fn strays(search: &Search<'_>) -> Vec<Cause> {
    by_port(search, search.of(&[Test::Spike]))
        .into_values()
        .filter(|run| run.len() >= STRAYS)
        .map(|run| {
            let (start, end) = extent(&run);
            let readings: usize = run.iter().map(|f| f.flag.readings).sum();
            let reason = format!(
                "{} in {} stray at {} moments in {} and come back.",
                counted(readings, "reading", "readings"),
                names(search, &run).join(" and "),
                run.len(),
                long(start, end),
            );
            cause(search, CauseKind::StrayReadings, &run, reason)
        })
        .collect()
}

fn twins(search: &Search<'_>) -> Vec<Cause> {
    let mut pairs: BTreeMap<_, Vec<Found<'_>>> = BTreeMap::new();
    for f in search.of(&[Test::PairApart]) {
        let c = &search.channels[f.channel];
        // Both of a pair have the same days, and lie at one depth.
        let depth = c.depth_cm.map(|d| (d / 3.0).round() as i64);
        pairs.entry((f.flag.start.0 / SpanSeconds::DAY.0, c.quantity, depth)).or_default().push(f);
    }
    pairs
        .into_values()
        .map(|run| {
            let (start, end) = extent(&run);
            let reason = format!(
                "{} go apart for {}: one of them drifts, or its soil is another by now.",
                names(search, &run).join(" and "),
                long(start, end)
            );
            // The jump with which they parted, and that with which they met again.
            let day = SpanSeconds::DAY.0;
            let edge = |f: &Found<'_>| {
                let at = f.flag.start.0;
                let near = (at - start.0).abs() <= 3 * day || (at - end.0).abs() <= 3 * day;
                near && run.iter().any(|r| r.channel == f.channel)
            };
            let mut all = run.clone();
            all.extend(search.of(&[Test::Step]).filter(edge));
            let mut found = cause(search, CauseKind::TwinsApart, &all, reason);
            found.against = "Which of the two is right, a sample or a third probe must tell.".to_owned();
            found
        })
        .collect()
}

fn of_one_channel(search: &Search<'_>, test: Test, kind: CauseKind) -> Vec<Cause> {
    let mut channels: BTreeMap<usize, Vec<Found<'_>>> = BTreeMap::new();
    search.of(&[test]).for_each(|f| channels.entry(f.channel).or_default().push(f));
    channels
        .into_values()
        .map(|run| {
            let reason = format!("{} times from this on. {}", run.len(), run[0].flag.reason);
            cause(search, kind, &run, reason)
        })
        .collect()
}
