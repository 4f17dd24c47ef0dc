//! Faults that come on slowly, or that show only between channels.

use super::{Done, HOUR, alter, moment, of, pick};
use crate::rounding::to_step;
use crate::years::{DAY, Kind, Severity, Year, normal};
use ebrel_core::units::Quantity;
use rand_chacha::ChaCha8Rng;

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

pub fn water(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
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

pub fn instruments(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
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

pub fn surroundings(year: &mut Year, kind: Kind, severity: Severity, rng: &mut ChaCha8Rng) -> Done {
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
