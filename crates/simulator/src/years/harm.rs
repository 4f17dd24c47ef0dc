//! What is done to a year, and its truth.

mod slow;

use super::{DAY, INTERVAL, Kind, Severity, Truth, Year, YearChannel, normal};
use crate::rounding::to_step;
use ebrel_core::units::Quantity;
use rand::RngExt;
use rand_chacha::ChaCha8Rng;

const HOUR: i64 = 3600;

/// Puts every fault in, the slow ones first, so that a short one lies on what they left.
pub fn harm(year: &mut Year, faults: &[(Kind, Severity)], rng: &mut ChaCha8Rng) {
    let mut order = faults.to_vec();
    order.sort_by_key(|(kind, _)| std::cmp::Reverse(rank(*kind)));
    for (kind, severity) in order {
        if let Some((windows, words)) = one(year, kind, severity, rng) {
            year.truth.push(Truth { kind, severity, windows, words });
        }
    }
    year.truth.sort_by_key(|t| t.windows.iter().map(|w| w.1).min());
}

/// What changes times comes last, what changes whole channels first.
const fn rank(kind: Kind) -> u8 {
    match kind {
        Kind::Wiggle | Kind::WrongDepth | Kind::TwinDrifts | Kind::Sunlit | Kind::Bypass => 3,
        Kind::Deaf | Kind::RisesDry | Kind::Exchange | Kind::Step | Kind::LowPower | Kind::WetBox => 2,
        Kind::NodeSilent | Kind::ChannelSilent | Kind::ClockBack | Kind::ClockDrift | Kind::Repeats | Kind::Late => 0,
        _ => 1,
    }
}

type Done = Option<(Vec<(usize, i64, i64)>, String)>;

/// Channels of a quantity, by their place in the list.
fn of(year: &Year, quantity: Quantity) -> Vec<usize> {
    (0..year.channels.len()).filter(|i| year.channels[*i].quantity == quantity).collect()
}

fn pick(from: &[usize], rng: &mut ChaCha8Rng) -> Option<usize> {
    (!from.is_empty()).then(|| from[rng.random_range(0..from.len())])
}

/// A moment with `room` seconds after it at which nothing else was done to a channel, and no visit.
fn moment(year: &Year, channel: usize, room: i64, rng: &mut ChaCha8Rng) -> Option<i64> {
    let taken: Vec<(i64, i64)> = year
        .truth
        .iter()
        .flat_map(|t| t.windows.iter())
        .filter(|w| w.0 == channel && w.2 - w.1 < 90 * DAY)
        .map(|w| (w.1, w.2))
        .collect();
    let (from, to) = (year.start + 15 * DAY, year.end - 15 * DAY - room);
    if to <= from {
        return None;
    }
    (0..60).find_map(|_| {
        let at = rng.random_range(from..to) / INTERVAL * INTERVAL;
        let free = |(a, b): &(i64, i64)| at + room + DAY < *a || at - DAY > *b;
        // What lasts for weeks goes through visits, as it does in the field.
        let alone = room > 5 * DAY || year.visits.iter().all(free);
        (taken.iter().all(free) && alone).then_some(at)
    })
}

/// Changes the values of a channel from one time to another; `change` is told how many seconds since the first.
fn alter(c: &mut YearChannel, from: i64, to: i64, mut change: impl FnMut(i64, f64) -> f64) {
    for (t, v) in c.times.iter().zip(&mut c.values).filter(|(t, _)| (from..=to).contains(*t)) {
        *v = to_step(change(t - from, *v), c.resolution);
    }
}

/// Half of the usual range of a channel.
fn usual(c: &YearChannel) -> f64 {
    if c.quantity == Quantity::WaterContent { 0.1 } else { 6.0 }
}

