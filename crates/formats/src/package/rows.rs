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
}

impl Rows {
    /// Adds a reading.
    pub fn push(&mut self, reading: ReadingRow) {
        let n = self.times.len();
        self.times.push(reading.time.0);
        self.values.push(reading.value);
        for (column, value) in [(&mut self.raws, reading.raw), (&mut self.uncertainties, reading.uncertainty)] {
            if value.is_some() || !column.is_empty() {
                column.resize(n, f64::NAN);
                column.push(value.unwrap_or(f64::NAN));
            }
        }
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
        let time = UnixSeconds(*self.times.get(i)?);
        Some(ReadingRow { time, value: self.values[i], raw: of(&self.raws), uncertainty: of(&self.uncertainties) })
    }

    /// All of them.
    pub fn iter(&self) -> impl Iterator<Item = ReadingRow> + '_ {
        (0..self.len()).filter_map(|i| self.get(i))
    }
}

/// The same readings, also where a value is none.
impl PartialEq for Rows {
    fn eq(&self, other: &Self) -> bool {
        let bits =
            |r: &ReadingRow| (r.time, r.value.to_bits(), r.raw.map(f64::to_bits), r.uncertainty.map(f64::to_bits));
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
