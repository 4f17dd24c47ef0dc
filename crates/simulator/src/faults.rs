//! Faults that are put into a clean record, and their truth.

use crate::probes::Readings;
use crate::rounding::to_step;
use crate::scenario::{Scenario, midnight};
use rand::{Rng, RngExt};

/// What was done to the record.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FaultKind {
    /// Records were lost.
    Gap,
    /// Records came again with other values.
    Repeated,
    /// The plug was out: exact zeros.
    NotConnected,
    /// The line shorted: beyond the instrument.
    OutOfInstrument,
    /// Air beside the prongs: water content below zero.
    Impossible,
    /// One or a few readings away and back.
    Spike,
    /// A lasting jump.
    Step,
    /// The probe holds its value.
    Stuck,
    /// Water stands around the probe.
    Ponded,
}

/// One fault: where, when, what.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Fault {
    /// The port concerned ("batt" stands for the whole node's gaps).
    pub port: &'static str,
    /// First reading concerned.
    pub start: i64,
    /// Last reading concerned.
    pub end: i64,
    /// What was done.
    pub kind: FaultKind,
}

const HOUR: i64 = 3600;

/// Hour `hour` and minute `minute` of a date.
fn at(date: (i16, i8, i8), hour: i64, minute: i64) -> i64 {
    midnight(date.0, date.1, date.2) + hour * HOUR + minute * 60
}

/// Puts the faults of the demo into the record; those outside its time are left away.
pub(crate) fn apply(scenario: &Scenario, readings: &mut Readings, rng: &mut impl Rng) -> Vec<Fault> {
    let mut faults = Vec::new();
    let mut alter = |readings: &mut Readings,
                     port: &'static str,
                     from: i64,
                     to: i64,
                     kind,
                     change: &mut dyn FnMut(usize, f64) -> f64| {
        if from < scenario.start || to > scenario.end {
            return;
        }
        let Some(stream) = readings.stream(port) else { return };
        for (i, r) in stream.readings.iter_mut().filter(|r| (from..=to).contains(&r.0)).enumerate() {
            r.1 = to_step(change(i, r.1), 0.1);
        }
        faults.push(Fault { port, start: from, end: to, kind });
    };

    // The 30 cm probe lay beside a root at first: air along its blade until it was moved on the day.
    let moved = at((2024, 3, 1), 9, 30);
    alter(readings, "m30", scenario.start, moved, FaultKind::Impossible, &mut |_, mv| 560.0 + (mv - 560.0) * 0.05);
    // Two storms that pond the 5 cm probe: water stands in the hollow that it lies under.
    for (from, hours) in ponding_storms(readings, scenario) {
        let span = (hours * 4) as f64;
        alter(readings, "m05", from, from + hours * HOUR, FaultKind::Ponded, &mut |i, mv| {
            let fill = (i as f64 / 3.0).min(1.0).min((span - i as f64).max(0.0) / 6.0 + 0.05);
            mv + (2222.0 - mv) * fill.min(1.0) + 0.6 * ((i * 7919) % 5) as f64 - 1.2
        });
    }
    // A plug that was left out after a visit.
    alter(
        readings,
        "m60",
        at((2024, 9, 12), 10, 15),
        at((2024, 9, 14), 15, 45),
        FaultKind::NotConnected,
        &mut |_, _| 0.0,
    );
    // A cable gnawed by a mouse: the line shorts for some hours in a wet night.
    alter(
        readings,
        "m15",
        at((2025, 10, 21), 1, 0),
        at((2025, 10, 21), 6, 30),
        FaultKind::OutOfInstrument,
        &mut |i, _| 2508.0 + (i % 4) as f64 * 3.1,
    );
    // A probe that holds its value after the frost.
    let mut held = 0.0;
    alter(readings, "m30", at((2026, 6, 22), 8, 30), at((2026, 6, 25), 6, 15), FaultKind::Stuck, &mut |i, mv| {
        if i == 0 {
            held = mv;
        }
        held
    });
    let mut held_cold = 0.0;
    alter(readings, "t15", at((2025, 2, 3), 4, 0), at((2025, 2, 5), 11, 0), FaultKind::Stuck, &mut |i, c| {
        if i == 0 {
            held_cold = c;
        }
        held_cold
    });
    // A connector that was wetted and dried: a lasting offset without water.
    let offset_from = at((2025, 7, 9), 13, 15);
    alter(readings, "m60", offset_from, at((2025, 8, 2), 9, 0), FaultKind::Step, &mut |_, mv| mv - 62.0);
    // Single spikes, most in the dry summers.
    for (port, time, long, height) in [
        ("m15", at((2026, 6, 9), 9, 0), 2, 300.0),
        ("m05", at((2025, 6, 17), 3, 15), 1, 410.0),
        ("m60", at((2025, 3, 11), 17, 30), 1, -260.0),
        ("m30", at((2024, 7, 28), 22, 0), 3, 180.0),
        ("m15", at((2026, 8, 20), 4, 45), 1, 240.0),
        ("t30", at((2025, 11, 2), 12, 0), 1, 9.0),
        ("t05", at((2026, 5, 14), 2, 0), 2, -11.0),
    ] {
        alter(readings, port, time, time + (long - 1) * scenario.interval, FaultKind::Spike, &mut |_, v| v + height);
    }
    // A loose plug: a dozen wild readings through an afternoon.
    let wild: Vec<f64> = (0..40).map(|i| if i % 3 == 0 { rng.random_range(120.0..520.0) } else { 0.0 }).collect();
    alter(readings, "m15", at((2024, 11, 18), 12, 0), at((2024, 11, 18), 21, 45), FaultKind::Spike, &mut |i, v| {
        v + wild[i]
    });

    lose(scenario, readings, &mut faults);
    send_again(scenario, readings, &mut faults);
    faults
}

