//! The one table of legal ranges.

use super::format_plain;
use thiserror::Error;

/// A closed interval of legal values of a quantity, with the words a message needs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Range {
    /// What the quantity is called in a message.
    pub name: &'static str,
    /// Its unit, as it is written behind a number.
    pub unit: &'static str,
    /// Smallest legal value.
    pub min: f64,
    /// Largest legal value.
    pub max: f64,
}

/// A value that its quantity cannot have.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
#[error("{} must lie between {} and {}; {} does not", .range.name, format_plain(.range.min), top(.range), format_plain(*.value))]
pub struct OutOfRange {
    /// The range that was missed.
    pub range: Range,
    /// The value that missed it.
    pub value: f64,
}

impl Range {
    /// Passes `value` on if it is legal.
    ///
    /// # Errors
    /// [`OutOfRange`] if it is not, or is not a number.
    pub fn check(self, value: f64) -> Result<f64, OutOfRange> {
        if (self.min..=self.max).contains(&value) { Ok(value) } else { Err(OutOfRange { range: self, value }) }
    }
}

/// The largest legal value with the unit, if it has one.
fn top(range: &Range) -> String {
    format!("{} {}", format_plain(range.max), range.unit).trim_end().to_owned()
}

/// Every legal range, in one place.
pub mod ranges {
    use super::Range;

    const fn range(name: &'static str, unit: &'static str, min: f64, max: f64) -> Range {
        Range { name, unit, min, max }
    }

    /// Volumetric water content.
    pub const VOLUMETRIC_WATER_CONTENT: Range = range("water content", "m³/m³", -0.5, 1.0);
    /// Depth below the surface.
    pub const DEPTH_CM: Range = range("depth", "cm", -300.0, 1000.0);
    /// A mass on a field or laboratory balance.
    pub const MASS_G: Range = range("mass", "g", 0.0, 50_000.0);
    /// The volume of a core or tin.
    pub const CORE_VOLUME_CM3: Range = range("core volume", "cm³", 1.0, 20_000.0);
    /// Dry bulk density, from peat to compacted subsoil.
    pub const BULK_DENSITY_G_CM3: Range = range("bulk density", "g/cm³", 0.05, 2.2);
    /// Density of a soil's solids, from peat to iron-rich minerals.
    pub const PARTICLE_DENSITY_G_CM3: Range = range("density of the solids", "g/cm³", 1.0, 5.0);
    /// Temperature of soil, air or an oven.
    pub const TEMPERATURE_C: Range = range("temperature", "°C", -80.0, 200.0);
    /// The fixed offset of a logger's or a study's clock from UTC.
    pub const UTC_OFFSET_MINUTES: Range = range("offset from UTC", "min", -720.0, 840.0);
    /// A share in percent.
    pub const PERCENT: Range = range("share", "%", 0.0, 100.0);
    /// Length of a cable.
    pub const CABLE_M: Range = range("cable", "m", 0.0, 1000.0);
    /// Height above the sea.
    pub const ELEVATION_M: Range = range("elevation", "m", -450.0, 9000.0);
    /// Latitude of a station.
    pub const LATITUDE: Range = range("latitude", "°", -90.0, 90.0);
    /// Longitude of a station.
    pub const LONGITUDE: Range = range("longitude", "°", -180.0, 180.0);
}
