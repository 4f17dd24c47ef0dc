//! How much water a soil holds, from its texture: pedotransfer functions of Saxton & Rawls.

use crate::soil::Horizon;

/// Water contents that a soil holds at two tensions and when full, m³/m³.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Retention {
    /// At 1500 kPa: plants wilt.
    pub wilting: f64,
    /// At 33 kPa: what stays after a day or two of draining.
    pub field_capacity: f64,
    /// Filled pores.
    pub saturated: f64,
}

/// Organic matter that stands in where none is given, % of dry mass.
const USUAL_ORGANIC_PCT: f64 = 2.5;

impl Retention {
    /// From sand and clay (shares of mineral mass, 0 to 1) and organic matter (% of dry mass).
    ///
    /// Saxton & Rawls 2006, SSSAJ 70:1569–1578, Table 1 eqs 1 to 5. The regressions hold for up to 8 % organic matter and 60 %
    /// clay; beyond, the figures are an extrapolation that a caller must mark.
    ///
    /// ```
    /// use ebrel_core::water::Retention;
    /// let loam = Retention::of_texture(0.4, 0.2, 2.5);
    /// assert!((loam.wilting - 0.137_023_6).abs() < 1e-9);
    /// assert!((loam.field_capacity - 0.279_610_164_941).abs() < 1e-9);
    /// assert!((loam.saturated - 0.459_478_244_941).abs() < 1e-9);
    /// ```
    #[must_use]
    pub fn of_texture(sand: f64, clay: f64, organic_pct: f64) -> Self {
        let (s, c, om) = (sand, clay, organic_pct);
        let dry = -0.024 * s + 0.487 * c + 0.006 * om + 0.005 * s * om - 0.013 * c * om + 0.068 * s * c + 0.031;
        let wilting = dry + (0.14 * dry - 0.02);
        let moist = -0.251 * s + 0.195 * c + 0.011 * om + 0.006 * s * om - 0.027 * c * om + 0.452 * s * c + 0.299;
        let field_capacity = moist + (1.283 * moist * moist - 0.374 * moist - 0.015);
        let above = 0.278 * s + 0.034 * c + 0.022 * om - 0.018 * s * om - 0.027 * c * om - 0.584 * s * c + 0.078;
        let above = above + (0.636 * above - 0.107);
        Self { wilting, field_capacity, saturated: field_capacity + above - 0.097 * s + 0.043 }
    }

    /// Of a horizon, where its sand and clay are known, or its texture is a class of the USDA triangle (the class's middle
    /// stands in). `None` for what is no mineral soil.
    #[must_use]
    pub fn of_horizon(horizon: &Horizon) -> Option<Self> {
        let of_class = || middle(&horizon.texture.trim().to_lowercase());
        let (sand, clay) = horizon.sand_pct.zip(horizon.clay_pct).or_else(of_class)?;
        let organic = horizon.organic_matter_pct.unwrap_or(USUAL_ORGANIC_PCT);
        (sand + clay <= 100.0 && organic <= 20.0).then(|| Self::of_texture(sand / 100.0, clay / 100.0, organic))
    }
}

/// Sand and clay in the middle of a texture class, %: the class figures of Saxton & Rawls 2006, Table 3.
fn middle(class: &str) -> Option<(f64, f64)> {
    Some(match class {
        "sand" => (88.0, 5.0),
        "loamy sand" => (80.0, 5.0),
        "sandy loam" => (65.0, 10.0),
        "loam" => (40.0, 20.0),
        "silt loam" => (20.0, 15.0),
        "silt" => (10.0, 5.0),
        "sandy clay loam" => (60.0, 25.0),
        "clay loam" => (30.0, 35.0),
        "silty clay loam" => (10.0, 35.0),
        "silty clay" => (10.0, 45.0),
        "sandy clay" => (50.0, 40.0),
        "clay" => (25.0, 50.0),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn published_values_are_met() {
        for (sand, clay, wilting, capacity, saturated) in [
            (0.65, 0.1, 0.080_770_3, 0.179_167_611_571, 0.449_894_651_571),
            (0.2, 0.15, 0.109_863_1, 0.305_182_953_409, 0.478_724_933_409),
        ] {
            let r = Retention::of_texture(sand, clay, 2.5);
            assert!((r.wilting - wilting).abs() < 1e-9, "{r:?}");
            assert!((r.field_capacity - capacity).abs() < 1e-9 && (r.saturated - saturated).abs() < 1e-9, "{r:?}");
        }
    }

    #[test]
    fn every_class_holds_more_the_wetter_and_leaf_mould_is_no_mineral_soil() {
        let of = |texture: &str| Retention::of_horizon(&Horizon { texture: texture.into(), ..Horizon::default() });
        for class in ["sand", "Loamy sand", "loam", "silt", "silty clay loam", "clay", "sandy clay"] {
            let r = of(class).unwrap();
            assert!(0.0 < r.wilting && r.wilting < r.field_capacity && r.field_capacity < r.saturated, "{class} {r:?}");
        }
        assert_eq!(of("leaf mould"), None);
    }
}
