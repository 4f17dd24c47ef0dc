//! A long record judged again after a little was added to it.
//!
//! The tests learn a record's habits from all of it, so that one new day may move any threshold a little. A long record is
//! therefore judged in two parts. Its past, up to the last of the days that end every thirteen weeks, is judged as a whole, and
//! again only if something of it is another than before. Its present is what came since, judged together with the year
//! before, which tells the season and the habits. What is found does not depend on whether the past was known already:
//! [`check_station`](super::check_station) is [`check_again`] without a memory.

use super::cause::causes;
use super::check::all_tests;
use super::slice::{print, seen};
use super::{Channel, Findings, Flag, Settings, StationContext, Test};
use crate::units::{SpanSeconds, UnixSeconds};

/// The past ends at a multiple of this, s.
const PAST_ENDS_EVERY: i64 = 91 * SpanSeconds::DAY.0;
/// So much of the past is seen with the present, s.
const SEEN_WITH: i64 = 365 * SpanSeconds::DAY.0;
/// A record with less past than this is judged as one, s.
const LONG: i64 = 2 * SEEN_WITH;
/// What lies nearer to the end of the past than this is told by the present, which sees how it goes on, s.
const GOES_ON: i64 = 30 * SpanSeconds::DAY.0;

/// What of a station was judged and need not be judged again while nothing of it changes.
#[derive(Debug, Clone, Default)]
pub struct Judged {
    past: Option<Past>,
}

#[derive(Debug, Clone)]
struct Past {
    /// Of all that was seen.
    print: u128,
    flags: Vec<Vec<Flag>>,
}

/// Runs every test over the channels of one station, as [`check_station`](super::check_station) does; what `judged` knows
/// of a past that is still the same is taken from there. `judged` is what is known afterwards.
#[must_use]
pub fn check_again(station: &StationContext<'_>, settings: &Settings, judged: &mut Judged) -> Findings {
    let mut flags = match past_ends(station) {
        Some(at) => in_two_parts(station, settings, at, judged),
        None => all_tests(station, settings),
    };
    for of_channel in &mut flags {
        of_channel.sort_by_key(|f| (f.start, f.test));
    }
    let causes = causes(station, &flags);
    Findings { flags, causes }
}

/// Where the past of a station ends, if it has so much that it is judged apart. The first and the last hundredth of a record say nothing
/// of it: a clock that was lost stamps 1970, or 2096.
fn past_ends(station: &StationContext<'_>) -> Option<i64> {
    let ends = |c: &Channel<'_>| {
        let (times, few) = (c.view.times, c.view.times.len().div_ceil(100));
        Some((*times.get(few)?, *times.get(times.len().checked_sub(1 + few)?)?))
    };
    let first = station.channels.iter().filter_map(ends).map(|e| e.0).min()?;
    let last = station.channels.iter().filter_map(ends).map(|e| e.1).max()?;
    let at = last.div_euclid(PAST_ENDS_EVERY) * PAST_ENDS_EVERY;
    (at.saturating_sub(first) >= LONG).then_some(at)
}

fn in_two_parts(station: &StationContext<'_>, settings: &Settings, at: i64, judged: &mut Judged) -> Vec<Vec<Flag>> {
    let before = judged.past.take();
    let past = seen(station, &(i64::MIN..at), |past| {
        let print = print(past, settings);
        let known = before.filter(|known| known.print == print);
        known.unwrap_or_else(|| Past { print, flags: all_tests(past, settings) })
    });
    let flags = if past.flags.iter().flatten().any(|f| is_told_by_all_of_it(f, at)) {
        all_tests(station, settings)
    } else {
        let told = seen(station, &(at - SEEN_WITH..i64::MAX), |present| all_tests(present, settings));
        let parts = station.channels.iter().zip(&past.flags).zip(told);
        parts.map(|((channel, past), present)| joined(channel.view.times, past, present, at - GOES_ON)).collect()
    };
    judged.past = Some(past);
    flags
}

