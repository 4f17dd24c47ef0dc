//! What several rooms draw.

pub mod section;
