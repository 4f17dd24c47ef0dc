//! A window of a station's record, thinned for a screen.
//!
//! Values travel as whole numbers in steps of a strip's resolution: half the bytes of decimals, and the smallest is
//! rounded down and the largest up, so that nothing that was recorded falls out of the drawn range.

use super::marks::{EventMark, marks};
use super::record::{ChannelRecord, StationRecord};
use ebrel_core::series::{Columns, Series, View, Window, sum_columns, thin};
use ebrel_core::units::{Quantity, unit_for_people};
use ebrel_store::flags::StoredFlag;
use serde::Serialize;

/// What of a record is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Show {
    /// Moisture strips.
    Moisture,
    /// Temperature strips, soil and air.
    Temperature,
    /// Both.
    Both,
}

impl Show {
    /// The choice with this word; moisture for any other.
    #[must_use]
    pub fn from_word(word: &str) -> Self {
        match word {
            "temperature" => Self::Temperature,
            "both" => Self::Both,
            _ => Self::Moisture,
        }
    }
}

/// One line in a strip.
#[derive(Debug, Serialize)]
pub struct Line {
    /// What the line is, where a strip has more than one.
    pub label: String,
    /// Smallest value per column, in steps.
    pub min: Vec<Option<i32>>,
    /// Largest value per column.
    pub max: Vec<Option<i32>>,
    /// Mean per column.
    pub mean: Vec<Option<i32>>,
    /// 95 % half width of the calibration at the mean; empty without a calibration.
    pub band: Vec<Option<i32>>,
    /// Columns in which readings lie beyond the calibration's samples: [first, last] runs.
    pub beyond: Vec<[usize; 2]>,
}

/// The record at one depth, or of one quantity in the air.
#[derive(Debug, Serialize)]
pub struct Strip {
    /// Unique within the answer: "moisture@15".
    pub id: String,
    /// Whether it shows temperatures.
    #[serde(skip)]
    pub temperature: bool,
    /// "15 cm".
    pub label: String,
    /// What is drawn, in words.
    pub what: String,
    /// Unit of the values, as people write it.
    pub unit: String,
    /// Whether it is raw output, for want of a calibration.
    pub raw: bool,
    /// Depth, cm; `None` in the air.
    pub depth: Option<f64>,
    /// Decimals for values.
    pub decimals: usize,
    /// Value of one step.
    pub step: f64,
    /// The smallest span of the scale, so that noise is not blown up to fill the strip.
    pub least_span: f64,
    /// Pore space at this depth, if the strip shows water content.
    pub pores: Option<f64>,
    /// Numbers of the streams in it, for flags.
    pub streams: Vec<i64>,
    /// One line a probe.
    pub lines: Vec<Line>,
    /// What was measured by hand in the window: second, value, and its half width of 95 % if that is known.
    pub by_hand: Vec<(i64, f64, Option<f64>)>,
    /// Mean temperature of the soil beside it per column, tenths of °C.
    pub beside: Vec<Option<i32>>,
    /// What must be known of it.
    pub note: String,
}

/// A flagged span in the window.
#[derive(Debug, Serialize)]
pub struct Span {
    /// Strip it lies on.
    pub strip: String,
    /// One or two letters for the strip.
    pub mark: &'static str,
    /// The test's name.
    pub title: String,
    /// Code of the grade, as in the record package.
    pub grade: String,
    /// Verdict code, or empty.
    pub verdict: String,
    /// First and last second.
    pub start: i64,
    /// Last second of it, UTC.
    pub end: i64,
}

/// The answer to a window.
#[derive(Debug, Serialize)]
pub struct WindowData {
    /// First second of it, UTC.
    pub from: i64,
    /// First second after.
    pub to: i64,
    /// Number of columns.
    pub columns: usize,
    /// The strips from top to bottom.
    pub strips: Vec<Strip>,
    /// Rain per column, tenths of mm; empty without a gauge.
    pub rain: Vec<Option<i32>>,
    /// Air temperature per column, tenths of °C.
    pub air: Vec<Option<i32>>,
    /// Spans that tests or persons speak of, in the window.
    pub flags: Vec<Span>,
    /// What happened at the station in the window.
    pub events: Vec<EventMark>,
}

