//! Thermistors: the three-constant and the beta equation, both ways, and their constants from known points.

/// 0 °C in kelvin.
const ZERO_C: f64 = 273.15;

/// The three constants of 1/T = A + B ln R + C (ln R)³ (Steinhart & Hart 1968, Deep-Sea Research 15:497); T in K, R in Ω.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SteinhartHart {
    /// A, 1/K.
    pub a: f64,
    /// B, 1/K.
    pub b: f64,
    /// C, 1/K.
    pub c: f64,
}

impl SteinhartHart {
    /// Temperature in °C from a resistance in Ω; `None` for a resistance that is none.
    /// Worked value: A 1.129e−3, B 2.341e−4, C 8.775e−8 and 10 kΩ: 25.028 °C.
    #[must_use]
    pub fn temperature(&self, ohm: f64) -> Option<f64> {
        let log = (ohm > 0.0).then(|| ohm.ln())?;
        let celsius = 1.0 / (self.a + self.b * log + self.c * log.powi(3)) - ZERO_C;
        (celsius.is_finite() && celsius > -ZERO_C).then_some(celsius)
    }

    /// Resistance in Ω at a temperature in °C: the real root of the cubic, polished by a Newton step.
    #[must_use]
    pub fn resistance(&self, celsius: f64) -> f64 {
        let inverse = 1.0 / (celsius + ZERO_C);
        if self.c.abs() < 1e-15 {
            return ((inverse - self.a) / self.b).exp();
        }
        let x = (self.a - inverse) / self.c;
        let y = ((self.b / (3.0 * self.c)).powi(3) + x * x / 4.0).sqrt();
        let mut log = (y - x / 2.0).cbrt() - (y + x / 2.0).cbrt();
        let miss = self.a + self.b * log + self.c * log.powi(3) - inverse;
        log -= miss / (self.b + 3.0 * self.c * log * log);
        log.exp()
    }

    /// The constants from three points of (°C, Ω); `None` if two of them lie within half a kelvin or a hundredth of their
    /// resistance, or the curve does not fall all the way between them: it would not be that of a thermistor.
    /// Worked value: 0 °C 32.6 kΩ, 25 °C 10 kΩ, 50 °C 3.6 kΩ: A 1.13885e−3.
    #[must_use]
    pub fn through(points: [(f64, f64); 3]) -> Option<Self> {
        let [y1, y2, y3] = points.map(|p| 1.0 / (p.0 + ZERO_C));
        let [l1, l2, l3] = points.map(|p| p.1.ln());
        let (g2, g3) = ((y2 - y1) / (l2 - l1), (y3 - y1) / (l3 - l1));
        let c = (g3 - g2) / (l3 - l2) / (l1 + l2 + l3);
        let b = g2 - c * (l1 * l1 + l1 * l2 + l2 * l2);
        let a = y1 - (b + l1 * l1 * c) * l1;
        let apart = |p: (f64, f64), q: (f64, f64)| (p.0 - q.0).abs() >= 0.5 && (p.1 / q.1).ln().abs() >= 0.01;
        let [p1, p2, p3] = points;
        let curve = Self { a, b, c };
        let sound = [a, b, c].iter().all(|v| v.is_finite()) && apart(p1, p2) && apart(p2, p3) && apart(p1, p3);
        // d(1/T)/d ln R = b + 3 c ln² R is quadratic in ln R: it is positive between the points if it is so at each.
        (sound && [l1, l2, l3].iter().all(|l| b + 3.0 * c * l * l > 0.0)).then_some(curve)
    }
}

/// The beta equation R = R₀ exp(β (1/T − 1/T₀)) (IEC 60539-1).
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Beta {
    /// Resistance at the reference temperature, Ω.
    pub ohm: f64,
    /// Reference temperature, °C.
    pub celsius: f64,
    /// β, K.
    pub beta: f64,
}

