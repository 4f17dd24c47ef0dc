//! Tension probes: resistance from a bridge read in both polarities, kilopascal from resistance and temperature, and what
//! a reading means in a soil; soaking and drying before use; an own-made block against a reference in a drying pot.

mod cycles;
mod response;

pub use cycles::{Readiness, SOAKED_ALIKE, Stage, Step, readiness, schedule};
pub use response::{BlockResponse, PotReading, ResponseError, block_response};

use crate::statistics::median;
use thiserror::Error;

/// A half bridge: the fixed resistor lies between drive and midpoint, the probe between midpoint and ground.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct HalfBridge {
    /// Drive, V.
    pub drive_v: f64,
    /// Fixed resistor, Ω.
    pub fixed_ohm: f64,
}

/// What one pair of pulses says.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BlockReading {
    /// Resistance of the probe, Ω.
    pub ohm: f64,
    /// Galvanic voltage between its electrodes, V.
    pub galvanic_v: f64,
}

/// A reading that is no resistance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum BlockError {
    /// No voltage across the probe.
    #[error("no voltage across the probe: a short, or water in the connector")]
    Short,
    /// All of the voltage across the probe.
    #[error("the whole drive stands across the probe: an open circuit, a cut cable, or a block as dry as bone")]
    Open,
    /// Both polarities have one sign.
    #[error(
        "both polarities have one sign: either the second pulse was not read with the drive reversed, or the galvanic voltage drowns the signal: a short, or corroded electrodes"
    )]
    Polarity,
    /// The first voltage is negative and the second positive.
    #[error("the first voltage belongs to the positive drive, the second to the reversed one: are the two swapped?")]
    Swapped,
    /// A voltage, the drive or the fixed resistor is no number, or drive or resistor not above 0.
    #[error("drive and fixed resistor must be above 0, and all voltages numbers")]
    NoBridge,
}

/// Share of the drive across the probe below and above which it is called short or open.
const EDGE: f64 = 1e-3;

impl HalfBridge {
    /// Resistance and galvanic voltage from the midpoint's voltage under positive and negative drive.
    ///
    /// X = (V₊ − V₋)/(2 Vx), R = Rf X/(1 − X), e = (V₊ + V₋)/2 (Rf + R)/Rf (Kirchhoff): averaging the voltages cancels the
    /// galvanic one, averaging two resistances does not. Worked value: 2.5 V, 7870 Ω, 0.93173 and −0.88719 V: 4500 Ω, 35 mV.
    ///
    /// # Errors
    /// [`BlockError`] for a short, an open circuit, two readings of one sign or swapped ones, or a bridge that is none.
    pub fn read(&self, positive_v: f64, negative_v: f64) -> Result<BlockReading, BlockError> {
        let share = (positive_v - negative_v) / (2.0 * self.drive_v);
        let usable = self.drive_v > 0.0 && self.fixed_ohm > 0.0 && self.fixed_ohm.is_finite();
        if !usable || !share.is_finite() {
            return Err(BlockError::NoBridge);
        }
        match share {
            _ if positive_v * negative_v > 0.0 => Err(BlockError::Polarity),
            x if x < -EDGE => Err(BlockError::Swapped),
            x if x < EDGE => Err(BlockError::Short),
            x if x > 1.0 - EDGE => Err(BlockError::Open),
            x => {
                let ohm = self.fixed_ohm * x / (1.0 - x);
                let galvanic_v = positive_v.midpoint(negative_v) * (self.fixed_ohm + ohm) / self.fixed_ohm;
                let finite = ohm.is_finite() && galvanic_v.is_finite();
                finite.then_some(BlockReading { ohm, galvanic_v }).ok_or(BlockError::NoBridge)
            }
        }
    }

    /// The median of repeated pairs; the first error if none could be read.
    ///
    /// # Errors
    /// [`BlockError`] of the first pair, if no pair is a resistance.
    pub fn read_repeated(&self, pairs: &[(f64, f64)]) -> Result<BlockReading, BlockError> {
        let each: Vec<Result<BlockReading, BlockError>> = pairs.iter().map(|(p, n)| self.read(*p, *n)).collect();
        let good: Vec<BlockReading> = each.iter().filter_map(|r| r.as_ref().ok().copied()).collect();
        let middle = |of: fn(&BlockReading) -> f64| median(&mut good.iter().map(of).collect::<Vec<f64>>());
        match (middle(|r| r.ohm), middle(|r| r.galvanic_v)) {
            (Some(ohm), Some(galvanic_v)) => Ok(BlockReading { ohm, galvanic_v }),
            _ => Err(each.into_iter().find_map(Result::err).unwrap_or(BlockError::Open)),
        }
    }
}

/// Range in which the curve of a granular matrix was made, kPa.
pub const MATRIX_RANGE_KPA: (f64, f64) = (10.0, 100.0);

