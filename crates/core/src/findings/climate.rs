//! What the air did, day by day and month by month.

use super::grid::Grid;
use super::{Season, day_of_year, year_month};
use crate::water::evapotranspiration::{
    DayWeather, daylight, hargreaves_mm, penman_monteith_mm, radiation_by_range, vapour_kpa,
};
use std::collections::BTreeMap;

/// A day's extremes and mean of one channel.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct DayExtremes {
    /// The day, counted from 1970, by the study's clock.
    pub day: i64,
    /// Lowest value.
    pub min: f64,
    /// Mean.
    pub mean: f64,
    /// Highest value.
    pub max: f64,
}

/// Days of which so many steps in ten are known are days.
const ENOUGH_OF_TEN: usize = 9;

/// The days of a record of which at least nine steps in ten are known.
#[must_use]
pub fn extremes(grid: &Grid, values: &[f64], offset_minutes: i64) -> Vec<DayExtremes> {
    let mut days = Vec::new();
    let mut i = 0;
    let of_day = (86_400 / grid.step().0.max(1)).max(1) as usize;
    while i < grid.len() {
        let day = grid.day(i, offset_minutes);
        let (mut n, mut sum, mut min, mut max) = (0, 0.0, f64::INFINITY, f64::NEG_INFINITY);
        while i < grid.len() && grid.day(i, offset_minutes) == day {
            let v = values[i];
            if v.is_finite() {
                (n, sum, min, max) = (n + 1, sum + v, min.min(v), max.max(v));
            }
            i += 1;
        }
        if n > 0 && n * 10 >= of_day * ENOUGH_OF_TEN {
            days.push(DayExtremes { day, min, mean: sum / n as f64, max });
        }
    }
    days
}

/// By which formula evapotranspiration was reckoned, and what stands in for what was not measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EtMethod {
    /// FAO-56 Penman-Monteith with measured temperature and humidity; radiation from the day's range of temperature (eq. 50), wind 2 m/s.
    PenmanMonteith,
    /// Hargreaves, from temperature alone.
    Hargreaves,
}

impl EtMethod {
    /// The formula and what stands in, as a sentence.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::PenmanMonteith => {
                "FAO-56 Penman-Monteith: temperature and humidity as measured here; radiation from the day's range of temperature \
                 (eq. 50, 0.16), wind taken as 2 m/s"
            }
            Self::Hargreaves => {
                "Hargreaves (FAO-56 eq. 52), from temperature alone, since no humidity of the air is measured: expect it to be off by \
                 15 to 20 % over a month"
            }
        }
    }
}

/// Where it is: latitude in degrees, elevation in m.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Site {
    /// Degrees north.
    pub latitude: f64,
    /// Metres above the sea; unknown counts as 0.
    pub elevation_m: f64,
}

/// Reference evapotranspiration of each day, mm, and how it was reckoned.
#[must_use]
pub fn evapotranspiration(air: &[DayExtremes], humidity: &[DayExtremes], site: Site) -> (EtMethod, Vec<(i64, f64)>) {
    let damp: BTreeMap<i64, &DayExtremes> = humidity.iter().map(|d| (d.day, d)).collect();
    let sun = |day: i64| daylight(site.latitude, day_of_year(day));
    if damp.is_empty() {
        let days = air.iter().map(|d| (d.day, hargreaves_mm(d.max, d.min, sun(d.day).radiation_mj)));
        return (EtMethod::Hargreaves, days.collect());
    }
    let days = air.iter().filter_map(|d| {
        let (humid, sun) = (damp.get(&d.day)?, sun(d.day));
        let weather = DayWeather {
            t_max_c: d.max,
            t_min_c: d.min,
            vapour_kpa: vapour_kpa(d.max, d.min, humid.max.min(100.0), humid.min.max(0.0)),
            wind_m_s: 2.0,
            solar_mj: radiation_by_range(d.max, d.min, sun, site.elevation_m),
            ground_mj: 0.0,
            elevation_m: site.elevation_m,
            extraterrestrial_mj: sun.radiation_mj,
        };
        Some((d.day, penman_monteith_mm(&weather)))
    });
    (EtMethod::PenmanMonteith, days.collect())
}

