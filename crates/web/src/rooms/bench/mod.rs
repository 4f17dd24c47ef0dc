//! The room Bench: the register of probes, batches side by side, moisture calibrations from tins to an adopted curve and
//! its certificate, thermometer checks, tension probes.

mod batch;
mod certificate;
mod conditions;
mod draft;
mod plot;
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
    batch::routes(config);
    tension::routes(config);
    runs::routes(config);
    run::routes(config);
    certificate::routes(config);
}
