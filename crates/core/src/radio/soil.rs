//! Radio waves out of the soil: why a buried node that was heard in the dry falls silent in the wet.

use super::link::LIGHT_M_S;
use nalgebra::Complex;
use std::f64::consts::PI;

/// Permittivity of free space, F/m.
const EPSILON_0: f64 = 8.854_187_812_8e-12;
/// dB per neper: 20/ln 10.
const DB_PER_NEPER: f64 = 8.685_889_638_065_037;
/// Exponent of the mixing model.
const ALPHA: f64 = 0.65;

/// Soil as the radio sees it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WetSoil {
    /// Volumetric water content, m³/m³, above 0.
    pub theta: f64,
    /// Sand, as a fraction.
    pub sand: f64,
    /// Clay, as a fraction.
    pub clay: f64,
    /// Dry bulk density, g/cm³.
    pub density: f64,
    /// Density of the particles, g/cm³.
    pub particles: f64,
}

/// Complex relative permittivity ε′ − jε″ of moist soil at 0.3 to 1.3 GHz and 20 °C, as (ε′, ε″).
///
/// Peplinski, Ulaby & Dobson 1995, IEEE Trans. Geosci. Remote Sensing 33:803, with the erratum 33:1340. The effective
/// conductivity can come out negative in very sandy soil; it is then taken as 0.
/// Worked value: 868 MHz, θ 0.2, 40 % sand, 20 % clay, 1.4 g/cm³: 12.839 − j 1.4095.
#[must_use]
pub fn permittivity(frequency_hz: f64, soil: &WetSoil) -> (f64, f64) {
    let WetSoil { theta, sand, clay, density, particles } = *soil;
    let theta = theta.max(1e-3);
    // 2πτ of water at 20 °C, s.
    let omega_tau = 0.58e-10 * frequency_hz;
    let (low, high) = (80.1, 4.9);
    let relaxed = 1.0 + omega_tau * omega_tau;
    let conductivity = (0.0467 + 0.2204 * density - 0.4111 * sand + 0.6614 * clay).max(0.0);
    let water_real = high + (low - high) / relaxed;
    let water_imag = omega_tau * (low - high) / relaxed
        + conductivity * (particles - density) / (2.0 * PI * frequency_hz * EPSILON_0 * particles * theta);
    let (beta_real, beta_imag) = (1.2748 - 0.519 * sand - 0.152 * clay, 1.33797 - 0.603 * sand - 0.166 * clay);
    let solid = (1.01 + 0.44 * particles).powi(2) - 0.062;
    let mixed =
        1.0 + density / particles * (solid.powf(ALPHA) - 1.0) + theta.powf(beta_real) * water_real.powf(ALPHA) - theta;
    let real = 1.15 * mixed.powf(1.0 / ALPHA) - 0.68;
    let imag = (theta.powf(beta_imag) * water_imag.powf(ALPHA)).powf(1.0 / ALPHA);
    (real, imag)
}

/// What a wave loses on its way out of the soil.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SoilPath {
    /// Absorption along the way, dB.
    pub absorbed_db: f64,
    /// Reflection at the surface, dB.
    pub interface_db: f64,
    /// Spreading within the soil, dB.
    pub spreading_db: f64,
}

impl SoilPath {
    /// All of it, dB.
    #[must_use]
    pub fn total_db(&self) -> f64 {
        self.absorbed_db + self.interface_db + self.spreading_db.max(0.0)
    }
}

/// Loss of a plane wave from `depth_m` up to and through the surface, straight up.
///
/// With k = (ω/c) √(ε′ − jε″): absorption 8.686 α d, spreading 20 log10(2βd), reflection −10 log10(1 − |Γ|²),
/// Γ = (1 − n)/(1 + n) (Vuran & Akyildiz 2010, Physical Communication 3:245).
/// Worked value: 868 MHz, 12 − j 2.5, 0.3 m: 17.014, 1.619 and 31.599 dB.
#[must_use]
pub fn soil_path(frequency_hz: f64, permittivity: (f64, f64), depth_m: f64) -> SoilPath {
    let index = Complex::new(permittivity.0, -permittivity.1).sqrt();
    let wave = 2.0 * PI * frequency_hz / LIGHT_M_S;
    let (alpha, beta) = (-wave * index.im, wave * index.re);
    let one = Complex::new(1.0, 0.0);
    let reflected = ((one - index) / (one + index)).norm_sqr();
    SoilPath {
        absorbed_db: DB_PER_NEPER * alpha * depth_m,
        interface_db: -10.0 * (1.0 - reflected).log10(),
        spreading_db: 20.0 * (2.0 * beta * depth_m).log10(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn ways_out_of_the_reference_soils() {
        let path = soil_path(868e6, (12.0, 2.5), 0.3);
        assert_close(path.absorbed_db, 17.014_339_498_7, 1e-8);
        assert_close(path.interface_db, 1.618_750_018_37, 1e-8);
        assert_close(path.spreading_db, 31.598_790_239_2, 1e-8);
        let low = soil_path(433e6, (20.0, 6.0), 0.5);
        assert_close(low.absorbed_db, 26.152_241_970_9, 1e-8);
        assert_close(low.interface_db, 2.329_751_808_86, 1e-8);
    }

    #[test]
    fn permittivities_of_the_reference() {
        let soil = WetSoil { theta: 0.2, sand: 0.4, clay: 0.2, density: 1.4, particles: 2.66 };
        let (real, imag) = permittivity(868e6, &soil);
        assert_close(real, 12.839_426_321_8, 1e-9);
        assert_close(imag, 1.409_531_069_52, 1e-9);
        let clay = WetSoil { theta: 0.3, sand: 0.15, clay: 0.35, density: 1.3, particles: 2.66 };
        assert_close(permittivity(433e6, &clay).1, 4.139_653_144_1, 1e-9);
    }

    #[test]
    fn wetter_soil_swallows_more() {
        let loss = |theta| {
            let soil = WetSoil { theta, sand: 0.2, clay: 0.2, density: 1.3, particles: 2.65 };
            soil_path(868e6, permittivity(868e6, &soil), 0.25).total_db()
        };
        assert!(loss(0.1) < loss(0.2) && loss(0.2) < loss(0.4) && loss(0.0).is_finite());
    }
}
