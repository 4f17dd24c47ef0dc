//! The soil of a place: its horizons from the surface down, and what follows from them at a depth.
//!
//! Everything that asks "which soil is this probe in?" asks a [`Profile`]; everything that asks "is that the soil which this
//! calibration was made in?" asks [`Horizon::goes_by`].

use crate::units::{BulkDensity, ParticleDensity, pore_space};

/// A horizon of the soil. It holds its upper boundary, not its lower one.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Horizon {
    /// Upper boundary, cm below the surface.
    pub top_cm: f64,
    /// Lower boundary, cm below the surface.
    pub bottom_cm: f64,
    /// Name by a soil survey: "A", "Bt".
    pub name: String,
    /// USDA texture class, or what else it is made of.
    pub texture: String,
    /// Sand, % of mineral mass.
    pub sand_pct: Option<f64>,
    /// Clay, % of mineral mass.
    pub clay_pct: Option<f64>,
    /// Organic matter, % of dry mass.
    pub organic_matter_pct: Option<f64>,
    /// Dry bulk density, g/cm³.
    pub bulk_density_g_cm3: Option<f64>,
}

impl Horizon {
    /// Pore space (m³/m³) from the bulk density, if that is known and legal: see [`pore_space`].
    #[must_use]
    pub fn pore_space(&self) -> Option<f64> {
        let density = BulkDensity::new(self.bulk_density_g_cm3?).ok()?;
        pore_space(density, ParticleDensity::of_organic(self.organic_matter_pct))
    }

    /// Whether people call it so: by its texture or its name, in capitals or not.
    ///
    /// ```
    /// # use ebrel_core::soil::Horizon;
    /// let subsoil = Horizon { name: "Bt".into(), texture: "silty clay loam".into(), ..Horizon::default() };
    /// assert!(subsoil.goes_by("bt") && subsoil.goes_by("Silty clay loam"));
    /// assert!(!subsoil.goes_by("clay") && !subsoil.goes_by(""));
    /// ```
    #[must_use]
    pub fn goes_by(&self, soil: &str) -> bool {
        !soil.is_empty() && [&self.texture, &self.name].iter().any(|s| s.to_lowercase() == soil.to_lowercase())
    }
}

/// The horizons of one place, from the surface down.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Profile(Vec<Horizon>);

impl Profile {
    /// The horizon at a depth, cm; none above the surface, below the last horizon, and in a gap between two.
    ///
    /// ```
    /// # use ebrel_core::soil::{Horizon, Profile};
    /// let horizon = |name: &str, top_cm, bottom_cm| Horizon { name: name.into(), top_cm, bottom_cm, ..Horizon::default() };
    /// let profile = Profile::from(vec![horizon("B", 20.0, 60.0), horizon("A", 0.0, 20.0)]);
    /// let at = |depth_cm| profile.at(depth_cm).map(|h| h.name.as_str());
    /// assert_eq!([at(-200.0), at(0.0), at(20.0), at(60.0), at(f64::NAN)], [None, Some("A"), Some("B"), None, None]);
    /// ```
    #[must_use]
    pub fn at(&self, depth_cm: f64) -> Option<&Horizon> {
        self.0.iter().find(|h| (h.top_cm..h.bottom_cm).contains(&depth_cm))
    }

    /// The horizons from the surface down.
    #[must_use]
    pub fn horizons(&self) -> &[Horizon] {
        &self.0
    }
}

impl From<Vec<Horizon>> for Profile {
    fn from(mut horizons: Vec<Horizon>) -> Self {
        horizons.sort_by(|a, b| a.top_cm.total_cmp(&b.top_cm));
        Self(horizons)
    }
}