fn steps(values: &[f64], step: f64, round: fn(f64) -> f64) -> Vec<Option<i32>> {
    // A tiny allowance keeps 0.3000000001 from being rounded up a whole step.
    values.iter().map(|v| v.is_finite().then(|| round((v / step * 1e6).round() / 1e6) as i32)).collect()
}

/// Thins the record to a window.
#[must_use]
pub fn window(record: &StationRecord, flags: &[StoredFlag], window: &Window, show: Show) -> WindowData {
    let mut strips: Vec<Strip> = Vec::new();
    // Each channel is thinned once, also if it stands in a strip of its own and beside another.
    let thinned: Vec<Option<Thinned>> =
        record.channels.iter().map(|c| needed(c.quantity(), show).then(|| columns(c, window))).collect();
    for (channel, columns) in record.channels.iter().zip(&thinned) {
        let wanted = match show {
            Show::Moisture => channel.quantity().is_moisture(),
            Show::Temperature | Show::Both => true,
        };
        if let Some(columns) = columns.as_ref().filter(|_| wanted) {
            let beside = beside(channel, record, &thinned);
            add(&mut strips, record.station.id, channel, columns, (window, beside));
        }
    }
    if show == Show::Both {
        // At each depth moisture and then temperature; the air on top.
        let order = |s: &Strip| (s.depth.unwrap_or(-1.0), s.temperature);
        strips.sort_by(|a, b| order(a).partial_cmp(&order(b)).unwrap_or(std::cmp::Ordering::Equal));
    }
    let rain = rain(record).map(|all| steps(&sum_columns(all.view(), window), 0.1, f64::round));
    let air = record.channels.iter().position(|c| c.quantity() == Quantity::AirTemperature);
    let air = air.and_then(|i| thinned[i].as_ref()).map(tenths);
    let spans = flags.iter().filter_map(|f| span(f, &strips, window)).collect();
    WindowData {
        from: window.from().0,
        to: window.to().0,
        columns: window.columns(),
        strips,
        rain: rain.unwrap_or_default(),
        air: air.unwrap_or_default(),
        flags: spans,
        events: marks(record, window.from(), window.to()),
    }
}

/// The readings of all gauges of a station in order of time, as one: after an exchange another placement goes on. `None` without a
/// gauge.
fn rain(record: &StationRecord) -> Option<Series> {
    let gauges: Vec<&ChannelRecord> = record.channels.iter().filter(|c| c.quantity() == Quantity::Rain).collect();
    let mut all: Vec<(i64, f64)> = Vec::new();
    for gauge in &gauges {
        let view = gauge.view();
        all.extend(view.times.iter().copied().zip(view.values.iter().copied()));
    }
    all.sort_by_key(|(t, _)| *t);
    all.dedup_by_key(|(t, _)| *t);
    let (times, values): (Vec<i64>, _) = all.into_iter().unzip();
    (!gauges.is_empty()).then_some(Series { times: times.into(), values })
}

/// Whether a channel is drawn, or stands beside one that is.
fn needed(quantity: Quantity, show: Show) -> bool {
    match show {
        Show::Moisture => {
            quantity.is_moisture() || matches!(quantity, Quantity::SoilTemperature | Quantity::AirTemperature)
        }
        Show::Temperature => quantity.is_temperature(),
        Show::Both => quantity.is_moisture() || quantity.is_temperature(),
    }
}

/// A channel thinned to the columns of a window.
struct Thinned {
    columns: Columns,
    /// Half width of the calibration at the mean, if there is one.
    band: Option<Vec<f64>>,
    /// Columns in which readings lie beyond the calibration's samples.
    beyond: Vec<bool>,
}

