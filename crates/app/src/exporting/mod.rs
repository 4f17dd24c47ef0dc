//! The record of stations as a record package, or of one as a wide CSV: the same selection gives the same bytes.

mod origin;

pub use origin::Origins;

use crate::checking::flag_row;
use crate::record::{ChannelRecord, Flagged, NodeCheck, StationRecord};
use ebrel_core::series::{Belief, Believed};
use ebrel_core::units::{Quantity, UnixSeconds, unit_for_people};
use ebrel_formats::package::{
    CalibrationRow, ChannelRow, ClockCheckRow, EventRow, FlagRow, HorizonRow, Package, ReadingRow, ReferenceRow,
    StationRow, StudyPart,
};
use ebrel_formats::rfc3339;
use ebrel_formats::wide::{Remark, WideColumn};
use ebrel_store::events::StoredEvent;
use ebrel_store::flags::StoredFlag;
use ebrel_store::placements::Placement;
use ebrel_store::references::NewReference;
use ebrel_store::{Store, StoreError};
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;

/// What is taken out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Selection {
    /// First moment of it, inclusive.
    pub from: UnixSeconds,
    /// First moment after.
    pub to: UnixSeconds,
    /// Quantities as shown; empty: all.
    pub quantities: Vec<Quantity>,
    /// Which readings stay out.
    pub belief: Belief,
}

impl Selection {
    fn takes(&self, channel: &ChannelRecord) -> bool {
        self.quantities.is_empty() || self.quantities.contains(&channel.quantity())
    }

    /// The selection in words, for the package's description.
    fn words(&self) -> String {
        let list = |names: Vec<&str>, none: &str| if names.is_empty() { none.to_owned() } else { names.join(", ") };
        format!(
            "From {} up to but without {}. Quantities: {}. Readings under flags of these grades are left out unless a \
             verdict keeps them: {}; readings that a verdict leaves out are left out. Times are UTC. Uncertainty is the \
             half width of the 95 % prediction interval of the calibration. Water content outside the range of a \
             calibration's samples is extrapolated and is exported as computed; x_min and x_max in calibrations.csv tell \
             where. Of a reading that came again with another value the one that stands is given. deliveries.csv says what \
             brought each reading, and when. A temperature that stands beside another raw value was corrected; calibrations.csv has the correction as a \
             straight line of the raw value, and the line 0, 1 where it ends. Flags were made with the usual numbers of the tests, but for those \
             that “tests” in the descriptor names, with who set them and when.",
            rfc3339(self.from),
            rfc3339(self.to),
            list(self.quantities.iter().map(|q| q.code()).collect(), "all"),
            list(self.belief.leave_out.iter().map(|g| g.code()).collect(), "none"),
        )
    }
}

/// Everything of a study: its stations, and the selection that takes all of them with nothing left out.
///
/// # Errors
/// [`StoreError`] if there is no such study or the database cannot be read.
pub async fn whole_study(store: &Store, study: i64) -> Result<(Vec<Flagged>, Selection), StoreError> {
    let parts = Flagged::of_study(store, study).await?;
    let extents: Vec<_> = parts.iter().filter_map(|p| p.record.extent()).collect();
    let from = extents.iter().map(|e| e.0).min().unwrap_or(UnixSeconds(0));
    // Whole minutes, as a page writes them.
    let to = extents.iter().map(|e| e.1.0 + 60 - e.1.0.rem_euclid(60)).max().map_or(from, UnixSeconds);
    Ok((parts, Selection { from, to, quantities: Vec::new(), belief: Belief { leave_out: Vec::new() } }))
}

/// Counts of an export, for the page that offers it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Counts {
    /// Channels in it.
    pub channels: usize,
    /// Readings in it.
    pub readings: usize,
    /// Readings that are left out.
    pub left_out: usize,
}

/// Believed readings of a channel within the selection.
fn believed<'a>(channel: &'a ChannelRecord, flags: &[StoredFlag], selection: &Selection) -> Believed<'a> {
    channel.believed(flags, &selection.belief).between(selection.from, selection.to)
}

/// Five decimals: far below what any probe knows, and short.
fn rounded(value: f64) -> f64 {
    (value * 1e5).round() / 1e5
}

/// A value as it is given out: what a probe said itself stays as it came.
fn shown(value: f64, raw: f64) -> f64 {
    if value == raw { value } else { rounded(value) }
}

