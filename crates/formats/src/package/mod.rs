//! The record package: Ebrel's open exchange form, a Frictionless Data Package as a folder or a zip.
//!
//! [`Package`] holds its tables; [`write_zip`] writes them so that the same content gives the same bytes, and
//! [`read_path`] reads a folder or a zip. Unknown columns are passed over, not refused.

mod origin;
mod read;
mod rows;
mod tables;
mod write;

pub use origin::{DeliveryRow, Particulars, StudyPart, TestNumbers, VerdictRow};
pub use read::{PackageError, read_path, read_zip};
pub use rows::Rows;
pub(crate) use tables::parse_time;
pub use tables::{
    CalibrationRow, ChannelRow, ClockCheckRow, EventRow, FlagRow, HorizonRow, Package, ReadingRow, ReferenceRow,
    StationRow,
};
pub use write::{flags_csv, write_zip};
