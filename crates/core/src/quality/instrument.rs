//! Readings that no probe made: nothing connected, or beyond the instrument.

use super::scene::Scene;
use super::screened::runs;
use super::{Channel, Definition, Evidence, Flag, Noise, NotConnectedEvidence, OutOfInstrumentEvidence};
use crate::series::View;
use crate::units::{Grade, Quantity};

pub(super) const NOT_CONNECTED: Definition = Definition {
    title: "Not connected",
    mark: "N",
    grade: Grade::Wrong,
    finds: "Exact zeros that a record jumps to, a signal on the rail of its range, the marks that loggers write for no reading, and records \
            without a value. \
            Soil that reads a true zero at its freezing point is let pass.",
    settings: &[],
};

pub(super) const OUT_OF_INSTRUMENT: Definition = Definition {
    title: "Outside the instrument",
    mark: "O",
    grade: Grade::Wrong,
    finds: "Readings beyond the range in which the probe's model works.",
    settings: &[],
};

/// What no instrument reads is further off than anything: in usual noise.
const BEYOND: f64 = 500.0;

/// Values that loggers write where there is no reading.
const SENTINELS: [f64; 14] = [
    -9999.0, 9999.0, -99_999.0, 99_999.0, -999.0, -6999.0, 6999.0, -7999.0, 7999.0, -8888.0, -9999.9, -127.0, 65_535.0,
    32_767.0,
];

/// The quantity in which the instrument speaks.
fn raw_quantity(channel: &Channel<'_>) -> Quantity {
    if channel.raw.is_some() { Quantity::RawOutput } else { channel.quantity }
}

fn raw_view<'a>(channel: &Channel<'a>) -> View<'a> {
    View { times: channel.view.times, values: channel.raw.unwrap_or(channel.view.values) }
}

/// Exact zeros, sentinels, and a signal that lies on the rail of its range.
pub(super) fn not_connected(scene: &Scene<'_>) -> Vec<Flag> {
    let channel = scene.of.channel;
    let view = raw_view(channel);
    let x = view.values;
    let quantity = raw_quantity(channel);
    let sentinel = |v: f64| {
        SENTINELS.contains(&v) && channel.instrument.map_or(v.abs() > 500.0, |(low, high)| v < low || v > high)
    };
    let mut flags: Vec<Flag> = runs(x.len(), 0, |i| sentinel(x[i]))
        .into_iter()
        .map(|(a, b)| {
            let reason = format!(
                "{} {} of {}: the logger's mark for no reading.",
                b - a + 1,
                if a == b { "reading" } else { "readings" },
                x[a].to_string().replace('-', "−")
            );
            no_reading(view, (a, b), reason)
        })
        .collect();
    if quantity.is_sum() || matches!(quantity, Quantity::SignalStrength | Quantity::RelativeHumidity) {
        return flags;
    }
    let noise = Noise::estimate(view, scene.of.interval, channel.resolution);
    let rails = channel.instrument.filter(|_| quantity == Quantity::RawOutput);
    let idle = |v: f64| v == 0.0 || rails.is_some_and(|(low, high)| v == low || v == high);
    for (a, b) in runs(x.len(), 0, |i| idle(x[i])) {
        // A soil at its freezing point reads a true zero; a plug that was pulled jumps to it.
        let jump = |inside: usize, outside: Option<usize>| {
            outside.and_then(|o| x.get(o)).filter(|v| v.is_finite() && !sentinel(**v)).map(|v| (v - x[inside]).abs())
        };
        let sides = [jump(a, a.checked_sub(1)), jump(b, Some(b + 1))];
        let abrupt = noise.is_none_or(|n| {
            let far = (20.0 * n.sigma).max(10.0 * n.resolution).max(4.0 * n.wiggle);
            sides.iter().flatten().all(|j| *j > far) && sides.iter().flatten().next().is_some()
        });
        let alone = a == 0 && b + 1 == x.len();
        if b - a >= 2 && (abrupt || alone) {
            let reason = format!(
                "{} readings of exactly {}: what a port without a probe reports.",
                b - a + 1,
                channel.as_measured(x[a])
            );
            flags.push(no_reading(view, (a, b), reason));
        }
    }
    flags.sort_by_key(|f| f.start);
    flags
}

