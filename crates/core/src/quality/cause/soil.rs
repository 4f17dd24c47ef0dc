//! Causes in the soil: water along a cable, water that no gauge saw, frost.

use super::{Cause, CauseKind, Found, Search, cause, channels_of, counted, long, stretches};
use crate::quality::Test;
use crate::units::SpanSeconds;
use std::collections::BTreeMap;

/// Rises of several probes within this come of the same water, s.
const SAME_WATER: i64 = 2 * SpanSeconds::DAY.0;
/// Spells of frost nearer to each other than this are one winter's, s.
const ONE_WINTER: i64 = 60 * SpanSeconds::DAY.0;

pub fn causes(search: &Search<'_>) -> Vec<Cause> {
    let mut found = bypasses(search);
    found.extend(unseen(search));
    found.extend(frosts(search));
    found
}

fn bypasses(search: &Search<'_>) -> Vec<Cause> {
    let mut channels: BTreeMap<usize, Vec<Found<'_>>> = BTreeMap::new();
    search.of(&[Test::WetsOutOfOrder]).for_each(|f| channels.entry(f.channel).or_default().push(f));
    channels
        .into_iter()
        .map(|(channel, run)| {
            let reason = format!(
                "In {} {} wetted ahead of the probe above it: water runs down its cable or the wall of its hole.",
                counted(run.len(), "rain", "rains"),
                search.channels[channel].name,
            );
            let mut found = cause(search, CauseKind::Bypass, &run, reason);
            found.against = "Cracks and old root channels do the same in soil that nobody dug.".to_owned();
            found
        })
        .collect()
}

fn unseen(search: &Search<'_>) -> Vec<Cause> {
    stretches(search.of(&[Test::RiseWithoutWater]).collect(), SAME_WATER)
        .into_iter()
        .filter(|run| channels_of(run) >= 2)
        .map(|run| {
            let reason = format!(
                "{} wetted together under a sky that the gauge calls dry: its funnel is blocked, or water came from the side.",
                counted(channels_of(&run), "probe", "probes"),
            );
            cause(search, CauseKind::UnseenWater, &run, reason)
        })
        .collect()
}

fn frosts(search: &Search<'_>) -> Vec<Cause> {
    stretches(search.of(&[Test::Frozen]).collect(), ONE_WINTER)
        .into_iter()
        .map(|run| {
            let (start, end) = super::extent(&run);
            let reason = format!(
                "Frost at {} in {} within {}: ice hides water from dielectric probes.",
                counted(channels_of(&run), "probe", "probes"),
                counted(run.len(), "spell", "spells"),
                long(start, end),
            );
            cause(search, CauseKind::Frost, &run, reason)
        })
        .collect()
}
