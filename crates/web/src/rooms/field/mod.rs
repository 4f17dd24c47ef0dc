//! The room Field: how stations stand, what phones take along and bring back, logs, and corrections.

mod logs;
mod phone;
mod photos;
mod placements;
mod room;
mod site_plan;

use crate::shell::routes::Routes;

/// Routes of this room.
pub fn routes(routes: &mut Routes<'_>) {
    room::routes(routes);
    site_plan::routes(routes);
    phone::routes(routes);
    photos::routes(routes);
    logs::routes(routes);
    placements::routes(routes);
}
