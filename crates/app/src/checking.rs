//! `ebrel check`: all tests over a record package, without a database.

use ebrel_core::field::{Disturbance, settling};
use ebrel_core::planning::Seat;
use ebrel_core::quality::{
    Cause, Channel, Delivery, Elsewhere, Event, EventKind, Findings, Flag, Place, Reference, Repeat, Settings,
    StationContext, check_station,
};
use ebrel_core::series::{CalibrationHistory, Series, View};
use ebrel_core::soil::{Horizon, Profile};
use ebrel_core::units::{Grade, Principle, Quantity, SpanSeconds, UnixSeconds};
use ebrel_formats::package::{CalibrationRow, ChannelRow, DeliveryRow, FlagRow, HorizonRow, Package, ReadingRow, Rows};
use ebrel_store::batches::Source;
use std::collections::{BTreeMap, HashSet};

/// A channel of the package in order of time, each time once.
struct Sorted {
    series: Series,
    raw: Option<Vec<f64>>,
    repeats: Vec<Repeat>,
    /// What was measured by hand beside it.
    references: Vec<Reference>,
    /// Times of rows without a value.
    empty: Vec<i64>,
    /// Stretches of rising times, in the order of the file: what was written later arrived later.
    delivered: Vec<Delivery>,
}

/// The channels of one station with what must be made for the tests.
struct Station<'p> {
    code: &'p str,
    rows: Vec<&'p ChannelRow>,
    sorted: Vec<&'p Sorted>,
    labels: Vec<String>,
}

impl<'p> Station<'p> {
    /// Takes the channels of a quantity that this version knows.
    fn of(package: &'p Package, sorted: &'p [Sorted], code: &'p str) -> Self {
        let here = package.channels.iter().zip(sorted).filter(|((c, _), _)| c.station == code);
        let known: Vec<_> = here.filter(|((c, _), _)| Quantity::from_code(&c.quantity).is_some()).collect();
        Self {
            code,
            rows: known.iter().map(|((c, _), _)| c).collect(),
            sorted: known.iter().map(|(_, sorted)| *sorted).collect(),
            labels: known.iter().map(|((c, _), _)| label(c)).collect(),
        }
    }

    fn channels<'a>(&'a self, package: &Package) -> Vec<Channel<'a>> {
        let parts = self.rows.iter().zip(&self.sorted).zip(&self.labels);
        parts.filter_map(|((row, sorted), name)| channel(package, row, sorted, name)).collect()
    }
}

/// What the tests found in a package.
pub struct Checked {
    /// Every flag, as rows of `flags.csv`.
    pub flags: Vec<FlagRow>,
    /// What explains several of them, with the station's code.
    pub causes: Vec<(String, Cause)>,
    /// How many things there are for a person to decide on: causes that explain something wrong or doubtful, and such flags that stand alone.
    pub waiting: usize,
}

/// How many things wait: causes with a flag that waits, and flags that wait and have none.
fn waiting(findings: &Findings) -> usize {
    let waits = |(channel, place): &(usize, usize)| findings.flags[*channel][*place].grade != Grade::Condition;
    let explained: HashSet<(usize, usize)> = findings.causes.iter().flat_map(|c| c.flags.iter().copied()).collect();
    let all = findings.flags.iter().enumerate().flat_map(|(c, of)| (0..of.len()).map(move |i| (c, i)));
    let alone = all.filter(|f| waits(f) && !explained.contains(f)).count();
    alone + findings.causes.iter().filter(|c| c.flags.iter().any(waits)).count()
}

