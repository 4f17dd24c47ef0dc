//! The order of heat: the daily wave of temperature is smaller and later the deeper it goes.

use super::definition::settings;
use super::exchange::ports;
use super::scene::{Told, Whole};
use super::screened::Screened;
use super::{Definition, Evidence, Flag, HeatEvidence};
use crate::series::DailyWave;
use crate::statistics::median;
use crate::units::{Grade, Quantity};

settings!(
    /// When the order of heat is upside down.
    HeatSettings {
        /// The deeper wave counts as larger from this natural logarithm of the ratio of amplitudes.
        ratio: 0.1 in 0.02..=3.0 "",
        /// And as earlier from so many hours.
        hours: 0.3 in 0.0..=12.0 "h",
        /// On this share of the days that can be judged it must be so.
        days: 0.8 in 0.5..=1.0 "",
    }
);

pub(super) const DEFINITION: Definition = Definition {
    title: "Heat out of order",
    mark: "H",
    grade: Grade::Doubtful,
    finds: "A thermometer whose daily wave is larger and earlier than that of a shallower one, nearly always: its depth or its label is \
            wrong. Days at the freezing point, where ice holds the temperature, are not judged.",
    settings: HeatSettings::LIST,
};

/// Fewer judged days than this tell no habit.
const LEAST_DAYS: usize = 20;
/// Two thermometers nearer to each other than this have no order, cm.
const APART_CM: f64 = 2.0;
/// Soil nearer to 0 °C than this may be freezing or thawing, K.
const CURTAIN_K: f64 = 1.0;

/// A soil thermometer with its noted depth.
struct Probe<'s> {
    index: usize,
    depth: f64,
    of: &'s Screened<'s>,
    /// An amplitude smaller than this is noise and rounding, K.
    floor: f64,
}

/// What two thermometers tell of each other over all days.
#[derive(Debug, Clone, Copy, Default)]
struct Order {
    judged: usize,
    /// On so many days the second has the larger and earlier wave.
    second_first: usize,
    /// On so many the first has it.
    first_first: usize,
    /// Median of ln(amplitude of the second/amplitude of the first).
    ratio: f64,
}

/// Thermometers whose place in the order of heat is not that of their noted depth.
///
/// For each two, each day of [`Screened::waves`] is judged on which one wave stands above noise. The order is upside down if the
/// deeper one leads on `days` of them. Then the exchange of two depths or the change of one that explains most of it is told.
pub(super) fn misordered(whole: &Whole<'_>, own: &HeatSettings) -> Vec<Told> {
    let probes = probes(whole.all);
    let n = probes.len();
    let mut orders = vec![vec![Order::default(); n]; n];
    for i in 0..n {
        for j in i + 1..n {
            orders[i][j] = order(&probes[i], &probes[j], own);
            let o = orders[i][j];
            orders[j][i] = Order { second_first: o.first_first, first_first: o.second_first, ratio: -o.ratio, ..o };
        }
    }
    let depths: Vec<f64> = probes.iter().map(|p| p.depth).collect();
    let upside = upside_down(&orders, &depths, own.days);
    if upside.is_empty() {
        return Vec::new();
    }
    let guilty = guilty(&orders, &depths, own.days, &upside);
    guilty.of.iter().flat_map(|g| tell(whole, &probes, &orders, *g, &guilty)).collect()
}

