//! Quantities as types, with the unit in the name.
//!
//! A value that lies outside its [`Range`] cannot be made: the constructor is the check. The same table of ranges feeds the
//! parser, the message, the form's `min` and `max`, and the property tests. Types stand where a value crosses from typing or
//! files into the rules; within them a number carries its unit in its name.
//!
//! ```
//! use ebrel_core::units::DepthCm;
//! assert_eq!(DepthCm::new(15.0).unwrap().get(), 15.0);
//! assert!(DepthCm::new(1500.0).unwrap_err().to_string().contains("depth must lie between"));
//! ```

mod number;
mod quantity;
mod range;
mod time;

pub use number::{format_offset, format_plain, format_short, format_value, grouped, read_number, read_offset, signed};
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
    /// Density of a soil's solids ρs, g/cm³.
    ParticleDensity, ranges::PARTICLE_DENSITY_G_CM3
);

/// Density of mineral particles, g/cm³, taken where nothing better is known.
const MINERAL_G_CM3: f64 = 2.65;

impl ParticleDensity {
    /// Mineral soil, 2.65 g/cm³.
    pub const MINERAL: Self = Self(MINERAL_G_CM3);

    /// What the solids of a soil with so much organic matter (% of dry mass, held to 0 to 100) weigh; without a figure, those
    /// of a mineral soil.
    ///
    /// 1/ρs = OM/(1.127 + 0.373 OM) + (1 − OM)/ρm, OM as a share (Rühlmann, Körschens & Graefe 2006, Geoderma 130:272), with
    /// ρm = 2.65 g/cm³. Worked: 0 % gives 2.65, 45 % gives 1.801, 100 % gives 1.50 g/cm³.
    #[must_use]
    pub fn of_organic(percent: Option<f64>) -> Self {
        let share = percent.filter(|p| p.is_finite()).unwrap_or(0.0).clamp(0.0, 100.0) / 100.0;
        Self(1.0 / (share / (1.127 + 0.373 * share) + (1.0 - share) / MINERAL_G_CM3))
    }
}

/// Pore space φ = 1 − ρb/ρs (m³/m³) of a soil of dry bulk density `bulk_density` with such solids; `None` where that leaves no
/// pores, so that one of the two figures is wrong.
///
/// Dane & Topp (eds) 2002, Methods of Soil Analysis Part 4, ch. 2.1. Worked value: 1.4886 and 2.65 g/cm³ give 0.4383.
#[must_use]
pub fn pore_space(bulk_density: BulkDensity, solids: ParticleDensity) -> Option<f64> {
    Some(1.0 - bulk_density.get() / solids.get()).filter(|pores| *pores > 0.0)
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
        let phi = |density, solids| pore_space(BulkDensity::new(density).unwrap(), solids);
        assert!((phi(1.4886, ParticleDensity::MINERAL).unwrap() - 0.438_264_150_943).abs() < 1e-12);
        let peat = ParticleDensity::of_organic(Some(92.0));
        assert!(phi(0.12, peat).unwrap() < 0.925, "with 2.65 it would be 0.955");
        assert_eq!(phi(1.9, peat), None, "denser than its own solids");
    }

    #[test]
    fn solids_follow_organic_matter() {
        let of = |percent| ParticleDensity::of_organic(percent).get();
        assert!((of(Some(45.0)) - 1.801).abs() < 1e-3 && (of(Some(100.0)) - 1.5).abs() < 1e-12);
        assert_eq!([of(None), of(Some(0.0)), of(Some(f64::NAN))], [2.65; 3]);
        assert!(of(Some(5.0)) > of(Some(6.0)));
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