/// Runs every test on a package. The package is used up: its readings go on as they are, so that millions of them are not held twice.
#[must_use]
pub fn check(mut package: Package, settings: &Settings) -> Checked {
    let readings: Vec<Rows> = package.channels.iter_mut().map(|(_, rows)| std::mem::take(rows)).collect();
    let rows = package.channels.iter().map(|(row, _)| row);
    let sorted: Vec<Sorted> = rows.zip(readings).map(|(row, readings)| sort(&package, row, readings)).collect();
    let package = &package;
    let mut codes: Vec<&str> = package.channels.iter().map(|(c, _)| c.station.as_str()).collect();
    codes.sort_unstable();
    codes.dedup();
    let stations: Vec<Station<'_>> = codes.into_iter().map(|code| Station::of(package, &sorted, code)).collect();
    let channels: Vec<Vec<Channel<'_>>> = stations.iter().map(|s| s.channels(package)).collect();
    let mut checked = Checked { flags: Vec::new(), causes: Vec::new(), waiting: 0 };
    for (i, station) in stations.iter().enumerate() {
        let others = stations.iter().zip(&channels).enumerate().filter(|(other, _)| *other != i);
        let elsewhere: Vec<Elsewhere<'_>> = others
            .flat_map(|(_, (other, channels))| {
                let in_air = channels.iter().filter(|c| !c.quantity.is_in_soil());
                let place = place(package, other.code);
                in_air.map(move |c| Elsewhere { station: other.code, place, channel: c.clone() })
            })
            .collect();
        let events = events(package, station.code);
        let place = place(package, station.code);
        let context = StationContext { channels: &channels[i], events: &events, place, elsewhere: &elsewhere };
        let findings = check_station(&context, settings);
        checked.waiting += waiting(&findings);
        for (row, flags) in station.rows.iter().zip(findings.flags) {
            checked.flags.extend(flags.iter().map(|f| flag_row(&row.channel, f)));
        }
        checked.causes.extend(findings.causes.into_iter().map(|cause| (station.code.to_owned(), cause)));
    }
    checked
}

fn place(package: &Package, station: &str) -> Option<Place> {
    let row = package.stations.iter().find(|s| s.station == station)?;
    let (latitude, longitude) = row.latitude.zip(row.longitude)?;
    Some(Place { latitude, longitude })
}

/// A flag as a row, without a verdict.
#[must_use]
pub fn flag_row(channel: &str, flag: &Flag) -> FlagRow {
    FlagRow {
        channel: channel.to_owned(),
        start: flag.start,
        end: flag.end,
        test: flag.test.code().to_owned(),
        grade: flag.grade.code().to_owned(),
        verdict: String::new(),
        reason: flag.reason.clone(),
        evidence: serde_json::to_string(&flag.evidence).unwrap_or_default(),
    }
}

fn label(row: &ChannelRow) -> String {
    match row.depth_cm {
        Some(depth) if depth >= 0.0 => format!("{depth}\u{a0}cm"),
        _ => row.channel.clone(),
    }
}

/// Brings readings into order; of several at one time the first in the file stands. Raw output that a calibration of
/// the package covers is turned into water content.
fn sort(package: &Package, row: &ChannelRow, readings: Rows) -> Sorted {
    let delivered =
        if readings.deliveries.is_empty() { deliveries(&readings.times) } else { numbered(package, &readings) };
    let by_hand = package.references.iter().filter(|r| r.channel == row.channel && r.value.is_finite());
    let references = by_hand.map(|r| Reference { time: r.time, value: r.value, uncertainty: r.uncertainty }).collect();
    let mut out =
        Sorted { series: Series::default(), raw: None, repeats: Vec::new(), references, empty: Vec::new(), delivered };
    let rising = readings.times.windows(2).all(|w| w[0] < w[1]);
    let whole = readings.values.iter().all(|v| v.is_finite());
    let mut raws = readings.raws.clone();
    if rising && whole {
        out.series = Series { times: readings.times.into(), values: readings.values };
    } else {
        let has_value = |r: &ReadingRow| r.value.is_finite() || r.raw.is_some();
        out.empty = readings.iter().filter(|r| !has_value(r)).map(|r| r.time.0).collect();
        out.empty.sort_unstable();
        let mut ordered: Vec<_> = readings.iter().filter(has_value).collect();
        ordered.sort_by_key(|r| r.time);
        raws.clear();
        let (mut times, mut values) = (Vec::new(), Vec::new());
        for r in ordered {
            if let Some(first) = values.last().filter(|_| times.last() == Some(&r.time.0)) {
                out.repeats.push(Repeat { time: r.time, first: *first, later: r.value });
                continue;
            }
            times.push(r.time.0);
            values.push(r.value);
            raws.push(r.raw.unwrap_or(f64::NAN));
        }
        out.series = Series { times: times.into(), values };
    }
    if raws.iter().any(|r| r.is_finite()) {
        raws.resize(out.series.len(), f64::NAN);
        out.raw = Some(raws);
    } else if row.quantity == Quantity::RawOutput.code() {
        let history = history(package, &row.channel);
        if !history.is_raw() {
            let theta = history.resolve(out.series.view());
            out.raw = Some(std::mem::replace(&mut out.series.values, theta));
        }
    }
    out
}

