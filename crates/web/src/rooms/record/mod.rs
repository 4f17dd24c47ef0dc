//! The room Record: a station's section and strips, and the import of logger files.

mod by_hand;
mod events;
mod growing;
pub mod import;
mod network;
mod nodes;
mod packages;
mod references;
mod standins;
mod station;
mod values;

/// Routes of this room.
use crate::shell::routes::Routes;

pub fn routes(routes: &mut Routes<'_>) {
    station::routes(routes);
    by_hand::routes(routes);
    events::routes(routes);
    growing::routes(routes);
    standins::routes(routes);
    import::routes(routes);
    network::routes(routes);
    nodes::routes(routes);
    packages::routes(routes);
    references::routes(routes);
    values::routes(routes);
}
