//! The tables of a record package, one struct a row; field names are the columns' names.

use super::origin::{DeliveryRow, StudyPart, TestNumbers, VerdictRow};
use super::rows::Rows;
use ebrel_core::calibration::{Curve, Form};
use ebrel_core::series::DatedCurve;
use ebrel_core::soil::Horizon;
use ebrel_core::units::UnixSeconds;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Times travel as RFC 3339 in UTC.
pub(super) mod rfc3339_time {
    use super::{Deserialize, Deserializer, Serializer, UnixSeconds};

    pub fn serialize<S: Serializer>(t: &UnixSeconds, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(&crate::rfc3339(*t))
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<UnixSeconds, D::Error> {
        let text = String::deserialize(d)?;
        super::parse_time(&text).ok_or_else(|| serde::de::Error::custom(format!("“{text}” is no RFC 3339 time")))
    }
}

/// The same for a time that may be missing.
pub(super) mod rfc3339_option {
    use super::{Deserialize, Deserializer, Serializer, UnixSeconds};

    pub fn serialize<S: Serializer>(t: &Option<UnixSeconds>, s: S) -> Result<S::Ok, S::Error> {
        s.serialize_str(&t.map(crate::rfc3339).unwrap_or_default())
    }

    pub fn deserialize<'de, D: Deserializer<'de>>(d: D) -> Result<Option<UnixSeconds>, D::Error> {
        let text = Option::<String>::deserialize(d)?.filter(|t| !t.is_empty());
        let parse = |text: String| {
            super::parse_time(&text).ok_or_else(|| serde::de::Error::custom(format!("“{text}” is no RFC 3339 time")))
        };
        text.map(parse).transpose()
    }
}

/// Parses an RFC 3339 time to whole seconds. The usual form with `Z` is read digit by digit: a package holds millions.
pub(crate) fn parse_time(text: &str) -> Option<UnixSeconds> {
    let b = text.as_bytes();
    if b.len() == 20 && b[19] == b'Z' && b[10] == b'T' && b[4] == b'-' && b[7] == b'-' && b[13] == b':' && b[16] == b':'
    {
        let digits = |from: usize, to: usize| {
            b[from..to].iter().try_fold(0i64, |n, d| d.is_ascii_digit().then(|| n * 10 + i64::from(d - b'0')))
        };
        let small = |n: Option<i64>| n.and_then(|n| i8::try_from(n).ok());
        let date =
            jiff::civil::Date::new(i16::try_from(digits(0, 4)?).ok()?, small(digits(5, 7))?, small(digits(8, 10))?);
        let epoch = jiff::civil::date(1970, 1, 1);
        let days = i64::from((date.ok()? - epoch).get_days());
        let (h, m, s) = (digits(11, 13)?, digits(14, 16)?, digits(17, 19)?);
        let legal = h < 24 && m < 60 && s < 60;
        return legal.then_some(UnixSeconds(days * 86_400 + h * 3600 + m * 60 + s));
    }
    text.parse::<jiff::Timestamp>().ok().map(|t| UnixSeconds(t.as_second()))
}

/// A row of `stations.csv`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
#[serde(default)]
pub struct StationRow {
    /// Short code, unique in the package.
    pub station: String,
    /// Name that people use; not unique.
    pub name: String,
    /// Latitude, degrees; north is positive.
    pub latitude: Option<f64>,
    /// Longitude, degrees; east is positive.
    pub longitude: Option<f64>,
    /// Metres above the sea.
    pub elevation_m: Option<f64>,
    /// Offset of the times shown, minutes.
    pub utc_offset_minutes: Option<i64>,
    /// What is done there; empty for nothing.
    pub treatment: String,
    /// Slope of the surface, %.
    pub slope_pct: Option<f64>,
    /// Aspect, degrees from north.
    pub aspect_deg: Option<f64>,
    /// What grows there.
    pub cover: String,
    /// What is known to be wrong with the place.
    pub known_bias: String,
}

/// A row of `horizons.csv`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
#[serde(default)]
pub struct HorizonRow {
    /// Code of the station that it belongs to.
    pub station: String,
    /// Upper boundary, cm.
    pub top_cm: f64,
    /// Lower boundary, cm.
    pub bottom_cm: f64,
    /// Name that people use; not unique.
    pub name: String,
    /// USDA texture class.
    pub texture: String,
    /// Sand, % by mass.
    pub sand_pct: Option<f64>,
    /// Clay, % by mass.
    pub clay_pct: Option<f64>,
    /// Organic matter, %.
    pub organic_matter_pct: Option<f64>,
    /// Dry bulk density, g/cm³.
    pub bulk_density_g_cm3: Option<f64>,
}

impl HorizonRow {
    /// The row of a station's horizon.
    #[must_use]
    pub fn of(station: &str, horizon: &Horizon) -> Self {
        Self {
            station: station.to_owned(),
            top_cm: horizon.top_cm,
            bottom_cm: horizon.bottom_cm,
            name: horizon.name.clone(),
            texture: horizon.texture.clone(),
            sand_pct: horizon.sand_pct,
            clay_pct: horizon.clay_pct,
            organic_matter_pct: horizon.organic_matter_pct,
            bulk_density_g_cm3: horizon.bulk_density_g_cm3,
        }
    }

