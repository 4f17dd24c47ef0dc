//! Twins at one depth that drift apart.

use super::context::written;
use super::definition::settings;
use super::scene::{Told, Whole};
use super::screened::Screened;
use super::{Definition, Evidence, Flag, PairEvidence};
use crate::statistics::{median, quantile};
use crate::units::{Grade, SpanSeconds};

settings!(
    /// When twins are apart.
    PairSettings {
        /// Their difference leaves the range that it had by this many widths of it.
        widths: 1.5 in 0.1..=100.0 "widths",
        /// And by this many steps of the coarser record.
        resolutions: 4.0 in 0.5..=1000.0 "steps",
        /// And by this share of the middle half of what the record itself spans.
        share: 0.15 in 0.0..=10.0 "",
        /// It stays away for so long, at least.
        days: 10.0 in 1.0..=365.0 "d",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Pair apart",
    mark: "D",
    grade: Grade::Doubtful,
    finds: "Two probes at one depth whose difference leaves for good the range in which it was: one of them drifts, or the soil around it \
            cracked. What differed from the beginning is let pass, and an eighth of how far both are from levels at which they were compared.",
    settings: PairSettings::LIST,
};

/// Days over which the median of the difference is taken.
const SMOOTH: i64 = 5;
/// The first days of a pair, which are always taken as its habit.
const LEARN: usize = 40;
/// A habit is learnt from days this long ago, so that a slow drift does not become one.
const LAG: usize = 60;
/// The slopes of two curves may differ by this share.
const SLOPES: f64 = 0.12;
/// A span that holds nothing yet.
const NOTHING: (f64, f64) = (f64::INFINITY, f64::NEG_INFINITY);

/// Times over which the difference of two probes of one kind at one depth lies outside the range that it had before.
///
/// Medians of five days of the daily median difference; the range is from the 5th to the 95th percentile of all days up to two months before that
/// were not themselves apart.
pub(super) fn apart(whole: &Whole<'_>, own: &PairSettings) -> Vec<Told> {
    let mut told = Vec::new();
    for (i, a) in whole.all.iter().enumerate() {
        for (j, b) in whole.all.iter().enumerate().skip(i + 1) {
            if is_pair(a, b) {
                told.extend(spans(a, b, own).into_iter().flat_map(|span| tell((i, a), (j, b), span)));
            }
        }
    }
    told
}

fn is_pair(a: &Screened<'_>, b: &Screened<'_>) -> bool {
    let near = a.channel.depth_cm.zip(b.channel.depth_cm).is_some_and(|(a, b)| (a - b).abs() <= 1.0);
    near && a.channel.quantity == b.channel.quantity && a.channel.quantity.is_in_soil()
}

/// A time of being apart.
struct Span {
    from: i64,
    to: i64,
    apart: f64,
    usual: f64,
}

/// One day of a pair: its number, the median difference, and the median level of each.
type Day = (i64, f64, [f64; 2]);

/// Each day that both know for 8 hours and more.
fn differences(a: &Screened<'_>, b: &Screened<'_>) -> Vec<Day> {
    let (x, y) = (a.hours(), b.hours());
    let days = x.days().start.max(y.days().start)..x.days().end.min(y.days().end);
    let [mut apart, mut of_a, mut of_b] = [const { Vec::new() }; 3];
    days.filter_map(|day| {
        [&mut apart, &mut of_a, &mut of_b].into_iter().for_each(Vec::clear);
        for (x, y) in (day * 24..day * 24 + 24).map(|h| (x.at(h), y.at(h))).filter(|(x, y)| (x + y).is_finite()) {
            apart.push(y - x);
            of_a.push(x);
            of_b.push(y);
        }
        let enough = apart.len() >= 8;
        Some((day, median(&mut apart).filter(|_| enough)?, [median(&mut of_a)?, median(&mut of_b)?]))
    })
    .collect()
}

fn spans(a: &Screened<'_>, b: &Screened<'_>, own: &PairSettings) -> Vec<Span> {
    let daily = differences(a, b);
    let step = a.noise.map_or(0.0, |n| n.resolution).max(b.noise.map_or(0.0, |n| n.resolution));
    // What one of the two spans may be the fault itself: the calmer one counts, whichever stands first.
    let spread = a.usual_span().min(b.usual_span());
    let floor = a.nothing(6.0, 0.0).max(b.nothing(6.0, 0.0)).max(own.resolutions * step).max(own.share * spread);
    let smooth: Vec<f64> = (0..daily.len())
        .map(|i| {
            let near = daily[i.saturating_sub(SMOOTH as usize)..(i + SMOOTH as usize + 1).min(daily.len())].iter();
            let mut near: Vec<f64> = near.filter(|d| (d.0 - daily[i].0).abs() <= SMOOTH / 2).map(|d| d.1).collect();
            median(&mut near).unwrap_or(daily[i].1)
        })
        .collect();
    let mut good: Vec<(usize, f64)> = Vec::new();
    let mut found: Vec<Span> = Vec::new();
    let mut open: Option<(usize, f64, f64)> = None;
    let mut band = (0.0, 0.0, 0.0);
    let mut levels = [(0.0, 0.0); 2];
    for i in LEARN.min(smooth.len())..smooth.len() {
        if good.is_empty() {
            good.extend((0..LEARN).map(|k| (k, smooth[k])));
        }
        if open.is_none() && i % 5 == 0 || band.2 == 0.0 {
            let known = good.iter().filter(|g| g.0 < LEARN || g.0 + LAG <= i).map(|g| g.1);
            let mut known: Vec<f64> = known.collect();
            let (low, high) = (quantile(&mut known, 0.03).unwrap_or(0.0), quantile(&mut known, 0.97).unwrap_or(0.0));
            band = (low, high, (own.widths * (high - low)).max(floor));
            let known = || good.iter().filter(|g| g.0 < LEARN || g.0 + LAG <= i).map(|g| daily[g.0].2);
            let span = |of: usize| known().fold(NOTHING, |(low, high), l| (low.min(l[of]), high.max(l[of])));
            levels = [span(0), span(1)];
        }
        // At levels where the two were never compared they may differ by as much as the slopes of their curves do. Where one is at a level that
        // it had before, it is the other that went astray.
        let beyond = |of: usize| (levels[of].0 - daily[i].2[of]).max(daily[i].2[of] - levels[of].1).max(0.0);
        let off = (band.0 - smooth[i]).max(smooth[i] - band.1) - SLOPES * beyond(0).min(beyond(1));
        match (&mut open, off > band.2) {
            (None, true) => open = Some((i, off, band.1 - band.0)),
            (Some(o), true) => o.1 = o.1.max(off),
            // Back well within what it was.
            (Some(o), false) if off < 0.7 * band.2 => {
                found.extend(closed(&daily, *o, i - 1, own.days));
                open = None;
                good.push((i, smooth[i]));
            }
            (Some(_), false) => {}
            (None, false) => good.push((i, smooth[i])),
        }
    }
    found.extend(open.and_then(|o| closed(&daily, o, daily.len() - 1, own.days)));
    found
}

fn closed(daily: &[Day], (from, apart, usual): (usize, f64, f64), to: usize, days: f64) -> Option<Span> {
    let (from, to) = (daily[from].0, daily[to].0);
    let day = SpanSeconds::DAY.0;
    ((to - from + 1) as f64 >= days).then_some(Span { from: from * day, to: (to + 1) * day - 1, apart, usual })
}

fn tell(a: (usize, &Screened<'_>), b: (usize, &Screened<'_>), span: Span) -> Vec<Told> {
    let flag = |(i, of): (usize, &Screened<'_>), other: &Screened<'_>| {
        let view = of.between(span.from, span.to);
        let (start, end) = view.times.first().zip(view.times.last())?;
        let quantity = of.channel.quantity;
        let reason = format!(
            "Its difference to its twin {} moved by {} beyond the range that it had ({} wide) and stays there for {}: one of the two drifts.",
            other.channel.name,
            written(quantity, span.apart),
            written(quantity, span.usual),
            SpanSeconds(end - start).in_words(),
        );
        let evidence = PairEvidence { apart: span.apart.into(), usual: span.usual.into() };
        let strength = span.apart / of.nothing(1.0, 0.3).max(f64::MIN_POSITIVE);
        let n = view.times.len();
        Some((i, Flag::new(DEFINITION.grade, (*start, *end), n, strength, Evidence::PairApart(evidence), reason)))
    };
    [flag(a, b.1), flag(b, a.1)].into_iter().flatten().collect()
}
