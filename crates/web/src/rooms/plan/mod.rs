//! The room Plan: studies with their design, stations with their soil and their plans, and the catalogue of models. A
//! study's first page says what is wrong and what is next.

mod catalogue;
mod design;
mod new_station;
pub mod station;
mod study;

/// Routes of this room.
pub fn routes(config: &mut actix_web::web::ServiceConfig) {
    study::routes(config);
    design::routes(config);
    new_station::routes(config);
    station::routes(config);
    catalogue::routes(config);
}
