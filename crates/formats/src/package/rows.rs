//! Readings of a channel, column by column: a package holds millions, and most have neither raw value nor uncertainty.

use super::tables::ReadingRow;
use ebrel_core::units::UnixSeconds;

/// Readings of a channel in the order of the file.
#[derive(Debug, Clone, Default)]
pub struct Rows {
    /// Seconds of UTC.
    pub times: Vec<i64>,
    /// Values; NaN for an empty cell.
    pub values: Vec<f64>,
    /// Raw values, NaN where there is none; empty if no reading has one.
    pub raws: Vec<f64>,
    /// 95 % half widths, NaN where there is none; empty if no reading has one.
    pub uncertainties: Vec<f64>,
    /// What the node's clock showed, [`NONE`] where that is not given; empty if it is for no reading.
    pub node_times: Vec<i64>,
    /// Numbers of deliveries, 0 where none is given; empty if none is for any reading.
    pub deliveries: Vec<u32>,
}

/// A time that is not given.
const NONE: i64 = i64::MIN;

/// Adds to a column that stays empty until its first value comes.
fn add<T: Copy>(column: &mut Vec<T>, n: usize, value: Option<T>, none: T) {
    if value.is_some() || !column.is_empty() {
        column.resize(n, none);
        column.push(value.unwrap_or(none));
    }
}

impl Rows {
    /// Adds a reading.
    pub fn push(&mut self, reading: ReadingRow) {
        let n = self.times.len();
        self.times.push(reading.time.0);
        self.values.push(reading.value);
        add(&mut self.raws, n, reading.raw, f64::NAN);
        add(&mut self.uncertainties, n, reading.uncertainty, f64::NAN);
        add(&mut self.node_times, n, reading.node_time.map(|t| t.0), NONE);
        add(&mut self.deliveries, n, reading.delivery, 0);
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.times.len()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.times.is_empty()
    }

    /// One of them.
    #[must_use]
    pub fn get(&self, i: usize) -> Option<ReadingRow> {
        let of = |column: &[f64]| column.get(i).copied().filter(|v| !v.is_nan());
        Some(ReadingRow {
            time: UnixSeconds(*self.times.get(i)?),
            value: self.values[i],
            raw: of(&self.raws),
            uncertainty: of(&self.uncertainties),
            node_time: self.node_times.get(i).copied().filter(|t| *t != NONE).map(UnixSeconds),
            delivery: self.deliveries.get(i).copied().filter(|d| *d != 0),
        })
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = ReadingRow> + '_ {
        (0..self.len()).filter_map(|i| self.get(i))
    }
}

/// The same readings, also where a value is none.
impl PartialEq for Rows {
    fn eq(&self, other: &Self) -> bool {
        let of = |v: Option<f64>| v.map(f64::to_bits);
        let bits = |r: &ReadingRow| (r.time, r.value.to_bits(), of(r.raw), of(r.uncertainty), r.node_time, r.delivery);
        self.len() == other.len() && self.iter().zip(other.iter()).all(|(a, b)| bits(&a) == bits(&b))
    }
}

impl FromIterator<ReadingRow> for Rows {
    fn from_iter<I: IntoIterator<Item = ReadingRow>>(readings: I) -> Self {
        let mut rows = Self::default();
        readings.into_iter().for_each(|r| rows.push(r));
        rows
    }
}

impl IntoIterator for Rows {
    type Item = ReadingRow;
    type IntoIter = Box<dyn Iterator<Item = ReadingRow>>;

    fn into_iter(self) -> Self::IntoIter {
        Box::new((0..self.len()).filter_map(move |i| self.get(i)))
    }
}