/// The hardest rains of the first and of the last summer: (start, hours under water).
fn ponding_storms(readings: &mut Readings, scenario: &Scenario) -> Vec<(i64, i64)> {
    let Some(rain) = readings.stream("rain") else { return Vec::new() };
    let summers = [(midnight(2024, 5, 20), midnight(2024, 9, 15)), (midnight(2026, 5, 20), midnight(2026, 8, 25))];
    summers
        .iter()
        .filter(|(from, to)| *from >= scenario.start && *to <= scenario.end)
        .filter_map(|(from, to)| {
            let season: Vec<_> = rain.readings.iter().filter(|r| (*from..*to).contains(&r.0)).collect();
            let hardest = season.windows(16).max_by(|a, b| {
                let sum = |w: &[&(i64, f64)]| w.iter().map(|r| r.1).sum::<f64>();
                sum(a).total_cmp(&sum(b))
            })?;
            Some((hardest[14].0, 15))
        })
        .collect()
}

/// Records that never came: a flat battery, and a card that was full.
fn lose(scenario: &Scenario, readings: &mut Readings, faults: &mut Vec<Fault>) {
    for (from, to) in [
        (at((2025, 1, 19), 5, 0), at((2025, 1, 20), 13, 45)),
        (at((2026, 6, 11), 22, 0), at((2026, 6, 12), 4, 0)),
        (at((2024, 8, 4), 11, 0), at((2024, 8, 4), 12, 30)),
    ] {
        if from < scenario.start || to > scenario.end {
            continue;
        }
        for stream in readings.streams() {
            stream.readings.retain(|r| !(from..=to).contains(&r.0));
        }
        faults.push(Fault { port: "batt", start: from, end: to, kind: FaultKind::Gap });
    }
}

/// Five records that the node sent again after a restart, read anew.
fn send_again(scenario: &Scenario, readings: &mut Readings, faults: &mut Vec<Fault>) {
    let (from, to) = (at((2026, 4, 7), 10, 0), at((2026, 4, 7), 11, 0));
    if to > scenario.end {
        return;
    }
    for port in ["m05", "t05"] {
        if let Some(stream) = readings.stream(port) {
            let again = stream.readings.iter().filter(|r| (from..=to).contains(&r.0));
            stream.repeats = again.map(|r| (r.0, to_step(r.1 + 1.3, 0.1))).collect();
            faults.push(Fault { port: stream.port, start: from, end: to, kind: FaultKind::Repeated });
        }
    }
}
