//! Ports that carry each other's probe.

use super::context::written;
use super::definition::settings;
use super::scene::{Told, Whole};
use super::screened::Screened;
use super::water::Water;
use super::{Definition, Evidence, Flag, SwapEvidence};
use crate::units::{Grade, SpanSeconds, UnixSeconds};
use std::collections::BTreeMap;

settings!(
    /// When two ports are exchanged.
    SwapSettings {
        /// Both ports jump by this many of their usual wiggles together, at least.
        jump: 14.0 in 3.0..=10_000.0 "wiggles",
        /// Taken for each other's probe, the jumps shrink to this share or less.
        share: 0.3 in 0.01..=0.9 "",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Ports exchanged",
    mark: "Sw",
    grade: Grade::Wrong,
    finds: "Two ports that jump at one moment to where the other one was, in all that they measure, and jump back later: the probes were \
            plugged the wrong way round. One jump alone is let pass, and so is moisture that crosses while a storm's water moves.",
    settings: SwapSettings::LIST,
};

/// A silence longer than this may hide anything, s.
const SILENCE: i64 = 6 * 3600;
/// A jump counts as plain from this share of what the calmer of two channels usually spans.
const PLAIN: f64 = 0.12;
/// Water moves for so long after rain, s.
const STORM: i64 = 24 * 3600;
/// Jumps nearer to each other than this are one.
const ONE_JUMP: i64 = 3 * 3600;

/// Channels of one port, by their place in the station's list.
type Port = Vec<usize>;

/// Ports of the station that hold something in the soil.
pub(super) fn ports(all: &[Screened<'_>]) -> Vec<Port> {
    let mut ports: BTreeMap<(&str, &str, usize, Option<UnixSeconds>), Port> = BTreeMap::new();
    for (i, of) in all.iter().enumerate().filter(|(_, s)| s.channel.quantity.is_in_soil()) {
        // A port without a name is each channel's own; what another probe read there before is another matter.
        let alone = if of.channel.port.is_empty() { i + 1 } else { 0 };
        ports.entry((of.channel.node, of.channel.port, alone, of.channel.placed.0)).or_default().push(i);
    }
    ports.into_values().collect()
}

/// Channels of two ports that measure the same.
fn common(all: &[Screened<'_>], a: &Port, b: &Port) -> Vec<(usize, usize)> {
    let same = |i: usize, j: usize| all[i].channel.quantity == all[j].channel.quantity;
    a.iter().filter_map(|i| b.iter().find(|j| same(*i, **j)).map(|j| (*i, *j))).collect()
}

/// A moment at which two ports may have been exchanged.
#[derive(Debug, Clone, Copy)]
pub(super) struct Exchange {
    /// The first reading after it.
    pub at: i64,
    /// The last reading before it.
    before: i64,
    /// The jumps as they are, in usual wiggles.
    noted: f64,
    /// The jumps if the ports are exchanged there.
    exchanged: f64,
    /// In how many quantities both ports jump, against each other and by a good part of what they usually span.
    plain: usize,
    /// Whether warmth is among those.
    warmth: bool,
    /// Whether water moves just then, and warmth says nothing: moisture may cross at the height of a storm, when the deeper still rises while
    /// the shallower falls.
    storm: bool,
}

/// What is usual for a channel from one reading to the next.
fn wiggle(of: &Screened<'_>) -> f64 {
    of.noise.map_or(f64::INFINITY, |n| n.sigma.max(n.resolution).max(n.wiggle))
}

/// Times at which a channel jumps by several of its wiggles.
fn jumps(of: &Screened<'_>) -> Vec<i64> {
    let least = 3.0 * wiggle(of);
    let pairs = of.times.windows(2).zip(of.values.windows(2));
    pairs.filter(|(t, x)| (x[1] - x[0]).abs() > least && t[1] - t[0] <= SILENCE).map(|(t, _)| t[1]).collect()
}

/// The last reading before `t` and the first at or after it, with the time of the former.
fn beside(of: &Screened<'_>, t: i64) -> Option<(i64, f64, f64)> {
    let i = of.times.partition_point(|time| *time < t);
    let (before, after) = (i.checked_sub(1)?, *of.values.get(i)?);
    let near = t - of.times[before] <= SILENCE && of.times[i] - t <= SILENCE;
    near.then(|| (of.times[before], of.values[before], after))
}

/// How loud an exchange must be: what one quantity alone says, twice as loud.
const fn loud(common: &[(usize, usize)]) -> f64 {
    if common.len() == 1 { 2.0 } else { 1.0 }
}

/// How two ports jump at a moment, as they are noted and exchanged.
fn at(all: &[Screened<'_>], common: &[(usize, usize)], spans: &[f64], t: i64) -> Option<Exchange> {
    let mut exchange =
        Exchange { at: t, before: i64::MIN, noted: 0.0, exchanged: 0.0, plain: 0, warmth: false, storm: false };
    for (a, b) in common {
        let scale = wiggle(&all[*a]).max(wiggle(&all[*b]));
        let (Some((from, a0, a1)), Some((_, b0, b1))) = (beside(&all[*a], t), beside(&all[*b], t)) else { continue };
        exchange.before = exchange.before.max(from);
        exchange.noted += ((a1 - a0).abs() + (b1 - b0).abs()) / scale;
        exchange.exchanged += ((a1 - b0).abs() + (b1 - a0).abs()) / scale;
        let against = (a1 - a0) * (b1 - b0) < 0.0;
        let least = PLAIN * loud(common) * spans[*a].min(spans[*b]);
        let plain = against && (a1 - a0).abs() > least && (b1 - b0).abs() > least;
        exchange.plain += usize::from(plain);
        exchange.warmth |= plain && all[*a].channel.quantity.is_temperature();
    }
    (exchange.before > i64::MIN && exchange.noted.is_finite()).then_some(exchange)
}

/// Whether a third moisture probe of the station moved in the day before or with them: where no gauge tells, that is rain.
fn others_move(all: &[Screened<'_>], common: &[(usize, usize)], t: i64) -> bool {
    let hours = (t - STORM).div_euclid(3600)..t.div_euclid(3600) + 2;
    let third = |i: &usize| !common.iter().any(|(a, b)| a == i || b == i) && all[*i].channel.quantity.is_moisture();
    (0..all.len()).filter(third).any(|i| {
        let range = |(l, h): (f64, f64), v: f64| (l.min(v), h.max(v));
        let (low, high) =
            all[i].hours().between(hours.start, hours.end).fold((f64::INFINITY, f64::NEG_INFINITY), range);
        high - low > all[i].nothing(12.0, 6.0)
    })
}

/// Every moment at which two ports look exchanged.
fn exchanges(
    all: &[Screened<'_>],
    common: &[(usize, usize)],
    (jumps, spans): (&[Vec<i64>], &[f64]),
    water: &Water,
    own: &SwapSettings,
) -> Vec<Exchange> {
    let loud = loud(common);
    let mut times: Vec<i64> = common.iter().flat_map(|(a, b)| jumps[*a].iter().chain(&jumps[*b])).copied().collect();
    times.sort_unstable();
    times.dedup();
    let mut found: Vec<Exchange> = Vec::new();
    let moisture_alone = common.iter().all(|(a, _)| all[*a].channel.quantity.is_moisture());
    for t in times {
        let Some(mut e) = at(all, common, spans, t) else { continue };
        if e.plain == 0 || e.noted < loud * own.jump * common.len() as f64 || e.exchanged * loud > own.share * e.noted {
            continue;
        }
        let rained = if water.tells() { water.rain(t - STORM, t).mm() > 0.5 } else { others_move(all, common, t) };
        e.storm = rained && !e.warmth;
        if e.storm && moisture_alone {
            continue;
        }
        match found.last_mut() {
            Some(last) if t - last.at <= ONE_JUMP => {
                if e.noted - e.exchanged > last.noted - last.exchanged {
                    *last = e;
                }
            }
            _ => found.push(e),
        }
    }
    found
}

/// Stretches over which two ports carry each other's probe.
pub(super) fn swapped(whole: &Whole<'_>, own: &SwapSettings) -> Vec<Told> {
    let all = whole.all;
    let ports = ports(all);
    let jumps: Vec<Vec<i64>> =
        all.iter().map(|s| if s.channel.quantity.is_in_soil() { jumps(s) } else { Vec::new() }).collect();
    // What lies in the air is no witness of plugs in the soil.
    let span = |s: &Screened<'_>| if s.channel.quantity.is_in_soil() { s.usual_span() } else { f64::INFINITY };
    let spans: Vec<f64> = all.iter().map(span).collect();
    let mut told = Vec::new();
    for (i, a) in ports.iter().enumerate() {
        for b in &ports[i + 1..] {
            let common = common(all, a, b);
            let edges = exchanges(all, &common, (&jumps, &spans), whole.water, own);
            // If those that no storm explains make up whole exchanges, they are all.
            let sure: Vec<Exchange> = edges.iter().filter(|e| !e.storm).copied().collect();
            let edges = if !sure.is_empty() && sure.len().is_multiple_of(2) { sure } else { edges };
            for pair in edges.chunks(2).filter(|pair| pair.iter().any(|e| !e.storm)) {
                // A single jump may be anything; there and back is an exchange.
                if let [from, to] = pair {
                    tell(all, &common, (*from, *to), &mut told);
                }
            }
        }
    }
    told
}

fn tell(all: &[Screened<'_>], common: &[(usize, usize)], (from, to): (Exchange, Exchange), told: &mut Vec<Told>) {
    let (noted, exchanged) = (from.noted + to.noted, from.exchanged + to.exchanged);
    for (own, other) in common.iter().flat_map(|(a, b)| [(*a, *b), (*b, *a)]) {
        let (of, with) = (all[own].channel, all[other].channel);
        let view = all[own].between(from.at, to.before);
        let Some((first, last)) = view.times.first().zip(view.times.last()) else { continue };
        let depth = |c: &super::Channel<'_>| c.depth_cm.unwrap_or(f64::NAN);
        let long = SpanSeconds(to.before - from.at).in_words();
        let edge = beside(&all[own], from.at).map_or(0.0, |(_, before, after)| (after - before).abs());
        let reason = format!(
            "For {long} this port carries the probe of {}: at both ends each jumps to where the other was (here by {}), and exchanged they go on as they were.",
            with.name,
            written(of.quantity, edge),
        );
        let evidence = SwapEvidence {
            as_noted: noted.into(),
            depth_cm: depth(of).into(),
            exchanged: exchanged.into(),
            other_cm: depth(with).into(),
        };
        let evidence = Evidence::SwappedPorts(evidence);
        let n = view.times.len();
        told.push((own, Flag::new(DEFINITION.grade, (*first, *last), n, noted / exchanged.max(1.0), evidence, reason)));
    }
}