fn one(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
    let soil: Vec<usize> = [of(year, Quantity::WaterContent), of(year, Quantity::SoilTemperature)].concat();
    match kind {
        Kind::Spike
        | Kind::Burst
        | Kind::LoosePlug
        | Kind::Stuck
        | Kind::Step
        | Kind::Zeros
        | Kind::Sentinel
        | Kind::Beyond => quick(year, kind, severity, pick(&soil, rng)?, rng),
        Kind::BelowZero | Kind::AbovePores => impossible(year, kind, severity, rng),
        Kind::NodeSilent | Kind::ChannelSilent | Kind::Repeats | Kind::ClockBack | Kind::ClockDrift | Kind::Late => {
            times(year, kind, severity, rng)
        }
        Kind::RisesDry | Kind::Deaf | Kind::Bypass | Kind::Wiggle => slow::water(year, kind, severity, rng),
        Kind::WrongDepth | Kind::Exchange | Kind::TwinDrifts => slow::instruments(year, kind, severity, rng),
        Kind::Sunlit | Kind::LowPower | Kind::WetBox => slow::surroundings(year, kind, severity, rng),
    }
}

fn quick(year: &mut Year, kind: Kind, severity: Severity, i: usize, rng: &mut ChaCha8Rng) -> Done {
    let room = match kind {
        Kind::Spike => rng.random_range(0..3) * INTERVAL,
        Kind::Beyond => rng.random_range(0..12) * INTERVAL,
        Kind::Burst | Kind::LoosePlug => severity.of(5, 14, 30) * HOUR,
        Kind::Stuck => severity.of(4, 8, 18) * DAY,
        Kind::Step => severity.of(9, 6, 6) * DAY,
        _ => severity.of(6, 20, 90) * HOUR,
    };
    let at = moment(year, i, room, rng)?;
    let end = at + room;
    let scale = usual(&year.channels[i]);
    let up = if rng.random_bool(0.5) { 1.0 } else { -1.0 };
    let c = &mut year.channels[i];
    let name = c.name.clone();
    let mut window = vec![(i, at, end)];
    let words = match kind {
        Kind::Spike => {
            let height = up * scale * severity.of(0.16, 0.5, 1.4);
            alter(c, at, end, |_, v| v + height);
            format!("{name} strays by {height:+.3} for {} readings.", room / INTERVAL + 1)
        }
        Kind::Burst => {
            let sigma = scale * severity.of(0.09, 0.25, 0.7);
            alter(c, at, end, |_, v| v + sigma * normal(rng));
            format!("{name} is noisy by ±{sigma:.3}.")
        }
        Kind::LoosePlug => {
            let height = scale * severity.of(0.3, 0.7, 1.5);
            alter(c, at, end, |_, v| if rng.random_bool(0.35) { v - height * rng.random_range(0.5..1.0) } else { v });
            format!("The plug of {name} touches now and then.")
        }
        Kind::Stuck => {
            let held = c.times.iter().position(|t| *t >= at).map_or(0.0, |k| c.values[k]);
            let moved =
                c.times.iter().zip(&c.values).filter(|(t, _)| (at..=end).contains(*t)).map(|(_, v)| (v - held).abs());
            // Where the soil itself stood still nobody could see it.
            if moved.fold(0.0, f64::max) < 6.0 * c.resolution.max(scale * 0.01) {
                return None;
            }
            alter(c, at, end, |_, _| held);
            format!("{name} holds one value.")
        }
        Kind::Step => {
            let height = up * scale * severity.of(0.14, 0.4, 1.0);
            alter(c, at, end, |_, v| v + height);
            window = vec![(i, at, at + INTERVAL), (i, end, end + INTERVAL)];
            format!("{name} jumps by {height:+.3}, and back after {} days.", room / DAY)
        }
        Kind::Zeros => {
            alter(c, at, end, |_, _| 0.0);
            format!("The plug of {name} is out: zeros.")
        }
        Kind::Sentinel => {
            alter(c, at, end, |_, _| -9999.0);
            format!("The logger writes −9999 for {name}.")
        }
        _ => {
            let beyond = c.range.1 + scale * severity.of(0.5, 2.0, 8.0);
            alter(c, at, end, |_, _| beyond);
            format!("{name} reads {beyond:.2}, beyond its range.")
        }
    };
    Some((window, words))
}

fn impossible(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
    let i = pick(&of(year, Quantity::WaterContent), rng)?;
    let room = severity.of(2, 5, 12) * DAY;
    let at = moment(year, i, room, rng)?;
    let c = &mut year.channels[i];
    let pores = c.pore_space?;
    let off = severity.of(0.015, 0.03, 0.06);
    let name = c.name.clone();
    if kind == Kind::BelowZero {
        alter(c, at, at + room, |_, v| v * 0.05 - off);
        return Some((vec![(i, at, at + room)], format!("Air lies beside {name}: below zero.")));
    }
    alter(c, at, at + room, |_, v| pores + 0.1 + off + 0.05 * (v - pores));
    Some((vec![(i, at, at + room)], format!("{name} reads far above the pores: salt, or a wrong gain.")))
}