/// One month.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Month {
    /// Days of air temperature that are known.
    pub days: usize,
    /// Mean of the days' means, °C.
    pub mean_c: f64,
    /// Lowest and highest temperature, °C.
    pub extremes_c: (f64, f64),
    /// Degree days above the base, K d: mean of the day's extremes less the base, never below 0.
    pub degree_days: f64,
    /// Days with a minimum below 0 °C.
    pub frost_days: usize,
    /// Rain, mm, and days of which it is known.
    pub rain: (f64, usize),
    /// Reference evapotranspiration, mm, and days of which it is known.
    pub evapotranspiration: (f64, usize),
}

/// Months of a record by year and month (1 to 12). `rain` and `evapotranspiration` are sums by day.
#[must_use]
pub fn months(
    air: &[DayExtremes],
    base_c: f64,
    rain: &[(i64, f64)],
    evapotranspiration: &[(i64, f64)],
) -> BTreeMap<(i32, u8), Month> {
    let mut all: BTreeMap<(i32, u8), Month> = BTreeMap::new();
    for d in air {
        let month = all.entry(year_month(d.day)).or_default();
        let n = month.days as f64;
        month.mean_c = (month.mean_c * n + d.mean) / (n + 1.0);
        let (low, high) = if month.days == 0 { (d.min, d.max) } else { month.extremes_c };
        month.extremes_c = (low.min(d.min), high.max(d.max));
        month.degree_days += (d.min.midpoint(d.max) - base_c).max(0.0);
        month.frost_days += usize::from(d.min < 0.0);
        month.days += 1;
    }
    for (day, mm) in rain {
        let known = &mut all.entry(year_month(*day)).or_default().rain;
        *known = (known.0 + mm, known.1 + 1);
    }
    for (day, mm) in evapotranspiration {
        let known = &mut all.entry(year_month(*day)).or_default().evapotranspiration;
        *known = (known.0 + mm, known.1 + 1);
    }
    all
}

/// Months of one season as one: means over days, sums over months. The winter of a year begins in the December before.
#[must_use]
pub fn seasons(months: &BTreeMap<(i32, u8), Month>) -> BTreeMap<(i32, Season), Month> {
    let mut all: BTreeMap<(i32, Season), Month> = BTreeMap::new();
    for ((year, month), of) in months {
        let season = all.entry(season_of(*year, *month)).or_default();
        let n = (season.days + of.days) as f64;
        if of.days > 0 {
            season.mean_c = (season.mean_c * season.days as f64 + of.mean_c * of.days as f64) / n;
            let (low, high) = if season.days == 0 { of.extremes_c } else { season.extremes_c };
            season.extremes_c = (low.min(of.extremes_c.0), high.max(of.extremes_c.1));
        }
        season.days += of.days;
        season.degree_days += of.degree_days;
        season.frost_days += of.frost_days;
        season.rain = (season.rain.0 + of.rain.0, season.rain.1 + of.rain.1);
        let et = &mut season.evapotranspiration;
        *et = (et.0 + of.evapotranspiration.0, et.1 + of.evapotranspiration.1);
    }
    all
}

/// Year and season of a month: December belongs to the winter of the next year.
#[must_use]
pub const fn season_of(year: i32, month: u8) -> (i32, Season) {
    (if month == 12 { year + 1 } else { year }, Season::of_month(month))
}

/// Sums by day of what [`super::sums`] gives by step, for days of which at least nine steps in ten are known.
#[must_use]
pub fn daily_sums(grid: &Grid, sums: &[f64], offset_minutes: i64) -> Vec<(i64, f64)> {
    let of_day = (86_400 / grid.step().0.max(1)).max(1) as f64;
    extremes(grid, sums, offset_minutes).iter().map(|d| (d.day, d.mean * of_day)).collect()
}