impl Beta {
    /// Temperature in °C from a resistance in Ω; `None` for a resistance that is none.
    #[must_use]
    pub fn temperature(&self, ohm: f64) -> Option<f64> {
        let inverse = 1.0 / (self.celsius + ZERO_C) + (ohm / self.ohm).ln() / self.beta;
        (ohm > 0.0 && inverse > 0.0 && inverse.is_finite()).then(|| 1.0 / inverse - ZERO_C)
    }

    /// Resistance in Ω at a temperature in °C.
    #[must_use]
    pub fn resistance(&self, celsius: f64) -> f64 {
        self.ohm * (self.beta * (1.0 / (celsius + ZERO_C) - 1.0 / (self.celsius + ZERO_C))).exp()
    }

    /// β from two points of (°C, Ω); `None` if they are one or no points of a thermistor, whose resistance falls.
    /// Worked value: 25 °C 10 kΩ and 85 °C 1.07 kΩ: 3977.5 K.
    #[must_use]
    pub fn through(first: (f64, f64), second: (f64, f64)) -> Option<Self> {
        let beta = (first.1 / second.1).ln() / (1.0 / (first.0 + ZERO_C) - 1.0 / (second.0 + ZERO_C));
        (beta.is_finite() && beta > 0.0 && first.1 > 0.0).then_some(Self { ohm: first.1, celsius: first.0, beta })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn three_constants_of_the_reference() {
        let usual = SteinhartHart { a: 0.001_129, b: 0.000_234_1, c: 8.775e-8 };
        assert_close(usual.temperature(10_000.0).unwrap(), 25.028_023_952_2, 1e-9);
        let other = SteinhartHart { a: 0.0014, b: 0.000_237, c: 9.9e-8 };
        assert_close(other.temperature(3000.0).unwrap(), 25.507_393_635_2, 1e-9);
        assert_close(usual.resistance(25.0), 10_012.300_119, 1e-9);
        assert_close(usual.resistance(0.0), 32_690.521_311_5, 1e-9);
        assert_eq!(usual.temperature(0.0), None, "a short");
        assert_eq!(usual.temperature(-5.0), None);
    }

    #[test]
    fn constants_from_points() {
        let warm = SteinhartHart::through([(0.0, 32_600.0), (25.0, 10_000.0), (50.0, 3600.0)]).unwrap();
        assert_close(warm.a, 0.001_138_845_386_3, 1e-8);
        assert_close(warm.b, 0.000_232_488_935_161, 1e-8);
        assert_close(warm.c, 9.454_403_601_43e-8, 1e-8);
        let cold = SteinhartHart::through([(-10.0, 5530.0), (20.0, 1250.0), (45.0, 430.0)]).unwrap();
        assert_close(cold.c, 1.853_523_019e-7, 1e-8);
        assert_eq!(SteinhartHart::through([(0.0, 100.0), (0.0, 100.0), (50.0, 36.0)]), None);
        assert_eq!(SteinhartHart::through([(20.0, 1000.0), (20.1, 996.0), (50.0, 360.0)]), None, "too near");
        assert_eq!(SteinhartHart::through([(0.0, 0.0), (20.0, 996.0), (50.0, 360.0)]), None);
        assert_eq!(Beta::through((25.0, 100.0), (25.0, 100.0)), None);
        assert_eq!(Beta::through((25.0, 100.0), (85.0, 1000.0)), None, "it rises");
    }

    #[test]
    fn beta_both_ways() {
        let probe = Beta { ohm: 10_000.0, celsius: 25.0, beta: 3950.0 };
        assert_close(probe.temperature(15_000.0).unwrap(), 16.146_116_382, 1e-9);
        assert_close(probe.resistance(10.0), 20_174.577_024, 1e-9);
        assert_close(Beta::through((25.0, 10_000.0), (85.0, 1070.0)).unwrap().beta, 3977.514_330_92, 1e-10);
        assert_close(Beta::through((0.0, 16_330.0), (40.0, 2663.0)).unwrap().beta, 3878.138_428_37, 1e-10);
    }
}
