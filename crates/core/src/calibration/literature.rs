//! General curves from the literature, from permittivity to water content, and how well one serves a set of samples.

use crate::units::ParticleDensity;

/// A published curve.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Published {
    /// Topp, Davis & Annan 1980, Water Resources Research 16(3):574, eq. 7: mineral soils.
    Topp,
    /// Ledieu et al. 1986, Journal of Hydrology 88:319: a line in the square root.
    Ledieu,
    /// Malicki, Plagge & Roth 1996, European Journal of Soil Science 47:357: with the soil's own density.
    Malicki,
    /// A mixing model of minerals, water and air with the exponent 1/2 (Birchak et al. 1974, Proceedings of the IEEE 62:93;
    /// Roth et al. 1990, Water Resources Research 26:2267), with the soil's own density.
    Mixing,
}

/// Permittivities of the mixing model: minerals, water at 20 °C, air.
const MIXED: (f64, f64, f64) = (4.0, 80.1, 1.0);

/// Water content (m³/m³) of soil of a porosity at a permittivity ε, by mixing with the exponent 1/2:
/// θ = (√ε − (1 − φ) √ε_s − φ √ε_a)/(√ε_w − √ε_a). Worked value: ε = 14 at φ = 0.48: 0.27946.
#[must_use]
pub fn mixing_theta(permittivity: f64, porosity: f64) -> f64 {
    let (mineral, water, air) = (MIXED.0.sqrt(), MIXED.1.sqrt(), MIXED.2.sqrt());
    (permittivity.max(0.0).sqrt() - (1.0 - porosity) * mineral - porosity * air) / (water - air)
}

impl Published {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Topp, Self::Ledieu, Self::Malicki, Self::Mixing];

    /// Who, when.
    #[must_use]
    pub const fn source(self) -> &'static str {
        match self {
            Self::Topp => "Topp et al. 1980",
            Self::Ledieu => "Ledieu et al. 1986",
            Self::Malicki => "Malicki et al. 1996",
            Self::Mixing => "mixing model, minerals 4",
        }
    }

    /// Water content (m³/m³) at a relative permittivity, for a dry bulk density in g/cm³. Never clipped: air reads
    /// slightly below 0. Worked values: permittivity 12.5 gives 0.23446 by Topp; 10 at 1.4 g/cm³ gives 0.20363 by Malicki.
    #[must_use]
    pub fn theta(self, permittivity: f64, density: f64, solids: ParticleDensity) -> f64 {
        let root = permittivity.max(0.0).sqrt();
        match self {
            Self::Topp => -5.3e-2 + permittivity * (2.92e-2 + permittivity * (-5.5e-4 + permittivity * 4.3e-6)),
            Self::Ledieu => 0.1138 * root - 0.1758,
            Self::Malicki => (root - 0.819 - density * (0.168 + density * 0.159)) / (7.17 + 1.18 * density),
            Self::Mixing => mixing_theta(permittivity, 1.0 - density / solids.get()),
        }
    }
}

/// How far a curve lies from samples.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Score {
    /// Root of the mean squared miss, m³/m³.
    pub rmse: f64,
    /// Mean of curve minus sample, m³/m³.
    pub bias: f64,
}

/// Scores a curve on samples of raw output and water content; `None` without samples.
#[must_use]
pub fn score(curve: impl Fn(f64) -> f64, raw: &[f64], theta: &[f64]) -> Option<Score> {
    let n = raw.len().min(theta.len());
    let misses = raw.iter().zip(theta).map(|(x, y)| curve(*x) - y);
    let (sum, squares) = misses.fold((0.0, 0.0), |(s, q), m| (s + m, q + m * m));
    (n > 0).then(|| Score { rmse: (squares / n as f64).sqrt(), bias: sum / n as f64 })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn published_values() {
        for (eps, theta) in [(3.0, 0.029_766_1), (12.5, 0.234_460_937_5), (25.0, 0.400_437_5)] {
            assert_close(Published::Topp.theta(eps, 1.4, ParticleDensity::MINERAL), theta, 1e-9);
        }
        assert_close(Published::Ledieu.theta(9.0, 1.4, ParticleDensity::MINERAL), 0.1656, 1e-9);
        assert_close(Published::Ledieu.theta(20.25, 1.4, ParticleDensity::MINERAL), 0.3363, 1e-9);
        assert_close(Published::Malicki.theta(10.0, 1.4, ParticleDensity::MINERAL), 0.203_631_564_29, 1e-9);
        assert_close(Published::Malicki.theta(25.0, 0.9, ParticleDensity::MINERAL), 0.473_883_624_879, 1e-9);
        assert!(Published::Topp.theta(1.0, 1.4, ParticleDensity::MINERAL) < 0.0, "air is not clipped");
        assert_close(mixing_theta(14.0, 0.48), 0.279_458_668_883, 1e-9);
        assert_close(Published::Mixing.theta(14.0, 0.52 * 2.65, ParticleDensity::MINERAL), 0.279_458_668_883, 1e-9);
    }

    #[test]
    fn the_general_curves_agree_on_a_usual_soil_and_rise() {
        for step in 0..=40 {
            let eps = 4.0 + 0.5 * f64::from(step);
            let all = Published::ALL.map(|p| p.theta(eps, 1.4, ParticleDensity::MINERAL));
            let (low, high) = all.iter().fold((1.0f64, 0.0f64), |(l, h), t| (l.min(*t), h.max(*t)));
            assert!(high - low < 0.06, "they lie within 0.06 m³/m³ of each other: {all:?} at {eps}");
            let more = Published::ALL.map(|p| p.theta(eps + 0.1, 1.4, ParticleDensity::MINERAL));
            assert!(all.iter().zip(more).all(|(a, b)| b > *a));
        }
    }

    #[test]
    fn a_curve_that_stands_off_shows_its_bias() {
        let s = score(|x| x + 0.03, &[0.1, 0.2, 0.3], &[0.1, 0.2, 0.3]).unwrap();
        assert_close(s.rmse, 0.03, 1e-12);
        assert_close(s.bias, 0.03, 1e-12);
        assert_eq!(score(|x| x, &[], &[]), None);
    }
}
