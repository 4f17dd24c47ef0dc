//! What a plan's checks say.

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// The steps of planning, in the order of the work; a code is part of the address of its page.
    Step {
        /// Where.
        Site = "site",
        /// Which depths, in which soil.
        Depths = "depths",
        /// How the probes get there.
        Hole = "hole",
        /// Which probe at which port.
        Wiring = "wiring",
        /// What the logger does.
        Program = "program",
        /// Whether battery, radio and memory hold.
        Budgets = "budgets",
        /// What to take along, when, and what it costs.
        Kit = "kit",
    }
);

impl Step {
    /// What it is called.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Site => "Site",
            Self::Depths => "Depths",
            Self::Hole => "Hole",
            Self::Wiring => "Wiring",
            Self::Program => "Program",
            Self::Budgets => "Budgets",
            Self::Kit => "Kit and dates",
        }
    }
}

/// How much a remark weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// It cannot be done so.
    Stop,
    /// It can, at a price.
    Weak,
    /// Good to know.
    Note,
}

/// One thing that a check has to say, with its numbers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Remark {
    /// The step it belongs to.
    pub step: Step,
    /// How much it weighs.
    pub severity: Severity,
    /// The field of the plan it is about: `probes.2.depth`; empty if it is about the whole step.
    pub at: String,
    /// The sentence; says what to do.
    pub says: String,
}

impl Remark {
    /// A remark.
    #[must_use]
    pub fn new(step: Step, severity: Severity, at: impl Into<String>, says: impl Into<String>) -> Self {
        Self { step, severity, at: at.into(), says: says.into() }
    }
}
