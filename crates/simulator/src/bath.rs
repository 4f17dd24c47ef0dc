//! A stirred bath with a reference thermometer, and a digital thermometer whose error is known.

use crate::rounding::to_step;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// Temperatures at which the bath can be held: ice, cool, room, warm, °C.
pub const SETTINGS_C: [f64; 5] = [0.0, 11.0, 20.5, 29.0, 38.0];
/// Temperature of the room, from which the probe comes into the bath, °C.
const ROOM_C: f64 = 20.5;
/// Time constant of the probe's steel housing, minutes.
const HOUSING_MIN: f64 = 1.3;
/// Seconds between the readings of one state.
const BETWEEN_MIN: f64 = 0.5;

/// What both thermometers showed.
#[derive(Debug, Clone, PartialEq)]
pub struct BathReadings {
    /// The probe, three times, °C.
    pub probe: [f64; 3],
    /// The reference, °C.
    pub reference: f64,
}

/// A thermometer to practise on: what it reads is true + offset + slope × true.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PracticeThermometer {
    /// Added to every reading, K.
    pub offset: f64,
    /// K per K.
    pub slope: f64,
}

impl PracticeThermometer {
    /// One of three kinds by the seed: sound, with a constant bias, or with one that grows.
    #[must_use]
    pub fn of(seed: u64) -> Self {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        match rng.random_range(0..3) {
            0 => Self { offset: to_step(rng.random_range(-0.1..0.1), 0.01), slope: 0.0 },
            1 => Self { offset: to_step(rng.random_range(0.7..1.4), 0.01), slope: 0.0 },
            _ => Self { offset: 0.0, slope: to_step(rng.random_range(0.03..0.05), 0.001) },
        }
    }

    /// What it is, in words.
    #[must_use]
    pub fn words(self) -> String {
        match (self.offset, self.slope) {
            (_, slope) if slope != 0.0 => format!("it reads {:.1} % of the temperature too much", slope * 100.0),
            (offset, _) if offset.abs() < 0.2 => "it is sound".to_owned(),
            (offset, _) => format!("it reads {offset:.2} K warm everywhere"),
        }
    }

    /// Both thermometers after the probe has been in a bath of `bath_c` for `minutes`. Read too early, the probe still
    /// runs from the room's temperature towards the bath's.
    #[must_use]
    pub fn read(self, bath_c: f64, minutes: f64, seed: u64) -> BathReadings {
        let mut rng = ChaCha8Rng::seed_from_u64(seed);
        let mut noise = |sigma: f64| sigma * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, &mut rng);
        let bath = bath_c + noise(0.02);
        let probe = std::array::from_fn(|i| {
            let after = minutes + BETWEEN_MIN * i as f64;
            let housing = bath + (ROOM_C - bath) * (-after / HOUSING_MIN).exp();
            to_step(housing + self.offset + self.slope * housing + noise(0.01), 0.01)
        });
        BathReadings { probe, reference: to_step(bath + noise(0.01), 0.01) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ebrel_core::temperature::{Claims, Pattern, check};

    #[test]
    fn patience_finds_the_truth_and_haste_does_not() {
        for seed in 0..12 {
            let thermometer = PracticeThermometer::of(seed);
            let pairs = |minutes: f64| -> (Vec<f64>, Vec<f64>) {
                let each = (0u64..).zip(SETTINGS_C).map(|(i, c)| thermometer.read(c, minutes, seed * 50 + i));
                each.map(|r| (r.probe[2], r.reference)).unzip()
            };
            let judged = |(probe, reference): (Vec<f64>, Vec<f64>)| {
                check(&probe, &reference, Claims { probe: 0.3, reference: 0.1 }).pattern
            };
            let truth = match thermometer {
                PracticeThermometer { slope, .. } if slope != 0.0 => Pattern::Proportional,
                PracticeThermometer { offset, .. } if offset.abs() > 0.3 => Pattern::Constant,
                _ => Pattern::None,
            };
            assert_eq!(judged(pairs(8.0)), truth, "{thermometer:?}");
            let early = thermometer.read(0.0, 0.5, seed).probe;
            assert!(early[0] > early[1] + 0.5 && early[1] > early[2] + 0.5, "an early reading runs: {early:?}");
        }
    }
}
