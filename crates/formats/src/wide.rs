//! One wide CSV for a spreadsheet: a row a time, a column a channel.

use crate::formula::harmless;
use ebrel_core::units::UnixSeconds;
use std::collections::BTreeMap;

/// A column of the wide table.
#[derive(Debug, Clone, PartialEq)]
pub struct WideColumn {
    /// Heading, with its unit.
    pub heading: String,
    /// Readings in order of time; NaN leaves the cell empty.
    pub readings: Vec<(UnixSeconds, f64)>,
    /// Remarks on single times, for the last column.
    pub remarks: Vec<(UnixSeconds, String)>,
}

/// Writes the table. Times are RFC 3339 with the fixed offset `offset_minutes`.
///
/// # Errors
/// If the CSV cannot be written.
pub fn wide_csv(columns: &[WideColumn], offset_minutes: i64) -> Result<Vec<u8>, csv::Error> {
    let offset = i32::try_from(offset_minutes * 60).ok().and_then(|s| jiff::tz::Offset::from_seconds(s).ok());
    let offset = offset.unwrap_or(jiff::tz::Offset::UTC);
    let mut rows: BTreeMap<i64, (Vec<Option<f64>>, Vec<&str>)> = BTreeMap::new();
    let empty = || (vec![None; columns.len()], Vec::new());
    for (i, column) in columns.iter().enumerate() {
        for (t, value) in &column.readings {
            rows.entry(t.0).or_insert_with(empty).0[i] = value.is_finite().then_some(*value);
        }
        for (t, remark) in &column.remarks {
            rows.entry(t.0).or_insert_with(empty).1.push(remark);
        }
    }
    let mut writer = csv::Writer::from_writer(Vec::new());
    let time_heading = format!("time (UTC{offset})");
    let headings = std::iter::once(time_heading).chain(columns.iter().map(|c| harmless(&c.heading)));
    writer.write_record(headings.chain(["flags".to_owned()]))?;
    for (t, (values, remarks)) in rows {
        let stamp =
            jiff::Timestamp::from_second(t).map(|ts| offset.to_datetime(ts).strftime("%Y-%m-%d %H:%M:%S").to_string());
        let cells = values.iter().map(|v| v.map(|v| v.to_string()).unwrap_or_default());
        let all = std::iter::once(stamp.unwrap_or_default()).chain(cells).chain([harmless(&remarks.join("; "))]);
        writer.write_record(all)?;
    }
    writer.into_inner().map_err(|e| e.into_error().into())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn formulas_are_made_harmless_and_holes_stay_empty() {
        let t = UnixSeconds;
        let columns = [
            WideColumn {
                heading: "=cmd()|5 cm".into(),
                readings: vec![(t(0), -0.25), (t(900), f64::NAN)],
                remarks: vec![(t(900), "@mouse".into())],
            },
            WideColumn { heading: "air (°C)".into(), readings: vec![(t(900), 9.5)], remarks: Vec::new() },
        ];
        let text = String::from_utf8(wide_csv(&columns, 60).unwrap()).unwrap();
        assert_eq!(
            text,
            "time (UTC+01),'=cmd()|5 cm,air (°C),flags\n1970-01-01 01:00:00,-0.25,,\n1970-01-01 01:15:00,,9.5,'@mouse\n"
        );
    }
}
