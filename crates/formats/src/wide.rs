//! One wide CSV for a spreadsheet: a row a time, a column a channel.

use crate::formula::harmless;
use ebrel_core::units::UnixSeconds;
use std::io::Write;
use std::iter::Peekable;

/// A column of the wide table. Its readings `R` may come one after another, without being held.
#[derive(Debug, Clone, PartialEq)]
pub struct WideColumn<R = Vec<(UnixSeconds, f64)>> {
    /// Heading, with its unit.
    pub heading: String,
    /// Readings in order of time, each time once; NaN leaves the cell empty.
    pub readings: R,
    /// Remarks on stretches of readings, for the last column.
    pub remarks: Vec<Remark>,
}

/// What is said of all readings of a column from one moment to another.
#[derive(Debug, Clone, PartialEq)]
pub struct Remark {
    /// First moment of it, inclusive.
    pub start: UnixSeconds,
    /// Last moment of it, inclusive.
    pub end: UnixSeconds,
    /// What is said of it.
    pub text: String,
}

/// How far the writing has come in a column.
struct Cursor<I: Iterator> {
    readings: Peekable<I>,
    remarks: Vec<Remark>,
    /// Remarks by their beginning, and how many have begun.
    order: Vec<usize>,
    begun: usize,
    /// Remarks that hold, by their place in the column.
    open: Vec<usize>,
}

impl<I: Iterator<Item = (UnixSeconds, f64)>> Cursor<I> {
    fn new(readings: I, remarks: Vec<Remark>) -> Self {
        let mut order: Vec<usize> = (0..remarks.len()).collect();
        order.sort_by_key(|i| remarks[*i].start);
        Self { readings: readings.peekable(), remarks, order, begun: 0, open: Vec::new() }
    }

    fn time(&mut self) -> Option<UnixSeconds> {
        self.readings.peek().map(|r| r.0)
    }

    /// The value at `t`, if there is a reading, whose remarks are added to `said`.
    fn take<'a>(&'a mut self, t: UnixSeconds, said: &mut Vec<&'a str>) -> Option<f64> {
        let (_, value) = self.readings.next_if(|r| r.0 == t)?;
        let remarks = &self.remarks;
        while let Some(i) = self.order.get(self.begun).filter(|i| remarks[**i].start <= t) {
            self.open.push(*i);
            self.begun += 1;
        }
        self.open.retain(|i| remarks[*i].end >= t);
        self.open.sort_unstable();
        said.extend(self.open.iter().map(|i| remarks[*i].text.as_str()));
        Some(value)
    }
}

/// Writes the table, row by row. Times are RFC 3339 with the fixed offset `offset_minutes`.
///
/// # Errors
/// If the CSV cannot be written.
pub fn wide_csv<R>(columns: Vec<WideColumn<R>>, offset_minutes: i64, out: impl Write) -> Result<(), csv::Error>
where
    R: IntoIterator<Item = (UnixSeconds, f64)>,
{
    let offset = i32::try_from(offset_minutes * 60).ok().and_then(|s| jiff::tz::Offset::from_seconds(s).ok());
    let offset = offset.unwrap_or(jiff::tz::Offset::UTC);
    let mut writer = csv::Writer::from_writer(out);
    let time_heading = format!("time (UTC{offset})");
    let headings = std::iter::once(time_heading).chain(columns.iter().map(|c| harmless(&c.heading)));
    writer.write_record(headings.chain(["flags".to_owned()]))?;
    let mut cursors: Vec<_> = columns.into_iter().map(|c| Cursor::new(c.readings.into_iter(), c.remarks)).collect();
    while let Some(t) = cursors.iter_mut().filter_map(Cursor::time).min() {
        let stamp = jiff::Timestamp::from_second(t.0)
            .map(|ts| offset.to_datetime(ts).strftime("%Y-%m-%d %H:%M:%S").to_string());
        writer.write_field(stamp.unwrap_or_default())?;
        let mut said = Vec::new();
        for cursor in &mut cursors {
            let value = cursor.take(t, &mut said).filter(|v| v.is_finite());
            writer.write_field(value.map(|v| v.to_string()).unwrap_or_default())?;
        }
        writer.write_field(harmless(&said.join("; ")))?;
        writer.write_record(None::<&[u8]>)?;
    }
    Ok(writer.flush()?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn written(columns: &[WideColumn], offset_minutes: i64) -> String {
        let mut out = Vec::new();
        wide_csv(columns.to_vec(), offset_minutes, &mut out).unwrap();
        String::from_utf8(out).unwrap()
    }

    fn column() -> impl Strategy<Value = WideColumn> {
        let readings = prop::collection::btree_map(-40..40_i64, -9..9_i32, 0..30);
        let remarks = prop::collection::vec((-50..50_i64, 0..20_i64, "[a-c]"), 0..6);
        (readings, remarks).prop_map(|(readings, remarks)| WideColumn {
            heading: "h".into(),
            readings: readings.into_iter().map(|(t, v)| (UnixSeconds(t), f64::from(v))).collect(),
            remarks: (remarks.into_iter())
                .map(|(t, n, text)| Remark { start: UnixSeconds(t), end: UnixSeconds(t + n), text })
                .collect(),
        })
    }

    proptest! {
        #[test]
        fn each_reading_and_each_remark_on_it_stands_in_the_row_of_its_time(columns in prop::collection::vec(column(), 0..4)) {
            let mut rows: BTreeMap<i64, (Vec<String>, Vec<String>)> = BTreeMap::new();
            for (i, column) in columns.iter().enumerate() {
                for (t, value) in &column.readings {
                    let row = rows.entry(t.0).or_insert_with(|| (vec![String::new(); columns.len()], Vec::new()));
                    row.0[i] = value.to_string();
                    let on_it = column.remarks.iter().filter(|r| r.start <= *t && *t <= r.end);
                    row.1.extend(on_it.map(|r| r.text.clone()));
                }
            }
            let text = written(&columns, 0);
            let lines: Vec<Vec<&str>> = text.lines().skip(1).map(|l| l.split(',').skip(1).collect()).collect();
            let expected: Vec<Vec<String>> =
                rows.into_values().map(|(cells, said)| cells.into_iter().chain([said.join("; ")]).collect()).collect();
            prop_assert_eq!(lines, expected);
        }
    }

    #[test]
    fn formulas_are_made_harmless_and_holes_stay_empty() {
        let t = UnixSeconds;
        let columns = [
            WideColumn {
                heading: "=cmd()|5 cm".into(),
                readings: vec![(t(0), -0.25), (t(900), f64::NAN)],
                remarks: vec![Remark { start: t(100), end: t(900), text: "@mouse".into() }],
            },
            WideColumn { heading: "air (°C)".into(), readings: vec![(t(900), 9.5)], remarks: Vec::new() },
        ];
        let text = written(&columns, 60);
        assert_eq!(
            text,
            "time (UTC+01),'=cmd()|5 cm,air (°C),flags\n1970-01-01 01:00:00,-0.25,,\n1970-01-01 01:15:00,,9.5,'@mouse\n"
        );
    }
}
