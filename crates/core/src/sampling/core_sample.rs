//! Gravimetric and volumetric water content and dry bulk density of one core.

use super::WATER_DENSITY_G_CM3;
use crate::units::{CoreVolume, Grams, ParticleDensity};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// A figure with its standard uncertainty (k = 1).
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Measured {
    /// The figure itself, in the unit of its field.
    pub value: f64,
    /// Its standard uncertainty, in the same unit.
    pub u: f64,
}

/// What was weighed and measured of one core. Wet and dry masses are gross: the tin is in them.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct CoreMasses {
    /// Empty tin with lid.
    pub tare: Grams,
    /// Tin with the moist core.
    pub wet: Grams,
    /// Tin with the core after drying to constant mass.
    pub dry: Grams,
    /// Inner volume of the corer.
    pub volume: CoreVolume,
    /// Density of the solids.
    pub particle_density: ParticleDensity,
    /// Density of water ρw, g/cm³.
    pub water_density: f64,
}

/// Standard uncertainties of the four inputs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct BalanceUncertainty {
    /// Of the tare, g.
    pub tare: f64,
    /// Of the wet mass, g.
    pub wet: f64,
    /// Of the dry mass, g.
    pub dry: f64,
    /// Of the core volume, cm³.
    pub volume: f64,
    /// Of the particle density, g/cm³.
    pub particle_density: f64,
}

impl BalanceUncertainty {
    /// A balance with a display step of `step_g`, and a corer known to `volume_pct` percent.
    ///
    /// A rectangular step d has u = d/√12 (JCGM 100:2008, 4.3.7).
    #[must_use]
    pub fn from_step(step_g: f64, volume: CoreVolume, volume_pct: f64) -> Self {
        let u = step_g / 12f64.sqrt();
        Self { tare: u, wet: u, dry: u, volume: volume.get() * volume_pct / 100.0, particle_density: 0.0 }
    }
}

/// The figures of one core, each with its standard uncertainty.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct CoreSample {
    /// Water per dry mass, g/g.
    pub gravimetric: Measured,
    /// Dry bulk density, g/cm³.
    pub bulk_density: Measured,
    /// Volumetric water content, m³/m³.
    pub volumetric: Measured,
    /// Pore space, m³/m³.
    pub pore_space: Measured,
    /// Water content over pore space. Above 1 tells of a volume error; it is not clipped.
    pub saturation: Measured,
    /// Air-filled pore space, m³/m³; negative where saturation passes 1.
    pub air_filled: f64,
    /// Void ratio.
    pub void_ratio: f64,
}

/// Masses that no core can have.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum CoreError {
    /// Dry is heavier than wet.
    #[error("the dry mass ({dry} g) exceeds the wet mass ({wet} g): are the two columns swapped?")]
    DryExceedsWet {
        /// Dry mass.
        dry: f64,
        /// Wet mass.
        wet: f64,
    },
    /// The tin outweighs tin and soil.
    #[error("the tare ({tare} g) is not below the dry mass ({dry} g): weigh tin and dry soil together")]
    TareAboveDry {
        /// Tare.
        tare: f64,
        /// Dry mass.
        dry: f64,
    },
    /// Denser than its own particles.
    #[error(
        "a bulk density of {density:.2} g/cm³ leaves no pores between solids of {solids:.2}: check the core volume, whether masses are in grams, and the organic matter"
    )]
    NoPores {
        /// Bulk density found, g/cm³.
        density: f64,
        /// Density of the solids, g/cm³.
        solids: f64,
    },
}

impl CoreMasses {
    /// Masses and volume of a soil with such solids, and water at its usual density.
    #[must_use]
    pub fn new(tare: Grams, wet: Grams, dry: Grams, volume: CoreVolume, particle_density: ParticleDensity) -> Self {
        Self { tare, wet, dry, volume, particle_density, water_density: WATER_DENSITY_G_CM3 }
    }

