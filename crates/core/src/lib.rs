//! The rules of the job and all of its computation.
//!
//! Nothing here knows of a database, a page, a file, a clock or a source of randomness: what goes in
//! decides what comes out, so every rule can be tested on its own.
//!
//! * [`units`]: quantities as types, their legal ranges, and the quantities a channel can measure.
//! * [`register`]: what stands between a probe and its use.
//! * [`sampling`]: reference samples: water content and density of a core, with uncertainty; packing; wetting.
//! * [`calibration`]: from reference samples to a curve that can be defended, and back to water content.
//! * [`series`]: what a raw reading means (placement and calibration by date), and series thinned for a screen.
//! * [`quality`]: tests that find what is wrong with a record, as intervals with evidence and a sentence.
//! * [`geometry`], [`power`], [`radio`], [`sun`]: holes and sensing volumes, batteries and panels, packets and links, daylight.
//! * [`network`]: the health of nodes: silences, batteries, shares of what was to come.
//! * [`planning`]: from a question to a station that can be dug: depths, methods, ports, program, budgets, kit, dates.
//! * [`temperature`]: thermocouples, thermistors, platinum; a thermometer against a reference; the sun test.
//! * [`bench`]: a calibration run as it is typed, read and led on.
//! * [`acceptance`], [`batch`]: a new probe in air, in water and in a bucket; probes side by side.
//! * [`tension`]: resistive blocks and kilopascal; soaking; a block's own curve from a drying pot.
//! * [`findings`]: a station's believed readings become answers: storage, fronts, heat, treatments, thresholds.
//! * [`field`]: the log of the day at the hole, a reading judged there, settling, and what a clock really said.
//! * [`water`]: what a soil holds by its texture, what a profile stores, what the air takes.
//! * [`roles`]: what a person may do in a study.
//! * [`soil`]: the horizons of a place; which one a probe is in.
//! * [`statistics`]: the few robust and parametric estimates that the rooms above share.

pub mod acceptance;
pub mod batch;
pub mod bench;
pub mod calibration;
pub mod drafts;
pub mod field;
pub mod findings;
pub mod geometry;
pub mod network;
pub mod planning;
pub mod power;
pub mod quality;
pub mod radio;
pub mod register;
pub mod roles;
pub mod sampling;
pub mod series;
pub mod soil;

pub mod statistics;
pub mod sun;
pub mod temperature;
pub mod tension;
pub mod units;
pub mod water;
