//! SQLite through SQLx: raw readings, once and for ever, and what they mean by date.
//!
//! A module per noun holds its row type, its SQL and its tests. Flow of a reading: a [`batches`] entry says where it came
//! from; [`readings`] stores it once and counts what was new; [`blocks`] packs months for fast reading and may be thrown
//! away; [`placements`] and [`calibrations`] say what it means, [`corrections`] what a thermometer is off by. Flags are made
//! again from raw at every run; verdicts of persons stay.
//!
//! This crate knows nothing of files, forms or pages.

pub mod accounts;
mod adding;
pub mod aside;
pub mod batches;
pub mod blocks;
mod cache;
pub mod calibrations;
pub mod choices;
pub mod corrections;
mod database;
pub mod drafts;
pub mod event_edits;
pub mod events;
pub mod field;
pub mod flags;
pub mod hands;
pub mod imports;
pub mod in_force;
mod inbox;
pub mod keys;
pub mod landmarks;
pub mod members;
pub mod packages;
mod packing;
pub mod placements;
pub mod plans;
pub mod probes;
pub mod readings;
pub mod recipes;
pub mod references;
pub mod register;
pub mod remarks;
pub mod repairs;
pub mod responses;
pub mod runs;
pub mod safety;
pub mod sessions;
pub mod settings;
pub mod snapshots;
pub mod soil;
mod sorting;
pub mod stations;
pub mod streams;
pub mod studies;
pub mod training;
mod unit;
pub mod verdicts;

pub use database::{Store, StoreError};
pub use unit::Unit;
