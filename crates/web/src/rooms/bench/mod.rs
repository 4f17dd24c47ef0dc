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
pub fn routes(config: &mut actix_web::web::ServiceConfig) {
    register::routes(config);
    temperature::routes(config);
    acceptance::routes(config);
    batch::routes(config);
    tension::routes(config);
    runs::routes(config);
    run::routes(config);
}