/// Records that came without a value for this channel, for so long that nothing can have been connected.
pub(super) fn empty(scene: &Scene<'_>) -> Vec<Flag> {
    let times = scene.of.channel.empty;
    let near = 3 * scene.of.interval;
    let tell = |run: &[i64]| {
        let (n, first, last) = (run.len(), run[0], run[run.len() - 1]);
        let reason = format!(
            "{n} {} came without a value here while the node went on: no probe answered.",
            if n == 1 { "record" } else { "records" },
        );
        let evidence = NotConnectedEvidence { readings: n.into(), value: f64::NAN.into() };
        let evidence = Evidence::NotConnected(evidence);
        Flag::new(NOT_CONNECTED.grade, (first, last), n, BEYOND, evidence, reason)
    };
    times.chunk_by(|a, b| b - a <= near).map(tell).collect()
}

/// Readings from `a` to `b` that all hold the value of a port without a probe.
fn no_reading(view: View<'_>, (a, b): (usize, usize), reason: String) -> Flag {
    let n = b - a + 1;
    let evidence = NotConnectedEvidence { readings: n.into(), value: view.values[a].into() };
    Flag::new(NOT_CONNECTED.grade, (view.times[a], view.times[b]), n, BEYOND, Evidence::NotConnected(evidence), reason)
}

/// Readings beyond the range of the probe's model that are no signs of a port without a probe.
pub(super) fn out_of_instrument(scene: &Scene<'_>) -> Vec<Flag> {
    let channel = scene.of.channel;
    let Some((low, high)) = channel.instrument else { return Vec::new() };
    let view = raw_view(channel);
    let (t, x) = (view.times, view.values);
    let known = |time: i64| scene.found.iter().any(|f| (f.start.0..=f.end.0).contains(&time));
    let bridge = (3600 / scene.of.interval) as usize;
    runs(x.len(), bridge, |i| (x[i] < low || x[i] > high) && !known(t[i]))
        .into_iter()
        .map(|(a, b)| {
            let worst = x[a..=b].iter().filter(|v| **v < low || **v > high).fold(f64::NAN, |worst: f64, v| {
                let off = |v: f64| (low - v).max(v - high);
                if worst.is_nan() || off(*v) > off(worst) { *v } else { worst }
            });
            let count = x[a..=b].iter().filter(|v| **v < low || **v > high).count();
            let reason = format!(
                "{count} {} up to {}; this model works from {} to {}.",
                if count == 1 { "reading" } else { "readings" },
                channel.as_measured(worst),
                channel.as_measured(low),
                channel.as_measured(high)
            );
            let evidence = OutOfInstrumentEvidence {
                instrument_max: high.into(),
                instrument_min: low.into(),
                readings: (b - a + 1).into(),
                worst: worst.into(),
            };
            Flag::new(OUT_OF_INSTRUMENT.grade, (t[a], t[b]), count, BEYOND, Evidence::OutOfInstrument(evidence), reason)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::super::Test;
    use super::super::testing::{channel, found, series};
    use super::*;

    #[test]
    fn zeros_of_a_pulled_plug_are_found_and_a_true_zero_is_not() {
        let pulled = series(400, |i| if (100..140).contains(&i) { 0.0 } else { 12.0 + (i as f64 / 20.0).sin() });
        let mut c = channel(&pulled);
        c.quantity = Quantity::SoilTemperature;
        let flags = found(&c, Test::NotConnected);
        assert_eq!(flags.iter().map(|f| f.readings).collect::<Vec<_>>(), [40]);

        let frozen = series(400, |i| ((i as f64 - 200.0).abs() / 100.0 - 1.0).max(0.0));
        let mut c = channel(&frozen);
        c.quantity = Quantity::SoilTemperature;
        assert!(found(&c, Test::NotConnected).is_empty(), "a soil that freezes reads a true zero");
    }

    #[test]
    fn sentinels_count_only_where_the_instrument_cannot_read_them() {
        let s = series(60, |i| if i == 30 { 6999.0 } else { 900.0 + i as f64 });
        let mut c = channel(&s);
        assert_eq!(found(&c, Test::NotConnected)[0].reason, "1 reading of 6999: the logger's mark for no reading.");
        c.instrument = Some((0.0, 10_000.0));
        assert!(found(&c, Test::NotConnected).is_empty());
    }

    #[test]
    fn beyond_the_model_names_the_worst_and_the_limits() {
        let s = series(60, |i| if (20..23).contains(&i) { 2600.0 + i as f64 } else { 900.0 });
        let mut c = channel(&s);
        c.quantity = Quantity::RawOutput;
        c.instrument = Some((250.0, 2500.0));
        let flags = found(&c, Test::OutOfInstrument);
        assert_eq!(flags.len(), 1);
        assert_eq!(
            flags[0].reason,
            "3 readings up to 2622.0\u{a0}mV; this model works from 250.0\u{a0}mV to 2500.0\u{a0}mV."
        );
    }
}
