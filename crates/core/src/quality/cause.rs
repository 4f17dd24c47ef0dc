//! What explains several flags at once: findings of a node, a port or a station, not of a channel.
//!
//! Every explanation that fits is made a [`Cause`] with the flags that it would explain; the one that explains most is taken, its flags are
//! taken away, and the search goes on with what is left. A flag has one cause at most.

mod instruments;
mod nodes;
mod soil;

use super::{Channel, Event, Flag, StationContext, Test};
use crate::field::ClockCheck;
use crate::units::{Grade, SpanSeconds, UnixSeconds, coded};
use serde::{Deserialize, Serialize};

coded!(
    /// What can go wrong beyond a single flag.
    CauseKind {
        /// A node sent nothing, or nothing of it arrived.
        SilentNode = "silent_node",
        /// Two ports carried each other's probe.
        SwappedPorts = "swapped_ports",
        /// A node's clock was set, back or ahead.
        ClockSet = "clock_set",
        /// A node's clock drifted, or began anew.
        ClockWrong = "clock_wrong",
        /// A probe lies at another depth than is noted.
        WrongDepth = "wrong_depth",
        /// The supply ran down.
        LowPower = "low_power",
        /// Water stood in the box.
        WetBox = "wet_box",
        /// Water runs along a cable or a wall.
        Bypass = "bypass",
        /// A probe whose contact with the soil is another since a moment: moved, pulled, or the soil gave way.
        MovedProbe = "moved_probe",
        /// One plug that touches badly.
        BadPlug = "bad_plug",
        /// Single readings that stray.
        StrayReadings = "stray_readings",
        /// A probe that does not feel the soil any more.
        DeadProbe = "dead_probe",
        /// Twins that drift apart.
        TwinsApart = "twins_apart",
        /// What was measured by hand contradicts a record time and again, to one side.
        Contradicted = "contradicted",
        /// The sun shines on an air thermometer.
        SunlitAir = "sunlit_air",
        /// Water that no gauge saw.
        UnseenWater = "unseen_water",
        /// Frost in the soil.
        Frost = "frost",
        /// Somebody was at the station.
        AtWork = "at_work",
        /// A backlog that came later, or records that came again.
        SentAgain = "sent_again",
    }
);

impl CauseKind {
    /// Its name in a heading.
    #[must_use]
    pub const fn title(self) -> &'static str {
        match self {
            Self::SilentNode => "Node silent",
            Self::SwappedPorts => "Ports exchanged",
            Self::ClockSet => "Clock set",
            Self::ClockWrong => "Clock wrong",
            Self::WrongDepth => "Wrong depth",
            Self::LowPower => "Low power",
            Self::WetBox => "Wet box",
            Self::Bypass => "Water along the cable",
            Self::MovedProbe => "Probe moved",
            Self::BadPlug => "Bad plug",
            Self::StrayReadings => "Stray readings",
            Self::DeadProbe => "Probe without an answer",
            Self::TwinsApart => "Twins apart",
            Self::Contradicted => "Contradicted by hand",
            Self::SunlitAir => "Sunlit air",
            Self::UnseenWater => "Water that no gauge saw",
            Self::Frost => "Frost",
            Self::AtWork => "Somebody at work",
            Self::SentAgain => "Came late or twice",
        }
    }
}

