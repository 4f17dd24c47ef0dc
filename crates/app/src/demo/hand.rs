//! What was measured by hand at the cut coupe on two visits: the record agrees with all of it.

use super::stories::DAY;
use crate::record::{ChannelRecord, StationRecord};
use ebrel_core::quality::{Reference, ReferenceKind};
use ebrel_core::units::{Quantity, UnixSeconds};
use ebrel_store::references::NewReference;
use ebrel_store::{Store, StoreError};

/// Days after the start, depth in cm, with what, how far off the record, and what was written beside it.
const BY_HAND: [(i64, f64, ReferenceKind, f64, &str); 6] = [
    (195, 5.0, ReferenceKind::Thermometer, 0.12, "left five minutes, lid shaded"),
    (195, 15.0, ReferenceKind::Core, -0.011, "tin 31, 40 cm from the cable"),
    (195, 30.0, ReferenceKind::Thermometer, -0.08, "left five minutes"),
    (600, 5.0, ReferenceKind::Thermometer, -0.15, "left four minutes"),
    (600, 15.0, ReferenceKind::Core, 0.014, "tin 8, uphill of the pit"),
    (600, 30.0, ReferenceKind::Core, 0.006, "tin 9, same hole"),
];

/// Notes it, after the readings are stored and the calibrations adopted.
pub(super) async fn seed(store: &Store, station: i64, start: i64) -> Result<(), StoreError> {
    let record = StationRecord::load(store, station).await?;
    for (days, depth, kind, off, note) in BY_HAND {
        let (quantity, decimals, uncertainty) = match kind {
            ReferenceKind::Thermometer => (Quantity::SoilTemperature, 10.0, 0.15),
            ReferenceKind::Core | ReferenceKind::Handheld => (Quantity::WaterContent, 1000.0, 0.012),
        };
        let time = UnixSeconds(start + days * DAY + 10 * 3600 + 1200);
        let there = |c: &&ChannelRecord| c.quantity() == quantity && c.channel.placement.depth_cm == Some(depth);
        let Some(channel) = record.channels.iter().find(there) else { continue };
        let Some(beside) = channel.shown_beside(time) else { continue };
        let value = ((beside.value + off) * decimals).round() / decimals;
        let new = NewReference {
            stream: channel.channel.stream.id,
            quantity,
            reference: Reference { time, value, uncertainty: Some(uncertainty) },
            kind,
            note: note.into(),
            by: "T. Quill".into(),
            at: UnixSeconds(time.0 + 6 * 3600),
        };
        store.add_reference(&new).await?;
    }
    Ok(())
}
