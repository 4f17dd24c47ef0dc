//! Answers that are files to be kept.

use super::errors::Problem;
use crate::state::State;
use crate::state::places::Place;
use actix_web::HttpResponse;
use actix_web::body::SizedStream;
use actix_web::http::header::{CONTENT_DISPOSITION, ContentDisposition, DispositionParam, DispositionType};
use std::fs::File;
use std::io::{BufWriter, Seek};
use tokio_util::io::ReaderStream;

fn disposition(name: &str) -> (actix_web::http::header::HeaderName, ContentDisposition) {
    let parameters = vec![DispositionParam::Filename(name.to_owned())];
    (CONTENT_DISPOSITION, ContentDisposition { disposition: DispositionType::Attachment, parameters })
}

/// A short text as a file.
pub fn attachment(kind: &str, name: &str, text: String) -> HttpResponse {
    HttpResponse::Ok().content_type(kind).insert_header(disposition(name)).body(text)
}

/// Bytes as a file.
pub fn bytes(kind: &str, name: &str, bytes: Vec<u8>) -> HttpResponse {
    HttpResponse::Ok().content_type(kind).insert_header(disposition(name)).body(bytes)
}

/// A large file: it is made on the disk and sent from there, so that slow readers hold no memory.
///
/// # Errors
/// [`Problem::Internal`] if it cannot be made.
pub async fn made(
    state: &State,
    place: &Place,
    (kind, name): (&str, &str),
    make: impl FnOnce(&mut BufWriter<File>) -> std::io::Result<()> + Send + 'static,
) -> Result<HttpResponse, Problem> {
    let folder = state.data.clone();
    let file = place.run(move || {
        // Without a name: it is gone with the last who reads it, also after a kill.
        let mut out = BufWriter::new(tempfile::tempfile_in(folder)?);
        make(&mut out)?;
        let mut file = out.into_inner().map_err(std::io::IntoInnerError::into_error)?;
        file.rewind()?;
        let length = file.metadata()?.len();
        Ok((file, length))
    });
    let (file, length) = file.await?.map_err(|e: std::io::Error| Problem::Internal(e.to_string()))?;
    let stream = ReaderStream::with_capacity(tokio::fs::File::from_std(file), 64 * 1024);
    Ok(HttpResponse::Ok().content_type(kind).insert_header(disposition(name)).body(SizedStream::new(length, stream)))
}