/// What would put a cause right. Raw readings stay as they are; what they mean changes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case", tag = "mend")]
pub enum Mend {
    /// The probes of two ports change places for a while.
    Exchange {
        /// The node of both ports.
        node: String,
        /// The two ports.
        ports: [String; 2],
        /// The first reading of the exchange.
        from: UnixSeconds,
        /// The last one.
        to: UnixSeconds,
    },
    /// A probe lies at another depth.
    Depth {
        /// Its node.
        node: String,
        /// Its port.
        port: String,
        /// A moment at which it is there.
        at: UnixSeconds,
        /// The depth that its daily wave of heat tells, cm.
        depth_cm: f64,
    },
    /// A probe lies in the soil another way from a moment on: its record begins anew, and settles.
    Anew {
        /// Its node.
        node: String,
        /// Its port.
        port: String,
        /// The first reading of the new seat.
        at: UnixSeconds,
    },
    /// The calibration of a probe is used no more: what was measured by hand contradicts it.
    Retire {
        /// The probe's node.
        node: String,
        /// Its port.
        port: String,
        /// The first moment at which it was contradicted.
        at: UnixSeconds,
    },
    /// A node's clock is held against the grid of its own program: right where its drift begins, ahead by all of it where it ends.
    Clock {
        /// The node.
        node: String,
        /// What its clock showed, and what it was.
        checks: Vec<ClockCheck>,
    },
}

/// One thing that explains flags of several channels, or many of one.
#[derive(Debug, Clone, PartialEq)]
pub struct Cause {
    /// What it is.
    pub kind: CauseKind,
    /// The node concerned.
    pub node: String,
    /// When it began.
    pub start: UnixSeconds,
    /// When it ended, inclusive.
    pub end: UnixSeconds,
    /// The flags that it explains: channel and place in that channel's list.
    pub flags: Vec<(usize, usize)>,
    /// One sentence that a person understands.
    pub reason: String,
    /// What speaks against it, or what is not known; may be empty.
    pub against: String,
    /// What would put it right, if that can be said.
    pub mend: Option<Mend>,
}

/// A flag with where it stands.
#[derive(Clone, Copy)]
struct Found<'f> {
    channel: usize,
    place: usize,
    flag: &'f Flag,
}

impl Found<'_> {
    const fn key(self) -> (usize, usize) {
        (self.channel, self.place)
    }
}

/// What a search for causes sees.
struct Search<'s> {
    channels: &'s [Channel<'s>],
    events: &'s [Event],
    found: Vec<Found<'s>>,
}

impl<'s> Search<'s> {
    /// Flags of some tests.
    fn of<'a>(&'a self, tests: &'a [Test]) -> impl Iterator<Item = Found<'s>> + 'a {
        self.found.iter().copied().filter(|f| tests.contains(&f.flag.test))
    }

    fn node(&self, channel: usize) -> &'s str {
        self.channels[channel].node
    }

    /// What is said of people at the station at either end of a stretch.
    fn visited(&self, from: UnixSeconds, to: UnixSeconds) -> String {
        let near = |t: UnixSeconds| {
            self.events
                .iter()
                .any(|e| e.kind.is_at_work() && (e.start.0 - HOURS).max(0) <= t.0 && t.0 <= e.end.0 + HOURS)
        };
        match (near(from), near(to)) {
            (true, true) => String::new(),
            (true, false) => "No visit is noted at its end.".to_owned(),
            (false, true) => "No visit is noted at its beginning.".to_owned(),
            (false, false) => "No visit is noted at either end.".to_owned(),
        }
    }
}

/// A visit explains what happened within this on either side, s.
const HOURS: i64 = 6 * 3600;

