//! Water content and tension of one soil.

/// Height of a water column that presses as much as 1 kPa, cm: 100/9.80665 (standard gravity, water of 1000 kg/m³).
const CM_PER_KPA: f64 = 100.0 / 9.806_65;

/// Tension as the height of a water column, cm, from kPa.
///
/// ```
/// assert!((ebrel_core::water::head_cm(33.0) - 336.506_350_283).abs() < 1e-8);
/// assert!((ebrel_core::water::head_cm(1500.0).log10() - 4.184_570_583_48).abs() < 1e-10);
/// ```
#[must_use]
pub fn head_cm(kpa: f64) -> f64 {
    kpa * CM_PER_KPA
}

/// The retention curve of van Genuchten 1980, SSSAJ 44:892–898, eqs 3 and 21, with m = 1 − 1/n:
/// θ = θr + (θs − θr) [1 + (α h)ⁿ]^−m, h the tension in cm.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct VanGenuchten {
    /// Residual content θr, m³/m³.
    pub residual: f64,
    /// Saturated content θs, m³/m³.
    pub saturated: f64,
    /// α, 1/cm.
    pub alpha_per_cm: f64,
    /// n, above 1.
    pub n: f64,
}

impl VanGenuchten {
    /// The mean parameters of a texture class: Carsel & Parrish 1988, WRR 24(5):755–769, tables 1 to 4. `None` for what is none.
    ///
    /// ```
    /// let loam = ebrel_core::water::VanGenuchten::of_class("loam").unwrap();
    /// assert!((loam.theta(33.0) - 0.164_446_137_263).abs() < 1e-9);
    /// ```
    #[must_use]
    pub fn of_class(texture: &str) -> Option<Self> {
        let (residual, saturated, alpha_per_cm, n) = match texture.trim().to_lowercase().as_str() {
            "sand" => (0.045, 0.43, 0.145, 2.68),
            "loamy sand" => (0.057, 0.41, 0.124, 2.28),
            "sandy loam" => (0.065, 0.41, 0.075, 1.89),
            "loam" => (0.078, 0.43, 0.036, 1.56),
            "silt" => (0.034, 0.46, 0.016, 1.37),
            "silt loam" => (0.067, 0.45, 0.020, 1.41),
            "sandy clay loam" => (0.100, 0.39, 0.059, 1.48),
            "clay loam" => (0.095, 0.41, 0.019, 1.31),
            "silty clay loam" => (0.089, 0.43, 0.010, 1.23),
            "sandy clay" => (0.100, 0.38, 0.027, 1.23),
            "silty clay" => (0.070, 0.36, 0.005, 1.09),
            "clay" => (0.068, 0.38, 0.008, 1.09),
            _ => return None,
        };
        Some(Self { residual, saturated, alpha_per_cm, n })
    }

    fn m(self) -> f64 {
        1.0 - 1.0 / self.n
    }

    /// Content at a tension, m³/m³; the saturated one at and below 0 kPa.
    #[must_use]
    pub fn theta(self, kpa: f64) -> f64 {
        if kpa <= 0.0 {
            return self.saturated;
        }
        let effective = (1.0 + (self.alpha_per_cm * head_cm(kpa)).powf(self.n)).powf(-self.m());
        self.residual + (self.saturated - self.residual) * effective
    }

    /// Tension at a content, kPa; `None` at or below the residual content and above the saturated one, where there is none.
    #[must_use]
    pub fn kpa(self, theta: f64) -> Option<f64> {
        let effective = (theta - self.residual) / (self.saturated - self.residual);
        if !(effective > 0.0 && effective <= 1.0) {
            return None;
        }
        // Se^(−1/m) − 1 cancels near saturation.
        let head = (-effective.ln() / self.m()).exp_m1().powf(1.0 / self.n) / self.alpha_per_cm;
        Some(head / CM_PER_KPA)
    }

    /// By how much content changes with tension, m³/m³ per kPa; never above 0.
    #[must_use]
    pub fn slope(self, kpa: f64) -> f64 {
        if kpa <= 0.0 {
            return 0.0;
        }
        let (m, x) = (self.m(), self.alpha_per_cm * head_cm(kpa));
        let of_head = -(self.saturated - self.residual) * m * self.n * self.alpha_per_cm * x.powf(self.n - 1.0)
            / (1.0 + x.powf(self.n)).powf(m + 1.0);
        of_head * CM_PER_KPA
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    fn curve(residual: f64, saturated: f64, alpha_per_cm: f64, n: f64) -> VanGenuchten {
        VanGenuchten { residual, saturated, alpha_per_cm, n }
    }

    #[test]
    fn published_contents_and_tensions_are_met() {
        for (of, head, theta) in [
            (curve(0.078, 0.43, 0.036, 1.56), 100.0, 0.242_131_784_718),
            (curve(0.045, 0.43, 0.145, 2.68), 336.506_35, 0.045_561_055_302_7),
            (curve(0.068, 0.38, 0.008, 1.09), 15_000.0, 0.270_691_056_539),
        ] {
            assert_close(of.theta(head / CM_PER_KPA), theta, 1e-9);
        }
        assert_close(head_cm(curve(0.078, 0.43, 0.036, 1.56).kpa(0.25).unwrap()), 90.860_938_171, 1e-9);
        assert_close(head_cm(curve(0.045, 0.43, 0.145, 2.68).kpa(0.1).unwrap()), 21.588_811_207_6, 1e-9);
    }

    #[test]
    fn class_averages_are_those_of_the_table() {
        for (texture, at_10, at_33, at_1500) in [
            ("loam", 0.240_556_231_133, 0.164_446_137_263, 0.088_271_774_450_4),
            ("Sand", 0.049_167_905_601_1, 0.045_561_055_301_9, 0.045_000_921_051_5),
            ("clay", 0.365_206_250_082, 0.346_585_082_872, 0.270_337_097_172),
        ] {
            let of = VanGenuchten::of_class(texture).unwrap();
            assert_close(of.theta(10.0), at_10, 1e-9);
            assert_close(of.theta(33.0), at_33, 1e-9);
            assert_close(of.theta(1500.0), at_1500, 1e-9);
        }
        assert_eq!(VanGenuchten::of_class("leaf mould"), None);
    }

    #[test]
    fn outside_of_what_a_soil_can_hold_there_is_no_tension() {
        let of = curve(0.078, 0.43, 0.036, 1.56);
        assert_eq!((of.kpa(0.078), of.kpa(0.431), of.kpa(f64::NAN)), (None, None, None));
        assert_close(of.kpa(0.43).unwrap(), 0.0, 1e-12);
        assert_close(of.theta(-3.0), 0.43, 1e-12);
        for kpa in [0.5, 5.0, 80.0, 900.0] {
            assert_close(of.kpa(of.theta(kpa)).unwrap(), kpa, 1e-8);
            let step = kpa * 1e-5;
            assert_close(of.slope(kpa), (of.theta(kpa + step) - of.theta(kpa - step)) / (2.0 * step), 1e-5);
        }
    }
}
