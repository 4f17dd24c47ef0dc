//! The room Bench, thin: moisture calibrations, from tins to an adopted curve.

mod draft;
mod plot;
mod run;
mod runs;

/// Routes of this room.
pub fn routes(config: &mut actix_web::web::ServiceConfig) {
    runs::routes(config);
    run::routes(config);
}
