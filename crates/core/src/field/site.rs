//! Where things stand to each other on a site: distance and bearing, so that what was buried is found again.

use crate::quality::Place;
use crate::units::coded;
use serde::{Deserialize, Serialize};

/// Mean radius of the Earth, m (IUGG: 6371.0 km).
const RADIUS_M: f64 = 6_371_000.0;

/// Names of the sixteen winds, from north by east.
const WINDS: [&str; 16] =
    ["N", "NNE", "NE", "ENE", "E", "ESE", "SE", "SSE", "S", "SSW", "SW", "WSW", "W", "WNW", "NW", "NNW"];

coded!(
    /// What a landmark is.
    LandmarkKind {
        /// What the nodes send to.
        Gateway = "gateway",
        /// Anything else that stays where it is.
        Landmark = "landmark",
        /// A point of a round, called by the serial of the probe that is read there.
        Point = "point",
    }
);

/// From one place to another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Way {
    /// Distance over the ground, m, on a sphere: within 0.4 % of the ellipsoid's.
    pub metres: f64,
    /// Bearing at the start, degrees east of true north, 0 up to 360. A compass's declination is not in it.
    pub bearing_deg: f64,
}

impl Way {
    /// The way from one place to another: great circle by the haversine (Sinnott 1984, Sky and Telescope 68:158) and its
    /// initial bearing.
    ///
    /// ```
    /// use ebrel_core::field::Way;
    /// use ebrel_core::quality::Place;
    /// let at = |latitude, longitude| Place { latitude, longitude };
    /// let way = Way::between(at(46.9, -3.2), at(46.909, -3.2));
    /// assert_eq!((way.metres.round(), way.bearing_deg), (1001.0, 0.0));
    /// assert_eq!(way.words(), "1001\u{a0}m at 0° (N)");
    /// ```
    #[must_use]
    pub fn between(from: Place, to: Place) -> Self {
        let (a, b) = (from.latitude.to_radians(), to.latitude.to_radians());
        let east = (to.longitude - from.longitude).to_radians();
        let h = ((b - a) / 2.0).sin().powi(2) + a.cos() * b.cos() * (east / 2.0).sin().powi(2);
        let metres = 2.0 * RADIUS_M * h.sqrt().min(1.0).asin();
        let bearing = (east.sin() * b.cos()).atan2(a.cos() * b.sin() - a.sin() * b.cos() * east.cos());
        Self { metres, bearing_deg: turned(bearing.to_degrees()) }
    }

    /// Where one comes to by this way.
    #[must_use]
    pub fn leads_to(self, from: Place) -> Place {
        let (arc, bearing, a) = (self.metres / RADIUS_M, self.bearing_deg.to_radians(), from.latitude.to_radians());
        let b = (a.sin() * arc.cos() + a.cos() * arc.sin() * bearing.cos()).clamp(-1.0, 1.0).asin();
        let east = (bearing.sin() * arc.sin() * a.cos()).atan2(arc.cos() - a.sin() * b.sin());
        let longitude = (from.longitude + east.to_degrees() + 540.0).rem_euclid(360.0) - 180.0;
        Place { latitude: b.to_degrees(), longitude }
    }

    /// "31 m at 114° (ESE)"; decimetres where it is near enough for them to matter.
    #[must_use]
    pub fn words(self) -> String {
        let degrees = self.bearing_deg.round().rem_euclid(360.0);
        let wind = WINDS[((degrees / 22.5).round() as usize) % WINDS.len()];
        let metres = if self.metres < 20.0 { format!("{:.1}", self.metres) } else { format!("{:.0}", self.metres) };
        format!("{metres}\u{a0}m at {degrees:.0}° ({wind})")
    }
}

/// Where a place lies from another over ground that is taken as flat, m to the east and m to the north: within 0.1 % over a site of
/// some kilometres.
///
/// ```
/// use ebrel_core::field::metres_from;
/// use ebrel_core::quality::Place;
/// let at = |latitude, longitude| Place { latitude, longitude };
/// let (east, north) = metres_from(at(46.9, -3.2), at(46.909, -3.19));
/// assert_eq!((east.round(), north.round()), (760.0, 1001.0));
/// ```
#[must_use]
pub fn metres_from(from: Place, of: Place) -> (f64, f64) {
    let east = (of.longitude - from.longitude + 540.0).rem_euclid(360.0) - 180.0;
    let degree = RADIUS_M.to_radians();
    (east * degree * from.latitude.to_radians().cos(), (of.latitude - from.latitude) * degree)
}

/// Degrees within 0 up to 360.
fn turned(degrees: f64) -> f64 {
    let turned = degrees.rem_euclid(360.0);
    // The remainder of a tiny negative angle rounds to a whole turn; −0 is 0.
    if turned >= 360.0 { 0.0 } else { turned + 0.0 }
}

/// Coordinates in degrees as somebody gives them.
///
/// # Errors
/// A sentence that says which of the two cannot be.
pub fn check_place(latitude: f64, longitude: f64) -> Result<Place, String> {
    if !(-90.0..=90.0).contains(&latitude) {
        return Err(format!(
            "a latitude lies between −90 and 90 degrees, not at {latitude}: are the two in their order?"
        ));
    }
    if !(-180.0..=180.0).contains(&longitude) {
        return Err(format!("a longitude lies between −180 and 180 degrees, not at {longitude}"));
    }
    Ok(Place { latitude, longitude })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const fn at(latitude: f64, longitude: f64) -> Place {
        Place { latitude, longitude }
    }

    #[test]
    fn a_quarter_of_the_equator_and_the_winds() {
        let quarter = Way::between(at(0.0, 0.0), at(0.0, 90.0));
        assert!((quarter.metres - RADIUS_M * std::f64::consts::FRAC_PI_2).abs() < 1e-3);
        assert!((quarter.bearing_deg - 90.0).abs() < 1e-12);
        let words = |bearing_deg: f64| Way { metres: 12.34, bearing_deg }.words();
        assert_eq!(words(113.6), "12.3\u{a0}m at 114° (ESE)");
        assert_eq!(words(359.7), "12.3\u{a0}m at 0° (N)");
        assert_eq!(Way::between(at(46.9, -3.2), at(46.9, -3.2)), Way { metres: 0.0, bearing_deg: 0.0 });
    }

    #[test]
    fn what_is_no_place_is_told() {
        assert!(check_place(46.9, -3.2).is_ok());
        assert!(check_place(146.9, -3.2).unwrap_err().contains("in their order"));
        for bad in [f64::NAN, f64::INFINITY, 181.0, -180.5] {
            assert!(check_place(0.0, bad).is_err() && check_place(bad, 0.0).is_err(), "{bad}");
        }
    }

    proptest! {
        /// Going there leads there, and back leads back: to a millimetre within a site.
        #[test]
        fn a_way_leads_where_it_was_measured_to(lat in -80.0..80.0f64, lon in -179.0..179.0f64, metres in 0.5..5000.0f64, bearing in 0.0..360.0f64) {
            let from = at(lat, lon);
            let to = Way { metres, bearing_deg: bearing }.leads_to(from);
            let way = Way::between(from, to);
            prop_assert!((way.metres - metres).abs() < 1e-3, "{way:?}");
            let off = (way.bearing_deg - bearing + 540.0).rem_euclid(360.0) - 180.0;
            prop_assert!(off.abs() < 0.01, "{way:?}");
            prop_assert!((0.0..360.0).contains(&way.bearing_deg));
            let back = Way::between(to, from);
            prop_assert!((back.metres - metres).abs() < 1e-3);
        }
    }
}
