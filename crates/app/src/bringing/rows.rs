//! What rows of a package mean here, and what they leave open.

use super::report::Slips;
use ebrel_core::soil::Horizon;
use ebrel_core::units::{Principle, Quantity};
use ebrel_formats::package::{CalibrationRow, ChannelRow, Package, Rows};
use ebrel_store::batches::Source;
use ebrel_store::packages::FirstDelivery;
use std::collections::HashMap;

/// The offset at which a package shows its times, minutes.
pub(super) fn offset(package: &Package) -> i64 {
    let of_station = package.stations.iter().find_map(|s| s.utc_offset_minutes);
    of_station.unwrap_or(package.study.utc_offset_minutes)
}

/// Codes of the stations of a package, in its order.
pub(super) fn stations(package: &Package) -> Vec<&str> {
    let mut codes: Vec<&str> = Vec::new();
    let named = package.stations.iter().map(|s| &s.station).chain(package.channels.iter().map(|c| &c.0.station));
    for code in named {
        if !codes.contains(&code.as_str()) {
            codes.push(code);
        }
    }
    codes
}

/// The deliveries that a package tells of, and the place of each by its number.
pub(super) fn deliveries(package: &Package, slips: &mut Slips) -> (Vec<FirstDelivery>, HashMap<u32, usize>) {
    let (mut all, mut places) = (Vec::new(), HashMap::new());
    for (row, d) in (1..).zip(&package.deliveries) {
        let Some(source) = Source::of_code(&d.source) else {
            slips.add("deliveries.csv", row, format!("“{}” is no source of readings", d.source));
            continue;
        };
        if places.insert(d.delivery, all.len()).is_some() {
            slips.add("deliveries.csv", row, format!("the number {} stands there twice", d.delivery));
        }
        let (file_name, sha256, by) = (d.file.clone(), d.sha256.clone(), d.by.clone());
        all.push(FirstDelivery { received_at: d.received, source, file_name, sha256, by });
    }
    (all, places)
}

/// The horizons of a station, from the surface down.
pub(super) fn horizons(package: &Package, station: &str, slips: &mut Slips) -> Vec<Horizon> {
    let here = (1..).zip(&package.horizons).filter(|(_, h)| h.station == station);
    let mut horizons: Vec<Horizon> = Vec::new();
    for (row, h) in here {
        if !(h.bottom_cm > h.top_cm && h.top_cm.is_finite() && h.bottom_cm.is_finite()) {
            slips.add("horizons.csv", row, "the horizon must end below where it begins");
        } else if horizons.iter().any(|o| o.top_cm == h.top_cm) {
            slips.add("horizons.csv", row, format!("two horizons begin at {} cm", h.top_cm));
        } else {
            horizons.push(h.horizon());
        }
    }
    horizons.sort_by(|a, b| a.top_cm.total_cmp(&b.top_cm));
    horizons
}

/// What a channel's readings are stored as.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Kept {
    /// What the stream reports.
    pub quantity: Quantity,
    /// In which unit.
    pub unit: String,
    /// Whether the raw values are stored, and the values follow from them.
    pub raw: bool,
    /// Whether raw values are stored beside the values, because these do not follow from them.
    pub beside: bool,
}

/// How far a value may differ from what its calibration gives: packages have five decimals.
const NEAR: f64 = 2e-5;

/// What a channel's readings are to be stored as: raw values where the values follow from them by the calibrations of the package.
pub(super) fn kept(package: &Package, row: &ChannelRow, quantity: Quantity, readings: &Rows) -> Kept {
    let as_given = Kept { quantity, unit: row.unit.clone(), raw: false, beside: false };
    if !row.raw_unit.is_empty() {
        return Kept { quantity: Quantity::RawOutput, unit: row.raw_unit.clone(), raw: true, beside: false };
    }
    if readings.raws.iter().all(|r| r.is_nan()) {
        return as_given;
    }
    if follows(package, &row.channel, readings) {
        let raw_output = Kept { quantity: Quantity::RawOutput, unit: "raw".into(), raw: true, beside: false };
        return if quantity.is_temperature() { Kept { raw: true, ..as_given } } else { raw_output };
    }
    Kept { beside: true, ..as_given }
}

/// Whether all values of a channel follow from their raw values by the curves and corrections that the package gives for it.
fn follows(package: &Package, channel: &str, readings: &Rows) -> bool {
    let here: Vec<&CalibrationRow> = package.calibrations.iter().filter(|c| c.channel == channel).collect();
    let curves: Vec<_> = here.iter().filter_map(|c| c.curve()).collect();
    let line = |c: &&CalibrationRow| {
        let line: Vec<f64> = serde_json::from_str(&c.coefficients).ok()?;
        Some((c.valid_from, line[..].try_into().ok()?))
    };
    let lines: Vec<_> =
        here.iter().filter(|c| c.form == "correction").filter_map(|c| -> Option<(_, [f64; 2])> { line(c) }).collect();
    if curves.is_empty() && lines.is_empty() {
        return false;
    }
    readings.iter().all(|r| {
        let Some(raw) = r.raw else { return r.value.is_nan() };
        let curve = curves.iter().filter(|c| c.valid_from <= r.time).max_by_key(|c| c.valid_from);
        let made = match curve {
            Some(dated) => dated.curve.theta(raw),
            None if !curves.is_empty() => return r.value.is_nan(),
            None => {
                let line = lines.iter().filter(|l| l.0 <= r.time).max_by_key(|l| l.0);
                line.map_or(raw, |(_, [offset, gain])| offset + gain * raw)
            }
        };
        (made - r.value).abs() <= NEAR
    })
}

/// The channel for which a channel's probe is there: of several quantities of one serial the first that tells of water in the soil,
/// else the first.
pub(super) fn main_of_probe<'p>(package: &'p Package, row: &'p ChannelRow) -> &'p ChannelRow {
    if row.serial.is_empty() {
        return row;
    }
    let of_probe = || package.channels.iter().map(|c| &c.0).filter(|c| c.serial == row.serial);
    let wet = |c: &&ChannelRow| Quantity::from_code(&c.quantity).is_some_and(Quantity::is_moisture);
    of_probe().find(wet).or_else(|| of_probe().next()).unwrap_or(row)
}

/// The principle of a probe, by its code; by what it measures, where a package names none that is known.
pub(super) fn principle(row: &ChannelRow, quantity: Quantity) -> Principle {
    Principle::from_code(&row.principle).unwrap_or(match quantity {
        Quantity::WaterTension => Principle::GranularMatrix,
        Quantity::Rain | Quantity::Irrigation => Principle::RainGauge,
        q if q.is_moisture() || q == Quantity::ElectricalConductivity => Principle::Dielectric,
        q if q.is_temperature() => Principle::Thermometer,
        _ => Principle::Node,
    })
}
