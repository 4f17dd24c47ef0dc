//! Quantities as types, with the unit in the name.
//!
//! A level and a difference are different types ([`Celsius`] and [`KelvinDifference`]), and a value that
//! lies outside its [`Range`] cannot be made: the constructor is the check. The same table of ranges
//! feeds the parser, the message, the form's `min` and `max`, and the property tests.
//!
//! ```compile_fail
//! use ebrel_core::units::{Celsius, KelvinDifference};
//! let wrong: Celsius = Celsius::new(12.0).unwrap() + Celsius::new(3.0).unwrap(); // two levels do not add
//! ```
//! ```
//! use ebrel_core::units::{Celsius, KelvinDifference};
//! let warmer = Celsius::new(12.0).unwrap() + KelvinDifference(3.0);
//! assert_eq!(warmer.get(), 15.0);
//! ```

mod number;
mod quantity;
mod range;
mod time;

pub use number::read_number;
pub(crate) use quantity::coded;
pub use quantity::{Grade, Principle, Quantity, Verdict, unit_for_people};
pub use range::{OutOfRange, Range, ranges};
pub use time::{SpanSeconds, UnixSeconds};

use serde::{Deserialize, Serialize};

macro_rules! quantity_type {
    ($(#[$doc:meta])* $name:ident, $range:expr) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, PartialOrd, Serialize, Deserialize)]
        #[serde(try_from = "f64", into = "f64")]
        pub struct $name(f64);

        impl $name {
            /// The legal range of this quantity.
            pub const RANGE: Range = $range;

            /// Takes `value` if it lies in [`Self::RANGE`].
            ///
            /// # Errors
            /// [`OutOfRange`] for a value outside the range or not a number; its message says what is wanted.
            pub fn new(value: f64) -> Result<Self, OutOfRange> {
                Self::RANGE.check(value).map(Self)
            }

            /// The bare number, in the unit of the type.
            #[must_use]
            pub const fn get(self) -> f64 {
                self.0
            }
        }

        impl TryFrom<f64> for $name {
            type Error = OutOfRange;
            fn try_from(value: f64) -> Result<Self, OutOfRange> {
                Self::new(value)
            }
        }

        impl From<$name> for f64 {
            fn from(value: $name) -> f64 {
                value.0
            }
        }
    };
}

quantity_type!(
    /// Volumetric water content θ, m³ of water per m³ of soil. May be slightly negative: an air gap reads so.
    VolumetricWaterContent, ranges::VOLUMETRIC_WATER_CONTENT
);
quantity_type!(
    /// Depth below the soil surface in cm, positive down; negative is a height above ground.
    DepthCm, ranges::DEPTH_CM
);
quantity_type!(
    /// A mass in grams.
    Grams, ranges::MASS_G
);
quantity_type!(
    /// The volume of a core in cm³.
    CoreVolume, ranges::CORE_VOLUME_CM3
);
quantity_type!(
    /// Dry bulk density of soil, g/cm³.
    BulkDensity, ranges::BULK_DENSITY_G_CM3
);
quantity_type!(
    /// A temperature level, °C.
    Celsius, ranges::TEMPERATURE_C
);

/// A difference between two temperatures, K.
#[derive(Debug, Clone, Copy, PartialEq, PartialOrd)]
pub struct KelvinDifference(pub f64);

impl std::ops::Add<KelvinDifference> for Celsius {
    type Output = Celsius;
    fn add(self, difference: KelvinDifference) -> Celsius {
        Celsius(self.0 + difference.0)
    }
}

impl std::ops::Sub for Celsius {
    type Output = KelvinDifference;
    fn sub(self, other: Celsius) -> KelvinDifference {
        KelvinDifference(self.0 - other.0)
    }
}

/// Density of the mineral particles, g/cm³, taken where nothing better is known.
pub const PARTICLE_DENSITY_G_CM3: f64 = 2.65;

/// Pore space φ = 1 − ρb/ρs (m³/m³) of a soil of dry bulk density `bulk_density`.
///
/// Dane & Topp (eds) 2002, Methods of Soil Analysis Part 4, ch. 2.1. Worked value: 1.4886 g/cm³ gives 0.4383.
#[must_use]
pub fn pore_space(bulk_density: BulkDensity) -> f64 {
    1.0 - bulk_density.get() / PARTICLE_DENSITY_G_CM3
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_quantity_outside_its_range_says_what_is_wanted() {
        let error = DepthCm::new(5000.0).unwrap_err();
        assert_eq!(error.to_string(), "depth must lie between −300 and 1000 cm; 5000 does not");
        assert!(Grams::new(f64::NAN).is_err());
    }

    #[test]
    fn pore_space_of_the_worked_core() {
        let phi = pore_space(BulkDensity::new(1.4886).unwrap());
        assert!((phi - 0.438_264_150_943).abs() < 1e-12);
    }

    #[test]
    fn json_cannot_smuggle_in_an_illegal_value() {
        assert!(serde_json_like("7.0").is_err());
        assert!(serde_json_like("1.3").is_ok());
    }

    fn serde_json_like(text: &str) -> Result<BulkDensity, OutOfRange> {
        BulkDensity::try_from(text.parse::<f64>().unwrap())
    }
}