    /// Computes the core's figures.
    ///
    /// M = dry − tare, W = wet − dry, w = W/M, ρb = M/V, θ = W/(ρw V), φ = 1 − ρb/ρs, S = θ/φ
    /// (Dane & Topp 2002, Methods of Soil Analysis Part 4, ch. 2.1 and 3.1; ISO 11272, ISO 11465).
    /// Uncertainty is first order, JCGM 100:2008 eq. (10), on the independent inputs, since w and ρb share the
    /// dry mass. Worked: tare 52.31, wet 231.84, dry 201.17 g in 100 cm³ give θ = 0.3067, u(θ) = 0.00154 for
    /// u(mass) = 0.01 g and u(V) = 0.5 cm³.
    ///
    /// # Errors
    /// [`CoreError`] for masses that no core can have.
    pub fn resolve(&self, u: &BalanceUncertainty) -> Result<CoreSample, CoreError> {
        let (tare, wet, dry, volume) = (self.tare.get(), self.wet.get(), self.dry.get(), self.volume.get());
        if dry > wet {
            return Err(CoreError::DryExceedsWet { dry, wet });
        }
        if tare >= dry {
            return Err(CoreError::TareAboveDry { tare, dry });
        }
        let (solid, water) = (dry - tare, wet - dry);
        let density = solid / volume;
        let solids = self.particle_density.get();
        if density >= solids {
            return Err(CoreError::NoPores { density, solids });
        }
        let theta = water / (self.water_density * volume);
        let porosity = 1.0 - density / solids;
        let root_sum = |terms: &[f64]| terms.iter().map(|t| t * t).sum::<f64>().sqrt();

        let u_w = root_sum(&[u.wet / solid, (wet - tare) / solid.powi(2) * u.dry, water / solid.powi(2) * u.tare]);
        let u_density = root_sum(&[u.dry / volume, u.tare / volume, density / volume * u.volume]);
        let per_volume = 1.0 / (self.water_density * volume);
        let u_theta = root_sum(&[per_volume * u.wet, per_volume * u.dry, theta / volume * u.volume]);
        let u_porosity = root_sum(&[u_density / solids, density * u.particle_density / solids.powi(2)]);
        // S = W / (ρw D) with the pore volume D = V − M/ρs.
        let pores = volume - solid / solids;
        let saturation = water / (self.water_density * pores);
        let by_solid = saturation / (solids * pores);
        let u_saturation = root_sum(&[
            u.wet / (self.water_density * pores),
            (by_solid - 1.0 / (self.water_density * pores)) * u.dry,
            by_solid * u.tare,
            saturation / pores * u.volume,
            saturation * solid / (solids.powi(2) * pores) * u.particle_density,
        ]);
        Ok(CoreSample {
            gravimetric: Measured { value: water / solid, u: u_w },
            bulk_density: Measured { value: density, u: u_density },
            volumetric: Measured { value: theta, u: u_theta },
            pore_space: Measured { value: porosity, u: u_porosity },
            saturation: Measured { value: saturation, u: u_saturation },
            air_filled: porosity - theta,
            void_ratio: porosity / (1.0 - porosity),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;
    use proptest::prelude::*;

    fn core(tare: f64, wet: f64, dry: f64, volume: f64) -> CoreMasses {
        let g = |m| Grams::new(m).unwrap();
        CoreMasses::new(g(tare), g(wet), g(dry), CoreVolume::new(volume).unwrap(), ParticleDensity::MINERAL)
    }

    fn uncertain(mass: f64, volume: f64, particle_density: f64) -> BalanceUncertainty {
        BalanceUncertainty { tare: mass, wet: mass, dry: mass, volume, particle_density }
    }

    #[test]
    fn published_core_with_its_uncertainty() {
        let s = core(52.31, 231.84, 201.17, 100.0).resolve(&uncertain(0.01, 0.5, 0.0)).unwrap();
        assert_close(s.gravimetric.value, 0.206_032_513_771, 1e-9);
        assert_close(s.bulk_density.value, 1.4886, 1e-9);
        assert_close(s.volumetric.value, 0.3067, 1e-9);
        assert_close(s.pore_space.value, 0.438_264_150_943, 1e-9);
        assert_close(s.saturation.value, 0.699_806_268_297, 1e-9);
        assert_close(s.air_filled, 0.131_564_150_943, 1e-9);
        assert_close(s.void_ratio, 0.780_196_157_463, 1e-9);
        assert_close(s.gravimetric.u, 0.000_106_151_982_688, 1e-9);
        assert_close(s.bulk_density.u, 0.007_444_343_423_03, 1e-9);
        assert_close(s.volumetric.u, 0.001_540_007_224_01, 1e-9);
        assert_close(s.pore_space.u, 0.002_809_186_197_37, 1e-9);
        assert_close(s.saturation.u, 0.007_989_093_102_25, 1e-9);
    }

    #[test]
    fn small_core_with_uncertain_particle_density() {
        let s = core(18.402, 96.775, 84.031, 50.27).resolve(&uncertain(0.002_887, 0.4, 0.03)).unwrap();
        assert_close(s.volumetric.value, 0.253_511_040_382, 1e-9);
        assert_close(s.gravimetric.u, 6.904_811_575_81e-05, 1e-9);
        assert_close(s.bulk_density.u, 0.010_388_462_605_3, 1e-9);
        assert_close(s.volumetric.u, 0.002_018_829_843_29, 1e-9);
        assert_close(s.pore_space.u, 0.006_817_107_573_84, 1e-9);
        assert_close(s.saturation.u, 0.009_571_255_120_43, 1e-9);
    }

    #[test]
    fn warm_water_and_light_particles() {
        let masses = CoreMasses {
            particle_density: ParticleDensity::new(2.6).unwrap(),
            water_density: 0.998_203,
            ..core(45.0, 190.5, 171.2, 98.17)
        };
        let s = masses.resolve(&uncertain(0.0, 0.0, 0.0)).unwrap();
        assert_close(s.volumetric.value, 0.196_951_660_751, 1e-9);
        assert_close(s.saturation.value, 0.389_565_690_189, 1e-9);
    }

    #[test]
    fn impossible_masses_say_what_to_check() {
        let none = uncertain(0.0, 0.0, 0.0);
        let message = |c: CoreMasses| c.resolve(&none).unwrap_err().to_string();
        assert!(message(core(50.0, 150.0, 180.0, 100.0)).contains("columns swapped"));
        assert!(message(core(150.0, 180.0, 140.0, 100.0)).contains("weigh tin and dry soil together"));
        assert!(message(core(10.0, 900.0, 800.0, 100.0)).contains("leaves no pores"));
    }

    proptest! {
        #[test]
        fn the_tin_does_not_change_water_content(tin in 5.0..80.0f64, more in 0.0..50.0f64, solid in 60.0..160.0f64, water in 0.0..45.0f64) {
            let u = uncertain(0.01, 0.5, 0.0);
            let light = core(tin, tin + solid + water, tin + solid, 100.0).resolve(&u).unwrap();
            let tin = tin + more;
            let heavy = core(tin, tin + solid + water, tin + solid, 100.0).resolve(&u).unwrap();
            prop_assert!((light.volumetric.value - heavy.volumetric.value).abs() < 1e-9);
            prop_assert!((light.volumetric.value - light.gravimetric.value * light.bulk_density.value).abs() < 1e-9);
        }
    }
}