/// The rows of a channel as deliveries, in the order of the file: stretches of rising times that are all new or all older than what was
/// there. A file in order of time tells nothing of arrival.
fn deliveries(times: &[i64]) -> Vec<Delivery> {
    let mut found: Vec<(bool, Delivery)> = Vec::new();
    let mut newest = i64::MIN;
    for t in times {
        let late = *t < newest;
        newest = newest.max(*t);
        match found.last_mut() {
            Some((was_late, d)) if *was_late == late && *t > d.last.0 => d.last = UnixSeconds(*t),
            _ => {
                let (first, last) = (UnixSeconds(*t), UnixSeconds(*t));
                found.push((late, Delivery { received_at: UnixSeconds(0), first, last }));
            }
        }
    }
    if found.len() > 1 { found.into_iter().map(|(_, d)| d).collect() } else { Vec::new() }
}

/// What each message brought of a channel, in the order in which they were received. A file that is imported later holds nothing back.
fn numbered(package: &Package, readings: &Rows) -> Vec<Delivery> {
    let message = |d: &&DeliveryRow| d.source == Source::Message.code();
    let received: BTreeMap<u32, UnixSeconds> =
        package.deliveries.iter().filter(message).map(|d| (d.delivery, d.received)).collect();
    let mut found: BTreeMap<(UnixSeconds, u32), Delivery> = BTreeMap::new();
    for (t, number) in readings.times.iter().zip(&readings.deliveries) {
        let Some(received_at) = received.get(number).copied() else { continue };
        let at = UnixSeconds(*t);
        let whole = found.entry((received_at, *number)).or_insert(Delivery { received_at, first: at, last: at });
        (whole.first, whole.last) = (whole.first.min(at), whole.last.max(at));
    }
    found.into_values().collect()
}

fn history(package: &Package, channel: &str) -> CalibrationHistory {
    let curves = package.calibrations.iter().filter(|c| c.channel == channel).filter_map(CalibrationRow::curve);
    CalibrationHistory::new(curves.collect())
}

fn channel<'a>(package: &Package, row: &'a ChannelRow, sorted: &'a Sorted, name: &'a str) -> Option<Channel<'a>> {
    let quantity = Quantity::from_code(&row.quantity)?;
    let calibrated = quantity == Quantity::RawOutput && sorted.raw.is_some();
    let soil =
        package.horizons.iter().filter(|h| h.station == row.station).map(HorizonRow::horizon).collect::<Vec<_>>();
    let soil = Profile::from(soil);
    let measured = if calibrated { Quantity::WaterContent } else { quantity };
    let view = View { times: &sorted.series.times, values: &sorted.series.values };
    Some(Channel {
        node: &row.node,
        port: &row.port,
        depth_cm: row.depth_cm.filter(|_| quantity.is_in_soil()),
        placed: (row.start, row.end),
        settled: row.start.map(|at| settled(row, quantity, at)),
        interval: row.interval_s.map(SpanSeconds),
        uncertainty: history(package, &row.channel).usual_half_width(),
        raw: sorted.raw.as_deref().filter(|raw| limits_fit_raw(row, raw)),
        raw_unit: if quantity == Quantity::RawOutput { &row.unit } else { "" },
        instrument: row.instrument_min.zip(row.instrument_max),
        resolution: row.resolution,
        pore_space: row.depth_cm.and_then(|d| soil.at(d)).and_then(Horizon::pore_space),
        repeats: &sorted.repeats,
        clock_checked: package.clock_checks.iter().any(|c| c.node == row.node && !c.is_by_grid()),
        empty: &sorted.empty,
        references: &sorted.references,
        delivered: &sorted.delivered,
        ..Channel::bare(name, measured, view)
    })
}