/// How much a selection holds.
#[must_use]
pub fn counts(record: &StationRecord, flags: &[StoredFlag], selection: &Selection) -> Counts {
    let mut counts = Counts::default();
    for channel in record.channels.iter().filter(|c| selection.takes(c)) {
        // Counted by places, without making the rows: the page that offers the export only tells how many.
        let believed = believed(channel, flags, selection);
        counts.channels += 1;
        counts.readings += believed.count();
        counts.left_out += believed.left_out();
    }
    counts
}

/// The names that channels of a station have in its package: by node, port and probe; with the quantity where a port tells
/// several, and with the placement's start where the same probe came back to the same port.
fn names(record: &StationRecord) -> Vec<String> {
    let code = &record.station.code;
    let mut names: Vec<String> = record.channels.iter().map(|c| format!("{code}.{}", c.channel.name())).collect();
    let adds: [fn(&ChannelRecord) -> String; 2] = [
        |c| c.channel.stream.quantity.code().to_owned(),
        |c| rfc3339(c.channel.placement.starts).replace([':', '-'], ""),
    ];
    for add in adds {
        let mut times: HashMap<&str, usize> = HashMap::new();
        names.iter().for_each(|n| *times.entry(n).or_default() += 1);
        let twice: Vec<bool> = names.iter().map(|n| times[n.as_str()] > 1).collect();
        for ((name, channel), twice) in names.iter_mut().zip(&record.channels).zip(twice) {
            if twice {
                *name = format!("{name}.{}", add(channel));
            }
        }
    }
    names
}

/// A channel that is taken, under its name.
struct Taken<'a> {
    part: &'a Flagged,
    channel: &'a ChannelRecord,
    name: String,
    /// Names of all channels of its station.
    all: Arc<Vec<String>>,
}

impl<'a> Taken<'a> {
    fn all(parts: &'a [Flagged], selection: &Selection) -> Vec<Self> {
        let of = |part: &'a Flagged| {
            let all = Arc::new(names(&part.record));
            let named = part.record.channels.iter().enumerate();
            named.map(move |(i, channel)| Self { part, channel, name: all[i].clone(), all: Arc::clone(&all) })
        };
        parts.iter().flat_map(of).filter(|t| selection.takes(t.channel)).collect()
    }

    /// Its readings as rows, made one after another.
    fn readings(
        &self,
        selection: &Selection,
        origins: &'a Origins,
        numbers: Arc<HashMap<i64, u32>>,
    ) -> impl Iterator<Item = ReadingRow> + use<'a> {
        let channel = self.channel;
        let believed = believed(channel, &self.part.flags, selection);
        let changed = believed.is_changed();
        believed.readings().map(move |r| ReadingRow {
            time: r.time,
            value: shown(r.value, r.raw),
            raw: changed.then_some(r.raw),
            uncertainty: r.half_width.map(rounded),
            node_time: channel.node_time(r.time),
            delivery: origins.delivery(channel, r.time).and_then(|d| numbers.get(&d).copied()),
        })
    }

    fn flags(&self, within: impl Fn(UnixSeconds, UnixSeconds) -> bool) -> Vec<FlagRow> {
        let channel = &self.channel.channel;
        let here = |f: &&StoredFlag| f.stream_id == channel.stream.id && f.placement_id == channel.placement.id;
        let of = self.part.flags.iter().filter(here).filter(|f| within(f.flag.start, f.flag.end));
        of.map(|stored| {
            let mut row = flag_row(&self.name, &stored.flag);
            if let Some(v) = &stored.verdict {
                row.verdict = v.verdict.code().to_owned();
                // What a person saw says who and why by itself.
                if !stored.is_own() {
                    row.reason.push_str(&verdict_words(&v.by, &v.reason));
                }
            }
            row
        })
        .collect()
    }
}

/// What a flag's reason ends with in a package, where somebody said why they decided as they did.
pub(crate) fn verdict_words(by: &str, reason: &str) -> String {
    if reason.is_empty() { String::new() } else { format!(" ({by}: {reason})") }
}