    /// The horizon itself.
    #[must_use]
    pub fn horizon(&self) -> Horizon {
        Horizon {
            top_cm: self.top_cm,
            bottom_cm: self.bottom_cm,
            name: self.name.clone(),
            texture: self.texture.clone(),
            sand_pct: self.sand_pct,
            clay_pct: self.clay_pct,
            organic_matter_pct: self.organic_matter_pct,
            bulk_density_g_cm3: self.bulk_density_g_cm3,
        }
    }
}

/// A row of `channels.csv`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, Default)]
#[serde(default)]
pub struct ChannelRow {
    /// Name of the channel, unique in the package; its readings are in the file of that name.
    pub channel: String,
    /// Code of the station that it belongs to.
    pub station: String,
    /// Name of the node that reports it.
    pub node: String,
    /// Port of the node.
    pub port: String,
    /// Code of the quantity, as in the list of quantities.
    pub quantity: String,
    /// Unit of the values.
    pub unit: String,
    /// Depth, positive down.
    pub depth_cm: Option<f64>,
    /// How the probe lies.
    pub orientation: String,
    /// Code of the measuring principle.
    pub principle: String,
    /// Model of the probe in words.
    pub probe_model: String,
    /// Serial of the probe.
    pub serial: String,
    /// First moment of the placement.
    #[serde(with = "rfc3339_option")]
    pub start: Option<UnixSeconds>,
    /// First moment after it.
    #[serde(with = "rfc3339_option")]
    pub end: Option<UnixSeconds>,
    /// Seconds between readings.
    pub interval_s: Option<i64>,
    /// Smallest value of the instrument, in its raw unit.
    pub instrument_min: Option<f64>,
    /// Largest value of the instrument.
    pub instrument_max: Option<f64>,
    /// Step of the values.
    pub resolution: Option<f64>,
    /// Another channel at the same depth.
    pub twin_of: String,
    /// Unit of the raw values, where the channel shows what a calibration makes of them; empty otherwise.
    pub raw_unit: String,
    /// What else there is to say of the placement.
    pub note: String,
}

/// A row of `readings.csv`.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct ReadingRow {
    /// Moment of it, seconds of UTC.
    pub time: UnixSeconds,
    /// The value; NaN for an empty cell.
    pub value: f64,
    /// The raw value it came from.
    pub raw: Option<f64>,
    /// 95 % half width.
    pub uncertainty: Option<f64>,
    /// What the node's clock showed, where that is not the true time.
    pub node_time: Option<UnixSeconds>,
    /// Number of the delivery that brought it, a row of `deliveries.csv`.
    pub delivery: Option<u32>,
}

