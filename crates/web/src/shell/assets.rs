//! Styles, scripts and fonts, shipped within the binary.

use super::errors::Problem;
use actix_web::http::header::{CACHE_CONTROL, ETAG, IF_NONE_MATCH};
use actix_web::{HttpRequest, HttpResponse, web};
use rust_embed::RustEmbed;

#[derive(RustEmbed)]
#[folder = "src"]
#[include = "*.js"]
#[include = "*.css"]
#[include = "*.svg"]
struct Own;

#[derive(RustEmbed)]
#[folder = "vendor"]
#[include = "*.css"]
#[include = "*.woff2"]
struct Vendor;

pub fn routes(config: &mut web::ServiceConfig) {
    config.route("/assets/{path:.*}", web::get().to(asset));
}

async fn asset(path: web::Path<String>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    let file = match path.strip_prefix("vendor/") {
        Some(rest) => Vendor::get(rest),
        None => Own::get(&path),
    };
    let file = file.ok_or(Problem::Nowhere)?;
    let hash: String = file.metadata.sha256_hash()[..8].iter().map(|b| format!("{b:02x}")).collect();
    let tag = format!("\"{hash}\"");
    if request.headers().get(IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == tag.as_bytes()) {
        return Ok(HttpResponse::NotModified().insert_header((ETAG, tag)).finish());
    }
    let kind = mime_guess::from_path(path.as_str()).first_or_octet_stream();
    Ok(HttpResponse::Ok()
        .insert_header((ETAG, tag))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .content_type(kind.to_string())
        .body(file.data.into_owned()))
}
