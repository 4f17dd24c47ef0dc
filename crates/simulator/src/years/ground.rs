//! Climates and soils of made-up years.

use crate::scenario::Horizon;
use crate::weather::Season;

/// The weather of a year.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Climate {
    /// Mild and moist.
    Mild,
    /// Hot summers and little rain.
    Dry,
    /// Cool and very wet.
    Wet,
    /// Long frost.
    Cold,
    /// Warm all year, heavy rain.
    Warm,
}

impl Climate {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::Mild, Self::Dry, Self::Wet, Self::Cold, Self::Warm];

    /// Its name.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::Mild => "mild",
            Self::Dry => "dry",
            Self::Wet => "wet",
            Self::Cold => "cold",
            Self::Warm => "warm",
        }
    }

    pub(crate) const fn season(self) -> Season {
        let (mean_c, swing_c, yearly_rain_mm) = match self {
            Self::Mild => (9.8, 7.5, 780.0),
            Self::Dry => (14.5, 10.0, 330.0),
            Self::Wet => (8.5, 5.5, 1600.0),
            Self::Cold => (3.5, 14.0, 560.0),
            Self::Warm => (20.0, 5.0, 1100.0),
        };
        Season { mean_c, swing_c, warmest_day: 205.0, yearly_rain_mm }
    }
}

/// The soil of a year.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ground {
    /// Loamy sand all through.
    LoamySand,
    /// Sandy loam over loamy sand.
    SandyLoam,
    /// Loess.
    SiltLoam,
    /// Clay loam.
    Clay,
    /// Silt loam over a dense subsoil.
    Layered,
}

impl Ground {
    /// All of them.
    pub const ALL: [Self; 5] = [Self::LoamySand, Self::SandyLoam, Self::SiltLoam, Self::Clay, Self::Layered];

    /// Its name.
    #[must_use]
    pub const fn words(self) -> &'static str {
        match self {
            Self::LoamySand => "loamy sand",
            Self::SandyLoam => "sandy loam",
            Self::SiltLoam => "silt loam",
            Self::Clay => "clay loam",
            Self::Layered => "silt loam over dense subsoil",
        }
    }

    /// Horizons from the surface down: pore space, field capacity, wilting point and conductivity are usual for their textures
    /// (Rawls et al. 1982, Trans. ASAE 25:1316).
    pub(crate) fn horizons(self) -> Vec<Horizon> {
        let one = |bottom: f64, texture, (pores, field, wilting, k): (f64, f64, f64, f64)| Horizon {
            name: "A",
            span_cm: (0.0, bottom),
            texture,
            sand_clay_pct: (40.0, 20.0),
            organic_pct: 2.0,
            bulk_density: 2.65 * (1.0 - pores),
            pore_space: pores,
            field_capacity: field,
            wilting,
            conductivity_mm_h: k,
        };
        let sand = (0.437, 0.125, 0.055, 61.0);
        let sandy_loam = (0.45, 0.21, 0.09, 26.0);
        let silt_loam = (0.49, 0.33, 0.13, 7.0);
        let clay = (0.48, 0.36, 0.21, 3.0);
        match self {
            Self::LoamySand => vec![one(200.0, "loamy sand", sand)],
            Self::SandyLoam => vec![one(35.0, "sandy loam", sandy_loam), one(200.0, "loamy sand", sand)],
            Self::SiltLoam => vec![one(200.0, "silt loam", silt_loam)],
            Self::Clay => vec![one(200.0, "clay loam", clay)],
            Self::Layered => vec![one(40.0, "silt loam", silt_loam), one(200.0, "clay loam", (0.42, 0.34, 0.2, 1.2))],
        }
    }
}
