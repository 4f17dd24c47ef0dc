//! What several rooms draw.

pub mod dig;
pub mod section;