fn tenths(thinned: &Thinned) -> Vec<Option<i32>> {
    steps(&thinned.columns.mean, 0.1, f64::round)
}

/// Temperature of the soil beside a moisture channel.
fn beside(channel: &ChannelRecord, record: &StationRecord, thinned: &[Option<Thinned>]) -> Vec<Option<i32>> {
    let depth = channel.channel.placement.depth_cm;
    let at = record.channels.iter().position(|c| {
        channel.quantity().is_moisture()
            && c.quantity() == Quantity::SoilTemperature
            && c.channel.placement.depth_cm == depth
    });
    at.and_then(|i| thinned[i].as_ref()).map(tenths).unwrap_or_default()
}

/// Names the strip in which a channel of a station is drawn: `7/moisture@15`. A raw record and a calibrated one of the same depth
/// cannot share a scale.
#[must_use]
pub fn strip_id(station: i64, quantity: Quantity, depth_cm: Option<f64>) -> String {
    let family = if quantity.is_temperature() { "temperature" } else { "moisture" };
    let raw = if quantity == Quantity::RawOutput { "-raw" } else { "" };
    let nowhere = if quantity.is_temperature() { "air" } else { "no depth" };
    let place = depth_cm.map_or(nowhere.to_owned(), |d| d.to_string());
    format!("{station}/{family}{raw}@{place}")
}

/// How a quantity is drawn.
struct Scale {
    /// What values are rounded to on the way.
    step: f64,
    /// Digits behind the point.
    decimals: usize,
    /// The least that a strip spans: less would blow up noise.
    least_span: f64,
}

impl Scale {
    const fn of(quantity: Quantity) -> Self {
        let (step, decimals, least_span) = match quantity {
            Quantity::WaterContent => (0.0001, 3, 0.06),
            Quantity::RawOutput => (0.1, 1, 60.0),
            Quantity::WaterTension
            | Quantity::SoilTemperature
            | Quantity::AirTemperature
            | Quantity::BareAirTemperature
            | Quantity::PanelTemperature
            | Quantity::RelativeHumidity
            | Quantity::EnclosureHumidity
            | Quantity::Rain
            | Quantity::Irrigation
            | Quantity::ElectricalConductivity
            | Quantity::BatteryVoltage
            | Quantity::SignalStrength => (0.01, 1, 3.0),
        };
        Self { step, decimals, least_span }
    }
}

/// Adds a channel to the strip of its depth; a new strip if there is none.
fn add(
    strips: &mut Vec<Strip>,
    station: i64,
    channel: &ChannelRecord,
    thinned: &Thinned,
    (window, beside): (&Window, Vec<Option<i32>>),
) {
    let quantity = channel.quantity();
    let depth = channel.channel.placement.depth_cm.filter(|_| quantity.is_in_soil());
    let temperature = quantity.is_temperature();
    let nowhere = if temperature { "air" } else { "no depth" };
    let id = strip_id(station, quantity, depth);
    let Scale { step, decimals, least_span } = Scale::of(quantity);
    let Thinned { columns, band, beyond } = thinned;
    let at = strips.iter().position(|s| s.id == id).unwrap_or_else(|| {
        let note = if quantity == Quantity::RawOutput {
            "raw output: no calibration is adopted for this probe, so it is not water content"
        } else if channel.corrections.is_empty() {
            ""
        } else {
            "corrected by what its check carried; the readings stay"
        };
        strips.push(Strip {
            id,
            label: if depth.is_some() { channel.channel.label() } else { nowhere.to_owned() },
            what: quantity.words().to_owned(),
            unit: unit_for_people(channel.unit()),
            raw: quantity == Quantity::RawOutput,
            depth,
            decimals,
            step,
            least_span,
            temperature,
            pores: channel.pore_space.filter(|_| quantity == Quantity::WaterContent),
            streams: Vec::new(),
            lines: Vec::new(),
            by_hand: Vec::new(),
            beside,
            note: note.to_owned(),
        });
        strips.len() - 1
    });
    let strip = &mut strips[at];
    strip.streams.push(channel.channel.stream.id);
    let within = channel.references.iter().filter(|r| window.from() <= r.time && r.time < window.to());
    // A half width of 95 % is two standard uncertainties.
    strip.by_hand.extend(within.map(|r| (r.time.0, r.value, r.uncertainty.map(|u| 2.0 * u))));
    let label = if depth.is_none() && temperature {
        if quantity == Quantity::BareAirTemperature { "bare" } else { "shielded" }.to_owned()
    } else {
        channel.channel.placement.probe.serial.clone()
    };
    strip.lines.push(Line {
        label,
        min: steps(&columns.min, step, f64::floor),
        max: steps(&columns.max, step, f64::ceil),
        mean: steps(&columns.mean, step, f64::round),
        band: band.as_ref().map(|b| steps(b, step, f64::round)).unwrap_or_default(),
        beyond: runs(beyond),
    });
}