fn probes<'s>(all: &'s [Screened<'s>]) -> Vec<Probe<'s>> {
    let thermometers = all.iter().enumerate().filter(|(_, s)| s.channel.quantity == Quantity::SoilTemperature);
    let mut probes: Vec<Probe<'_>> = thermometers
        .filter_map(|(index, of)| {
            let (depth, noise) = (of.channel.depth_cm?, of.noise?);
            // A harmonic over 48 hourly means averages noise and rounding by √24.
            let floor = (3.0 * noise.sigma / 24f64.sqrt()).max(0.4 * noise.resolution).max(0.08);
            Some(Probe { index, depth, of, floor })
        })
        .collect();
    probes.sort_by(|a, b| a.depth.total_cmp(&b.depth).then_with(|| a.of.channel.name.cmp(b.of.channel.name)));
    probes
}

fn order(first: &Probe<'_>, second: &Probe<'_>, own: &HeatSettings) -> Order {
    let mut order = Order::default();
    if (first.depth - second.depth).abs() < APART_CM {
        return order;
    }
    let (a, b) = (first.of.hours().days(), second.of.hours().days());
    let floor = first.floor.max(second.floor);
    let warm = |p: &Probe<'_>, day: i64| {
        p.of.hours().mean(day * 24, day * 24 + 24, 12).is_some_and(|mean| mean.abs() > CURTAIN_K)
    };
    let mut ratios = Vec::new();
    for day in a.start.max(b.start)..a.end.min(b.end) {
        let Some((x, y)) = first.of.wave(day).zip(second.of.wave(day)) else { continue };
        let (ax, ay) = (x.amplitude(), y.amplitude());
        if ax.max(ay) < 3.0 * floor || !warm(first, day) || !warm(second, day) {
            continue;
        }
        let ratio = (ay.max(floor) / ax.max(floor)).ln();
        order.judged += 1;
        ratios.push(ratio);
        let leads = |large: DailyWave, small: DailyWave| {
            // Of a wave under the noise no time can be told.
            small.amplitude() < floor || large.lag_to(small) > own.hours
        };
        order.second_first += usize::from(ratio > own.ratio && leads(y, x));
        order.first_first += usize::from(ratio < -own.ratio && leads(x, y));
    }
    order.ratio = median(&mut ratios).unwrap_or(0.0);
    order
}

/// Pairs, shallower first, of which the deeper one leads.
fn upside_down(orders: &[Vec<Order>], depths: &[f64], share: f64) -> Vec<(usize, usize)> {
    let n = depths.len();
    let pairs = (0..n).flat_map(|i| (0..n).map(move |j| (i, j)));
    pairs
        .filter(|(i, j)| depths[*i] + APART_CM <= depths[*j])
        .filter(|(i, j)| {
            let o = &orders[*i][*j];
            o.judged >= LEAST_DAYS && o.second_first as f64 >= share * o.judged as f64
        })
        .collect()
}

/// Whose depth is wrong.
struct Guilty {
    of: Vec<usize>,
    /// There are two, and each at the other's depth all is in order.
    exchanged: bool,
}

/// Whose depth is wrong: the change of one that leaves no pair upside down, or the exchange of two that leaves fewer, else all that stand upside down.
fn guilty(orders: &[Vec<Order>], depths: &[f64], share: f64, upside: &[(usize, usize)]) -> Guilty {
    let n = depths.len();
    let left_without = |g: usize| upside.iter().filter(|(i, j)| *i != g && *j != g).count();
    let mut alone: Vec<usize> = (0..n).filter(|g| upside.iter().any(|(i, j)| i == g || j == g)).collect();
    let fewest = alone.iter().map(|g| left_without(*g)).min().unwrap_or(0);
    alone.retain(|g| left_without(*g) == fewest);
    if fewest == 0 && alone.len() == 1 {
        return Guilty { of: alone, exchanged: false };
    }
    let exchanged = |i: usize, j: usize| {
        let mut depths = depths.to_vec();
        depths.swap(i, j);
        upside_down(orders, &depths, share).len()
    };
    let pairs = (0..n).flat_map(|i| (i + 1..n).map(move |j| (i, j)));
    let best =
        pairs.filter(|(i, j)| (depths[*i] - depths[*j]).abs() >= APART_CM).min_by_key(|(i, j)| exchanged(*i, *j));
    if let Some((i, j)) = best.filter(|(i, j)| exchanged(*i, *j) == 0) {
        // Of two neighbours in the order either the one, or the other, or both may be wrong.
        return Guilty { of: vec![i, j], exchanged: true };
    }
    if fewest < upside.len() {
        return Guilty { of: alone, exchanged: false };
    }
    let mut all: Vec<usize> = upside.iter().flat_map(|(i, j)| [*i, *j]).collect();
    all.sort_unstable();
    all.dedup();
    Guilty { of: all, exchanged: false }
}

