//! What machines may ask, described by OpenAPI.

use super::messages;
use crate::shell::details::Details;
use crate::shell::routes::Routes;
use actix_web::HttpResponse;
use actix_web::http::Method;
use ebrel_app::receiving::{Reason, Receipt};
use utoipa::openapi::security::{HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

pub fn routes(routes: &mut Routes<'_>) {
    routes.machines(Method::GET, "/api/v1/openapi.json", described);
}

#[derive(OpenApi)]
#[openapi(
    info(title = "Ebrel", version = "1", description = "Readings of nodes, each kept once. An answer comes after its readings are on the disk: \
        what was answered need not be kept by the sender any longer, and what was not may be sent again."),
    paths(messages::take),
    components(schemas(Details, Receipt, Reason)),
    modifiers(&Key)
)]
struct Described;

struct Key;

impl Modify for Key {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let scheme = SecurityScheme::Http(HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build());
        openapi.components.get_or_insert_default().add_security_scheme("key", scheme);
    }
}

async fn described() -> HttpResponse {
    HttpResponse::Ok().json(Described::openapi())
}
