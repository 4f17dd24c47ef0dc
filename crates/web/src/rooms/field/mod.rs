//! The room Field: how stations stand, what phones take along and bring back, logs, and corrections.

mod clocks;
mod landmarks;
mod logs;
mod official;
mod phone;
mod photos;
mod placements;
mod retrieval;
mod room;
mod site_plan;
mod snapshots;

use crate::shell::routes::Routes;

/// Routes of this room.
pub fn routes(routes: &mut Routes<'_>) {
    room::routes(routes);
    landmarks::routes(routes);
    retrieval::routes(routes);
    official::routes(routes);
    clocks::routes(routes);
    snapshots::routes(routes);
    phone::routes(routes);
    photos::routes(routes);
    logs::routes(routes);
    placements::routes(routes);
}
