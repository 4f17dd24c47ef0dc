//! Styles, scripts and fonts, shipped within the binary; each is compressed once.

use super::errors::Problem;
use super::routes::{Least, Routes};
use actix_web::http::header::{ACCEPT_ENCODING, CACHE_CONTROL, CONTENT_ENCODING, ETAG, IF_NONE_MATCH, VARY};
use actix_web::{HttpRequest, HttpResponse, web};
use flate2::Compression;
use flate2::write::GzEncoder;
use rust_embed::RustEmbed;
use sha2::{Digest, Sha256};
use std::collections::HashMap;
use std::io::Write;
use std::sync::{LazyLock, Mutex, PoisonError};

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
#[include = "*.js"]
struct Vendor;

pub fn routes(routes: &mut Routes<'_>) {
    routes.get("/assets/{path:.*}", Least::Anyone, asset);
}

/// Compressed assets by their hash: a changed file of a debug build is another one.
static PACKED: LazyLock<Mutex<HashMap<String, web::Bytes>>> = LazyLock::new(Mutex::default);

/// An asset compressed, made at the first request for it.
fn packed(hash: &str, data: &[u8]) -> Option<web::Bytes> {
    if let Some(known) = PACKED.lock().unwrap_or_else(PoisonError::into_inner).get(hash) {
        return Some(known.clone());
    }
    let mut encoder = GzEncoder::new(Vec::new(), Compression::best());
    encoder.write_all(data).ok()?;
    let bytes = web::Bytes::from(encoder.finish().ok()?);
    PACKED.lock().unwrap_or_else(PoisonError::into_inner).insert(hash.to_owned(), bytes.clone());
    Some(bytes)
}

/// A short hash over some assets by their addresses, and a text; `None` if one is not there.
pub fn version(addresses: &[&str], text: &str) -> Option<String> {
    let mut hasher = Sha256::new();
    hasher.update(text);
    for address in addresses {
        let path = address.strip_prefix("/assets/")?;
        let file = path.strip_prefix("vendor/").map_or_else(|| Own::get(path), Vendor::get)?;
        hasher.update(file.metadata.sha256_hash());
    }
    Some(hex::encode(&hasher.finalize()[..8]))
}

async fn asset(path: web::Path<String>, request: HttpRequest) -> Result<HttpResponse, Problem> {
    let file = match path.strip_prefix("vendor/") {
        Some(rest) => Vendor::get(rest),
        None => Own::get(&path),
    };
    let file = file.ok_or(Problem::Nowhere)?;
    let hash = hex::encode(&file.metadata.sha256_hash()[..8]);
    let tag = format!("\"{hash}\"");
    if request.headers().get(IF_NONE_MATCH).is_some_and(|v| v.as_bytes() == tag.as_bytes()) {
        return Ok(HttpResponse::NotModified().insert_header((ETAG, tag)).finish());
    }
    let kind = mime_guess::from_path(path.as_str()).first_or_octet_stream();
    let mut answer = HttpResponse::Ok();
    answer
        .insert_header((ETAG, tag))
        .insert_header((CACHE_CONTROL, "no-cache"))
        .insert_header((VARY, "accept-encoding"))
        .content_type(kind.to_string());
    let accepts = request.headers().get(ACCEPT_ENCODING).and_then(|v| v.to_str().ok());
    // Fonts are compressed as they are.
    let packs = accepts.is_some_and(|a| a.contains("gzip")) && !path.ends_with(".woff2");
    if let Some(bytes) = packs.then(|| packed(&hash, &file.data)).flatten() {
        return Ok(answer.insert_header((CONTENT_ENCODING, "gzip")).body(bytes));
    }
    Ok(answer.insert_header((CONTENT_ENCODING, "identity")).body(file.data.into_owned()))
}