/// The depth at which a wave of this size would lie: ln(amplitude) falls evenly with depth (Carslaw & Jaeger 1959, § 2.6), by a line
/// through the thermometers whose depth stands; where only one does, the depth of the probe with which it is exchanged.
fn looks_like(probes: &[Probe<'_>], orders: &[Vec<Order>], g: usize, guilty: &Guilty) -> Option<f64> {
    let sound: Vec<(f64, f64)> = (0..probes.len())
        .filter(|i| !guilty.of.contains(i) && orders[g][*i].judged >= LEAST_DAYS)
        .map(|i| (orders[g][i].ratio, probes[i].depth))
        .collect();
    let n = sound.len() as f64;
    let (mx, my) = (sound.iter().map(|p| p.0).sum::<f64>() / n, sound.iter().map(|p| p.1).sum::<f64>() / n);
    let sxx: f64 = sound.iter().map(|p| (p.0 - mx).powi(2)).sum();
    let sxy: f64 = sound.iter().map(|p| (p.0 - mx) * (p.1 - my)).sum();
    // Where its own wave stands, ln of the ratio to itself is 0.
    let depth = my - sxy / sxx * mx;
    let told = sound.len() >= 2 && sxx > 0.01 && sxy < 0.0 && (0.0..=300.0).contains(&depth);
    let exchanged = guilty.exchanged && !sound.is_empty();
    let other = || guilty.of.iter().find(|i| exchanged && **i != g).map(|i| probes[*i].depth);
    if told { Some(depth) } else { other() }
}

fn tell(whole: &Whole<'_>, probes: &[Probe<'_>], orders: &[Vec<Order>], g: usize, guilty: &Guilty) -> Vec<Told> {
    let probe = &probes[g];
    let against = (0..probes.len()).filter(|i| *i != g && orders[*i][g].judged >= LEAST_DAYS).max_by_key(|i| {
        let o = &orders[*i][g];
        let wrong = if probes[*i].depth < probe.depth { o.second_first } else { o.first_first };
        wrong * 1000 / o.judged.max(1)
    });
    let Some(other) = against else { return Vec::new() };
    let o = orders[other][g];
    let wrong = if probes[other].depth < probe.depth { o.second_first } else { o.first_first };
    let share = wrong as f64 / o.judged as f64;
    let depth = looks_like(probes, orders, g, guilty);
    let mut reason = format!(
        "On {:.0}\u{a0}% of {} days the daily wave at {} is {} than that at {}, against the order of depths",
        100.0 * share,
        o.judged,
        probe.of.channel.name,
        if probes[other].depth < probe.depth { "larger and earlier" } else { "smaller and later" },
        probes[other].of.channel.name,
    );
    if let Some(cm) = depth {
        reason.push_str(&format!("; by the others it lies at about {cm:.0}\u{a0}cm"));
    }
    reason.push('.');
    let evidence = HeatEvidence {
        depth_cm: probe.depth.into(),
        inverted: share.into(),
        looks_like_cm: depth.map(Into::into),
        ratio: o.ratio.exp().into(),
    };
    let port =
        ports(whole.all).into_iter().find(|port| port.contains(&probe.index)).unwrap_or_else(|| vec![probe.index]);
    port.into_iter()
        .filter_map(|i| {
            let (first, last) = whole.all[i].times.first().zip(whole.all[i].times.last())?;
            let flag = Flag::new(
                DEFINITION.grade,
                (*first, *last),
                whole.all[i].times.len(),
                o.ratio.abs() * 10.0,
                Evidence::HeatMisorder(evidence),
                reason.clone(),
            );
            Some((i, flag))
        })
        .collect()
}
