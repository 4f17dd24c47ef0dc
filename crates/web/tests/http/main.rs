//! The real router over HTTP, each test with its own server and data directory.

#![expect(clippy::unwrap_used, reason = "a test that cannot go on shall panic")]

#[path = "../common/demo.rs"]
mod demo;

mod acceptance;
mod bench;
mod broker;
mod client;
mod events;
mod exports;
mod field;
mod field_room;
mod field_site;
mod files;
mod findings;
mod import;
mod markup;
mod mending;
mod network;
mod nodes;
mod packages;
mod pages;
mod phone;
mod plan;
mod practice;
mod record;
mod references;
mod register;
mod review;
mod roles;
mod schools;
mod security;
mod seeing;
mod sheets;
mod study;
mod temperature;
mod together;
mod training;
mod values;
mod versions;
