//! The room Record: a station's section and strips, and the import of logger files.

pub mod import;
mod nodes;
mod station;

/// Routes of this room.
use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    station::routes(routes);
    import::routes(routes);
    nodes::routes(routes);
}