impl ReadingRow {
    /// A value at a time, and nothing else known of it.
    #[must_use]
    pub const fn plain(time: UnixSeconds, value: f64) -> Self {
        Self { time, value, raw: None, uncertainty: None, node_time: None, delivery: None }
    }
}

/// A row of `clock_checks.csv`: a node's clock held against true time. Between checks it runs linearly; times in
/// `readings.csv` are the corrected ones.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ClockCheckRow {
    /// Name of the node.
    pub node: String,
    /// What its clock showed.
    #[serde(with = "rfc3339_time")]
    pub node_time: UnixSeconds,
    /// What it truly was.
    #[serde(with = "rfc3339_time")]
    pub true_time: UnixSeconds,
    /// How well the check is known, seconds.
    #[serde(default)]
    pub uncertainty_s: Option<f64>,
    /// "set" where the clock was set right at the check; "by its grid" where no other clock was held against it.
    #[serde(default)]
    pub note: String,
}

impl ClockCheckRow {
    /// The note of a check.
    #[must_use]
    pub fn note_of(set: bool, by_grid: bool) -> String {
        let parts = [(set, "set"), (by_grid, BY_GRID)];
        parts.into_iter().filter(|p| p.0).map(|p| p.1).collect::<Vec<_>>().join(", ")
    }

    /// Whether the clock was set right.
    #[must_use]
    pub fn is_set(&self) -> bool {
        self.note.split(',').any(|part| part.trim() == "set")
    }

    /// Whether the grid of its program told what it was, and no other clock.
    #[must_use]
    pub fn is_by_grid(&self) -> bool {
        self.note.split(',').any(|part| part.trim() == BY_GRID)
    }
}

const BY_GRID: &str = "by its grid";

/// A row of `references.csv`: what was measured by hand beside a channel's probe, in its unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ReferenceRow {
    /// The channel that it is held against.
    pub channel: String,
    /// When it was measured.
    #[serde(with = "rfc3339_time")]
    pub time: UnixSeconds,
    /// What was measured.
    pub value: f64,
    /// Its standard uncertainty, if it is known.
    #[serde(default)]
    pub uncertainty: Option<f64>,
    /// `thermometer`, `core` or `handheld`.
    #[serde(default)]
    pub kind: String,
    /// Whatever else there is to say.
    #[serde(default)]
    pub note: String,
    /// Who noted it; may be empty.
    #[serde(default)]
    pub by: String,
}

/// A row of `events.csv`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct EventRow {
    /// Code of the station that it belongs to.
    pub station: String,
    /// Code of the kind of event.
    pub kind: String,
    /// First moment of it.
    #[serde(with = "rfc3339_time")]
    pub start: UnixSeconds,
    /// Last moment of it; may be absent.
    #[serde(default, with = "rfc3339_option")]
    pub end: Option<UnixSeconds>,
    /// How much, in `unit`.
    #[serde(default)]
    pub amount: Option<f64>,
    /// Unit of the amount.
    #[serde(default)]
    pub unit: String,
    /// What else there is to say.
    #[serde(default)]
    pub note: String,
    /// Who says so.
    #[serde(default)]
    pub by: String,
}

/// A row of `calibrations.csv`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct CalibrationRow {
    /// Name of the channel concerned.
    pub channel: String,
    /// First moment it holds.
    #[serde(with = "rfc3339_time")]
    pub valid_from: UnixSeconds,
    /// Form by its code, see [`CalibrationRow::form_of`]; `correction` for a thermometer's.
    pub form: String,
    /// JSON array, lowest power first.
    pub coefficients: String,
    /// Smallest raw value among the samples.
    pub x_min: Option<f64>,
    /// Largest raw value among the samples.
    pub x_max: Option<f64>,
    /// Residual standard deviation.
    pub standard_error: Option<f64>,
    /// Where it comes from.
    #[serde(default)]
    pub source: String,
    /// JSON object: a [`Particulars`](super::Particulars), from which what was adopted can be made again; may be empty.
    #[serde(default)]
    pub particulars: String,
}

