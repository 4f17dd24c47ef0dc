//! Platinum resistance thermometers.

use crate::units::coded;
use serde::{Deserialize, Serialize};

/// Callendar-Van Dusen coefficients of IEC 60751:2008.
const A: f64 = 3.9083e-3;
const B: f64 = -5.775e-7;
const C: f64 = -4.183e-12;
/// Range of the equation, °C.
const RANGE: (f64, f64) = (-200.0, 850.0);

/// Resistance at `celsius` of a thermometer of `r0` ohm at 0 °C (IEC 60751). Worked value: 100 Ω at 100 °C: 138.5055 Ω.
#[must_use]
pub fn platinum_resistance(r0: f64, celsius: f64) -> f64 {
    let cold = if celsius < 0.0 { C * (celsius - 100.0) * celsius.powi(3) } else { 0.0 };
    r0 * (1.0 + celsius * (A + B * celsius) + cold)
}

/// Temperature in °C from a resistance: the inverse of [`platinum_resistance`] by Newton's method; `None` outside
/// −200 to 850 °C, and for a nominal resistance that no thermometer has (less than 1 mΩ). Worked value: 110 Ω of 100: 25.684 °C.
#[must_use]
pub fn platinum_temperature(r0: f64, ohm: f64) -> Option<f64> {
    let ratio = ohm / r0;
    // Beyond the ends the equation has other roots, or none.
    let ends = (platinum_resistance(1.0, RANGE.0), platinum_resistance(1.0, RANGE.1));
    if !(r0 >= 1e-3 && (ends.0..=ends.1).contains(&ratio)) {
        return None;
    }
    let mut t = (ratio - 1.0) / A;
    for _ in 0..30 {
        let slope = A + 2.0 * B * t + if t < 0.0 { C * (4.0 * t.powi(3) - 300.0 * t * t) } else { 0.0 };
        t -= (platinum_resistance(1.0, t) - ratio) / slope;
    }
    t.is_finite().then(|| t.clamp(RANGE.0, RANGE.1))
}

/// dT/dR of a thermometer of `r0` ohm at `celsius`, K/Ω.
#[must_use]
pub fn platinum_slope(r0: f64, celsius: f64) -> f64 {
    let cold = if celsius < 0.0 { C * (4.0 * celsius.powi(3) - 300.0 * celsius * celsius) } else { 0.0 };
    1.0 / (r0 * (A + 2.0 * B * celsius + cold))
}

coded!(
    /// Tolerance class of IEC 60751.
    ToleranceClass {
        /// 0.1 + 0.0017 |t|.
        Aa = "AA",
        /// 0.15 + 0.002 |t|.
        A = "A",
        /// 0.3 + 0.005 |t|.
        B = "B",
        /// 0.6 + 0.01 |t|.
        C = "C",
    }
);

impl ToleranceClass {
    /// Half width of the tolerance at `celsius`, K.
    #[must_use]
    pub fn half_width(self, celsius: f64) -> f64 {
        let (constant, share) = match self {
            Self::Aa => (0.1, 0.0017),
            Self::A => (0.15, 0.002),
            Self::B => (0.3, 0.005),
            Self::C => (0.6, 0.01),
        };
        constant + share * celsius.abs()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn resistances_and_temperatures_of_the_reference() {
        assert_close(platinum_resistance(100.0, 100.0), 138.5055, 1e-11);
        assert_close(platinum_resistance(100.0, -50.0), 80.306_281_875, 1e-11);
        assert_close(platinum_resistance(1000.0, 25.0), 1097.346_562_5, 1e-11);
        assert_close(platinum_temperature(100.0, 110.0).unwrap(), 25.684_046_662_5, 1e-9);
        assert_close(platinum_temperature(100.0, 85.0).unwrap(), -38.156_513_578_4, 1e-9);
        assert_eq!(platinum_temperature(100.0, 0.0), None, "a short is no temperature");
        let end = platinum_resistance(100.0, 850.0);
        assert_close(platinum_temperature(100.0, end).unwrap(), 850.0, 1e-9);
        for (r0, ohm) in [
            (100.0, end + 0.01),
            (100.0, 1e9),
            (100.0, f64::INFINITY),
            (0.0, 100.0),
            (1e-310, 1e-310),
            (-1.0, 1.0),
            (f64::NAN, 1.0),
        ] {
            assert_eq!(platinum_temperature(r0, ohm), None, "{r0} {ohm}");
        }
    }

    #[test]
    fn tolerances() {
        assert_close(ToleranceClass::Aa.half_width(25.0), 0.1425, 1e-12);
        assert_close(ToleranceClass::B.half_width(-40.0), 0.5, 1e-12);
    }
}
