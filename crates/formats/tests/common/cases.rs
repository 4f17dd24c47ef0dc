//! How long properties are searched.

/// Cases of a property: as the environment says, so that a longer search is one command, or the usual number.
pub fn cases(usual: u32) -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(usual)
}
