//! Readings of a station as a table: one row a time, one column a channel.

use super::record::{ChannelRecord, StationRecord};
use ebrel_core::quality::Test;
use ebrel_core::series::Belief;
use ebrel_core::units::{Grade, Quantity, UnixSeconds};
use ebrel_store::flags::StoredFlag;

/// A column of the table.
#[derive(Debug, Clone, PartialEq)]
pub struct TableColumn {
    /// The stream.
    pub stream: i64,
    /// The channel: quantity and depth.
    pub label: String,
    /// Unit of its values.
    pub unit: String,
    /// How many decimals its values deserve.
    pub decimals: usize,
}

/// A value of the table.
#[derive(Debug, Clone, PartialEq)]
pub struct Cell {
    /// As shown; `None` where no calibration held yet.
    pub value: Option<f64>,
    /// What tests say of it, with their grade.
    pub flags: Vec<(Test, Grade)>,
    /// Whether it is left out of findings.
    pub left_out: bool,
}

/// A window of readings.
#[derive(Debug, Clone, PartialEq)]
pub struct Table {
    /// Channels, in the order of the record.
    pub columns: Vec<TableColumn>,
    /// Times and values; `None` where a channel has no reading at a time.
    pub rows: Vec<(UnixSeconds, Vec<Option<Cell>>)>,
    /// The first time after the last row.
    pub next: Option<UnixSeconds>,
    /// Where a page of as many rows before the first one begins.
    pub before: Option<UnixSeconds>,
}

/// The rows of a station from a time on, at most `rows` of them, of channels that `wanted` wants.
#[must_use]
pub fn table(
    record: &StationRecord,
    flags: &[StoredFlag],
    from: UnixSeconds,
    rows: usize,
    wanted: impl Fn(Quantity) -> bool,
) -> Table {
    let channels: Vec<&ChannelRecord> = record.channels.iter().filter(|c| wanted(c.quantity())).collect();
    let starts: Vec<usize> = channels.iter().map(|c| c.view().times.partition_point(|t| *t < from.0)).collect();
    let mut times: Vec<i64> = Vec::new();
    let mut earlier: Vec<i64> = Vec::new();
    for (channel, start) in channels.iter().zip(&starts) {
        times.extend(channel.view().times[*start..].iter().take(rows + 1));
        earlier.extend(channel.view().times[..*start].iter().rev().take(rows));
    }
    for all in [&mut times, &mut earlier] {
        all.sort_unstable();
        all.dedup();
    }
    let next = times.get(rows).map(|t| UnixSeconds(*t));
    times.truncate(rows);
    let before = earlier.len().checked_sub(1).map(|last| UnixSeconds(earlier[last.saturating_sub(rows - 1)]));
    let last = times.last().copied().unwrap_or(i64::MIN);
    let belief = Belief::default();
    let mut filled: Vec<(UnixSeconds, Vec<Option<Cell>>)> =
        times.iter().map(|t| (UnixSeconds(*t), vec![None; channels.len()])).collect();
    for (k, (channel, start)) in channels.iter().zip(&starts).enumerate() {
        let view = channel.view();
        let end = view.times.partition_point(|t| *t <= last).max(*start);
        let own: Vec<&StoredFlag> = flags.iter().filter(|f| f.stream_id == channel.channel.stream.id).collect();
        let values = channel.values_in(view.slice(*start..end));
        for (t, value) in view.times[*start..end].iter().zip(values.iter()) {
            let Ok(row) = times.binary_search(t) else { continue };
            let here = own.iter().filter(|f| (f.flag.start.0..=f.flag.end.0).contains(t));
            let mut cell = Cell { value: Some(*value).filter(|v| v.is_finite()), flags: Vec::new(), left_out: false };
            for flag in here {
                cell.flags.push((flag.flag.test, flag.flag.grade));
                cell.left_out |= flag.leaves_out(&belief);
            }
            filled[row].1[k] = Some(cell);
        }
    }
    let column = |c: &&ChannelRecord| TableColumn {
        stream: c.channel.stream.id,
        label: c.channel.label(),
        unit: c.unit().to_owned(),
        decimals: c.quantity().decimals(),
    };
    Table { columns: channels.iter().map(column).collect(), rows: filled, next, before }
}
