//! Who found what: flags, or the marks of a person, held against the truth of a year.

use super::{INTERVAL, Kind, Truth};
use ebrel_core::quality::{Flag, Test};

/// Seconds of a day.
const DAY: i64 = super::DAY;

const fn shared(a: (i64, i64), b: (i64, i64)) -> i64 {
    let (from, to) = (if a.0 > b.0 { a.0 } else { b.0 }, if a.1 < b.1 { a.1 } else { b.1 });
    to - from
}

/// Whether a flag finds a window of a fault: a third of it or two days, of a short one within two records.
fn finds(flag: &Flag, (from, to): (i64, i64)) -> bool {
    let span = (flag.start.0, flag.end.0);
    if to - from <= 3 * INTERVAL {
        return span.0 <= to + 2 * INTERVAL && span.1 >= from - 2 * INTERVAL && span.1 - span.0 <= to - from + DAY;
    }
    shared(span, (from, to)) >= enough(from, to)
}

/// How much of a longer window must be told, seconds.
const fn enough(from: i64, to: i64) -> i64 {
    let third = (to - from) * 3 / 10;
    if third < 2 * DAY { third } else { 2 * DAY }
}

impl Truth {
    /// On how many of its channels a machine must have found it.
    #[must_use]
    pub fn wanted(&self) -> usize {
        if self.kind == Kind::Step { 1 } else { self.windows.len().div_ceil(3).min(3) }
    }

    /// Whether flags, a list for each channel, find it on at least so many of its windows; `named`: only flags of tests that may name
    /// it count.
    #[must_use]
    pub fn is_found(&self, flags: &[Vec<Flag>], named: bool, wanted: usize) -> bool {
        let counts = |f: &&Flag| !named || self.kind.tests().contains(&f.test);
        let hit = |(channel, from, to): &&(usize, i64, i64)| {
            let mut covered = 0;
            let Some(of) = flags.get(*channel) else { return false };
            of.iter().filter(counts).any(|f| {
                covered += shared((f.start.0, f.end.0), (*from, *to)).max(0);
                finds(f, (*from, *to)) || (to - from > 3 * INTERVAL && covered >= enough(*from, *to))
            })
        };
        self.windows.iter().filter(hit).count() >= wanted
    }

    /// Whether a flag lies on one of its windows, of the flag's channel or of any, or so near that it may come of it.
    fn beside(&self, flag: &Flag, channel: Option<usize>) -> bool {
        let lasts = match self.kind {
            // It drains for long, and jumps back at its end.
            Kind::RisesDry => 14 * DAY,
            Kind::Step | Kind::Bypass => 10 * DAY,
            _ => DAY,
        };
        self.windows.iter().any(|(c, from, to)| {
            channel.is_none_or(|of| of == *c) && flag.start.0 <= to + lasts && flag.end.0 >= from - DAY
        })
    }

    /// Whether a flag of a channel lies on what was done to that channel.
    #[must_use]
    pub fn touches(&self, flag: &Flag, channel: usize) -> bool {
        self.beside(flag, Some(channel))
    }

    /// As [`Self::touches`], or whether it may come of what was done to others.
    #[must_use]
    pub fn explains(&self, flag: &Flag, channel: usize) -> bool {
        // What is wrong with one probe or clock shows in what others are compared with.
        let everywhere = matches!(
            self.kind,
            Kind::Exchange
                | Kind::WrongDepth
                | Kind::ClockBack
                | Kind::ClockDrift
                | Kind::Bypass
                | Kind::WetBox
                | Kind::LowPower
        ) || (flag.test == Test::PairApart);
        self.beside(flag, (!everywhere).then_some(channel))
    }
}
