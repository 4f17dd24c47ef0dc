//! The rooms, in the order of the work. A file per page holds its routes; what a page shows is made in its view model.

mod bench;
mod field;
mod findings;
pub mod plan;
mod record;
mod review;

use actix_web::web::ServiceConfig;

/// Routes of all rooms.
pub fn routes(config: &mut ServiceConfig) {
    plan::routes(config);
    bench::routes(config);
    field::routes(config);
    record::routes(config);
    review::routes(config);
    findings::routes(config);
}
