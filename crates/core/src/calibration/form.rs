//! Forms that a calibration can take.

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// The form of a calibration curve.
    Form {
        /// θ = b0 + b1 x.
        Line = "line",
        /// θ = b0 + b1 √x, for a probe that gives permittivity.
        RootLine = "root_line",
        /// θ = b0 + b1 x + b2 x².
        Quadratic = "quadratic",
        /// θ = b0 + b1 x + b2 x² + b3 x³.
        Cubic = "cubic",
    }
);

impl Form {
    /// What it is called.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Line => "straight line",
            Self::Quadratic => "quadratic",
            Self::Cubic => "cubic",
            Self::RootLine => "line in the square root of permittivity",
        }
    }

    /// What it is called at the start of a sentence.
    #[must_use]
    pub const fn title(self) -> &'static str {
        match self {
            Self::Line => "Straight line",
            Self::Quadratic => "Quadratic",
            Self::Cubic => "Cubic",
            Self::RootLine => "Line in the square root of permittivity",
        }
    }

    /// The form that a package names, by its code or in words.
    #[must_use]
    pub fn named(text: &str) -> Option<Self> {
        let text = text.trim();
        Self::ALL.iter().copied().find(|f| f.code() == text || f.name() == text)
    }

    /// Degree of its polynomial.
    #[must_use]
    pub const fn degree(self) -> usize {
        match self {
            Self::Line | Self::RootLine => 1,
            Self::Quadratic => 2,
            Self::Cubic => 3,
        }
    }

    /// Whether its polynomial is one in √x.
    #[must_use]
    pub const fn is_root(self) -> bool {
        matches!(self, Self::RootLine)
    }

    /// Raw output as its polynomial takes it.
    #[must_use]
    pub fn takes(self, raw: f64) -> f64 {
        if self.is_root() { raw.max(0.0).sqrt() } else { raw }
    }
}
