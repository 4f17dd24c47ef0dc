//! What several rooms draw and ask for.

pub mod dig;
pub mod fields;
pub mod glance;
pub mod section;
pub mod strips;
pub mod trace;
