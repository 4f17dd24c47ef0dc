//! Thermocouples by their ITS-90 reference functions.

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// A type of thermocouple.
    Thermocouple {
        /// Copper against constantan.
        T = "T",
        /// Chromium alloy against aluminium alloy.
        K = "K",
        /// Chromium alloy against constantan.
        E = "E",
        /// Iron against constantan.
        J = "J",
    }
);

/// What rounding may put a reading beyond an end of the range, mV.
const ROUNDING_MV: f64 = 1e-6;

/// One range of a reference function: from, to (°C), coefficients from t⁰ up, in mV.
type Piece = (f64, f64, &'static [f64]);

const T_COLD: &[f64] = &[
    0.0,
    0.387481063640E-01,
    0.441944343470E-04,
    0.118443231050E-06,
    0.200329735540E-07,
    0.901380195590E-09,
    0.226511565930E-10,
    0.360711542050E-12,
    0.384939398830E-14,
    0.282135219250E-16,
    0.142515947790E-18,
    0.487686622860E-21,
    0.107955392700E-23,
    0.139450270620E-26,
    0.797951539270E-30,
];
const T_WARM: &[f64] = &[
    0.0,
    0.387481063640E-01,
    0.332922278800E-04,
    0.206182434040E-06,
    -0.218822568460E-08,
    0.109968809280E-10,
    -0.308157587720E-13,
    0.454791352900E-16,
    -0.275129016730E-19,
];
const K_COLD: &[f64] = &[
    0.0,
    0.394501280250E-01,
    0.236223735980E-04,
    -0.328589067840E-06,
    -0.499048287770E-08,
    -0.675090591730E-10,
    -0.574103274280E-12,
    -0.310888728940E-14,
    -0.104516093650E-16,
    -0.198892668780E-19,
    -0.163226974860E-22,
];
const K_WARM: &[f64] = &[
    -0.176004136860E-01,
    0.389212049750E-01,
    0.185587700320E-04,
    -0.994575928740E-07,
    0.318409457190E-09,
    -0.560728448890E-12,
    0.560750590590E-15,
    -0.320207200030E-18,
    0.971511471520E-22,
    -0.121047212750E-25,
];
const E_COLD: &[f64] = &[
    0.0,
    0.586655087080E-01,
    0.454109771240E-04,
    -0.779980486860E-06,
    -0.258001608430E-07,
    -0.594525830570E-09,
    -0.932140586670E-11,
    -0.102876055340E-12,
    -0.803701236210E-15,
    -0.439794973910E-17,
    -0.164147763550E-19,
    -0.396736195160E-22,
    -0.558273287210E-25,
    -0.346578420130E-28,
];
const E_WARM: &[f64] = &[
    0.0,
    0.586655087100E-01,
    0.450322755820E-04,
    0.289084072120E-07,
    -0.330568966520E-09,
    0.650244032700E-12,
    -0.191974955040E-15,
    -0.125366004970E-17,
    0.214892175690E-20,
    -0.143880417820E-23,
    0.359608994810E-27,
];
const J_ALL: &[f64] = &[
    0.0,
    0.503811878150E-01,
    0.304758369300E-04,
    -0.856810657200E-07,
    0.132281952950E-09,
    -0.170529583370E-12,
    0.209480906970E-15,
    -0.125383953360E-18,
    0.156317256970E-22,
];
/// The exponential term of type K above 0 °C: a0 exp(a1 (t − a2)²).
const K_EXPONENTIAL: [f64; 3] = [0.118_597_6, -0.118_343_2e-3, 126.968_6];

impl Thermocouple {
    fn pieces(self) -> [Piece; 2] {
        match self {
            Self::T => [(-270.0, 0.0, T_COLD), (0.0, 400.0, T_WARM)],
            Self::K => [(-270.0, 0.0, K_COLD), (0.0, 1372.0, K_WARM)],
            Self::E => [(-270.0, 0.0, E_COLD), (0.0, 1000.0, E_WARM)],
            Self::J => [(-210.0, 0.0, J_ALL), (0.0, 760.0, J_ALL)],
        }
    }

    /// Lowest and highest temperature of the reference function, °C (type J up to 760).
    #[must_use]
    pub fn range(self) -> (f64, f64) {
        let [cold, warm] = self.pieces();
        (cold.0, warm.1)
    }

    /// Electromotive force in mV at `celsius` with the reference junction at 0 °C; `None` outside the range.
    ///
    /// E = Σ ci tⁱ, for type K above 0 °C with its exponential term (Burns et al. 1993, NIST Monograph 175; IEC 60584-1).
    /// Worked value: type K at 100 °C gives 4.09623 mV.
    #[must_use]
    pub fn emf(self, celsius: f64) -> Option<f64> {
        let pieces = self.pieces();
        let within = (pieces[0].0..=pieces[1].1).contains(&celsius);
        let piece = pieces[usize::from(celsius >= 0.0)];
        let mut emf = piece.2.iter().rev().fold(0.0, |sum, c| sum * celsius + c);
        if self == Self::K && celsius >= 0.0 {
            let [a0, a1, a2] = K_EXPONENTIAL;
            emf += a0 * (a1 * (celsius - a2).powi(2)).exp();
        }
        within.then_some(emf)
    }

    /// Temperature in °C from a measured emf (mV) and the temperature of the panel, where the reference junction is.
    ///
    /// Solves E(t) = emf + E(panel) (law of intermediate temperatures) by bisection on the reference function: emfs add,
    /// temperatures do not. `None` outside the type's range. Worked value: type T, 0.25 mV at a panel of 24 °C: 30.119 °C.
    #[must_use]
    pub fn temperature(self, emf_mv: f64, panel_celsius: f64) -> Option<f64> {
        let target = emf_mv + self.emf(panel_celsius)?;
        let (mut low, mut high) = self.range();
        // Below about −250 °C the curves flatten; nothing in soil is there.
        low = low.max(-250.0);
        if !(self.emf(low)? - ROUNDING_MV..=self.emf(high)? + ROUNDING_MV).contains(&target) {
            return None;
        }
        for _ in 0..80 {
            let middle = low.midpoint(high);
            if self.emf(middle)? < target { low = middle } else { high = middle }
        }
        Some(low.midpoint(high))
    }

    /// Slope dE/dt at `celsius`, µV/K, by a difference over 1 mK to either side (to one side at an end of the range); `None`
    /// outside the range.
    #[must_use]
    pub fn seebeck(self, celsius: f64) -> Option<f64> {
        const STEP: f64 = 1e-3;
        self.emf(celsius)?;
        let (low, high) = self.range();
        let (below, above) = ((celsius - STEP).max(low), (celsius + STEP).min(high));
        Some((self.emf(above)? - self.emf(below)?) / (above - below) * 1000.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;
    use Thermocouple::{E, J, K, T};

    #[test]
    fn emfs_of_the_reference() {
        for (kind, t, mv) in [
            (K, 100.0, 4.096_230_218_72),
            (T, 25.0, 0.991_977_267_82),
            (E, 25.0, 1.495_111_751_19),
            (J, 25.0, 1.277_288_384_49),
            (K, -50.0, -1.889_383_330_01),
        ] {
            assert_close(kind.emf(t).unwrap(), mv, 1e-10);
        }
        // Monograph 175 prints these to the microvolt.
        for (kind, t, mv) in [(T, -50.0, -1.819), (E, -50.0, -2.787), (J, -50.0, -2.431), (K, 20.0, 0.798)] {
            assert!((kind.emf(t).unwrap() - mv).abs() < 6e-4, "{kind:?} {t}");
        }
        assert_close(T.seebeck(25.0).unwrap(), 40.682_294_768_5, 1e-7);
        assert_close(K.seebeck(25.0).unwrap(), 40.517_722_826_1, 1e-7);
    }

    #[test]
    fn temperatures_need_the_panel() {
        for (kind, mv, panel, t) in [
            (T, 0.25, 24.0, 30.118_960_500_9),
            (K, -0.6, 31.5, 16.677_681_911_7),
            (E, 0.9, 20.0, 34.713_365_26),
            (J, 1.277, 0.0, 24.994_427_582_9),
        ] {
            assert_close(kind.temperature(mv, panel).unwrap(), t, 1e-9);
        }
        assert_eq!(T.temperature(60.0, 20.0), None, "no type T is that hot");
        for kind in [T, K, E, J] {
            let (low, high) = kind.range();
            for end in [low, high] {
                assert!(kind.seebeck(end).is_some_and(f64::is_finite), "{kind:?} has a slope at {end}");
            }
            let hottest = kind.convert(kind.emf(high).unwrap(), 0.0, Default::default()).unwrap();
            assert!((hottest.celsius - high).abs() < 1e-6 && hottest.u.is_finite());
        }
        assert_eq!(T.temperature(0.1, 500.0), None);
    }
}