/// All channels of the node over a stretch.
fn everywhere(year: &Year, from: i64, to: i64) -> Vec<(usize, i64, i64)> {
    (0..year.channels.len()).map(|i| (i, from, to)).collect()
}

fn times(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
    let i = rng.random_range(0..year.channels.len());
    let room = match kind {
        Kind::ChannelSilent => severity.of(1, 6, 40) * HOUR,
        Kind::NodeSilent => severity.of(2, 14, 120) * HOUR,
        Kind::Repeats => severity.of(0, 1, 3) * HOUR,
        Kind::ClockBack => severity.of(2, 4, 96) * INTERVAL - INTERVAL,
        Kind::ClockDrift => severity.of(60, 90, 120) * DAY,
        _ => severity.of(6, 20, 60) * HOUR,
    };
    let at = moment(year, i, room, rng)?;
    let end = at + room;
    let within = |t: i64| (at..=end).contains(&t);
    match kind {
        Kind::ChannelSilent | Kind::NodeSilent => {
            let all = kind == Kind::NodeSilent;
            for (_, c) in year.channels.iter_mut().enumerate().filter(|(k, _)| all || *k == i) {
                let keep: Vec<bool> = c.times.iter().map(|t| !within(*t)).collect();
                let mut each = keep.iter();
                c.values.retain(|_| *each.next().unwrap_or(&true));
                c.times.retain(|t| !within(*t));
            }
            let words = format!("{} silent for {} h.", if all { "The node is" } else { "One channel is" }, room / HOUR);
            Some((if all { everywhere(year, at, end) } else { vec![(i, at, end)] }, words))
        }
        Kind::Repeats => {
            let c = &mut year.channels[i];
            let step = c.resolution;
            let again = c.times.iter().zip(&c.values).filter(|(t, _)| within(**t));
            c.repeats = again.map(|(t, v)| (*t, *v, to_step(v + 3.0 * step, step))).collect();
            Some((vec![(i, at, end)], format!("{} came again with other values.", c.name)))
        }
        Kind::ClockBack => {
            let by = end - at + INTERVAL;
            for c in &mut year.channels {
                let later: Vec<(i64, f64)> = c
                    .times
                    .iter()
                    .zip(&c.values)
                    .filter(|(t, _)| (at + by..=end + by).contains(*t))
                    .map(|(t, v)| (*t, *v))
                    .collect();
                let first: Vec<(i64, f64)> =
                    c.times.iter().zip(&c.values).filter(|(t, _)| within(**t)).map(|(t, v)| (*t, *v)).collect();
                c.repeats = first.iter().zip(&later).map(|(a, b)| (a.0, a.1, b.1)).collect();
            }
            Some((everywhere(year, at, end), format!("The clock was set back by {} min.", by / 60)))
        }
        Kind::ClockDrift => {
            let rate = severity.of(2.5, 5.0, 8.0);
            for c in &mut year.channels {
                c.times
                    .iter_mut()
                    .filter(|t| within(**t))
                    .for_each(|t| *t += ((*t - at) as f64 / DAY as f64 * rate) as i64);
                let mut order: Vec<(i64, f64)> = c.times.iter().copied().zip(c.values.iter().copied()).collect();
                order.sort_by_key(|r| r.0);
                order.dedup_by_key(|r| r.0);
                (c.times, c.values) = order.into_iter().unzip();
            }
            let seen = at + (60.0 / rate * DAY as f64) as i64;
            Some((everywhere(year, seen.min(end), end), format!("The clock gains {rate} s a day.")))
        }
        _ => {
            for c in &mut year.channels {
                let last = c.times.last().copied().unwrap_or(end);
                let before = (c.times.first().copied().unwrap_or(at), at - INTERVAL);
                c.delivered =
                    vec![before, (end + INTERVAL, end + 2 * DAY), (at, end), (end + 2 * DAY + INTERVAL, last)];
            }
            Some((everywhere(year, at, end), "A backlog came two days later.".to_owned()))
        }
    }
}