/// What a package calls a polynomial in the square root that is no [`Form`].
const ROOT_POLYNOMIAL: &str = "root_polynomial";

impl CalibrationRow {
    /// What a curve's form is called in a package: by its code, so that it is read back as what it is.
    #[must_use]
    pub fn form_of(curve: &Curve) -> &'static str {
        match (curve.kind(), curve.root) {
            (Some(form), _) => form.code(),
            (None, true) => ROOT_POLYNOMIAL,
            (None, false) => "polynomial",
        }
    }

    /// The curve with the date from which it holds; `None` for a row that is a correction, or whose coefficients make none.
    #[must_use]
    pub fn curve(&self) -> Option<DatedCurve> {
        if self.form == "correction" {
            return None;
        }
        let coefficients: Vec<f64> = serde_json::from_str(&self.coefficients).ok()?;
        let (low, high) = (self.x_min.unwrap_or(f64::NEG_INFINITY), self.x_max.unwrap_or(f64::INFINITY));
        let root = self.form == ROOT_POLYNOMIAL || Form::named(&self.form).is_some_and(Form::is_root);
        let curve = Curve::from_coefficients(&coefficients, low, high, self.standard_error).ok()?.in_root(root);
        Some(DatedCurve { valid_from: self.valid_from, curve })
    }
}

/// A row of `flags.csv`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FlagRow {
    /// Name of the channel concerned.
    pub channel: String,
    /// Time of the first reading concerned.
    #[serde(with = "rfc3339_time")]
    pub start: UnixSeconds,
    /// Last reading, inclusive.
    #[serde(with = "rfc3339_time")]
    pub end: UnixSeconds,
    /// Code of the test that found it.
    pub test: String,
    /// Code of the grade, as in the record package.
    pub grade: String,
    /// Verdict code, or empty.
    #[serde(default)]
    pub verdict: String,
    /// One sentence that says why.
    #[serde(default)]
    pub reason: String,
    /// JSON object of numbers.
    #[serde(default)]
    pub evidence: String,
}

/// A whole record package. What is only written may give its readings `R` one after another, without holding them.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Package<R = Rows> {
    /// Title of the package.
    pub title: String,
    /// What was selected, and what was assumed: goes into the descriptor.
    pub description: String,
    /// One row a station.
    pub stations: Vec<StationRow>,
    /// One row a horizon, from the surface down.
    pub horizons: Vec<HorizonRow>,
    /// Channels, each with its readings in the order of the file.
    pub channels: Vec<(ChannelRow, R)>,
    /// One row a check of a clock; the file is left out where there is none.
    pub clock_checks: Vec<ClockCheckRow>,
    /// What was measured by hand; it is read and held against the record by `ebrel check`.
    pub references: Vec<ReferenceRow>,
    /// One row an event, in order of time.
    pub events: Vec<EventRow>,
    /// One row a curve, with its first moment.
    pub calibrations: Vec<CalibrationRow>,
    /// One row a flag, with the verdict on it.
    pub flags: Vec<FlagRow>,
    /// One row a verdict in force; the file is left out where there is none.
    pub verdicts: Vec<VerdictRow>,
    /// One row a delivery of readings, in order of its number; the file is left out where there is none.
    pub deliveries: Vec<DeliveryRow>,
    /// The study that it belongs to, from the descriptor; empty in a package from elsewhere.
    pub study: StudyPart,
    /// By which numbers the tests ran at stations where some are not the usual ones, from the descriptor.
    pub tests: Vec<TestNumbers>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_in_every_legal_form() {
        for text in ["2026-03-01T00:15:00Z", "2026-03-01T01:15:00+01:00", "2026-03-01T00:15:00.000Z"] {
            assert_eq!(parse_time(text), Some(UnixSeconds(1_772_324_100)), "{text}");
        }
        for text in ["2026-02-30T00:00:00Z", "2026-03-01T24:00:00Z", "yesterday"] {
            assert_eq!(parse_time(text), None, "{text}");
        }
    }
}