/// The selection as a record package, whose readings are made while they are written. All stations are of one study.
#[must_use]
pub fn package<'a>(
    parts: &'a [Flagged],
    origins: &'a Origins,
    selection: &Selection,
) -> Package<impl Iterator<Item = ReadingRow> + use<'a>> {
    let taken = Taken::all(parts, selection);
    let within = |start: UnixSeconds, end: UnixSeconds| end >= selection.from && start < selection.to;
    let mut used = BTreeSet::new();
    for t in &taken {
        let times = believed(t.channel, &t.part.flags, selection);
        used.extend(times.times().filter_map(|at| origins.delivery(t.channel, at)));
    }
    let (deliveries, numbers) = origins.deliveries(&used);
    let numbers = Arc::new(numbers);
    let verdicts = |part: &Flagged| {
        let here = taken.iter().filter(|t| t.part.record.station.id == part.record.station.id);
        origins.verdicts(part.record.station.id, &here.map(|t| (t.channel, t.name.as_str())).collect::<Vec<_>>())
    };
    let records = || parts.iter().map(|p| &p.record);
    let study = parts.first().map(|p| &p.record.study);
    let title = study.map_or_else(String::new, |s| s.name.clone());
    Package {
        title: match parts {
            [one] => format!("{title}: {}", one.record.station.name),
            _ => title,
        },
        tests: records().filter_map(|r| origins.tests(r)).collect(),
        description: selection.words(),
        study: study.map_or_else(StudyPart::default, |s| StudyPart {
            name: s.name.clone(),
            question: s.question.clone(),
            utc_offset_minutes: s.utc_offset_minutes,
        }),
        stations: records().map(station_row).collect(),
        horizons: records()
            .flat_map(|r| r.soil.horizons().iter().map(|h| HorizonRow::of(&r.station.code, h)))
            .collect(),
        channels: taken
            .iter()
            .map(|t| (channel_row(t), t.readings(selection, origins, Arc::clone(&numbers))))
            .collect(),
        references: taken.iter().flat_map(|t| reference_rows(t, within)).collect(),
        clock_checks: records().flat_map(|r| r.clock_checks.iter().map(clock_row)).collect(),
        events: records().flat_map(|r| event_rows(r, within)).collect(),
        calibrations: taken.iter().flat_map(|t| calibration_rows(t, origins)).collect(),
        flags: taken.iter().flat_map(|t| t.flags(within)).collect(),
        verdicts: parts.iter().flat_map(verdicts).filter(|v| within(v.start, v.end)).collect(),
        deliveries,
    }
}

fn reference_rows(taken: &Taken<'_>, within: impl Fn(UnixSeconds, UnixSeconds) -> bool) -> Vec<ReferenceRow> {
    let row = |r: &NewReference| ReferenceRow {
        channel: taken.name.clone(),
        time: r.reference.time,
        value: r.reference.value,
        uncertainty: r.reference.uncertainty,
        kind: r.kind.code().to_owned(),
        note: r.note.clone(),
        by: r.by.clone(),
    };
    let beside = taken.channel.beside(&taken.part.record.references);
    beside.filter(|r| within(r.reference.time, r.reference.time)).map(row).collect()
}

fn event_rows(record: &StationRecord, within: impl Fn(UnixSeconds, UnixSeconds) -> bool) -> Vec<EventRow> {
    let row = |e: &StoredEvent| EventRow {
        station: record.station.code.clone(),
        kind: e.event.kind.package_code().to_owned(),
        start: e.event.start,
        end: Some(e.event.end),
        amount: e.amount,
        unit: e.unit.clone(),
        note: e.note.clone(),
        by: e.by.clone(),
    };
    record.events.iter().filter(|e| within(e.event.start, e.event.end)).map(row).collect()
}

fn clock_row(NodeCheck { node, check, by_grid }: &NodeCheck) -> ClockCheckRow {
    ClockCheckRow {
        node: node.clone(),
        node_time: check.shown,
        true_time: check.truth,
        uncertainty_s: None,
        note: ClockCheckRow::note_of(check.set, *by_grid),
    }
}

fn station_row(record: &StationRecord) -> StationRow {
    let s = &record.station;
    StationRow {
        station: s.code.clone(),
        name: s.name.clone(),
        latitude: s.latitude,
        longitude: s.longitude,
        elevation_m: s.elevation_m,
        utc_offset_minutes: Some(record.study.utc_offset_minutes),
        treatment: s.treatment.clone(),
        cover: s.cover.clone(),
        known_bias: s.known_bias.clone(),
        ..StationRow::default()
    }
}

/// Whether two probes lay at one depth at one time.
fn are_twins(one: &Placement, other: &Placement) -> bool {
    let begins_before_it_ends = |a: &Placement, b: &Placement| b.ends.is_none_or(|ends| a.starts < ends);
    one.probe.id != other.probe.id
        && one.depth_cm.is_some()
        && one.depth_cm == other.depth_cm
        && begins_before_it_ends(one, other)
        && begins_before_it_ends(other, one)
}

