//! Soil that comes out and must go back at its density.

use super::super::figures::Figure;
use super::super::plan::Plan;
use super::Dig;
use crate::sampling::packing::packed_layer;
use crate::units::{BulkDensity, ParticleDensity};

/// What one horizon gives and takes back.
#[derive(Debug, Clone, PartialEq)]
pub struct LayerOut {
    /// Name of the horizon.
    pub name: String,
    /// From where to where, cm.
    pub span_cm: (f64, f64),
    /// Soil out of all holes, litres.
    pub litres: f64,
    /// Field density, g/cm³; `None` if not known.
    pub density: Option<f64>,
    /// Dry soil, kg.
    pub dry_kg: Option<f64>,
    /// The same soil at today's water content, kg.
    pub moist_kg: Option<f64>,
}

/// Volume and mass per horizon over all holes: each layer goes back with m = ρb V (1 + θ ρw/ρb).
///
/// A slanted hole cuts a layer of thickness h over a length h/cos β.
#[must_use]
pub fn soil_out(plan: &Plan, dig: &Dig) -> Vec<LayerOut> {
    let theta = plan.get(Figure::WaterToday);
    plan.soil
        .horizons()
        .iter()
        .filter_map(|layer| {
            let cut = |bottom: f64| (layer.bottom_cm.min(bottom) - layer.top_cm).max(0.0);
            let deepest = dig.holes.iter().map(|h| h.bottom_cm).fold(0.0, f64::max);
            let cm3: f64 =
                dig.holes.iter().map(|h| h.area_cm2 * cut(h.bottom_cm) / h.angle_deg.to_radians().cos()).sum();
            let packed = layer.bulk_density_g_cm3.and_then(|d| BulkDensity::new(d).ok()).map(|d| {
                // Gravimetric content from the volumetric one: w = θ ρw/ρb.
                let solids = ParticleDensity::of_organic(layer.organic_matter_pct);
                packed_layer(cm3, 1.0, d, solids, theta / d.get())
            });
            (cm3 > 0.0).then(|| LayerOut {
                name: layer.name.clone(),
                span_cm: (layer.top_cm, layer.bottom_cm.min(deepest)),
                litres: cm3 / 1000.0,
                density: layer.bulk_density_g_cm3,
                dry_kg: packed.map(|p| p.dry_g / 1000.0),
                moist_kg: packed.map(|p| p.moist_g / 1000.0),
            })
        })
        .collect()
}
