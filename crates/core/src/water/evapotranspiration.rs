//! Reference evapotranspiration: what a well-watered short grass would lose (Allen et al. 1998, FAO Irrigation and Drainage Paper 56).

use std::f64::consts::PI;

/// Solar constant, MJ/m²/min.
const SOLAR: f64 = 0.0820;
/// mm of water that 1 MJ/m² evaporates.
const MM_PER_MJ: f64 = 0.408;

/// Saturation vapour pressure, kPa, at a temperature in °C (eq. 11).
#[must_use]
pub fn saturation_kpa(t_c: f64) -> f64 {
    0.6108 * (17.27 * t_c / (t_c + 237.3)).exp()
}

/// Its slope, kPa/K (eq. 13).
#[must_use]
pub fn saturation_slope(t_c: f64) -> f64 {
    4098.0 * saturation_kpa(t_c) / (t_c + 237.3).powi(2)
}

/// Air pressure, kPa, at an elevation in m (eq. 7).
#[must_use]
pub fn pressure_kpa(elevation_m: f64) -> f64 {
    101.3 * ((293.0 - 0.0065 * elevation_m) / 293.0).powf(5.26)
}

/// Psychrometric constant, kPa/K (eq. 8).
#[must_use]
pub fn psychrometric(elevation_m: f64) -> f64 {
    0.665e-3 * pressure_kpa(elevation_m)
}

/// Wind at 2 m, m/s, from wind at `height_m` (eq. 47).
#[must_use]
pub fn wind_at_two_metres(wind_m_s: f64, height_m: f64) -> f64 {
    wind_m_s * 4.87 / (67.8 * height_m - 5.42).ln()
}

/// Sun above the air on a day of the year.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Daylight {
    /// Extraterrestrial radiation, MJ/m²/day (eq. 21).
    pub radiation_mj: f64,
    /// Hours of daylight (eq. 34).
    pub hours: f64,
}

/// Extraterrestrial radiation and daylight at a latitude (degrees, south negative) on a day of the year (1 to 366): eqs 21 to 25 and 34.
/// In polar night and day the hour angle is held to 0 and π.
///
/// ```
/// let sun = ebrel_core::water::evapotranspiration::daylight(-20.0, 246);
/// assert!((sun.radiation_mj - 32.193_995_875_1).abs() < 1e-8 && (sun.hours - 11.665_591_945_6).abs() < 1e-8);
/// ```
#[must_use]
pub fn daylight(latitude: f64, day_of_year: u16) -> Daylight {
    let (phi, year) = (latitude.to_radians(), 2.0 * PI * f64::from(day_of_year) / 365.0);
    let distance = 1.0 + 0.033 * year.cos();
    let declination = 0.409 * (year - 1.39).sin();
    let sunset = (-phi.tan() * declination.tan()).clamp(-1.0, 1.0).acos();
    let height = sunset * phi.sin() * declination.sin() + phi.cos() * declination.cos() * sunset.sin();
    Daylight { radiation_mj: (24.0 * 60.0 / PI * SOLAR * distance * height).max(0.0), hours: 24.0 / PI * sunset }
}

/// Hargreaves & Samani 1985 (FAO-56 eq. 52), mm/day: from the day's extremes of air temperature alone. `radiation_mj` is that of
/// [`daylight`]. Worked value: 45.72° N, day 196, 26.6 and 14.8 °C: 5.03 mm.
#[must_use]
pub fn hargreaves_mm(t_max_c: f64, t_min_c: f64, radiation_mj: f64) -> f64 {
    let range = (t_max_c - t_min_c).max(0.0);
    (0.0023 * (t_max_c.midpoint(t_min_c) + 17.8) * range.sqrt() * radiation_mj * MM_PER_MJ).max(0.0)
}

/// A day's weather, as far as Penman-Monteith asks for it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayWeather {
    /// Highest and lowest air temperature, °C.
    pub t_max_c: f64,
    /// Lowest air temperature, °C.
    pub t_min_c: f64,
    /// Actual vapour pressure, kPa: see [`vapour_kpa`].
    pub vapour_kpa: f64,
    /// Wind at 2 m, m/s.
    pub wind_m_s: f64,
    /// Solar radiation, MJ/m²/day: see [`radiation_by_sunshine`] and [`radiation_by_range`].
    pub solar_mj: f64,
    /// Heat that goes into the soil, MJ/m²/day; 0 over a day.
    pub ground_mj: f64,
    /// Elevation, m.
    pub elevation_m: f64,
    /// Radiation above the air, MJ/m²/day.
    pub extraterrestrial_mj: f64,
}

/// Actual vapour pressure, kPa, from the day's extremes of temperature and humidity in % (eq. 17).
#[must_use]
pub fn vapour_kpa(t_max_c: f64, t_min_c: f64, rh_max: f64, rh_min: f64) -> f64 {
    (saturation_kpa(t_min_c) * rh_max + saturation_kpa(t_max_c) * rh_min) / 200.0
}

/// Solar radiation, MJ/m²/day, from hours of sunshine (eq. 35 with 0.25 and 0.50).
#[must_use]
pub fn radiation_by_sunshine(sunshine_h: f64, sun: Daylight) -> f64 {
    (0.25 + 0.50 * sunshine_h / sun.hours) * sun.radiation_mj
}

