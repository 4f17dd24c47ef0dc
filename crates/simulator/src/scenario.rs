//! The made-up place: soil, times, what is at which port.

use crate::weather::Season;
use ebrel_core::units::{BulkDensity, ParticleDensity, pore_space};
use jiff::civil::{Time, date};
use jiff::tz::TimeZone;

/// A blade dielectric probe, analog, 2.5 V.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MoistureProbe {
    /// Port it is plugged into.
    pub port: &'static str,
    /// Depth, cm.
    pub depth_cm: f64,
    /// Number of the serial "BD-nnnn".
    pub serial: u32,
}

/// One horizon of the profile.
#[derive(Debug, Clone, PartialEq)]
pub struct Horizon {
    /// Its name: "A", "Bt".
    pub name: &'static str,
    /// Upper and lower boundary, cm.
    pub span_cm: (f64, f64),
    /// USDA texture class, or what else it is.
    pub texture: &'static str,
    /// Percent of sand and of clay.
    pub sand_clay_pct: (f64, f64),
    /// Organic matter, percent.
    pub organic_pct: f64,
    /// Dry bulk density, g/cm³.
    pub bulk_density: f64,
    /// Pore space, m³/m³.
    pub pore_space: f64,
    /// Water content at field capacity, m³/m³.
    pub field_capacity: f64,
    /// Water content at the wilting point, m³/m³.
    pub wilting: f64,
    /// Saturated conductivity, mm/h.
    pub conductivity_mm_h: f64,
}

/// All that decides a simulation but the seed.
#[derive(Debug, Clone, PartialEq)]
pub struct Scenario {
    /// First and last moment of the record, seconds of UTC.
    pub start: i64,
    /// Last moment of the record.
    pub end: i64,
    /// Seconds between records.
    pub interval: i64,
    /// The place's climate.
    pub season: Season,
    /// Soil from the surface down.
    pub horizons: Vec<Horizon>,
    /// Moment from which the soil lies open to sun and wind.
    pub canopy_removed: i64,
    /// Dielectric probes, the shallowest first.
    pub moisture: Vec<MoistureProbe>,
    /// Soil thermometers: port and depth in cm.
    pub thermometers: Vec<(&'static str, f64)>,
}

/// Seconds of UTC of a date at midnight.
pub(crate) fn midnight(year: i16, month: i8, day: i8) -> i64 {
    TimeZone::UTC.to_timestamp(date(year, month, day).to_datetime(Time::midnight())).map_or(0, |t| t.as_second())
}

/// Pore space of a horizon by its density and organic matter, as Ebrel reckons it.
fn pores(bulk_density: f64, organic_pct: f64) -> f64 {
    let density = BulkDensity::new(bulk_density).ok();
    density.and_then(|d| pore_space(d, ParticleDensity::of_organic(Some(organic_pct)))).unwrap_or(0.5)
}

/// The cut coupe of Ostrelle Wood: 1 March 2024 to 1 September 2026, every 15 minutes.
#[must_use]
pub fn ostrelle_cut_coupe() -> Scenario {
    let horizon = |name, span_cm, texture, sand_clay_pct, organic_pct, bulk_density, water: (f64, f64), k| Horizon {
        name,
        span_cm,
        texture,
        sand_clay_pct,
        organic_pct,
        bulk_density,
        pore_space: pores(bulk_density, organic_pct),
        field_capacity: water.0,
        wilting: water.1,
        conductivity_mm_h: k,
    };
    let horizons = vec![
        horizon("O", (0.0, 3.0), "leaf mould", (0.0, 0.0), 45.0, 0.95, (0.34, 0.12), 60.0),
        horizon("A", (3.0, 14.0), "silt loam", (16.0, 18.0), 5.2, 1.18, (0.335, 0.12), 22.0),
        horizon("E", (14.0, 38.0), "silt loam", (18.0, 16.0), 1.6, 1.34, (0.31, 0.11), 11.0),
        horizon("Bt", (38.0, 90.0), "silty clay loam", (10.0, 34.0), 0.7, 1.52, (0.345, 0.19), 2.2),
    ];
    let probe = |port, depth_cm, serial| MoistureProbe { port, depth_cm, serial };
    Scenario {
        start: midnight(2024, 3, 1),
        end: midnight(2026, 9, 1),
        interval: 900,
        season: Season { mean_c: 9.8, swing_c: 7.6, warmest_day: 204.0, yearly_rain_mm: 840.0 },
        horizons,
        canopy_removed: midnight(2023, 12, 10),
        moisture: vec![
            probe("m05", 5.0, 417),
            probe("m15", 15.0, 418),
            probe("m30", 30.0, 421),
            probe("m60", 60.0, 422),
        ],
        thermometers: vec![("t05", 5.0), ("t15", 15.0), ("t30", 30.0), ("t60", 60.0)],
    }
}

#[cfg(test)]
mod tests {
    use super::midnight;

    #[test]
    fn dates_count_from_the_epoch() {
        assert_eq!(midnight(1970, 1, 1), 0);
        assert_eq!(midnight(2024, 3, 1), 1_709_251_200);
    }
}
