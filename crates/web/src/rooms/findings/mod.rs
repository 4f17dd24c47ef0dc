//! The room Findings: what the record says. Each page says it in words first, shows it, says how, and leads back to the readings.

mod air;
mod bring;
mod export;
mod frame;
mod heat;
mod profile;
mod thresholds;
mod treatments;
mod treatments_words;
mod water;
mod water_words;

use crate::shell::routes::Routes;

/// Routes of this room.
pub fn routes(routes: &mut Routes<'_>) {
    profile::routes(routes);
    water::routes(routes);
    air::routes(routes);
    heat::routes(routes);
    treatments::routes(routes);
    thresholds::routes(routes);
    export::routes(routes);
}