/// When a probe has settled by its principle; by its quantity, where the package names a principle of its own.
fn settled(row: &ChannelRow, quantity: Quantity, starts: UnixSeconds) -> UnixSeconds {
    let principle = Principle::from_code(&row.principle).unwrap_or(match quantity {
        Quantity::WaterTension => Principle::GranularMatrix,
        q if q.is_moisture() => Principle::Dielectric,
        _ => Principle::Thermometer,
    });
    settling(principle, Seat::Undisturbed, Disturbance::Installed, starts, None).until
}

/// Whether a channel's limits are given in the unit of its raw readings: they hold most of those, or there are none.
fn limits_fit_raw(row: &ChannelRow, raw: &[f64]) -> bool {
    let Some((low, high)) = row.instrument_min.zip(row.instrument_max) else { return true };
    let known = raw.iter().filter(|r| r.is_finite());
    known.clone().filter(|r| (low..=high).contains(*r)).count() * 2 > known.count()
}

fn events(package: &Package, station: &str) -> Vec<Event> {
    let of = package.events.iter().filter(|e| e.station == station);
    of.filter_map(|e| {
        let kind = EventKind::of_package(&e.kind, &e.note)?;
        Some(Event { kind, start: e.start, end: e.end.unwrap_or(UnixSeconds(e.start.0)) })
    })
    .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_formats::package::ReadingRow;

    fn package() -> Package {
        let value = |i: i64| 0.3 - 1e-5 * i as f64 + 0.001 * ((i * 7919 % 13) as f64 / 13.0);
        let mut readings: Vec<ReadingRow> =
            (0..800).map(|i| ReadingRow::plain(UnixSeconds(i * 900), value(i))).collect();
        readings[400].value = 0.45;
        readings.push(ReadingRow { value: 0.2, ..readings[10] });
        readings.drain(600..620);
        let row = ChannelRow {
            channel: "cut.m05".into(),
            station: "cut".into(),
            quantity: "water_content".into(),
            unit: "m3/m3".into(),
            depth_cm: Some(5.0),
            interval_s: Some(900),
            ..ChannelRow::default()
        };
        Package { channels: vec![(row, readings.into_iter().collect())], ..Package::default() }
    }

    #[test]
    fn a_package_is_checked_alone_and_the_same_way_again() {
        let rows = check(package(), &Settings::default()).flags;
        let mut tests: Vec<_> = rows.iter().map(|r| r.test.as_str()).collect();
        tests.sort_unstable();
        assert_eq!(tests, ["gap", "repeated", "spike"], "{rows:?}");
        let bytes = |rows: &[FlagRow]| ebrel_formats::package::flags_csv(rows).unwrap();
        assert_eq!(bytes(&rows), bytes(&check(package(), &Settings::default()).flags));
    }

    #[test]
    fn what_was_measured_by_hand_and_what_came_empty_or_late_is_judged() {
        let mut package = package();
        let reference = |value| ebrel_formats::package::ReferenceRow {
            channel: "cut.m05".into(),
            time: UnixSeconds(300 * 900),
            value,
            uncertainty: Some(0.01),
            kind: "core".into(),
            note: String::new(),
            by: String::new(),
        };
        package.references = vec![reference(0.2), reference(0.297)];
        let rows = &mut package.channels[0].1;
        // Five records without a value, and forty that are written after later ones.
        let times: Vec<usize> = (0..rows.times.len()).filter(|i| !(500..540).contains(i)).chain(500..540).collect();
        let all: Vec<ReadingRow> = times.into_iter().filter_map(|i| rows.get(i)).collect();
        *rows = all.into_iter().collect();
        rows.values[700..705].fill(f64::NAN);
        let found = check(package, &Settings::default()).flags;
        let of = |test: &str| found.iter().filter(|f| f.test == test).count();
        assert_eq!((of("reference_apart"), of("not_connected"), of("late")), (1, 1, 1), "{found:?}");
    }
}
