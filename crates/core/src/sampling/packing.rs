//! How much moist soil goes into a layer, and how much water into the soil.

use super::WATER_DENSITY_G_CM3;
use crate::units::{BulkDensity, ParticleDensity, pore_space};

/// What one layer of a packed container takes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PackedLayer {
    /// Volume of the layer, cm³.
    pub volume_cm3: f64,
    /// Dry soil in it, g.
    pub dry_g: f64,
    /// Moist soil to weigh out, g.
    pub moist_g: f64,
    /// Volumetric water content that results, m³/m³.
    pub theta: f64,
    /// Saturation that results; above 1 the packing is impossible, and infinite where the density leaves no pores.
    pub saturation: f64,
}

/// Moist mass per layer of `height_cm` over `area_cm2` for a dry bulk density, at a gravimetric content `w` (g/g).
///
/// m_dry = ρb A h, m_moist = m_dry (1 + w): mass balance. Worked: 314.159265 cm² × 5 cm at 1.3 g/cm³ and
/// w = 0.12 takes 2287.08 g.
#[must_use]
pub fn packed_layer(
    area_cm2: f64,
    height_cm: f64,
    density: BulkDensity,
    solids: ParticleDensity,
    w: f64,
) -> PackedLayer {
    let volume_cm3 = area_cm2 * height_cm;
    let dry_g = density.get() * volume_cm3;
    let theta = w * density.get() / WATER_DENSITY_G_CM3;
    PackedLayer {
        volume_cm3,
        dry_g,
        moist_g: dry_g * (1.0 + w),
        theta,
        saturation: theta / pore_space(density, solids).unwrap_or(0.0),
    }
}

/// Water that brings a moist soil from one content to another.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct WaterAddition {
    /// Dry soil in the heap, g.
    pub dry_g: f64,
    /// Water to add, g; negative: the soil must dry by that much.
    pub water_g: f64,
    /// Mass of the heap afterwards, g.
    pub after_g: f64,
}

/// Water from gravimetric content `from` to `to` (g/g) for a heap of `moist_g`.
///
/// m_dry = m/(1 + w1), water = m_dry (w2 − w1): mass balance. Worked: 5000 g from 0.034 to 0.18 takes 706.0 g.
#[must_use]
pub fn water_addition(moist_g: f64, from: f64, to: f64) -> WaterAddition {
    let dry_g = moist_g / (1.0 + from);
    let water_g = dry_g * (to - from);
    WaterAddition { dry_g, water_g, after_g: moist_g + water_g }
}

/// Water that brings a heap to a volumetric content `theta` once packed at `density`: w2 = θ ρw/ρb.
#[must_use]
pub fn water_for_theta(moist_g: f64, from: f64, theta: f64, density: BulkDensity) -> WaterAddition {
    water_addition(moist_g, from, theta * WATER_DENSITY_G_CM3 / density.get())
}

/// What a container goes through as water is added step by step.
#[derive(Debug, Clone, PartialEq)]
pub struct WettingPlan {
    /// Dry soil that fills the container at its density, g.
    pub dry_g: f64,
    /// Volumetric water content after each step, the present one first, as long as it fits into the pores.
    pub theta: Vec<f64>,
    /// Steps until the pores are full.
    pub to_saturation: usize,
}

/// The longest plan; beyond it a step is too small to be meant.
const MOST_STEPS: usize = 60;

/// Water contents of a container of `volume_cm3` packed at `density` from such solids, now at `w` (g/g), with `step_ml` added each time.
///
/// θ₀ = w ρb/ρw, and each step adds step/V: mass balance. Worked: 4 L at 1.3 g/cm³ and w = 0.05 is at 0.065 m³/m³, and
/// 250 mL bring it to 0.1275; the pores (0.509) are full after 8 steps.
#[must_use]
pub fn wetting_plan(
    volume_cm3: f64,
    density: BulkDensity,
    solids: ParticleDensity,
    w: f64,
    step_ml: f64,
) -> WettingPlan {
    let pores = pore_space(density, solids).unwrap_or(0.0);
    let now = w * density.get() / WATER_DENSITY_G_CM3;
    let step = step_ml * WATER_DENSITY_G_CM3 / volume_cm3;
    let to_saturation =
        if step > 0.0 { ((pores - now) / step).max(0.0).ceil().min(MOST_STEPS as f64) as usize } else { 0 };
    let theta = (0..=to_saturation).map(|i| now + step * i as f64).filter(|t| *t <= pores + 1e-9).collect();
    WettingPlan { dry_g: density.get() * volume_cm3, theta, to_saturation }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::statistics::testing::assert_close;

    #[test]
    fn layers_of_the_reference_container() {
        let layer = packed_layer(314.159_265, 5.0, BulkDensity::new(1.3).unwrap(), ParticleDensity::MINERAL, 0.12);
        assert_close(layer.volume_cm3, 1570.796_325, 1e-9);
        assert_close(layer.moist_g, 2287.079_449_2, 1e-9);
        assert_close(layer.saturation, 0.306_222_222_222, 1e-9);
        let small = packed_layer(176.714_587, 2.5, BulkDensity::new(1.45).unwrap(), ParticleDensity::MINERAL, 0.085);
        assert_close(small.moist_g, 695.040_559_994, 1e-9);
        assert_close(small.theta, 0.12325, 1e-9);
    }

    #[test]
    fn water_up_and_down() {
        assert_close(water_addition(5000.0, 0.034, 0.18).water_g, 705.996_131_528, 1e-9);
        assert_close(water_addition(1250.0, 0.21, 0.15).water_g, -61.983_471_074_4, 1e-9);
        let up = water_for_theta(6200.0, 0.045, 0.25, BulkDensity::new(1.35).unwrap());
        assert_close(up.water_g, 831.720_715_931, 1e-9);
        assert_close(up.after_g, 7031.720_715_93, 1e-9);
        let down = water_for_theta(900.0, 0.12, 0.05, BulkDensity::new(1.5).unwrap());
        assert_close(down.water_g, -69.642_857_142_9, 1e-9);
    }

    #[test]
    fn water_steps_are_foretold_up_to_the_pores() {
        let plan = wetting_plan(4000.0, BulkDensity::new(1.3).unwrap(), ParticleDensity::MINERAL, 0.05, 250.0);
        assert_close(plan.theta[0], 0.065, 1e-12);
        assert_close(plan.theta[1], 0.1275, 1e-12);
        assert_eq!((plan.to_saturation, plan.theta.len()), (8, 8));
        assert_close(plan.dry_g, 5200.0, 1e-12);
        let soaked = wetting_plan(4000.0, BulkDensity::new(1.3).unwrap(), ParticleDensity::MINERAL, 0.6, 250.0);
        assert_eq!((soaked.to_saturation, soaked.theta.len()), (0, 0), "wetter than its pores");
        assert_eq!(
            wetting_plan(4000.0, BulkDensity::new(1.3).unwrap(), ParticleDensity::MINERAL, 0.05, 0.0).theta.len(),
            1
        );
    }
}