/// Whether a flag of the past lasts until its end and began so long before that the present alone would take it for a habit.
fn is_told_by_all_of_it(flag: &Flag, at: i64) -> bool {
    let by_habit = match flag.test {
        Test::Stuck
        | Test::Noise
        | Test::Step
        | Test::Clock
        | Test::PairApart
        | Test::MissesRain
        | Test::SwappedPorts
        | Test::LowPower
        | Test::WetBox => true,
        Test::Gap
        | Test::Late
        | Test::Repeated
        | Test::NotConnected
        | Test::OutOfInstrument
        | Test::Impossible
        | Test::Ponded
        | Test::Frozen
        | Test::Spike
        | Test::RiseWithoutWater
        | Test::WetsOutOfOrder
        | Test::DailyWiggle
        | Test::HeatMisorder
        | Test::ReferenceApart
        | Test::SunlitAir
        | Test::Settling
        | Test::Visit => false,
    };
    by_habit && flag.end.0 >= at - GOES_ON && flag.start.0 < at - SEEN_WITH / 2
}

/// Flags of both parts of a channel: those of the past that begin before `until`, those of the present that do not end before,
/// and what both tell of as one.
fn joined(times: &[i64], past: &[Flag], present: Vec<Flag>, until: i64) -> Vec<Flag> {
    let mut told: Vec<Flag> = present.into_iter().filter(|f| f.end.0 >= until).collect();
    let mut earlier = Vec::new();
    for flag in past.iter().filter(|f| f.start.0 < until) {
        // Of a clock, of deliveries and of repeats several things may be told of one time.
        let apart = flag.end.0 < until && matches!(flag.test, Test::Clock | Test::Late | Test::Repeated);
        let same =
            |f: &&mut Flag| (f.test, f.grade) == (flag.test, flag.grade) && f.start <= flag.end && flag.start <= f.end;
        match told.iter_mut().find(same).filter(|_| !apart) {
            Some(other) => *other = one_of(times, flag, other),
            None => earlier.push(flag.clone()),
        }
    }
    told.extend(earlier);
    told
}

/// What two flags of one grade that overlap tell as one: the sentence and the numbers are of the one with more readings.
fn one_of(times: &[i64], a: &Flag, b: &Flag) -> Flag {
    let (lead, other) = if a.readings > b.readings { (a, b) } else { (b, a) };
    let (start, end) = (lead.start.min(other.start), lead.end.max(other.end));
    if (start, end) == (lead.start, lead.end) {
        return lead.clone();
    }
    let count = |from: UnixSeconds, to: UnixSeconds| {
        times.partition_point(|t| *t < to.0).saturating_sub(times.partition_point(|t| *t < from.0))
    };
    let more = count(start, lead.start) + count(UnixSeconds(lead.end.0 + 1), UnixSeconds(end.0 + 1));
    let reason = format!("{} In all it lasts {}.", lead.reason, SpanSeconds(end.0 - start.0).in_words());
    Flag { start, end, readings: lead.readings + more, reason, ..lead.clone() }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{channel, flags_of, series, without};
    use super::*;
    use crate::series::Series;

    /// Three years and some days, three times a day.
    fn record(days: i64) -> Series {
        let s = series(3 * days, |i| 0.3 + 0.01 * (i as f64 / 9.0).sin());
        Series { times: (0..s.times.len() as i64).map(|i| i * 28_800).collect(), ..s }
    }

    fn marked(s: &Series, judged: &mut Judged) -> bool {
        let channels = [channel(s)];
        let found = check_again(&StationContext::alone(&channels, &[]), &Settings::default(), judged);
        found.flags[0].iter().any(|f| f.reason == "known")
    }

    #[test]
    fn a_past_that_is_known_is_not_judged_again_and_one_that_changed_is() {
        let (before, mut after) = (record(1100), record(1101));
        let mut judged = Judged::default();
        assert!(!marked(&before, &mut judged));
        // A finding that no test would make shows where the flags of the past come from.
        let past = judged.past.as_mut().expect("three years have a past");
        let lost = series(100, |i| i as f64);
        let gap = flags_of(&[channel(&without(&lost, 40..60))]);
        past.flags[0].push(Flag { reason: "known".into(), ..gap[0][0].clone() });
        assert!(marked(&after, &mut judged), "a day more leaves it");
        assert!(marked(&before, &mut judged.clone()), "and a day less");
        after.values[7] += 1e-4;
        assert!(!marked(&after, &mut judged), "a reading of it is another");
        assert!(!marked(&record(300), &mut judged), "a short record has none");
    }
}
