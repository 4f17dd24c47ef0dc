//! What the air did at a station, and on how many days its soil was dry.

use super::ground::{Ground, Selection};
use crate::record::Flagged;
use ebrel_core::findings::climate::{
    DayExtremes, EtMethod, Month, Site, daily_sums, days_of_months, evapotranspiration, extremes, months,
};
use ebrel_core::units::Quantity;
use std::collections::BTreeMap;

/// What is asked of air and soil.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AirAsked {
    /// Degree days count above this, °C.
    pub base_c: f64,
    /// Days count on which the mean content lies below, m³/m³.
    pub dry_below: Option<f64>,
    /// Days count on which the mean tension lies above, kPa.
    pub tension_above: Option<f64>,
}

/// Days of each month that fulfil something, of the days known.
pub type DaysOf = BTreeMap<(i32, u8), (usize, usize)>;

/// What is found.
pub struct AirFindings {
    /// Months.
    pub months: BTreeMap<(i32, u8), Month>,
    /// Whose air: `None` if nobody's, `Some(None)` if the station's own.
    pub air_of: Option<Option<String>>,
    /// How evapotranspiration was reckoned; `None` without a latitude or air.
    pub method: Option<EtMethod>,
    /// Whether any gauge tells of rain.
    pub has_rain: bool,
    /// Dry days by depth: "below 0.200 at 15 cm".
    pub dry: Vec<(String, DaysOf)>,
}

/// Works out what the air did; `None` without a reading.
#[must_use]
pub fn air(of: &Flagged, neighbours: &[Flagged], asked: &AirAsked) -> Option<AirFindings> {
    let record = &of.record;
    let ground = Ground::new(of, &Selection::default())?;
    let (grid, offset) = (ground.grid, record.study.utc_offset_minutes);
    let own = ground.joined(Quantity::AirTemperature).map(|(values, _)| (None, values));
    let elsewhere = || {
        neighbours.iter().find_map(|n| {
            let there = Ground::new(n, &Selection::default())?.on(grid);
            let (values, _) = there.joined(Quantity::AirTemperature)?;
            Some((Some(n.record.station.name.clone()), values))
        })
    };
    let air = own.or_else(elsewhere);
    let days = |values: &[f64]| extremes(&grid, values, offset);
    let of_air: Vec<DayExtremes> = air.as_ref().map_or_else(Vec::new, |a| days(&a.1));
    let humidity = ground.joined(Quantity::RelativeHumidity).map_or_else(Vec::new, |h| days(&h.0));
    let site = record
        .station
        .latitude
        .map(|latitude| Site { latitude, elevation_m: record.station.elevation_m.unwrap_or_default() });
    let et = site.filter(|_| !of_air.is_empty()).map(|site| evapotranspiration(&of_air, &humidity, site));
    let rain = ground.rain(neighbours);
    let fallen = rain.as_ref().map_or_else(Vec::new, |r| daily_sums(&grid, &r.sums, offset));
    let mut dry = Vec::new();
    let mut count = |quantity: Quantity, limit: Option<f64>, above: bool| {
        let Some(limit) = limit else { return };
        for level in ground.profile(quantity).levels {
            let fulfils = |d: &DayExtremes| if above { d.mean > limit } else { d.mean < limit };
            let words = if above { "above" } else { "below" };
            let name = format!("{words} {limit} at {}\u{a0}cm", level.depth_cm);
            dry.push((name, days_of_months(&days(&level.values), fulfils)));
        }
    };
    count(Quantity::WaterContent, asked.dry_below, false);
    count(Quantity::WaterTension, asked.tension_above, true);
    let (method, by_day) = et.map_or((None, Vec::new()), |(m, days)| (Some(m), days));
    Some(AirFindings {
        months: months(&of_air, asked.base_c, &fallen, &by_day),
        air_of: air.map(|a| a.0),
        method,
        has_rain: rain.is_some(),
        dry,
    })
}
