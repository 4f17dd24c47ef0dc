//! Logs from phones without a server: what is kept, what comes of it, and that nothing comes of it twice.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../common/mod.rs"]
mod common;
mod ground;
mod logs;
mod rig;
mod seats;
