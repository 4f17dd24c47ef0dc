//! The room Plan: studies with their design, stations with their soil and their plans, and the catalogue of models. A
//! study's first page says what is wrong and what is next.

mod catalogue;
mod design;
mod new_station;
mod people;
pub mod station;
mod study;

/// Routes of this room.
use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    study::routes(routes);
    design::routes(routes);
    new_station::routes(routes);
    people::routes(routes);
    station::routes(routes);
    catalogue::routes(routes);
}
