//! Where what a package holds came from: who adopted, decided and delivered. By it a package can be taken in whole.

use super::tables::rfc3339_time;
use ebrel_core::calibration::Curve;
use ebrel_core::units::UnixSeconds;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The study of a package, as its descriptor has it.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct StudyPart {
    /// Name that people use.
    pub name: String,
    /// What it is to find out.
    pub question: String,
    /// Minutes that its times are shown ahead of UTC.
    pub utc_offset_minutes: i64,
}

/// By which numbers the tests of a station ran, as the descriptor has them: what is not among them was as usual.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TestNumbers {
    /// Code of the station.
    pub station: String,
    /// "test.key" and its number.
    pub numbers: BTreeMap<String, f64>,
    /// Who set the last of them.
    pub by: String,
    /// When: it tells this version from others.
    #[serde(with = "rfc3339_time")]
    pub at: UnixSeconds,
}

/// A row of `verdicts.csv`: what somebody decided of a flag. It stands also where no flag is any more.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct VerdictRow {
    /// Name of the channel concerned.
    pub channel: String,
    /// Time of the first reading concerned.
    #[serde(with = "rfc3339_time")]
    pub start: UnixSeconds,
    /// Last reading, inclusive.
    #[serde(with = "rfc3339_time")]
    pub end: UnixSeconds,
    /// Code of the test whose flag it answers.
    pub test: String,
    /// `left_out` or `kept`.
    pub verdict: String,
    /// The reason that was given; may be empty.
    #[serde(default)]
    pub reason: String,
    /// Who decided it.
    #[serde(default)]
    pub by: String,
    /// Moment of the decision.
    #[serde(with = "rfc3339_time")]
    pub at: UnixSeconds,
    /// Grade of what a person saw where no test found anything; else empty.
    #[serde(default)]
    pub mark: String,
    /// Readings that such a span holds.
    #[serde(default)]
    pub readings: Option<u32>,
}

/// A row of `deliveries.csv`: what brought readings, and when.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct DeliveryRow {
    /// Its number in the package, from 1.
    pub delivery: u32,
    /// When it was received.
    #[serde(with = "rfc3339_time")]
    pub received: UnixSeconds,
    /// `file`, `message`, `hand`, `demo` or `package`.
    pub source: String,
    /// Name of the logger file, if one brought it.
    #[serde(default)]
    pub file: String,
    /// SHA-256 of that file.
    #[serde(default)]
    pub sha256: String,
    /// Who brought the file.
    #[serde(default)]
    pub by: String,
}

/// What `particulars` of `calibrations.csv` holds: an adopted calibration, or a thermometer's correction, as it is kept.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Particulars {
    /// A curve from raw output to water content.
    Calibration {
        /// The model that it serves; empty: the probe alone.
        #[serde(default, skip_serializing_if = "String::is_empty")]
        model: String,
        /// Soil that it was made in.
        #[serde(default)]
        soil: String,
        /// Density that was packed to, g/cm³.
        #[serde(default)]
        density: Option<f64>,
        /// Kind of logger that read the probe.
        #[serde(default)]
        logger: String,
        /// 1, 2, ... per probe, or per model and soil.
        version: i64,
        /// The curve with covariance and range.
        curve: Curve,
        /// The answer in one sentence.
        statement: String,
        /// The samples as they were typed, JSON.
        samples: String,
        /// Who adopted it.
        by: String,
        /// When, seconds of UTC since 1970.
        at: i64,
    },
    /// A thermometer's correction.
    Correction {
        /// What is added to a reading is `offset + slope * reading`; `coefficients` has it as a line of the reading.
        slope: f64,
        /// What the pairs say.
        evidence: String,
        /// Why it was made.
        reason: String,
        /// First moment after it, seconds of UTC since 1970; none: it still holds.
        until: Option<i64>,
        /// Who made it.
        by: String,
        /// When, seconds of UTC since 1970.
        at: i64,
    },
}
