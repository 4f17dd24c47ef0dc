//! Importing logger files: upload, recipe and mapping with a preview, storing in the background, report, setting aside, recipes.

mod columns;
mod form;
mod opened;
mod plan;
mod reading;
mod recipes;
mod report;
mod upload;
mod wave;
mod work;

use crate::shell::routes::{Least, Routes};
use ebrel_core::roles::Role;

pub use work::finish_cut_off;

/// Routes of these pages.
pub fn routes(routes: &mut Routes<'_>) {
    let field = Least::Member(Role::Field);
    routes.get("/stations/{id}/import", field, upload::page_of);
    routes.post("/stations/{id}/import", field, upload::upload);
    routes.post("/stations/{id}/imports", field, work::store_all);
    routes.get("/imports/{id}", field, plan::show);
    routes.post("/imports/{id}", field, plan::change);
    routes.get("/imports/{id}/progress", field, work::progress);
    routes.post("/imports/{id}/cancel", field, work::cancel);
    routes.get("/imports/{id}/losses", field, report::losses);
    routes.get("/imports/{id}/file", field, report::file);
    routes.post("/imports/{id}/withdraw", field, report::withdraw);
    routes.post("/imports/{id}/restore", field, report::restore);
    routes.post("/imports/{id}/anew", field, report::anew);
    routes.get("/recipes", Least::Somewhere(Role::Field), recipes::list);
    routes.post("/recipes", Least::Somewhere(Role::Field), recipes::save);
    routes.get("/recipes/one", Least::Somewhere(Role::Field), recipes::one);
    routes.get("/recipes/file", Least::Somewhere(Role::Field), recipes::file);
    routes.post("/recipes/drop", Least::Somewhere(Role::Field), recipes::drop_it);
}