/// How many days of each month fulfil something, and of how many it is known.
#[must_use]
pub fn days_of_months(
    days: &[DayExtremes],
    fulfil: impl Fn(&DayExtremes) -> bool,
) -> BTreeMap<(i32, u8), (usize, usize)> {
    let mut all: BTreeMap<(i32, u8), (usize, usize)> = BTreeMap::new();
    for d in days {
        let known = all.entry(year_month(d.day)).or_default();
        *known = (known.0 + usize::from(fulfil(d)), known.1 + 1);
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;
    use crate::units::{SpanSeconds, UnixSeconds};

    /// A hundred days from 1 January 2024, whose temperature swings from 2 to 12 °C; every tenth day is half missing.
    fn record() -> (Grid, Vec<f64>) {
        let first = 19_723 * 86_400;
        let grid = Grid::over(UnixSeconds(first), UnixSeconds(first + 100 * 86_400 - 1), SpanSeconds(3600)).unwrap();
        let values = (0..grid.len()).map(|i| match (i / 24 % 10, i % 24) {
            (9, 12..) => f64::NAN,
            (_, hour) => 7.0 - 5.0 * (std::f64::consts::TAU * hour as f64 / 24.0).cos(),
        });
        (grid, values.collect())
    }

    #[test]
    fn a_day_that_is_half_missing_is_none() {
        let (grid, values) = record();
        let days = extremes(&grid, &values, 0);
        assert_eq!(days.len(), 90);
        assert!(
            days.iter()
                .all(|d| (d.min - 2.0).abs() < 1e-9 && (d.max - 12.0).abs() < 1e-9 && (d.mean - 7.0).abs() < 1e-9)
        );
        let east = extremes(&grid, &values, 60);
        assert_eq!(east[0].day, 19_723, "by a clock that is ahead the last hour belongs to the next day");
    }

    #[test]
    fn months_add_up_to_their_days() {
        let (grid, values) = record();
        let air = extremes(&grid, &values, 0);
        let rain = daily_sums(&grid, &vec![0.5; grid.len()], 0);
        let (method, et) = evapotranspiration(&air, &[], Site { latitude: 46.9, elevation_m: 210.0 });
        assert_eq!((method, et.len(), rain.len()), (EtMethod::Hargreaves, 90, 100));
        let months = months(&air, 5.0, &rain, &et);
        assert_eq!(months.len(), 4);
        let january = &months[&(2024, 1)];
        assert_eq!((january.days, january.frost_days, january.rain.1), (28, 0, 31));
        assert_close(january.degree_days, 28.0 * 2.0, 1e-9);
        assert_close(january.rain.0, 31.0 * 12.0, 1e-9);
        assert!(months[&(2024, 3)].evapotranspiration.0 > january.evapotranspiration.0, "March has more sun");
        let seasons = seasons(&months);
        assert_eq!(seasons.len(), 2, "winter and spring");
        let winter = &seasons[&(2024, Season::Winter)];
        assert_eq!((winter.days, winter.rain.1), (28 + 26, 31 + 29));
        assert_close(winter.mean_c, 7.0, 1e-9);
        assert_eq!(season_of(2024, 12), (2025, Season::Winter));
        let warm = days_of_months(&air, |d| d.max > 11.0);
        assert_eq!(warm[&(2024, 2)], (26, 26));
    }

    #[test]
    fn measured_humidity_makes_it_penman_monteith() {
        let (grid, values) = record();
        let air = extremes(&grid, &values, 0);
        let damp = |rh: f64| extremes(&grid, &vec![rh; grid.len()], 0);
        let site = Site { latitude: 46.9, elevation_m: 210.0 };
        let (method, dry) = evapotranspiration(&air, &damp(50.0), site);
        let (_, wet) = evapotranspiration(&air, &damp(95.0), site);
        assert_eq!((method, dry.len()), (EtMethod::PenmanMonteith, 90));
        assert!(dry.iter().zip(&wet).all(|(d, w)| d.1 > w.1 && w.1 > -0.5), "dry air takes more");
    }
}
