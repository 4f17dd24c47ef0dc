//! What a plan's checks say.

/// The steps of planning, in the order of the work.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Step {
    /// Where.
    Site,
    /// Which depths, in which soil.
    Depths,
    /// How the probes get there.
    Hole,
    /// Which probe at which port.
    Wiring,
    /// What the logger does.
    Program,
    /// Whether battery, radio and memory hold.
    Budgets,
    /// What to take along, when, and what it costs.
    Kit,
}

impl Step {
    /// All of them.
    pub const ALL: [Self; 7] =
        [Self::Site, Self::Depths, Self::Hole, Self::Wiring, Self::Program, Self::Budgets, Self::Kit];

    /// Part of the address of its page.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Site => "site",
            Self::Depths => "depths",
            Self::Hole => "hole",
            Self::Wiring => "wiring",
            Self::Program => "program",
            Self::Budgets => "budgets",
            Self::Kit => "kit",
        }
    }

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

    /// The step of this code.
    #[must_use]
    pub fn from_code(code: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|s| s.code() == code)
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
