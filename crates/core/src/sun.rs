//! When the sun rises and sets: for work by daylight, and to tell day from night.

use crate::units::{Range, UnixSeconds, ranges};
use std::f64::consts::PI;

/// Zenith of the sun's upper limb at the horizon with the usual refraction, degrees.
const HORIZON_DEG: f64 = 90.833;

/// The sun on one date.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum SunTimes {
    /// It rises and sets; minutes of UTC from the date's midnight, which may lie on a neighbouring date.
    Rises {
        /// Sunrise.
        sunrise: f64,
        /// Sunset.
        sunset: f64,
    },
    /// It stays below the horizon.
    PolarNight,
    /// It stays above the horizon.
    PolarDay,
}

impl SunTimes {
    /// Moments of sunrise and sunset of the date that begins at `midnight_utc`, Unix seconds; `None` where it does neither.
    #[must_use]
    pub fn moments(self, midnight_utc: i64) -> Option<(UnixSeconds, UnixSeconds)> {
        let at = |minutes: f64| UnixSeconds(midnight_utc + (minutes * 60.0) as i64);
        match self {
            Self::Rises { sunrise, sunset } => Some((at(sunrise), at(sunset))),
            Self::PolarDay | Self::PolarNight => None,
        }
    }
}

/// Declination in radians and equation of time in minutes at a Julian day, by Meeus 1998, Astronomical Algorithms
/// (2nd ed.), ch. 25 low accuracy and ch. 28.
fn declination_and_equation(julian_day: f64) -> (f64, f64) {
    let t = (julian_day - 2_451_545.0) / 36_525.0;
    let longitude = (280.466_46 + t * (36_000.769_83 + t * 0.000_303_2)).rem_euclid(360.0);
    let anomaly = (357.529_11 + t * (35_999.050_29 - 0.000_153_7 * t)).to_radians();
    let eccentricity = 0.016_708_634 - t * (0.000_042_037 + 0.000_000_126_7 * t);
    let centre = anomaly.sin() * (1.914_602 - t * (0.004_817 + 0.000_014 * t))
        + (2.0 * anomaly).sin() * (0.019_993 - 0.000_101 * t)
        + (3.0 * anomaly).sin() * 0.000_289;
    let node = (125.04 - 1934.136 * t).to_radians();
    let apparent = (longitude + centre - 0.005_69 - 0.004_78 * node.sin()).to_radians();
    let mean_tilt = 23.0 + (26.0 + (21.448 - t * (46.815 + t * (0.000_59 - t * 0.001_813))) / 60.0) / 60.0;
    let tilt = (mean_tilt + 0.002_56 * node.cos()).to_radians();
    let declination = (tilt.sin() * apparent.sin()).asin();
    let y = (tilt / 2.0).tan().powi(2);
    let l = longitude.to_radians();
    let equation = y * (2.0 * l).sin() - 2.0 * eccentricity * anomaly.sin()
        + 4.0 * eccentricity * y * anomaly.sin() * (2.0 * l).cos()
        - 0.5 * y * y * (4.0 * l).sin()
        - 1.25 * eccentricity * eccentricity * (2.0 * anomaly).sin();
    (declination, 4.0 * equation.to_degrees())
}

/// Height of the sun's middle above the horizon, degrees, without refraction, at a moment (seconds since 1970):
/// sin h = sin φ sin δ + cos φ cos δ cos H (Meeus 1998, ch. 13). Worked value: 50.8° N at noon of 21 June, 90 − 50.8 + 23.44 = 62.6.
///
/// ```
/// // 21 June 2024 at Greenwich's meridian; the sun's noon is at about 12:02.
/// let at = |hour: i64| ebrel_core::sun::sun_height(50.8, 0.0, 1_718_928_000 + hour * 3600);
/// assert!((at(12) - 62.6).abs() < 0.1 && at(0) < -15.0 && at(6) > 10.0);
/// ```
#[must_use]
pub fn sun_height(latitude: f64, longitude: f64, t: i64) -> f64 {
    let (declination, equation) = declination_and_equation(t as f64 / 86_400.0 + 2_440_587.5);
    let minutes = t.rem_euclid(86_400) as f64 / 60.0 + equation + 4.0 * longitude;
    let hour_angle = ((minutes - 720.0) / 4.0).to_radians();
    let phi = latitude.to_radians();
    let sine = phi.sin() * declination.sin() + phi.cos() * declination.cos() * hour_angle.cos();
    sine.clamp(-1.0, 1.0).asin().to_degrees()
}

/// Sunrise and sunset at `latitude` and `longitude` (degrees north and east, held to the globe; what is no number counts as
/// 0) on the date that begins at `midnight_utc` (seconds since 1970).
///
/// cos H0 = cos 90.833°/(cos φ cos δ) − tan φ tan δ, computed anew at each event (Meeus 1998, ch. 15; good to about a
/// minute). Worked value: 50.8° N, 4.35° E, 6 July 2024: 217.68 and 1196.78 min.
#[must_use]
pub fn sun_times(latitude: f64, longitude: f64, midnight_utc: i64) -> SunTimes {
    let degrees = |value: f64, range: Range| if value.is_finite() { value.clamp(range.min, range.max) } else { 0.0 };
    let (latitude, longitude) = (degrees(latitude, ranges::LATITUDE), degrees(longitude, ranges::LONGITUDE));
    let phi = latitude.to_radians();
    let day = midnight_utc as f64 / 86_400.0 + 2_440_587.5;
    // Minutes of UTC of an event on the morning (−1) or evening (+1) side, seen from the sun's place at `minutes`.
    let event = |side: f64, minutes: f64| -> Result<f64, SunTimes> {
        let (declination, equation) = declination_and_equation(day + minutes / 1440.0);
        let cosine = HORIZON_DEG.to_radians().cos() / (phi.cos() * declination.cos()) - phi.tan() * declination.tan();
        match cosine {
            c if c > 1.0 => Err(SunTimes::PolarNight),
            c if c < -1.0 => Err(SunTimes::PolarDay),
            c => Ok(720.0 - 4.0 * longitude - equation + side * 4.0 * c.acos() * 180.0 / PI),
        }
    };
    let settle = |side: f64| event(side, 720.0).and_then(|m| event(side, m)).and_then(|m| event(side, m));
    match (settle(-1.0), settle(1.0)) {
        (Ok(sunrise), Ok(sunset)) => SunTimes::Rises { sunrise, sunset },
        (Err(polar), _) | (_, Err(polar)) => polar,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn sunrise_and_sunset_of_the_reference() {
        let SunTimes::Rises { sunrise, sunset } = sun_times(50.8, 4.35, 1_720_224_000) else { panic!("it rises") };
        assert_close(sunrise, 217.678_677_861, 1e-6);
        assert_close(sunset, 1196.781_809_52, 1e-6);
        let SunTimes::Rises { sunrise, sunset } = sun_times(38.5, -121.8, 1_673_740_800) else { panic!("it rises") };
        assert_close(sunrise, 923.258_947_704, 1e-6);
        assert_close(sunset, 1510.305_771_16, 1e-6);
    }

    #[test]
    fn the_far_north_has_no_times() {
        assert_eq!(sun_times(75.0, 20.0, 1_734_220_800), SunTimes::PolarNight);
        assert_eq!(sun_times(75.0, 20.0, 1_718_409_600), SunTimes::PolarDay);
    }
}
