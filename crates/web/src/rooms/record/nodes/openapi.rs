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
    info(title = "Ebrel", version = "1"),
    paths(messages::take),
    components(schemas(Details, Receipt, Reason)),
    modifiers(&KeyAndExamples)
)]
struct Described;

/// What it is, and how it is used in three languages; a test runs each.
const EXAMPLES: [(&str, &str); 3] = [
    ("sh", include_str!("examples/send.sh")),
    ("python", include_str!("examples/send.py")),
    ("javascript", include_str!("examples/send.mjs")),
];

struct KeyAndExamples;

impl Modify for KeyAndExamples {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        let mut says =
            "Readings of nodes, each kept once. An answer comes after its readings are on the disk: what was answered \
                        need not be kept by the sender any longer, and what was not is sent again.\n"
                .to_owned();
        for (language, text) in EXAMPLES {
            says.push_str(&format!("\n```{language}\n{text}```\n"));
        }
        openapi.info.description = Some(says);
        let scheme = SecurityScheme::Http(HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build());
        openapi.components.get_or_insert_default().add_security_scheme("key", scheme);
    }
}

async fn described() -> HttpResponse {
    HttpResponse::Ok().json(Described::openapi())
}
