//! What explains several flags at once: findings of a node or a station, not of a channel.

use super::{Channel, Flag, Test};
use crate::units::{SpanSeconds, UnixSeconds, coded};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

coded!(
    /// What can go wrong beyond a single channel.
    CauseKind {
        /// A node sent nothing, or nothing of it arrived.
        SilentNode = "silent_node",
    }
);

impl CauseKind {
    /// Its name in a heading.
    #[must_use]
    pub const fn title(self) -> &'static str {
        match self {
            Self::SilentNode => "Node silent",
        }
    }
}

/// One thing that explains flags of several channels.
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
}

/// From this many channels of a node on, the same silence is the node's.
const SHARED: usize = 3;

/// First and last missing reading, and the node.
type Silence<'a> = (UnixSeconds, UnixSeconds, &'a str);

/// Finds what flags have in common.
pub(super) fn causes(channels: &[Channel<'_>], flags: &[Vec<Flag>]) -> Vec<Cause> {
    let mut silences: BTreeMap<Silence<'_>, Vec<(usize, usize)>> = BTreeMap::new();
    for (c, of_channel) in flags.iter().enumerate() {
        for (i, flag) in of_channel.iter().enumerate().filter(|(_, f)| f.test == Test::Gap) {
            silences.entry((flag.start, flag.end, channels[c].node)).or_default().push((c, i));
        }
    }
    let shared = silences.into_iter().filter(|(_, flags)| flags.len() >= SHARED);
    let cause = |((start, end, node), explained): (Silence<'_>, Vec<(usize, usize)>)| {
        let (first, of) = explained[0];
        let long = SpanSeconds(end.0 - start.0 + channels[first].due_every()).in_words();
        let missing = flags[first][of].readings;
        let which = if node.is_empty() { "The node".to_owned() } else { node.to_owned() };
        let reason = format!(
            "{which} was silent for {long}: {missing} {} of {} channels are missing.",
            if missing == 1 { "record" } else { "records" },
            explained.len()
        );
        Cause { kind: CauseKind::SilentNode, node: node.to_owned(), start, end, flags: explained, reason }
    };
    shared.map(cause).collect()
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, series, without};
    use super::super::{Settings, StationContext, check_station};
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