/// Columns of a channel as shown, the half width of its calibration, and where readings lie beyond its samples.
fn columns(channel: &ChannelRecord, window: &Window) -> Thinned {
    let n = window.columns();
    if !channel.is_calibrated() {
        let shown = View { times: channel.view().times, values: &channel.corrected() };
        let columns = thin(shown, window, |v| v);
        return Thinned { columns, band: None, beyond: vec![false; n] };
    }
    let mut whole = Columns::empty(n);
    let mut band = vec![f64::NAN; n];
    let mut beyond = vec![false; n];
    for (piece, curve) in channel.history.pieces(channel.view()) {
        let Some(curve) = curve else { continue };
        let half_width = curve.half_widths();
        let raw = thin(piece, window, |v| v);
        let theta = thin(piece, window, |v| curve.theta(v));
        for i in (0..n).filter(|i| raw.count[*i] > 0) {
            beyond[i] |= curve.is_beyond(raw.min[i]) || curve.is_beyond(raw.max[i]);
            band[i] = half_width.as_ref().map_or(f64::NAN, |of| of(raw.mean[i]));
        }
        whole.merge(&theta);
    }
    let known = band.iter().any(|b| b.is_finite());
    Thinned { columns: whole, band: known.then_some(band), beyond }
}

fn runs(flags: &[bool]) -> Vec<[usize; 2]> {
    let mut out: Vec<[usize; 2]> = Vec::new();
    for i in (0..flags.len()).filter(|i| flags[*i]) {
        match out.last_mut() {
            Some(run) if run[1] + 1 == i => run[1] = i,
            _ => out.push([i, i]),
        }
    }
    out
}

fn span(stored: &StoredFlag, strips: &[Strip], window: &Window) -> Option<Span> {
    let flag = &stored.flag;
    if flag.end < window.from() || flag.start >= window.to() {
        return None;
    }
    let test = flag.test.definition();
    let strip = strips.iter().find(|s| s.streams.contains(&stored.stream_id))?;
    Some(Span {
        strip: strip.id.clone(),
        mark: test.mark,
        title: test.title.to_owned(),
        grade: flag.grade.code().to_owned(),
        verdict: stored.verdict.as_ref().map(|v| v.verdict.code().to_owned()).unwrap_or_default(),
        start: flag.start.0,
        end: flag.end.0,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rounding_never_hides_a_peak() {
        assert_eq!(steps(&[0.30004], 0.0001, f64::ceil), [Some(3001)]);
        assert_eq!(steps(&[0.30004], 0.0001, f64::floor), [Some(3000)]);
        assert_eq!(steps(&[0.3, f64::NAN], 0.0001, f64::ceil), [Some(3000), None]);
    }

    #[test]
    fn columns_gather_into_runs() {
        assert_eq!(runs(&[false, true, true, false, true]), [[1, 2], [4, 4]]);
    }
}
