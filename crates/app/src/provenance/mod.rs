//! How one value came about: from the line of a file, or a message, or a hand, through clock, placement, calibration and corrections to
//! what is shown, with what tests and persons say of it.

mod came;

pub use came::{Came, FromFile, FromPackage};

use crate::record::{ChannelRecord, StationRecord};
use came::came;
use ebrel_core::units::UnixSeconds;
use ebrel_formats::rfc3339;
use ebrel_store::calibrations::Adopted;
use ebrel_store::choices::Contradiction;
use ebrel_store::{Store, StoreError};
use serde::Serialize;
use std::path::Path;

/// Standard uncertainty of a value that was rounded to a step is the step over √12 (JCGM 100:2008, 4.3.7); twice that is told.
const OF_A_STEP: f64 = 2.0 / 3.464_101_615;

/// How a value came about. Times are RFC 3339 in UTC.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct WayBack {
    /// The channel: quantity and depth.
    pub channel: String,
    /// When it was measured, by the corrected clock.
    pub time: String,
    /// The value as shown; `None` where no calibration held yet.
    pub value: Option<f64>,
    /// Unit of the value, by its code.
    pub unit: String,
    /// What the node said.
    pub raw: Raw,
    /// How it came here.
    pub came: Came,
    /// What the node's clock showed, where it is corrected.
    pub clock: Option<ClockStep>,
    /// The probe and where it lay.
    pub placement: Placed,
    /// What made a water content of it.
    pub calibration: Option<Calibrated>,
    /// What was added to a temperature.
    pub temperature_correction: Option<f64>,
    /// How well it is known; 95 % half widths in the value's unit.
    pub uncertainty: Option<Budget>,
    /// What tests and persons say of it.
    pub flags: Vec<Flagged>,
    /// What came again for the same time with another value, and what was chosen.
    pub contradicting: Vec<Beside>,
}

/// What the node said.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Raw {
    /// The value as it came.
    pub value: f64,
    /// Unit in which the node reports, by its code.
    pub unit: String,
    /// Name of the node that measured.
    pub node: String,
    /// Port of the node, as its label has it.
    pub port: String,
}

/// A value that came again for the same time.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Beside {
    /// The value that came first.
    pub first: f64,
    /// The value that came later.
    pub later: f64,
    /// `first` or `later`: the one that stands.
    pub stands: &'static str,
    /// Who chose it, when and why; empty while it waits.
    pub decided: String,
}

/// A clock that was not right.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ClockStep {
    /// What the node's clock showed.
    pub shown: String,
    /// How far it was ahead, seconds.
    pub ahead_s: f64,
    /// How well that is known, seconds (half width).
    pub known_to_s: f64,
}

/// The probe and where it lay.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Placed {
    /// Serial of the probe.
    pub serial: String,
    /// Model of the probe.
    pub model: String,
    /// Depth, cm; negative is a height.
    pub depth_cm: Option<f64>,
    /// How it lies.
    pub orientation: String,
    /// From when on.
    pub from: String,
    /// Until when; `None`: it lies there still.
    pub until: Option<String>,
    /// What else there is to say.
    pub note: String,
    /// Who said that it lies there, who corrected and who ended it, and when; empty where that was not kept.
    pub said_by: Vec<Said>,
}

/// What a person said of a placement.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Said {
    /// `placed`, `corrected` or `ended`.
    pub what: &'static str,
    /// Who said it.
    pub by: String,
    /// Moment of it.
    pub at: String,
}

/// A calibration that made a value.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Calibrated {
    /// Version among the calibrations of its probe or model.
    pub version: i64,
    /// The run that it came from: its certificate and samples stand there.
    pub run: Option<i64>,
    /// From when on it holds.
    pub valid_from: String,
    /// What it says of itself.
    pub statement: String,
    /// The samples that it was made from, as they were typed.
    pub samples: serde_json::Value,
    /// Who adopted it.
    pub adopted_by: String,
    /// Moment at which it was adopted.
    pub adopted: String,
    /// Whether the raw value lies beyond its samples.
    pub beyond_samples: bool,
}

/// How well a value is known: 95 % half widths, in its unit.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Budget {
    /// How one tin scatters about the curve.
    pub tin: f64,
    /// How well the curve itself is known there.
    pub curve: f64,
    /// What the instrument's step leaves open; `None` if the step is not known.
    pub resolution: Option<f64>,
    /// The root of the sum of their squares.
    pub all: f64,
}

/// What a test or a person says of a value.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Flagged {
    /// Code of the test that found it.
    pub test: &'static str,
    /// Code of the grade that the test gave.
    pub grade: &'static str,
    /// The test's sentence, with its figures.
    pub reason: String,
    /// `left_out`, `kept`, or empty while it waits.
    pub verdict: &'static str,
    /// Who decided, when and why; empty while it waits.
    pub decided: String,
}

