//! How well a temperature is known that was read as a voltage or a resistance.

use super::{SteinhartHart, Thermocouple, ToleranceClass, platinum_slope, platinum_temperature};

/// What is known of one reading: standard uncertainties.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct ReadingUncertainty {
    /// Of the voltage (mV) or resistance (Ω).
    pub signal: f64,
    /// Of the panel, or of the points that a thermistor was fitted through, K.
    pub kelvin: f64,
}

/// A temperature with its standard uncertainty, K.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Converted {
    /// Temperature, °C.
    pub celsius: f64,
    /// K (k = 1).
    pub u: f64,
}

impl Thermocouple {
    /// Temperature with its uncertainty: u² = (u(E)/S(t))² + (S(panel)/S(t) · u(panel))², first order (JCGM 100:2008,
    /// eq. 10), S being the slope of the reference function. The wire's own tolerance is not in it.
    ///
    /// Worked: type T, 0.25 mV ± 0.004 at a panel of 24 °C ± 0.3: 30.12 °C ± 0.31.
    #[must_use]
    pub fn convert(self, emf_mv: f64, panel_celsius: f64, u: ReadingUncertainty) -> Option<Converted> {
        let celsius = self.temperature(emf_mv, panel_celsius)?;
        let (here, panel) = (self.seebeck(celsius)?, self.seebeck(panel_celsius)?);
        Some(Converted { celsius, u: (u.signal * 1000.0 / here).hypot(panel / here * u.kelvin) })
    }
}

impl SteinhartHart {
    /// Temperature with its uncertainty: u² = (u(R) |dT/dR|)² + u(points)². The points' own uncertainty is carried over
    /// whole, which holds between them and is too little beyond.
    #[must_use]
    pub fn convert(&self, ohm: f64, u: ReadingUncertainty) -> Option<Converted> {
        let celsius = self.temperature(ohm)?;
        let slope = slope(|r| self.temperature(r), ohm)?;
        Some(Converted { celsius, u: (u.signal * slope).hypot(u.kelvin) })
    }
}

/// Temperature of a platinum thermometer with its uncertainty: that of the resistance, and the tolerance of its class as a
/// rectangle, half width/√3 (JCGM 100:2008, 4.3.7). Worked: 110 Ω ± 0.02 of 100, class B: 25.68 °C ± 0.25.
#[must_use]
pub fn platinum_convert(r0: f64, ohm: f64, class: ToleranceClass, u: ReadingUncertainty) -> Option<Converted> {
    let celsius = platinum_temperature(r0, ohm)?;
    let slope = platinum_slope(r0, celsius);
    Some(Converted { celsius, u: (u.signal * slope).hypot(class.half_width(celsius) / 3f64.sqrt()) })
}

/// |dT/dR| by a symmetric difference.
fn slope(temperature: impl Fn(f64) -> Option<f64>, ohm: f64) -> Option<f64> {
    let step = ohm * 1e-5;
    Some(((temperature(ohm + step)? - temperature(ohm - step)?) / (2.0 * step)).abs()).filter(|s| s.is_finite())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NONE: ReadingUncertainty = ReadingUncertainty { signal: 0.0, kelvin: 0.0 };

    #[test]
    fn thermocouples_take_over_the_panels_doubt() {
        let with = |signal, kelvin| Thermocouple::T.convert(0.25, 24.0, ReadingUncertainty { signal, kelvin }).unwrap();
        assert!((with(0.004, 0.3).u - 0.313).abs() < 2e-3, "{:?}", with(0.004, 0.3));
        assert!(with(0.0, 0.3).u < 0.3, "the slope rises with temperature, so a little less comes over");
        assert_eq!(with(0.0, 0.0).u, 0.0);
        assert_eq!(Thermocouple::T.convert(90.0, 24.0, NONE), None);
    }

    #[test]
    fn platinum_is_as_good_as_its_class() {
        let u = ReadingUncertainty { signal: 0.02, kelvin: 0.0 };
        let found = platinum_convert(100.0, 110.0, ToleranceClass::B, u).unwrap();
        assert!((found.celsius - 25.684).abs() < 1e-3 && (found.u - 0.2545).abs() < 2e-3, "{found:?}");
        assert!(platinum_convert(100.0, 110.0, ToleranceClass::Aa, u).unwrap().u < found.u / 2.0);
        assert_eq!(platinum_convert(100.0, 0.0, ToleranceClass::B, u), None);
    }

    #[test]
    fn a_thermistor_by_its_three_points() {
        let through = SteinhartHart::through([(0.0, 32_600.0), (25.0, 10_000.0), (50.0, 3_600.0)]).unwrap();
        let found = through.convert(10_000.0, ReadingUncertainty { signal: 10.0, kelvin: 0.05 }).unwrap();
        assert!((found.celsius - 25.0).abs() < 1e-6);
        assert!((found.u - 0.0547).abs() < 1e-3, "10 Ω of 10 kΩ are 0.02 K: {}", found.u);
        assert_eq!(through.convert(0.0, NONE), None);
    }

    proptest! {
        #[test]
        fn more_doubt_never_makes_a_temperature_better_known(emf in -1.0..5.0f64, panel in 0.0..40.0f64, a in 0.0..0.1f64, more in 0.0..0.1f64) {
            let at = |signal| Thermocouple::K.convert(emf, panel, ReadingUncertainty { signal, kelvin: 0.2 }).unwrap().u;
            prop_assert!(at(a + more) >= at(a));
        }
    }
}
