//! What a person may do in a study.

use crate::units::coded;
use serde::{Deserialize, Serialize};

coded!(
    /// A role in a study; each may do what those before it may.
    Role {
        /// Looks at everything and takes it out; changes nothing.
        Guest = "guest",
        /// Also works at the hole: field log, visits, readings brought in.
        Field = "field",
        /// Also plans, calibrates, and decides what to believe.
        Researcher = "researcher",
        /// Also says who is in the study, and what it is.
        Owner = "owner",
    }
);

impl Role {
    /// What it is called.
    #[must_use]
    pub const fn title(self) -> &'static str {
        match self {
            Self::Guest => "guest",
            Self::Field => "field worker",
            Self::Researcher => "researcher",
            Self::Owner => "owner",
        }
    }

    /// What it allows, in one sentence.
    #[must_use]
    pub const fn allows(self) -> &'static str {
        match self {
            Self::Guest => "looks at everything and takes data out; changes nothing",
            Self::Field => "also keeps the field log and brings logger files in",
            Self::Researcher => "also plans, calibrates, and decides what to believe",
            Self::Owner => "also says who is in the study, and what it is",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::Role;

    #[test]
    fn roles_are_in_order_of_what_they_allow() {
        assert!(Role::ALL.is_sorted() && Role::Guest < Role::Field && Role::Researcher < Role::Owner);
    }
}