/// Leads the value of a stream at a corrected time back to its origin.
///
/// # Errors
/// [`StoreError::NotFound`] if there is no reading of this stream at this time, or no probe was placed there then.
pub async fn way_back(
    store: &Store,
    data: &Path,
    record: &StationRecord,
    (stream, at): (i64, UnixSeconds),
) -> Result<WayBack, StoreError> {
    let not_found = || StoreError::NotFound("reading");
    let of_stream = |c: &&ChannelRecord| c.channel.stream.id == stream && c.view().times.binary_search(&at.0).is_ok();
    let channel = record.channels.iter().find(of_stream).ok_or_else(not_found)?;
    let own = &channel.channel;
    let clock = record.clock(&own.stream.node).and_then(Result::ok).filter(|c| !c.is_right());
    let stored = store.series(stream).await?;
    let shown = channel.node_time(at).unwrap_or(at);
    let i = stored.times.binary_search(&shown.0).map_err(|_| not_found())?;
    let raw = stored.values[i];
    let origin = store.delivery_of(stream, shown).await?;
    let view = channel.view();
    let here = view.times.partition_point(|t| *t < at.0);
    let value = channel.values_in(view.slice(here..here + 1))[0];
    let adopted = calibration(store, record, channel, at).await?;
    let flags = store.flags(record.station.id).await?;
    let flags = flags.iter().filter(|f| f.stream_id == stream && (f.flag.start..=f.flag.end).contains(&at));
    let beside_it = store.contradictions(record.station.id, Some((stream, shown))).await?;
    let placement = &own.placement;
    let hands = store.hands(placement.id).await?;
    let corrected = !channel.corrections.is_empty();
    Ok(WayBack {
        channel: own.label(),
        time: rfc3339(at),
        value: Some(value).filter(|v| v.is_finite()),
        unit: channel.unit().to_owned(),
        raw: Raw {
            value: raw,
            unit: own.stream.unit.clone(),
            node: own.stream.node.clone(),
            port: own.stream.port.clone(),
        },
        came: came(store, data, channel, shown, origin).await?,
        clock: clock.map(|c| ClockStep {
            shown: rfc3339(shown),
            ahead_s: c.ahead(shown),
            known_to_s: c.known_to(shown),
        }),
        placement: Placed {
            serial: placement.probe.serial.clone(),
            model: placement.probe.model.clone(),
            depth_cm: placement.depth_cm,
            orientation: placement.orientation.clone(),
            from: rfc3339(placement.starts),
            until: placement.ends.map(rfc3339),
            note: placement.note.clone(),
            said_by: hands.into_iter().map(|h| Said { what: h.deed.code(), by: h.by, at: rfc3339(h.at) }).collect(),
        },
        uncertainty: adopted.as_ref().and_then(|a| budget(a, raw, placement.probe.resolution)),
        calibration: adopted.map(|a| Calibrated {
            version: a.version,
            run: a.run_id,
            valid_from: rfc3339(a.valid_from),
            beyond_samples: a.curve.is_beyond(raw),
            statement: a.statement,
            samples: serde_json::from_str(&a.samples).unwrap_or_default(),
            adopted_by: a.adopted_by,
            adopted: rfc3339(a.adopted_at),
        }),
        temperature_correction: corrected.then_some(value - raw),
        flags: flags.map(flagged).collect(),
        contradicting: beside_it.into_iter().map(beside).collect(),
    })
}

fn beside(c: Contradiction) -> Beside {
    let stands = if c.choice.as_ref().is_some_and(|c| c.later) { "later" } else { "first" };
    let decided = c.choice.map(|c| decision(&c.by, c.at, &c.reason)).unwrap_or_default();
    Beside { first: c.first, later: c.later, stands, decided }
}

/// Who decided when, and why if a reason was given.
fn decision(by: &str, at: UnixSeconds, reason: &str) -> String {
    let why = if reason.is_empty() { String::new() } else { format!(": {reason}") };
    format!("{by} on {}{why}", rfc3339(at))
}

fn flagged(f: &ebrel_store::flags::StoredFlag) -> Flagged {
    let decided = f.verdict.as_ref().map(|v| decision(&v.by, v.at, &v.reason));
    Flagged {
        test: f.flag.test.code(),
        grade: f.flag.grade.code(),
        reason: f.flag.reason.clone(),
        verdict: f.verdict.as_ref().map_or("", |v| v.verdict.code()),
        decided: decided.unwrap_or_default(),
    }
}

/// The calibration that held for a channel at a time.
async fn calibration(
    store: &Store,
    record: &StationRecord,
    channel: &ChannelRecord,
    at: UnixSeconds,
) -> Result<Option<Adopted>, StoreError> {
    if !channel.is_calibrated() {
        return Ok(None);
    }
    let probe = &channel.channel.placement.probe;
    let horizon = channel.channel.placement.depth_cm.and_then(|d| record.soil.at(d));
    let all = store.calibrations_at(record.station.id).await?;
    // Newest first: of two that begin at one moment the later adopted one holds.
    let held = all.serving(probe.id, &probe.model, horizon).into_iter().filter(|a| a.valid_from <= at);
    Ok(held.max_by_key(|a| (a.valid_from, a.id)).cloned())
}

/// The parts of a value's uncertainty. Scatter of a tin and of the curve are the two terms of the prediction interval; the step of the
/// instrument is carried through the curve's slope.
fn budget(adopted: &Adopted, raw: f64, resolution: Option<f64>) -> Option<Budget> {
    let curve = &adopted.curve;
    let all_of_curve = curve.half_width(raw)?;
    let tin = curve.half_width_of_tin()?;
    let of_curve = (all_of_curve.powi(2) - tin.powi(2)).max(0.0).sqrt();
    let resolution = resolution.map(|step| {
        let slope = (curve.theta(raw + step / 2.0) - curve.theta(raw - step / 2.0)) / step;
        (slope * step * OF_A_STEP).abs()
    });
    let all = (all_of_curve.powi(2) + resolution.unwrap_or(0.0).powi(2)).sqrt();
    Some(Budget { tin, curve: of_curve, resolution: resolution.filter(|r| r.is_finite()), all })
}
