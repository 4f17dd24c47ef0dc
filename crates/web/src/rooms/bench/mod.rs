//! The room Bench: the register of probes, batches side by side, moisture calibrations from tins to an adopted curve and
//! its certificate, thermometer checks, tension probes.

mod acceptance;
mod batch;
mod change;
mod register;
mod run;
mod runs;
mod sheets;
mod temperature;
mod tension;

/// Routes of this room.
use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    register::routes(routes);
    temperature::routes(routes);
    acceptance::routes(routes);
    batch::routes(routes);
    tension::routes(routes);
    runs::routes(routes);
    run::routes(routes);
}
