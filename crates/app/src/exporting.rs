//! A station's record as a record package or as one wide CSV: the same selection gives the same bytes.

use super::checking::flag_row;
use super::record::{ChannelRecord, StationRecord};
use ebrel_core::field::ClockCheck;
use ebrel_core::series::{Belief, Believed};
use ebrel_core::units::{Quantity, UnixSeconds, unit_for_people};
use ebrel_formats::package::{
    CalibrationRow, ChannelRow, ClockCheckRow, EventRow, FlagRow, HorizonRow, Package, ReadingRow, StationRow,
};
use ebrel_formats::rfc3339;
use ebrel_formats::wide::{Remark, WideColumn};
use ebrel_store::flags::StoredFlag;

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
             where. A temperature that stands beside another raw value was corrected; calibrations.csv has the correction as a \
             straight line of the raw value, and the line 0, 1 where it ends.",
            rfc3339(self.from),
            rfc3339(self.to),
            list(self.quantities.iter().map(|q| q.code()).collect(), "all"),
            list(self.belief.leave_out.iter().map(|g| g.code()).collect(), "none"),
        )
    }
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

/// The same as rows, made one after another.
fn readings<'a>(
    channel: &'a ChannelRecord,
    flags: &[StoredFlag],
    selection: &Selection,
) -> impl Iterator<Item = ReadingRow> + use<'a> {
    let believed = believed(channel, flags, selection);
    let changed = believed.is_changed();
    believed.readings().map(move |r| ReadingRow {
        time: r.time,
        value: if r.value == r.raw { r.value } else { rounded(r.value) },
        raw: changed.then_some(r.raw),
        uncertainty: r.half_width.map(rounded),
    })
}

/// Five decimals: far below what any probe knows, and short.
fn rounded(value: f64) -> f64 {
    (value * 1e5).round() / 1e5
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

/// The selection as a record package, whose readings are made while they are written.
#[must_use]
pub fn package<'a>(
    record: &'a StationRecord,
    flags: &[StoredFlag],
    selection: &Selection,
) -> Package<impl Iterator<Item = ReadingRow> + use<'a>> {
    let code = &record.station.code;
    let taken: Vec<&ChannelRecord> = record.channels.iter().filter(|c| selection.takes(c)).collect();
    let name = |c: &ChannelRecord| format!("{code}.{}", c.channel.name());
    let within = |start: UnixSeconds, end: UnixSeconds| end >= selection.from && start < selection.to;
    let mut flag_rows: Vec<FlagRow> = Vec::new();
    for channel in &taken {
        let of = flags
            .iter()
            .filter(|f| f.stream_id == channel.channel.stream.id && f.placement_id == channel.channel.placement.id);
        for stored in of.filter(|f| within(f.flag.start, f.flag.end)) {
            let mut row = flag_row(&name(channel), &stored.flag);
            if let Some(v) = &stored.verdict {
                row.verdict = v.verdict.code().to_owned();
                if !v.reason.is_empty() {
                    row.reason = format!("{} ({}: {})", row.reason, v.by, v.reason);
                }
            }
            flag_rows.push(row);
        }
    }
    Package {
        title: format!("{}: {}", record.study.name, record.station.name),
        description: selection.words(),
        stations: vec![station_row(record)],
        horizons: record.soil.horizons().iter().map(|h| HorizonRow::of(code, h)).collect(),
        channels: taken.iter().map(|c| (channel_row(record, c, name(c)), readings(c, flags, selection))).collect(),
        clock_checks: record.clock_checks.iter().map(|(node, check)| clock_row(node, check)).collect(),
        events: record
            .events
            .iter()
            .filter(|e| within(e.event.start, e.event.end))
            .map(|e| EventRow {
                station: code.clone(),
                kind: e.event.kind.package_code().to_owned(),
                start: e.event.start,
                end: Some(e.event.end),
                amount: e.amount,
                unit: e.unit.clone(),
                note: e.note.clone(),
            })
            .collect(),
        calibrations: taken.iter().flat_map(|c| calibration_rows(c, &name(c))).collect(),
        flags: flag_rows,
    }
}

fn clock_row(node: &str, check: &ClockCheck) -> ClockCheckRow {
    ClockCheckRow {
        node: node.to_owned(),
        node_time: check.shown,
        true_time: check.truth,
        uncertainty_s: None,
        note: if check.set { "set".to_owned() } else { String::new() },
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
        ..StationRow::default()
    }
}

fn channel_row(record: &StationRecord, c: &ChannelRecord, name: String) -> ChannelRow {
    let (stream, placement) = (&c.channel.stream, &c.channel.placement);
    let twin = record.channels.iter().find(|o| {
        o.quantity() == c.quantity()
            && o.channel.placement.id != placement.id
            && o.channel.placement.depth_cm == placement.depth_cm
            && placement.depth_cm.is_some()
            && o.channel.stream.id < stream.id
    });
    ChannelRow {
        channel: name,
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
        twin_of: twin.map(|o| format!("{}.{}", record.station.code, o.channel.name())).unwrap_or_default(),
    }
}

fn calibration_rows(c: &ChannelRecord, channel: &str) -> Vec<CalibrationRow> {
    let row = |valid_from, form: &str, coefficients: Vec<f64>, source: String| CalibrationRow {
        channel: channel.to_owned(),
        valid_from,
        form: form.to_owned(),
        coefficients: serde_json::to_string(&coefficients).unwrap_or_default(),
        x_min: None,
        x_max: None,
        standard_error: None,
        source,
    };
    let serial = &c.channel.placement.probe.serial;
    let curves = c.history.curves().iter().map(|dated| CalibrationRow {
        x_min: Some(dated.curve.x_min),
        x_max: Some(dated.curve.x_max),
        standard_error: dated.curve.residual_sd,
        ..row(
            dated.valid_from,
            CalibrationRow::form_of(&dated.curve),
            dated.curve.coefficients(),
            format!("probe {serial}"),
        )
    });
    let corrections = c.corrections.iter().flat_map(|c| {
        let line = |from, coefficients| row(from, "correction", coefficients, format!("probe {serial}"));
        let begins = line(c.from, vec![c.correction.offset, 1.0 + c.correction.slope]);
        [Some(begins), c.until.map(|until| line(until, vec![0.0, 1.0]))].into_iter().flatten()
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
                readings: readings(c, flags, selection).map(|r| (r.time, r.value)),
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
