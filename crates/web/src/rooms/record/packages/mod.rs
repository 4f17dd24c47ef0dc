//! Record packages brought in: into a study that is there, or one that is begun for it.

mod bring;
mod taking;

use crate::shell::routes::{Least, Routes};
use ebrel_core::roles::Role;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/packages/new", Least::Founder, bring::new_study);
    routes.post("/packages/new", Least::Founder, bring::keep_for_new_study);
    routes.get("/packages/{id}", Least::Founder, taking::show_for_new_study);
    routes.post("/packages/{id}", Least::Founder, taking::take_for_new_study);
    routes.get("/studies/{id}/packages/new", Least::Member(Role::Researcher), bring::into_study);
    routes.post("/studies/{id}/packages/new", Least::Member(Role::Researcher), bring::keep_for_study);
    routes.get("/studies/{id}/packages/{package}", Least::Member(Role::Guest), taking::show);
    routes.post("/studies/{id}/packages/{package}", Least::Member(Role::Researcher), taking::take);
}

/// Where a package's page is: under the study that it is for, or on its own while that is not begun.
fn address(study: Option<i64>, package: i64) -> String {
    study.map_or_else(|| format!("/packages/{package}"), |s| format!("/studies/{s}/packages/{package}"))
}
