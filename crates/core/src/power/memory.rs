//! How long a logger's memory holds.

/// One kind of record that goes into the memory.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct RecordLoad {
    /// Bytes of one record.
    pub bytes: u64,
    /// Records a day.
    pub per_day: f64,
}

/// What fits into a memory.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Memory {
    /// Records of all kinds that fit.
    pub records: u64,
    /// Days until the oldest is overwritten or the logger stops.
    pub days: f64,
}

/// How long a memory of `bytes` in pages of `page_bytes`, of which `reserved` are kept back, holds records of several
/// kinds. A record does not straddle two pages, so the floor comes first; each kind fills pages of its own.
///
/// Worked value: 4 MiB in pages of 256, 16 reserved, records of 24 bytes every 900 s: 163 680 records, 1705 days.
/// Infinite days if nothing is kept; 0 if a record is larger than a page.
#[must_use]
pub fn memory(bytes: u64, page_bytes: u64, reserved: u64, loads: &[RecordLoad]) -> Memory {
    let pages = (bytes / page_bytes.max(1)).saturating_sub(reserved);
    let pages_a_day: f64 = loads.iter().map(|l| l.per_day / (page_bytes / l.bytes.max(1)) as f64).sum();
    let days = if pages_a_day > 0.0 { pages as f64 / pages_a_day } else { f64::INFINITY };
    let records =
        if days.is_finite() { (loads.iter().map(|l| l.per_day).sum::<f64>() * days + 1e-6) as u64 } else { 0 };
    Memory { records, days }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn memories_of_the_reference() {
        let one = memory(4_194_304, 256, 16, &[RecordLoad { bytes: 24, per_day: 96.0 }]);
        assert_close(one.days, 1705.0, 1e-12);
        assert_eq!(one.records, 163_680);
        assert_close(memory(524_288, 256, 4, &[RecordLoad { bytes: 20, per_day: 48.0 }]).days, 511.0, 1e-12);
    }

    #[test]
    fn a_second_table_costs_its_share_and_a_huge_record_fits_nowhere() {
        let table = RecordLoad { bytes: 64, per_day: 96.0 };
        let alone = memory(65_536, 256, 0, &[table]).days;
        assert_close(memory(65_536, 256, 0, &[table, table]).days, alone / 2.0, 1e-12);
        assert_eq!(memory(65_536, 256, 0, &[RecordLoad { bytes: 300, per_day: 96.0 }]).days, 0.0);
        assert_eq!(memory(65_536, 256, 0, &[]).days, f64::INFINITY);
    }
}