/// Tension in kPa of a granular matrix probe of `kilo_ohm` at a soil temperature in °C; `None` at and beyond the pole of
/// the curve, or for no resistance.
///
/// (4.093 + 3.213 R)/(1 − 0.009733 R − 0.01205 T) (Shock, Barnum & Seddigh 1998, International Irrigation Show, 139).
/// Made for about 10 to 100 kPa; beyond it is an extrapolation. Worked value: 2 kΩ at 20 °C: 14.224 kPa.
#[must_use]
pub fn matrix_tension(kilo_ohm: f64, celsius: f64) -> Option<f64> {
    let under = 1.0 - 0.009_733 * kilo_ohm - 0.012_05 * celsius;
    let kilopascal = (4.093 + 3.213 * kilo_ohm) / under;
    (kilo_ohm > 0.0 && under > 0.0 && kilopascal.is_finite()).then_some(kilopascal)
}

/// The inverse of [`matrix_tension`]: kΩ at a tension. Worked value: 30 kPa at 20 °C: 5.3287 kΩ.
#[must_use]
pub fn matrix_resistance(kilopascal: f64, celsius: f64) -> f64 {
    (kilopascal * (1.0 - 0.012_05 * celsius) - 4.093) / (3.213 + 0.009_733 * kilopascal)
}

/// What a tension means for plants in a soil of this texture, in words; a guide, to be replaced by the crop's own figures.
#[must_use]
pub fn reading_guide(texture: &str, kilopascal: f64) -> &'static str {
    let coarse = texture.contains("sand") && !texture.contains("clay");
    let heavy = texture.contains("clay");
    let refill = if coarse {
        30.0
    } else if heavy {
        90.0
    } else {
        60.0
    };
    match kilopascal {
        k if k < 8.0 => "nearly saturated: no air for roots if it stays so",
        k if k < 20.0 => "about field capacity, as a day or two after heavy rain",
        k if k < refill => "water is easy to get",
        k if k < 2.0 * refill => "at the refill point: growth begins to suffer",
        k if k < 1500.0 => "dry: growth suffers",
        _ => "beyond the wilting point, where soil is never let to go",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    const BRIDGE: HalfBridge = HalfBridge { drive_v: 2.5, fixed_ohm: 7870.0 };

    #[test]
    fn both_polarities_cancel_the_galvanic_voltage() {
        let read = BRIDGE.read(0.931_725_95, -0.887_190_784).unwrap();
        assert_close(read.ohm, 4_499.999_999_87, 1e-9);
        assert_close(read.galvanic_v, 0.035_000_000_216_9, 1e-8);
        let other = HalfBridge { drive_v: 1.0, fixed_ohm: 10_000.0 }.read(0.412, -0.388).unwrap();
        assert_close(other.ohm, 6_666.666_666_67, 1e-9);
        assert_close(other.galvanic_v, 0.02, 1e-9);
        let noisy = [(0.9317, -0.8872), (2.5, -2.5), (0.9318, -0.8871), (0.9316, -0.8873)];
        assert!((BRIDGE.read_repeated(&noisy).unwrap().ohm - 4500.0).abs() < 2.0, "one open pulse does not count");
    }

    #[test]
    fn shorts_open_circuits_and_a_missing_reversal_get_words() {
        assert_eq!(BRIDGE.read(0.0, 0.0), Err(BlockError::Short));
        assert_eq!(BRIDGE.read(2.5, -2.5), Err(BlockError::Open));
        assert_eq!(BRIDGE.read(0.93, 0.89), Err(BlockError::Polarity));
        assert_eq!(BRIDGE.read(-0.044, -0.076), Err(BlockError::Polarity), "50 Ω under −60 mV are no reading");
        assert_eq!(BRIDGE.read(0.94, 0.20), Err(BlockError::Polarity));
        assert_eq!(BRIDGE.read(-0.93, 0.89), Err(BlockError::Swapped));
        for (drive_v, fixed_ohm) in [(0.0, 7870.0), (2.5, 0.0), (f64::NAN, 7870.0), (2.5, f64::INFINITY)] {
            assert_eq!(HalfBridge { drive_v, fixed_ohm }.read(0.5, -0.5), Err(BlockError::NoBridge));
        }
        assert_eq!(BRIDGE.read(f64::NAN, -0.5), Err(BlockError::NoBridge));
        assert_eq!(BRIDGE.read_repeated(&[(2.5, -2.5), (0.0, 0.0)]), Err(BlockError::Open));
    }

    #[test]
    fn tensions_of_the_published_curve() {
        assert_close(matrix_tension(2.0, 20.0).unwrap(), 14.223_822_028_5, 1e-10);
        assert_close(matrix_tension(8.0, 24.0).unwrap(), 47.077_429_629_5, 1e-10);
        assert_close(matrix_resistance(30.0, 20.0), 5.328_688_526_93, 1e-10);
        assert_close(matrix_resistance(60.0, 24.0), 10.154_122_486_8, 1e-10);
        assert_eq!(matrix_tension(72.0, 25.0), None, "beyond the pole");
        assert_eq!(matrix_tension(0.0, 20.0), None);
    }

    #[test]
    fn the_guide_knows_the_soil() {
        assert!(reading_guide("sandy loam", 40.0).contains("refill"));
        assert!(reading_guide("silty clay", 40.0).contains("easy"));
        assert!(
            reading_guide("loam", 12.0).contains("field capacity") && reading_guide("loam", 1600.0).contains("wilting")
        );
    }
}