/// Solar radiation, MJ/m²/day, from the range of air temperature (eq. 50, 0.16 for places inland), never above that of a clear sky.
#[must_use]
pub fn radiation_by_range(t_max_c: f64, t_min_c: f64, sun: Daylight, elevation_m: f64) -> f64 {
    let by_range = 0.16 * (t_max_c - t_min_c).max(0.0).sqrt() * sun.radiation_mj;
    by_range.min(clear_sky(elevation_m, sun.radiation_mj))
}

fn clear_sky(elevation_m: f64, extraterrestrial_mj: f64) -> f64 {
    (0.75 + 2e-5 * elevation_m) * extraterrestrial_mj
}

/// Penman-Monteith, mm/day (FAO-56 eqs 6 and 37 to 40).
///
/// In polar night, where no sun tells of cloud, the sky counts as half clouded (Rs/Rso 0.5).
#[must_use]
pub fn penman_monteith_mm(day: &DayWeather) -> f64 {
    let mean = day.t_max_c.midpoint(day.t_min_c);
    let (slope, gamma) = (saturation_slope(mean), psychrometric(day.elevation_m));
    let saturated = saturation_kpa(day.t_max_c).midpoint(saturation_kpa(day.t_min_c));
    let net = net_radiation_mj(day);
    let energy = MM_PER_MJ * slope * (net - day.ground_mj);
    let wind = gamma * 900.0 / (mean + 273.0) * day.wind_m_s * (saturated - day.vapour_kpa);
    (energy + wind) / (slope + gamma * (1.0 + 0.34 * day.wind_m_s))
}

/// Net radiation, MJ/m²/day (eqs 38 to 40).
#[must_use]
pub fn net_radiation_mj(day: &DayWeather) -> f64 {
    let clear = clear_sky(day.elevation_m, day.extraterrestrial_mj);
    let share = if clear > 0.0 { (day.solar_mj / clear).min(1.0) } else { 0.5 };
    let fourth = |t_c: f64| (t_c + 273.16).powi(4);
    let long = 4.903e-9
        * fourth(day.t_max_c).midpoint(fourth(day.t_min_c))
        * (0.34 - 0.14 * day.vapour_kpa.max(0.0).sqrt())
        * (1.35 * share - 0.35);
    0.77 * day.solar_mj - long
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn the_reference_basics_are_met() {
        assert_close(saturation_kpa(20.0), 2.338_281_270_93, 1e-10);
        assert_close(saturation_slope(34.8), 0.307_789_680_548, 1e-10);
        assert_close(pressure_kpa(1800.0), 81.755_796_407_6, 1e-10);
        assert_close(psychrometric(2.0), 0.067_348_780_036_8, 1e-10);
        assert_close(wind_at_two_metres(3.2, 10.0), 2.393_443_440_54, 1e-10);
        let sun = daylight(50.8, 187);
        assert_close(sun.radiation_mj, 41.088_375_563_5, 1e-9);
        assert_close(sun.hours, 16.104_611_680_4, 1e-9);
    }

    #[test]
    fn both_examples_of_the_paper_are_met() {
        let sun = daylight(50.8, 187);
        let day = DayWeather {
            t_max_c: 21.5,
            t_min_c: 12.3,
            vapour_kpa: vapour_kpa(21.5, 12.3, 84.0, 63.0),
            wind_m_s: 2.078,
            solar_mj: radiation_by_sunshine(9.25, sun),
            ground_mj: 0.0,
            elevation_m: 100.0,
            extraterrestrial_mj: sun.radiation_mj,
        };
        assert_close(day.vapour_kpa, 1.408_623_801_86, 1e-9);
        assert_close(day.solar_mj, 22.072_051_614_4, 1e-9);
        assert_close(net_radiation_mj(&day), 13.283_185_172_6, 1e-9);
        assert_close(penman_monteith_mm(&day), 3.880_310_916_61, 1e-9);
        let sun = daylight(13.733_333_333_3, 105);
        let day = DayWeather {
            t_max_c: 34.8,
            t_min_c: 25.6,
            vapour_kpa: 2.85,
            wind_m_s: 2.0,
            solar_mj: radiation_by_sunshine(8.5, sun),
            ground_mj: 0.14,
            elevation_m: 2.0,
            extraterrestrial_mj: sun.radiation_mj,
        };
        assert_close(penman_monteith_mm(&day), 5.716_124_607_81, 1e-9);
    }

    #[test]
    fn hargreaves_meets_its_examples_and_never_goes_below_nothing() {
        for (latitude, day, high, low, mm) in
            [(45.716_666_666_7, 196, 26.6, 14.8, 5.033_055_319_41), (-20.0, 246, 29.5, 14.0, 4.704_085_644_69)]
        {
            assert_close(hargreaves_mm(high, low, daylight(latitude, day).radiation_mj), mm, 1e-9);
        }
        assert_eq!(hargreaves_mm(-25.0, -30.0, 5.0), 0.0);
        assert_eq!(daylight(80.0, 355).radiation_mj, 0.0, "polar night");
        assert_eq!(daylight(80.0, 172).hours, 24.0);
        let night = DayWeather {
            t_max_c: -10.0,
            t_min_c: -20.0,
            vapour_kpa: 0.1,
            wind_m_s: 2.0,
            solar_mj: 0.0,
            ground_mj: 0.0,
            elevation_m: 0.0,
            extraterrestrial_mj: 0.0,
        };
        assert!(penman_monteith_mm(&night).is_finite());
    }
}
