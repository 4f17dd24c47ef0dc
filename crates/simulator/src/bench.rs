//! Reference samples as a bench would make them, from a known true curve.

use crate::probes::blade_output_mv;
use crate::rounding::to_step;
use rand::{RngExt, SeedableRng};
use rand_chacha::ChaCha8Rng;
use rand_distr::{Distribution, StandardNormal};

/// What was written down for one tin.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SampleMasses {
    /// Raw output of the probe, mV.
    pub raw_mv: f64,
    /// Empty tin, g.
    pub tare_g: f64,
    /// Tin with moist core, g.
    pub wet_g: f64,
    /// Tin with dry core, g.
    pub dry_g: f64,
}

/// A moisture calibration as a bench makes it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BenchRun<'t> {
    /// Number of the probe's serial.
    pub serial: u32,
    /// Bulk density that is packed to, g/cm³.
    pub density: f64,
    /// Volume of the corer, cm³.
    pub volume_cm3: f64,
    /// True water content of each tin, in order, m³/m³.
    pub thetas: &'t [f64],
    /// The tin whose lid was wet on the balance.
    pub outlier: Option<usize>,
    /// Share by which the packing grows denser from the first tin to the last.
    pub packing_drift: f64,
}

impl BenchRun<'_> {
    /// What was written down: one tin per content.
    #[must_use]
    pub fn samples(&self) -> Vec<SampleMasses> {
        let mut rng = ChaCha8Rng::seed_from_u64(u64::from(self.serial) * 31 + 5);
        let mut noise = |sigma: f64| sigma * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, &mut rng);
        let mut tares = ChaCha8Rng::seed_from_u64(u64::from(self.serial));
        let last = self.thetas.len().saturating_sub(1).max(1) as f64;
        let tin = |(i, theta): (usize, &f64)| {
            let theta = theta + noise(0.0035);
            let tare = to_step(tares.random_range(18.2..19.6), 0.01);
            let packed = self.density * (1.0 + self.packing_drift * i as f64 / last);
            let dry = tare + packed * (1.0 + noise(0.008)) * self.volume_cm3;
            let wet = dry + theta * self.volume_cm3 + if self.outlier == Some(i) { 3.4 } else { 0.0 };
            let seen = theta + noise(0.002) + DENSITY_AS_WATER * (packed - self.density);
            SampleMasses {
                raw_mv: to_step(blade_output_mv(self.serial, seen), 0.1),
                tare_g: tare,
                wet_g: to_step(wet, 0.01),
                dry_g: to_step(dry, 0.01),
            }
        };
        self.thetas.iter().enumerate().map(tin).collect()
    }
}

/// A container of 4 L that is weighed as it dries: raw output in mV and gross mass in g at each content.
#[must_use]
pub fn drying_container(serial: u32, thetas: &[f64], dry_g: f64) -> Vec<(f64, f64)> {
    let mut rng = ChaCha8Rng::seed_from_u64(u64::from(serial) * 37 + 11);
    let mut noise = |sigma: f64| sigma * <StandardNormal as Distribution<f64>>::sample(&StandardNormal, &mut rng);
    let look = |theta: &f64| {
        (to_step(blade_output_mv(serial, theta + noise(0.002)), 0.1), to_step(dry_g + theta * 4000.0 + noise(0.5), 1.0))
    };
    thetas.iter().map(look).collect()
}

/// A rise of the density by 1 g/cm³ reads like this much more water: denser soil has a higher permittivity.
pub(crate) const DENSITY_AS_WATER: f64 = 0.12;

#[cfg(test)]
mod tests {
    use super::*;
    use crate::probes::blade_dielectric_curve;

    fn largest_error(serial: u32, curve: impl Fn(f64) -> f64, thetas: (f64, f64)) -> f64 {
        let [a, b, c] = blade_dielectric_curve(serial);
        (0..=50)
            .map(|i| blade_output_mv(serial, thetas.0 + (thetas.1 - thetas.0) * f64::from(i) / 50.0))
            .map(|mv| (curve(mv) - (a + b * mv + c * mv * mv)).abs())
            .fold(0.0, f64::max)
    }

    #[test]
    fn the_clean_run_recovers_the_truth_and_the_wet_lid_is_outlying() {
        let thetas = [0.08, 0.14, 0.2, 0.26, 0.32, 0.38, 0.44];
        let fit = |outlier| {
            let run =
                BenchRun { serial: 421, density: 1.34, volume_cm3: 50.0, thetas: &thetas, outlier, packing_drift: 0.0 };
            let tins = run.samples();
            let x: Vec<f64> = tins.iter().map(|t| t.raw_mv).collect();
            let y: Vec<f64> = tins.iter().map(|t| (t.wet_g - t.dry_g) / 50.0).collect();
            ebrel_core::calibration::recommend(&ebrel_core::calibration::Samples {
                raw: &x,
                theta: &y,
                ..Default::default()
            })
        };
        let clean = fit(None);
        let curve = clean.candidates[1].fit.as_ref().unwrap();
        assert_eq!(clean.form, Some(ebrel_core::calibration::Form::Quadratic));
        assert!(largest_error(421, |mv| curve.at(mv).0, (0.08, 0.44)) < 0.01);
        assert!(clean.outliers.is_empty());
        assert_eq!(fit(Some(3)).outliers.iter().map(|o| o.0).collect::<Vec<_>>(), [3]);
    }
}
