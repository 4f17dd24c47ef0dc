//! The room Plan, thin: studies, and stations with their soil. A study's first page says what is wrong and what is next.

mod new_station;
mod study;

/// Routes of this room.
pub fn routes(config: &mut actix_web::web::ServiceConfig) {
    study::routes(config);
    new_station::routes(config);
}
