//! The room Record: a station's section and strips, and the import of logger files.

mod import;
mod import_form;
mod station;

/// Routes of this room.
pub fn routes(config: &mut actix_web::web::ServiceConfig) {
    station::routes(config);
    import::routes(config);
}
