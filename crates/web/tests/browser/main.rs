//! Journeys in a real browser, each with its own server and data directory.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../common/demo.rs"]
mod demo;

mod bench;
mod every_page;
mod field;
mod files;
mod findings;
mod journey;
mod network;
mod planning;
mod record;
mod review;
mod site;
