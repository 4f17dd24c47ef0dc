//! What is done to a year, and its truth.

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
        (taken.iter().all(free) && year.visits.iter().all(free)).then_some(at)
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
        Kind::RisesDry | Kind::Deaf | Kind::Bypass | Kind::Wiggle => water(year, kind, severity, rng),
        Kind::WrongDepth | Kind::Exchange | Kind::TwinDrifts => instruments(year, kind, severity, rng),
        Kind::Sunlit | Kind::LowPower | Kind::WetBox => surroundings(year, kind, severity, rng),
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

/// Rain of the last hours before each reading, mm, by the gauge; nothing where there is none.
fn rains(year: &Year) -> Vec<(i64, f64)> {
    let gauge = year.channels.iter().find(|c| c.quantity == Quantity::Rain);
    let mut storms: Vec<(i64, i64, f64)> = Vec::new();
    for (t, mm) in gauge.iter().flat_map(|c| c.times.iter().zip(&c.values)).filter(|(_, mm)| **mm > 0.0 && **mm < 60.0)
    {
        match storms.last_mut() {
            Some(s) if t - s.1 <= 6 * HOUR => (s.1, s.2) = (*t, s.2 + mm),
            _ => storms.push((*t, *t, *mm)),
        }
    }
    storms.into_iter().map(|s| (s.0, s.2)).collect()
}

fn water(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
    let storms = rains(year);
    let moist = of(year, Quantity::WaterContent);
    match kind {
        Kind::RisesDry => {
            let i = pick(&moist[..3.min(moist.len())], rng)?;
            let dry = |at: i64| storms.iter().all(|s| at < s.0 || at - s.0 > 4 * DAY);
            let at = (0..200).find_map(|_| moment(year, i, 2 * DAY, rng).filter(|at| dry(*at)))?;
            if storms.is_empty() {
                return None;
            }
            let height = severity.of(0.03, 0.07, 0.14);
            let end = at + 12 * DAY;
            alter(&mut year.channels[i], at, end, |s, v| {
                let h = s as f64 / HOUR as f64;
                v + height * (h / 3.0).min(1.0) * (-(h - 3.0).max(0.0) / 70.0).exp()
            });
            Some((
                vec![(i, at, at + 4 * HOUR)],
                format!("{} wets by {height} out of a dry sky.", year.channels[i].name),
            ))
        }
        Kind::Deaf => {
            let i = moist[0];
            let room = severity.of(25, 40, 70) * DAY;
            let at = moment(year, i, room, rng)?;
            let c = &mut year.channels[i];
            let k = c.times.iter().position(|t| *t >= at)?;
            let mut level = c.values[k];
            let sigma = 5e-4;
            alter(c, at, at + room, |_, _| {
                level -= 2e-6;
                level + sigma * normal(rng)
            });
            let heavy: Vec<(usize, i64, i64)> = storms
                .iter()
                .filter(|s| s.1 >= 12.0 && (at..at + room - DAY).contains(&s.0))
                .map(|s| (i, s.0, s.0 + DAY))
                .collect();
            (!heavy.is_empty()).then(|| (heavy, format!("{} sleeps through the rain.", year.channels[i].name)))
        }
        Kind::Bypass => {
            let i = *moist.get(3)?;
            let height = severity.of(0.04, 0.08, 0.13);
            let heavy: Vec<i64> = storms.iter().filter(|s| s.1 >= 12.0).map(|s| s.0).take(6).collect();
            for at in &heavy {
                alter(&mut year.channels[i], *at, at + 3 * DAY, |s, v| {
                    let h = s as f64 / HOUR as f64;
                    v + height * (h / 1.0).min(1.0) * (-(h - 1.0).max(0.0) / 14.0).exp()
                });
            }
            let windows: Vec<(usize, i64, i64)> = heavy.iter().map(|at| (i, *at, at + 14 * HOUR)).collect();
            (windows.len() >= 3).then(|| (windows, format!("Water runs down the cable of {}.", year.channels[i].name)))
        }
        _ => {
            let i = moist[0];
            let per_k = severity.of(0.0012, 0.002, 0.0035);
            let heat = year
                .channels
                .iter()
                .find(|c| c.quantity == Quantity::SoilTemperature && c.port == year.channels[i].port)?
                .values
                .clone();
            let c = &mut year.channels[i];
            for (v, heat) in c.values.iter_mut().zip(heat) {
                *v = to_step(*v + per_k * (heat - 12.0), c.resolution);
            }
            Some((
                vec![(i, year.start, year.end)],
                format!("{} follows its temperature by {per_k} for each kelvin.", year.channels[i].name),
            ))
        }
    }
}

