//! The rooms, in the order of the work. A file per page holds its routes; what a page shows is made in its view model.

mod bench;
mod field;
mod findings;
pub mod plan;
mod record;
mod review;
mod training;

pub use record::import::finish_cut_off;

use crate::shell::routes::Routes;

/// Routes of all rooms.
pub fn routes(routes: &mut Routes<'_>) {
    plan::routes(routes);
    bench::routes(routes);
    field::routes(routes);
    record::routes(routes);
    review::routes(routes);
    findings::routes(routes);
    training::routes(routes);
}