/// Joins flags into stretches without a pause longer than `pause`.
fn stretches(mut found: Vec<Found<'_>>, pause: i64) -> Vec<Vec<Found<'_>>> {
    found.sort_by_key(|f| (f.flag.start, f.flag.end, f.channel, f.place));
    let mut joined: Vec<(i64, Vec<Found<'_>>)> = Vec::new();
    for f in found {
        match joined.last_mut() {
            Some((end, run)) if f.flag.start.0 <= end.saturating_add(pause) => {
                *end = (*end).max(f.flag.end.0);
                run.push(f);
            }
            _ => joined.push((f.flag.end.0, vec![f])),
        }
    }
    joined.into_iter().map(|(_, run)| run).collect()
}

/// First and last moment of some flags; there is at least one.
fn extent(found: &[Found<'_>]) -> (UnixSeconds, UnixSeconds) {
    let start = found.iter().map(|f| f.flag.start).min().unwrap_or(UnixSeconds(0));
    (start, found.iter().map(|f| f.flag.end).max().unwrap_or(start))
}

/// How many different channels flags are of.
fn channels_of(found: &[Found<'_>]) -> usize {
    let mut channels: Vec<usize> = found.iter().map(|f| f.channel).collect();
    channels.sort_unstable();
    channels.dedup();
    channels.len()
}

/// A cause of flags that lie together.
fn cause(search: &Search<'_>, kind: CauseKind, found: &[Found<'_>], reason: String) -> Cause {
    let (start, end) = extent(found);
    Cause {
        kind,
        node: search.node(found[0].channel).to_owned(),
        start,
        end,
        flags: found.iter().map(|f| f.key()).collect(),
        reason,
        against: String::new(),
        mend: None,
    }
}

/// "3 channels", "1 channel".
fn counted(n: usize, one: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}

/// "12 h", of a stretch.
fn long(start: UnixSeconds, end: UnixSeconds) -> String {
    SpanSeconds(end.0 - start.0).in_words()
}

/// How much a cause is worth: what waits for a person counts, a condition little.
fn worth(cause: &Cause, flags: &[Vec<Flag>]) -> usize {
    let of = |(channel, place): &(usize, usize)| match flags[*channel][*place].grade {
        Grade::Condition => 1,
        Grade::Doubtful | Grade::Wrong => 20,
    };
    cause.flags.iter().map(of).sum()
}

/// Finds what flags have in common: the explanation that is worth most first, until none explains two that are left.
pub(super) fn causes(station: &StationContext<'_>, flags: &[Vec<Flag>]) -> Vec<Cause> {
    let found = flags
        .iter()
        .enumerate()
        .flat_map(|(channel, of)| of.iter().enumerate().map(move |(place, flag)| Found { channel, place, flag }));
    let search = Search { channels: station.channels, events: station.events, found: found.collect() };
    let mut candidates = nodes::causes(&search);
    candidates.extend(instruments::causes(&search));
    candidates.extend(soil::causes(&search));
    candidates.sort_by_key(|c| (std::cmp::Reverse(worth(c, flags)), c.start, c.kind, c.node.clone()));
    let mut taken: std::collections::HashSet<(usize, usize)> = std::collections::HashSet::new();
    let mut causes = Vec::new();
    for mut candidate in candidates {
        candidate.flags.retain(|f| !taken.contains(f));
        // One flag alone speaks for itself, unless there is something to mend.
        if candidate.flags.len() >= 2 || (candidate.mend.is_some() && !candidate.flags.is_empty()) {
            taken.extend(candidate.flags.iter().copied());
            causes.push(candidate);
        }
    }
    causes.sort_by(|a, b| (a.start, a.kind, &a.node).cmp(&(b.start, b.kind, &b.node)));
    causes
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, series, without};
    use super::super::{Settings, check_station};
    use super::*;

    #[test]
    fn a_silence_of_three_channels_is_the_node_s_and_of_two_is_not() {
        let s = without(&series(100, |i| i as f64), 40..60);
        let whole = series(100, |i| i as f64);
        let on = |node| Channel { node, ..channel(&s) };
        let of = |channels: &[Channel<'_>]| {
            check_station(&StationContext::alone(channels, &[]), &Settings::default()).causes
        };
        assert_eq!(of(&[on("a"), on("a"), Channel { node: "a", ..channel(&whole) }]), []);
        assert_eq!(of(&[on("a"), on("a"), on("b")]), [], "two nodes that are silent together are two");
        let found = of(&[on("b"), on("a"), on("a"), on("a")]);
        assert_eq!(found.len(), 1);
        assert_eq!((found[0].node.as_str(), found[0].flags.len()), ("a", 3));
        assert_eq!(found[0].reason, "a was silent for 5 h: 20 records of 3 channels are missing.");
    }
}