fn channel_row(taken: &Taken<'_>) -> ChannelRow {
    let (record, c) = (&taken.part.record, taken.channel);
    let (stream, placement) = (&c.channel.stream, &c.channel.placement);
    let before = record.channels.iter().zip(taken.all.iter()).take_while(|(o, _)| !std::ptr::eq(*o, c));
    let twin =
        before.into_iter().find(|(o, _)| o.quantity() == c.quantity() && are_twins(&o.channel.placement, placement));
    ChannelRow {
        channel: taken.name.clone(),
        station: record.station.code.clone(),
        node: stream.node.clone(),
        port: stream.port.clone(),
        quantity: c.quantity().code().to_owned(),
        unit: c.unit().to_owned(),
        depth_cm: placement.depth_cm,
        orientation: placement.orientation.clone(),
        principle: placement.probe.principle.code().to_owned(),
        probe_model: placement.probe.model.clone(),
        serial: placement.probe.serial.clone(),
        start: Some(placement.starts),
        end: placement.ends,
        interval_s: stream.interval_s,
        instrument_min: placement.probe.instrument_min,
        instrument_max: placement.probe.instrument_max,
        resolution: placement.probe.resolution,
        twin_of: twin.map(|(_, name)| name.clone()).unwrap_or_default(),
        raw_unit: if c.is_calibrated() { stream.unit.clone() } else { String::new() },
        note: placement.note.clone(),
    }
}

fn calibration_rows(taken: &Taken<'_>, origins: &Origins) -> Vec<CalibrationRow> {
    let (c, station) = (taken.channel, taken.part.record.station.id);
    let serial = &c.channel.placement.probe.serial;
    let row = |valid_from, form: &str, coefficients: Vec<f64>| CalibrationRow {
        channel: taken.name.clone(),
        valid_from,
        form: form.to_owned(),
        coefficients: serde_json::to_string(&coefficients).unwrap_or_default(),
        x_min: None,
        x_max: None,
        standard_error: None,
        source: format!("probe {serial}"),
        particulars: String::new(),
    };
    let curves = c.history.curves().iter().map(|dated| CalibrationRow {
        x_min: Some(dated.curve.x_min).filter(|x| x.is_finite()),
        x_max: Some(dated.curve.x_max).filter(|x| x.is_finite()),
        standard_error: dated.curve.residual_sd,
        particulars: origins.adoption(station, c, dated),
        ..row(dated.valid_from, CalibrationRow::form_of(&dated.curve), dated.curve.coefficients())
    });
    let corrections = c.corrections.iter().flat_map(|dated| {
        let line = vec![dated.correction.offset, 1.0 + dated.correction.slope];
        let particulars = origins.correction(c, dated);
        let begins = CalibrationRow { particulars, ..row(dated.from, "correction", line) };
        [Some(begins), dated.until.map(|until| row(until, "correction", vec![0.0, 1.0]))].into_iter().flatten()
    });
    curves.chain(corrections).collect()
}

/// The selection as columns of a wide table, whose readings are made while they are written.
#[must_use]
pub fn wide<'a>(
    record: &'a StationRecord,
    flags: &[StoredFlag],
    selection: &Selection,
) -> Vec<WideColumn<impl Iterator<Item = (UnixSeconds, f64)> + use<'a>>> {
    let taken = record.channels.iter().filter(|c| selection.takes(c));
    taken
        .map(|c| {
            let label = c.channel.label();
            let what = c.quantity().words();
            let unit = unit_for_people(c.unit());
            let name = if label == what { label.clone() } else { format!("{label} {what}") };
            let kept = flags.iter().filter(|f| f.stream_id == c.channel.stream.id && !f.leaves_out(&selection.belief));
            let remark = |f: &StoredFlag| Remark {
                start: f.flag.start,
                end: f.flag.end,
                text: format!("{label}: {}", f.flag.test.code()),
            };
            let remarks = kept.map(remark).collect();
            WideColumn {
                heading: format!("{name} ({unit}) {}", c.channel.placement.probe.serial),
                readings: believed(c, flags, selection).readings().map(|r| (r.time, shown(r.value, r.raw))),
                remarks,
            }
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::units::Grade;

    #[test]
    fn the_description_says_what_was_selected_and_assumed() {
        let selection = Selection {
            from: UnixSeconds(0),
            to: UnixSeconds(86_400),
            quantities: vec![Quantity::WaterContent],
            belief: Belief { leave_out: vec![Grade::Wrong, Grade::Doubtful] },
        };
        let words = selection.words();
        for part in ["1970-01-01T00:00:00Z", "water_content", "wrong, doubtful", "extrapolated", "95 %"] {
            assert!(words.contains(part), "{part}: {words}");
        }
    }
}