fn instruments(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
    let (moist, warm) = (of(year, Quantity::WaterContent), of(year, Quantity::SoilTemperature));
    let last = moist.len() - 1;
    let (a, b) = severity.of((1, 3), (0, 3), (0, last));
    match kind {
        Kind::TwinDrifts => {
            let i = moist[2];
            let drift = severity.of(0.05, 0.09, 0.16);
            let at = year.start + 120 * DAY;
            let over = (year.end - at - 60 * DAY).max(DAY);
            alter(&mut year.channels[i], at, year.end, |s, v| v + drift * (s as f64 / over as f64).min(1.0));
            Some((vec![(i, at + over / 2, year.end)], format!("{} drifts by {drift}.", year.channels[i].name)))
        }
        Kind::WrongDepth => {
            for set in [&moist, &warm] {
                let depth = year.channels[set[a]].depth_cm;
                let other = year.channels[set[b]].depth_cm;
                (year.channels[set[a]].depth_cm, year.channels[set[b]].depth_cm) = (other, depth);
            }
            let windows = [moist[a], moist[b], warm[a], warm[b]].map(|i| (i, year.start, year.end));
            Some((windows.to_vec(), "The depths of two ports are noted the wrong way round.".to_owned()))
        }
        _ => {
            let room = severity.of(6, 12, 25) * DAY;
            let at = moment(year, moist[a], room, rng)?;
            let end = at + room;
            for set in [&moist, &warm] {
                let (i, j) = (set[a], set[b]);
                let n = year.channels[i].times.len().min(year.channels[j].times.len());
                for k in 0..n {
                    if !(at..=end).contains(&year.channels[i].times[k]) {
                        continue;
                    }
                    let (x, y) = (year.channels[i].values[k], year.channels[j].values[k]);
                    (year.channels[i].values[k], year.channels[j].values[k]) = (y, x);
                }
            }
            let windows = [moist[a], moist[b], warm[a], warm[b]].map(|i| (i, at, end));
            Some((windows.to_vec(), format!("Two ports are exchanged for {} days.", room / DAY)))
        }
    }
}

fn surroundings(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
    match kind {
        Kind::Sunlit => {
            let i = *of(year, Quantity::AirTemperature).last()?;
            let excess = severity.of(1.8, 3.0, 5.0);
            let at = year.start + 30 * DAY;
            alter(&mut year.channels[i], at, year.end, |s, v| {
                let hour = ((at + s) % DAY) as f64 / HOUR as f64;
                v + excess * (std::f64::consts::TAU * (hour - 12.2) / 24.0).cos().max(0.0)
            });
            Some((
                vec![(i, at, year.end)],
                format!("The shield of {} is gone: up to {excess} K in the sun.", year.channels[i].name),
            ))
        }
        Kind::LowPower => {
            let i = *of(year, Quantity::BatteryVoltage).first()?;
            let room = severity.of(8, 15, 30) * DAY;
            let at = moment(year, i, room, rng)?;
            let depth = severity.of(1.2, 1.6, 2.4);
            alter(&mut year.channels[i], at, at + room, |s, v| v - depth * (2.0 * s as f64 / room as f64).min(1.0));
            Some((vec![(i, at + room / 2, at + room)], "The battery runs down.".to_owned()))
        }
        _ => {
            let i = *of(year, Quantity::EnclosureHumidity).first()?;
            let room = severity.of(5, 12, 25) * DAY;
            let at = moment(year, i, room, rng)?;
            let top = severity.of(75.0, 86.0, 95.0);
            alter(&mut year.channels[i], at, at + room, |s, v| {
                let rise = (s as f64 / (8.0 * HOUR as f64)).min(1.0);
                v + rise * (top - v)
            });
            Some((vec![(i, at + DAY, at + room)], "Water stands in the box.".to_owned()))
        }
    }
}
