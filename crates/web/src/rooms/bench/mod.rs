//! The room Bench: the register of probes, and moisture calibrations from tins to an adopted curve.

mod certificate;
mod conditions;
mod draft;
mod plot;
mod register;
mod run;
mod runs;
mod temperature;

/// Routes of this room.
pub fn routes(config: &mut actix_web::web::ServiceConfig) {
    register::routes(config);
    temperature::routes(config);
    runs::routes(config);
    run::routes(config);
    certificate::routes(config);
}
